"""Sums of what names one thing that are hardly ever above a number of that, as they are proposed: what was drawn of a grant, the
claims of a policy, the days of leave of somebody in a year."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role, Table
from sabueso.screens.named_columns import There, measures_of, measures_there
from sabueso.screens.proposal import (
    LEAST_OF_RULE,
    Proposal,
    few_of,
    is_budget,
    settings_of,
    some_of,
)
from sabueso.stats.mixing import share_above

MOST_GROUPS, SEVERAL = 200_000, 1.5
"""Groups that are looked at, and rows that each has on average at least: of one alone it is asked as it is."""
BY_CHANCE = 0.18
"""Share of the groups that would be above it if each were beside another's number, from which that is what keeps them."""
TIED = 0.9
"""Share of the groups that come to just that, from which they are asked whether they do."""
MOSTLY_TIED = 0.5
"""The same from which the sums of a period are not asked."""
NEAR, NEARLY = 0.05, 0.75
"""Share of the sums of a period that are at least so much of what they keep to: of a loan hardly any year is."""
MOST_THERE, MOST_OWN = 8, 2
ROLES: tuple[Role, ...] = ("amount", "quantity")
_PERIODS = ("", "year", "month")


class _Sums(NamedTuple):
    """Of each group what its rows come to, the greatest of them, how many they are, and the numbers of what they name."""

    total: np.ndarray
    greatest: np.ndarray
    rows: np.ndarray
    limits: dict[str, np.ndarray]


def proposed_up_to(population: Population) -> Iterator[Proposal]:
    """Of each thing that rows name the first number of it, over all time, in a year or in a month, that sums keep to."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    there: dict[str, list[There]] = {}
    for each in measures_there(population):
        if not is_budget(each.table):
            there.setdefault(each.by, []).append(each)
    for number in _numbers(table):
        for by, limits in there.items():
            yield from _of(population, number, by, limits[:MOST_THERE])


def _numbers(table: Table) -> list[Column]:
    """The amount and the quantity; without either the first numbers that are another thing than a price."""
    own = [c for role in ROLES if (c := table.role(role)) is not None]
    return own or measures_of(table)[:MOST_OWN]


def _of(
    population: Population, own: Column, by: str, limits: Sequence[There]
) -> Iterator[Proposal]:
    table = population.table
    left = {each.sql: each for each in limits}
    for unit in _PERIODS if table.dated() is not None else ("",):
        period = expressions.period_text(unit, table) if unit else ""
        sums = _sums(population, own, by, period, list(left))
        if sums is None:
            continue
        for name, limit in sums.limits.items():
            if not period and _are_tied(sums, limit):
                left.pop(name)  # whether they come to just that is asked elsewhere, and once
                continue
            over = _over(sums, limit, near=NEAR if period else 0.0)
            if over is None:
                continue
            each = left.pop(name)
            keys = [quoted_name(by), *([period] if period else [])]
            n = int((limit > 0).sum())
            yield Proposal(
                f"{own.name} of {table.name} by {by}{f' and {unit}' if unit else ''} above {each.told}",
                settings_of(
                    what="totals", by=keys, equals=f"sum({quoted_name(own.name)})",
                    expect=f"max({each.sql})", side="above",
                ),
                "More in all than what nearly all others keep to.",
                f"{over:,} of {n:,} are above",
            )  # fmt: skip
            return


def _are_tied(sums: _Sums, limit: np.ndarray) -> bool:
    """Whether most sums are just the number that they may come to."""
    known = (limit > 0) & (sums.total > 0)
    return bool(known.any()) and (sums.total == limit)[known].mean() >= MOSTLY_TIED


def _over(sums: _Sums, limit: np.ndarray, near: float) -> int | None:
    """How many sums are above a number that keeps nearly all of them; None where it keeps none, where less than a share of
    those that keep to it are ``near`` it, or a row alone is above it wherever a sum is."""
    known = (limit > 0) & (sums.total > 0)
    total, most = sums.total[known], limit[known]
    if len(total) < LEAST_OF_RULE or sums.rows[known].mean() < SEVERAL:
        return None
    above = total > most
    over = int(above.sum())
    few = max(few_of(len(total)), some_of(len(total)))
    if not 0 < over <= few or (total == most).mean() >= TIED:
        return None
    if (sums.greatest[known] > most)[above].all():
        return None
    if (total[~above] >= NEARLY * most[~above]).mean() < near:
        return None
    return over if share_above(total, most) >= BY_CHANCE else None


def _sums(
    population: Population, own: Column, by: str, period: str, limits: Sequence[str]
) -> _Sums | None:
    table, value = population.table, sql.column(own.name)
    keys: list[Tree] = [sql.column(by)]
    keys += [expressions.scalar(period, table)] if period else []
    fields: dict[str, Tree] = {
        "total": exp.Sum(this=value),
        "greatest": exp.Max(this=value.copy()),
        "rows": exp.Count(this=value.copy()),
    }
    for place, limit in enumerate(limits):
        fields[f"l{place}"] = exp.Max(this=expressions.scalar(limit, table, "--expect"))
    named = [exp.alias_(sql.cast(tree, "DOUBLE"), name) for name, tree in fields.items()]
    select = population.used(exp.select(*named)).where(exp.Not(this=sql.is_missing(keys[0].copy())))
    select = select.group_by(*(tree.copy() for tree in keys))
    found = population.query(select.limit(MOST_GROUPS + 1))
    if found.num_rows > MOST_GROUPS:
        return None
    values = {
        n: np.array(found.column(n).to_numpy(zero_copy_only=False), dtype=float) for n in fields
    }
    total, greatest, rows = (np.nan_to_num(values[name]) for name in ("total", "greatest", "rows"))
    return _Sums(
        total, greatest, rows,
        {limit: np.nan_to_num(values[f"l{place}"]) for place, limit in enumerate(limits)},
    )  # fmt: skip
