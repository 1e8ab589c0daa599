"""What repeats in rows of a table, as it is proposed to be looked for."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_coded, first_codes
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of, texts_without

MOST_OF_SEVERAL = 0.05
MOST_SEEN, SEVERAL, MOST_WORDS = 20_000, 5, 12
"""Rows that are looked at for words in place of papers, rows of such a word, and how many words there may be."""
LINES = 1.5
"""Rows of an entry, on average, from which a ledger is one of entries."""
WHENEVER = 3660
"""Days within which what has one row alone must not come again."""
MANY_MAKERS = 30
"""How many as active as one another those who prepare rows are worth, from which rows of each are looked at apart."""
MOST_USUAL = 0.02
"""Share of the rows that come again on their day, above which that is no exception."""
MANY_TEXTS = 20
"""Different texts that a column must have by which rows that name nobody are told apart."""
ONCE = 0.95
"""Share of rows that are the only one of what they name, from which each is to have one."""


def proposed_repeats(population: Population, n: int) -> Iterator[Proposal]:
    """By party and amount, or by what the rows name; and one document of several parties.

    Parameters
    ----------
    n : int
        Rows with an amount.
    """
    table = population.table
    party, date = table.role("party"), table.dated()
    if date is None or is_budget(table):
        return
    if party is None:
        yield from _of_what_is_named(population, date)
        return
    document = table.role("document")
    billed = _billed_once(population, n) if document is None else None
    # Rows of two bills that are known are no repeats of one another, whatever their party and amount.
    same = [billed] if billed else [party.name, *_bought(table, party)]
    plain = same == [party.name]
    by_many = plain and _made_by_many(population)
    whose = table.roles["preparer"] if by_many else ""
    for called, where in _sides(population):
        yield Proposal(
            f"repeats of {table.name}{called}{f' by several {whose}' if by_many else ''}",
            settings_of(
                document=billed,
                differs=whose,
                same=None if plain else list(map(quoted_name, same)),
                where=where,
            ),
            "The same thing recorded twice.",
            f"{', '.join(same)}, amount and {date.name} are there; habits and reversals are taken out"
            + (f"; nearly each {billed} has one row alone" if billed else ""),
        )
    if by_many:
        yield Proposal(
            f"repeats of {table.name} by one {whose}",
            settings_of(same=[quoted_name(whose), quoted_name(party.name)]),
            "The same thing recorded twice by one and the same.",
            f"{MANY_MAKERS} of {whose} or more make rows: two that are alike are hardly of one of them by chance",
        )
    if document is not None:
        yield from _of_papers(population, document, party)


def _made_by_many(population: Population) -> bool:
    """Whether so many prepare rows that those of one of them are rows of their own: what each of a house spent."""
    preparer = population.table.role("preparer")
    if preparer is None or preparer.type != "text":
        return False
    codes = first_codes(population, [preparer.name], MOST_SEEN)[preparer.name]
    known = codes[codes >= 0]
    if not len(known):
        return False
    shares = np.bincount(known) / len(known)
    return bool((shares**2).sum() <= 1 / MANY_MAKERS)


def _of_papers(population: Population, document: Column, party: Column) -> Iterator[Proposal]:
    """One paper of several parties; and one that was recorded twice where rows name no party."""
    table, name = population.table, quoted_name(document.name)
    words = _no_papers(population, document)
    only = f"{name} not in ({', '.join(map(literal, words))})" if words else None
    besides = f"; {', '.join(words)} {'is' if len(words) == 1 else 'are'} no paper" if words else ""
    numbered = population if only is None else replace(population, where=only)
    if _each_of(numbered, document.name)[1] >= LEAST_OF_RULE and _of_one(numbered, document, party):
        yield Proposal(
            f"one {document.name} of several {party.name} in {table.name}",
            settings_of(same=[name], differs=party.name, where=only),
            f"One document that was recorded under two of {party.name}.",
            f"{document.name} and amount are the same, and {party.name} is not{besides}",
        )
    nobodys = f"{quoted_name(party.name)} is null" + (f" and {only}" if only else "")
    each, rows = _each_of(replace(population, where=nobodys), document.name)
    if rows >= LEAST_OF_RULE and ONCE * rows <= each < rows:
        yield Proposal(
            f"one {document.name} twice in {table.name}, without {party.name}",
            settings_of(same=[name], where=nobodys),
            "One document that was recorded twice.",
            f"{each:,} of {document.name} on {rows:,} rows without {party.name}{besides}",
        )


def _no_papers(population: Population, document: Column) -> list[str]:
    """What stands in place of a paper's number on several rows: a word, such as of how it was paid."""
    if document.type != "text":
        return []
    seen = first_coded(population, [document.name], MOST_SEEN)[document.name]
    values = seen.values
    rows = np.bincount(seen.codes[seen.codes >= 0], minlength=len(values))
    plain = [
        v for v, n in zip(values, rows, strict=True) if n >= SEVERAL and not re.search(r"\d", v)
    ]
    return sorted(plain) if len(plain) <= MOST_WORDS else []


