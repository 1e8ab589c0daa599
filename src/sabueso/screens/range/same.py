"""Values that are the same in nearly all rows of one party, account or thing: the bank account of a supplier, the price of
an item; and the rows that have another."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import combinations
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.words import listed
from sabueso.population import expressions, sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Table
from sabueso.screens.first_rows import first_coded, repeated
from sabueso.screens.in_order import owners_of
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of
from sabueso.screens.range.broken import count_broken

MOST_SEEN = 20_000
"""Rows that are looked at before anything is counted in all."""
MOST_VALUES = 16
"""Columns that are tried as what is the same."""
MOST_OTHER, FEW_OTHER = 0.01, 5
"""Share of the rows with another value up to which it is the exception, and how many may be however few rows there are."""
LISTED = 25
"""Rows that may have another value where what they name is in no other table: a list that can be looked through."""
MOST_NAMED = 4
BY_CHANCE = 0.3
"""Share of the rows that would have another value if whose it is said nothing, from which it says it."""
EACH, HELD = 3, 0.5
"""Rows of an owner from which what they have is its own, and share of the rows that such owners have."""
TOLD = 0.95
"""Share of the rows that have what the row that they name has, from which it tells it."""
MOST_GENERAL = 3
"""Owners whose rows are of many, and which are therefore nobody, that are left out."""
OWNERS = 5
"""Owners with so many rows that there must be."""


class Others(NamedTuple):
    """Rows with a value that fewer than half of the rows of their owner have, and how many have another."""

    broken: Tree
    by: Tree


def others(table: Table, column: str, per: Sequence[str]) -> Others:
    """Rows whose value is that of fewer than half of the rows of the same ``per`` that have one."""
    value = sql.column(column)
    keys = [expressions.scalar(text, table, "--per") for text in per]

    def rows(*by: Tree) -> Tree:
        return exp.Window(
            this=exp.Count(this=value.copy()), partition_by=[key.copy() for key in by]
        )

    whole, alike = rows(*keys), rows(*keys, value.copy())
    two = sql.integer(2)
    named = [exp.Not(this=sql.is_missing(tree.copy())) for tree in (value, *keys)]
    fewer = exp.LT(this=exp.Mul(this=alike, expression=two), expression=whole)
    by = exp.Sub(this=whole.copy(), expression=alike.copy())
    return Others(exp.and_(*named, fewer), exp.paren(by))


def proposed_same(population: Population) -> Iterator[Proposal]:
    """Columns that tell the same of nearly all rows of one owner, and would not if it were another's."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    owners = owners_of(table)
    values = _values(table, owners)
    for column, whose, general in _told_by(population, owners, values):
        if any(_is_told(population, column, owner) for owner in whose):
            continue
        per = list(map(quoted_name, whose))
        other = others(table, column, per)
        rows, where = population, None
        if general:
            listing = ", ".join(map(literal, general))
            where = f"{per[0]} not in ({listing})"
            rows = replace(population, where=where)
        n, out = count_broken(rows, column, other.broken)
        known = set(whose) <= set(owners)
        most = MOST_OTHER * n if known else min(LISTED, MOST_OTHER * n)
        if 0 < out <= max(FEW_OTHER, most):
            owner = listed(whose)
            name, purpose = (
                (f"other than the {owner}'s", f"What is each {owner}'s own")
                if len(whose) == 1
                else (f"unlike others of its {owner}", f"What is one for each {owner}")
            )
            yield Proposal(
                f"{column} of {table.name} {name}",
                settings_of(same=column, per=per, where=where),
                f"{purpose}, and is another in some rows.",
                f"{out:,} of {n:,} rows have what fewer than half of the rows of their {owner} have"
                + (
                    f"; those of {listed(general)}, which have many, are left out"
                    if general
                    else ""
                ),
            )


def _values(table: Table, owners: Sequence[str]) -> list[str]:
    """Columns that may tell something of an owner: no days, papers, free texts or amounts, nor what is read in its own
    table."""
    roles = ("id", "document", "amount", "debit", "credit", "quantity", "date", "entered", "text")
    none = {table.roles.get(role) for role in roles}
    known = {
        c.name.casefold() for o in owners if o in table.links for c in table.links[o].table.columns
    }
    found = [c for c in table.columns if c.type in ("text", "number") and not c.is_place]
    return [c.name for c in found if c.name not in none and c.name.casefold() not in known][
        :MOST_VALUES
    ]


class _Told(NamedTuple):
    """A column, whose it is, and what these are called where they are nobody's own: ``DV`` in place of a contract."""

    column: str
    whose: tuple[str, ...]
    general: tuple[str, ...] = ()


