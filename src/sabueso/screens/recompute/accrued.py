"""Amounts that are a part of a year of another, such as interest or the premium of what is left of a policy, as they are
proposed: found in some rows, counted in all."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import permutations
from typing import NamedTuple

import numpy as np

from sabueso.base.words import CalledSo
from sabueso.population import expressions
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.named_columns import numbers_there
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget
from sabueso.screens.recompute.amounts import further
from sabueso.screens.recompute.priced import held, is_rule
from sabueso.stats.additive import HOLDS, same_but_rounded

MOST_SEEN = 500
MOST_BASES, MOST_RATES, MOST_DATES, MOST_COUNTS = 8, 4, 3, 3
"""Numbers that something may be a part of, rates, days, and numbers of days that are tried."""
YEARS = (365, 360)
DIFFERENT = 5
"""Different numbers of days that there must be, or amounts of months."""
SOMETHING = 0.5
"""Share of the rows seen in which the amount must be something."""


_DAYS = CalledSo(r"day|tage|jours|d[ií]as|giorni|dagen|dni")


class _Term(NamedTuple):
    """A factor: its SQL, and how that is told."""

    sql: str
    told: str


def proposed_accrued(population: Population, amount: Column) -> Iterator[Proposal]:
    """An amount for the days, or the month, of its row."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    amounts = [amount, *further(table, amount)]
    bases, rates, spans = _bases(population, amounts), _rates(population, amounts), _spans(table)
    if not bases or not (spans or rates):
        return
    terms = {t.sql for t in (*bases, *rates, *spans)} | {quoted_name(c.name) for c in amounts}
    trees = {text: expressions.scalar(text, table, "--expect") for text in sorted(terms)}
    seen = first_numbers(population, trees, MOST_SEEN)
    for own in amounts:
        found = _way(own, bases, rates, spans, seen)
        if found is None:
            continue
        made = held(population, own, found.sql, found.told)
        if is_rule(made) and made.differing:
            yield made.proposal(own.name, table.name, "that of their days")
            return


def _way(
    own: Column,
    bases: list[_Term],
    rates: list[_Term],
    spans: list[_Term],
    seen: dict[str, np.ndarray],
) -> _Term | None:
    """The way that most of some rows keep, the plainest of equally good ones."""
    value, name = seen[quoted_name(own.name)], quoted_name(own.name)
    best: tuple[float, _Term] | None = None
    for base in bases:
        if base.sql == name:
            continue
        for rate in (None, *rates):
            if rate is not None and rate.sql in (name, base.sql):
                continue
            part = seen[base.sql] * (1.0 if rate is None else seen[rate.sql] / 100)
            percent = "" if rate is None else f" * {rate.sql} / 100"
            of = base.told if rate is None else f"{rate.told} percent of {base.told}"
            ways = [
                (seen[span.sql] / year, f" * {span.sql} / {year}", f"{of} for {span.told} of {year}", span.sql)
                for span in spans
                for year in YEARS
            ]  # fmt: skip
            if rate is not None:
                ways.append((np.full(len(part), 1 / 12), " / 12", f"{of} for a month", ""))
            for factor, text, told, span_sql in ways:
                if span_sql in (name, base.sql, "" if rate is None else rate.sql) and span_sql:
                    continue
                share = _share(value, part * factor, own.scale)
                if share >= HOLDS and (best is None or share > best[0]):
                    best = share, _Term(f"{base.sql}{percent}{text}", told)
    return None if best is None else best[1]


def _share(own: np.ndarray, made: np.ndarray, scale: int) -> float:
    """Of the rows that have both, the share whose amount is made so, if they tell anything."""
    known = ~(np.isnan(own) | np.isnan(made))
    if known.sum() < min(LEAST_OF_RULE, len(own)) or (own[known] != 0).mean() < SOMETHING:
        return 0.0
    if np.unique(made[known]).size < DIFFERENT:
        return 0.0
    return float(same_but_rounded(own, made, scale)[known].mean())


def _bases(population: Population, amounts: list[Column]) -> list[_Term]:
    """Numbers of money, of a row and of the rows that it names."""
    own = [_Term(quoted_name(c.name), c.name) for c in amounts]
    named = [
        _Term(there.sql, there.told)
        for there in numbers_there(population)
        if there.column.scale == amounts[0].scale
        and there.column.name not in map(there.table.roles.get, ("price", "quantity"))
    ]
    return [*own, *named][:MOST_BASES]


def _rates(population: Population, amounts: list[Column]) -> list[_Term]:
    """Numbers that are no money: per cent of a year."""
    table = population.table
    none = {c.name for c in amounts} | {table.roles.get("quantity"), table.roles.get("id")}
    own = [_Term(quoted_name(c.name), c.name) for c in table.numbers if c.name not in none]
    named = [
        _Term(there.sql, there.told)
        for there in numbers_there(population)
        if there.column.name != there.table.roles.get("amount")
    ]
    return [*own, *named][:MOST_RATES]


def _spans(table: Table) -> list[_Term]:
    """Days between two columns of a row, and whole numbers that may count them."""
    dates = [c for c in table.columns if c.type in ("date", "timestamp")][:MOST_DATES]
    counts = [c for c in table.columns if c.type == "number" and not c.scale and not c.is_place]
    found = [
        _Term(quoted_name(c.name), c.name if _DAYS.search(c.name) else f"{c.name} days")
        for c in counts[:MOST_COUNTS]
    ]
    for one, two in permutations(dates, 2):
        between = f"days({quoted_name(two.name)}, {quoted_name(one.name)})"
        told = f"the days from {one.name} to {two.name}"
        found += [_Term(between, told), _Term(f"({between} + 1)", f"{told}, both counted,")]
    return found