def _sides(population: Population) -> list[tuple[str, str | None]]:
    """The rows to look at together: those of each side of a ledger of entries that tells whose they are, where a payment
    takes back no bill, but settles it."""
    table = population.table
    debit, credit, entry = (table.role(role) for role in ("debit", "credit", "id"))
    if debit is None or credit is None or entry is None or table.role("account") is None:
        return [("", None)]
    each, rows = _each_of(population, entry.name)
    if LINES * each > rows:
        return [("", None)]
    return [(f", {side.name}", f"{quoted_name(side.name)} > 0") for side in (debit, credit)]


def _bought(table: Table, party: Column) -> list[str]:
    """The column of what is counted, where a list of it with prices is linked: prices are met again, of other things."""
    if not {"quantity", "price"} <= table.roles.keys():
        return []
    lists = (
        column
        for column, link in sorted(table.links.items())
        if "price" in link.table.roles and "amount" not in link.table.roles and column != party.name
    )
    return [column for column in lists if column not in table.roles.values()][:1]


def _of_what_is_named(population: Population, date: Column) -> Iterator[Proposal]:
    """Rows without a party that name a row of another table, as receipts name their loan, or have a text that hardly any two of
    a day have, such as a plate."""
    table = population.table
    named = [
        column
        for column, link in sorted(table.links.items())
        if link.table.name != table.name and link.table.dated() is not None
    ]
    for column in [*named[:1], *([] if named else _many_texts(population))]:
        # One paper is looked for at any distance: of a bill that is paid in parts they are alike.
        if _are_usual(population, column, None if column == table.roles.get("document") else date):
            continue
        each, rows = _each_of(population, column)
        once = each >= ONCE * rows > 0 and column in named
        yield Proposal(
            f"repeats of {table.name}",
            settings_of(same=[quoted_name(column)], within=WHENEVER if once else None),
            "The same thing recorded twice.",
            f"{column}, amount and {date.name} are there; habits and reversals are taken out"
            + (f"; nearly each {column} has one row alone" if once else ""),
        )
        return


def _many_texts(population: Population) -> list[str]:
    """The column of texts, or of what is named, that tells rows apart the most, where some have the same."""
    table = population.table
    names = texts_without(table, ("id", "document", "text", "preparer", "approver", "currency"))
    coded = first_coded(population, names, MOST_SEEN) if names else {}
    several = {
        name: len(each.values)
        for name, each in coded.items()
        if MANY_TEXTS <= len(each.values) < (each.codes >= 0).sum() == len(each.codes)
    }
    return sorted(several, key=lambda name: -several[name])[:1]


def _are_usual(population: Population, column: str, date: Column | None) -> bool:
    """Whether rows alike are so often: two containers of one shipment, at one price on one day, or on any."""
    amount = population.table.roles["amount"]
    alike: list[Tree] = [sql.column(column), sql.column(amount)]
    alike += [] if date is None else [sql.cast(sql.column(date.name), "DATE")]
    known = sql.both(exp.Not(this=sql.is_missing(tree.copy())) for tree in alike)
    names = [exp.alias_(tree, f"v{place}") for place, tree in enumerate(alike)]
    rows = population.used(exp.select(*names, exp.alias_(sql.count(), "n"))).where(known)
    each = rows.group_by(*(tree.copy() for tree in alike)).subquery("a")
    n = sql.column("n", "a")
    again = exp.Sub(this=n.copy(), expression=sql.integer(1))
    fields = {"rows": n, "again": again}
    select = exp.select(*(exp.alias_(exp.Sum(this=t), name) for name, t in fields.items()))
    (row,) = population.query(select.from_(each)).to_pylist()
    return int(row["again"] or 0) > MOST_USUAL * int(row["rows"] or 0)


def _billed_once(population: Population, n: int) -> str | None:
    """The column that names a row of another table, nearly each of which has one row here: a claim is paid once."""
    table = population.table
    for column, link in sorted(table.links.items()):
        if column in table.roles.values() or link.table.name == table.name:
            continue
        each, rows = _each_of(population, column)
        if rows >= ONCE * n and each >= ONCE * rows:
            return column
    return None


def _each_of(population: Population, column: str) -> tuple[int, int]:
    """How many different values a column has, and on how many rows."""
    value = sql.column(column)
    distinct = exp.Count(this=exp.Distinct(expressions=[value.copy()]))
    fields = exp.alias_(distinct, "each"), exp.alias_(exp.Count(this=value), "rows")
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    return int(row["each"]), int(row["rows"])


def _of_one(population: Population, document: Column, party: Column) -> bool:
    """Whether nearly every document is of one party: that of a batch, or an entry, is of several."""
    key, who = sql.column(document.name), sql.column(party.name)
    several = exp.Count(this=exp.Distinct(expressions=[who]))
    each = population.used(exp.select(exp.alias_(several, "parties")))
    each = each.where(exp.Not(this=sql.is_missing(key))).group_by(key.copy())
    more = exp.GT(this=sql.column("parties", "e"), expression=sql.integer(1))
    fields = [exp.alias_(sql.count(), "n"), exp.alias_(sql.only(sql.count(), more), "several")]
    (row,) = population.query(exp.select(*fields).from_(each.subquery("e"))).to_pylist()
    return bool(row["several"] <= MOST_OF_SEVERAL * row["n"])