def _told_by(population: Population, owners: Sequence[str], values: Sequence[str]) -> list[_Told]:
    """Each column with the owner that tells it, by some rows: the first of the owners that does; of a number that none
    tells alone, the first two that do together, such as an item and a list of prices."""
    names = list(dict.fromkeys([*owners, *values]))
    if not names:
        return []
    table = population.table
    coded = first_coded(population, names, MOST_SEEN)
    codes = {name: each.codes for name, each in coded.items()}
    texts = {n: codes[n] for n in values if table.column(n).type == "text" and n not in owners}
    # What things are called or numbered by names them as well, where no other table has them.
    named = [name for name in repeated(texts) if name not in _persons(table)][:MOST_NAMED]
    pairs: list[_Told] = []
    for name in values:
        told = {pair[:2] for pair in pairs}
        every = [o for o in (*owners, *named) if o != name and (o, (name,)) not in told]
        owner = next((o for o in every if _tells(codes[o], codes[name])), None)
        if owner is not None:
            pairs.append(_Told(name, (owner,)))
            continue
        if table.column(name).type == "number":
            two = combinations(every, 2)
            both = next((p for p in two if _tells(_joined(codes, p), codes[name])), None)
            pairs += [] if both is None else [_Told(name, both)]
            continue
        for owner in every:
            if table.column(owner).type != "text":
                continue
            if general := _general(codes[owner], codes[name]):
                called = coded[owner].values
                pairs.append(_Told(name, (owner,), tuple(called[code] for code in general)))
                break
    return [*pairs, *_owned(table, owners, named, codes, {pair[:2] for pair in pairs})]


def _owned(
    table: Table,
    owners: Sequence[str],
    named: Sequence[str],
    codes: Mapping[str, np.ndarray],
    told: Collection[tuple[str, tuple[str, ...]]],
) -> Iterator[_Told]:
    """Who owns a thing that they may have several of: the party, or another table's row, that a vehicle or a card is of."""
    party = table.roles.get("party")
    for name in owners:
        if table.column(name).type != "text" or not (name == party or name in table.links):
            continue
        things = (each for each in named if each != name and (each, (name,)) not in told)
        thing = next((each for each in things if _tells(codes[each], codes[name])), None)
        if thing is not None:
            yield _Told(name, (thing,))


def _general(owner: np.ndarray, value: np.ndarray) -> list[int]:
    """The few owners of whose rows most have nothing in common, and without which all others tell what their rows have;
    none where there are more, or others tell nothing."""
    known = (owner >= 0) & (value >= 0)
    own, of = owner[known].astype(np.int64), value[known].astype(np.int64)
    if len(own) < LEAST_OF_RULE:
        return []
    sizes = np.bincount(own)
    pairs, alike = np.unique(own * (of.max() + 1) + of, return_counts=True)
    most = np.zeros(len(sizes), dtype=np.int64)
    np.maximum.at(most, pairs // (of.max() + 1), alike)
    found = np.flatnonzero((sizes >= LEAST_OF_RULE) & (2 * most < sizes))
    if not 0 < len(found) <= MOST_GENERAL or 2 * sizes[found].sum() > len(own):
        return []
    left = ~np.isin(owner, found)
    return list(map(int, found)) if _tells(owner[left], value[left]) else []


def _joined(codes: Mapping[str, np.ndarray], names: Sequence[str]) -> np.ndarray:
    """Codes of what several columns have together; -1 where one has nothing."""
    one, two = (codes[name].astype(np.int64) for name in names)
    both = np.where((one < 0) | (two < 0), -1, one * (two.max() + 1) + two)
    _, joined = np.unique(both, return_inverse=True)
    return np.where(both < 0, -1, joined)


def _persons(table: Table) -> set[str | None]:
    """Columns of whoever made or approved an entry: what is theirs is looked at by other tests."""
    return {table.roles.get(role) for role in ("preparer", "approver")}


def _is_told(population: Population, column: str, owner: str) -> bool:
    """Whether the row that an owner names tells it as well: what differs from that is found by a match."""
    table = population.table
    link, own = table.links.get(owner), table.column(column)
    alike = [] if link is None else [c.name for c in link.table.columns if c.type == own.type]
    if not alike:
        return False
    fields = [exp.alias_(exp.Count(this=sql.column(column)), "n")]
    for place, name in enumerate(alike):
        named = expressions.scalar(".".join(map(quoted_name, (owner, name))), table, "--same")
        same = exp.EQ(this=sql.column(column), expression=named)
        fields.append(exp.alias_(sql.only(sql.count(), same), f"n{place}"))
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    most = max(int(row[f"n{place}"]) for place in range(len(alike)))
    return most >= TOLD * int(row["n"])


def _tells(owner: np.ndarray, value: np.ndarray) -> bool:
    known = (owner >= 0) & (value >= 0)
    own, of = owner[known], value[known]
    if len(own) < LEAST_OF_RULE:
        return False
    sizes = np.bincount(own)
    large = sizes >= EACH
    if large.sum() < OWNERS or sizes[large].sum() < HELD * len(own):
        return False
    keep = large[own]
    own, of = own[keep], of[keep]
    chance = 1 - np.bincount(of).max() / len(of)
    _, whose, alike = np.unique(
        own.astype(np.int64) * (of.max() + 1) + of, return_inverse=True, return_counts=True
    )
    out = (2 * alike[whose] < sizes[own]).sum()
    return bool(chance >= BY_CHANCE and out <= max(FEW_OTHER, 2 * MOST_OTHER * len(own)))
