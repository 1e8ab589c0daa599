"""Limits on one measure, as they are proposed: of the sign that most rows have, on the scale that suits."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from decimal import ROUND_CEILING, Decimal
from typing import TYPE_CHECKING, Any

from sabueso.base.plain import ByColumn, Values
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.survey import survey_measure
from sabueso.population.table import Role
from sabueso.screens.interface import Screen
from sabueso.screens.limits.kinds import kinds_of_amounts
from sabueso.screens.proposal import (
    LEAST_ROWS,
    grouping_column,
    is_budget,
    most_reviewed,
    signs_of,
)

SEVERAL, LEAST_SEVERAL, MOST_SEVERAL = 0.1, 10, 20
"""Share of a group's rows beyond its own limit, and rows, from which these are no outliers of it; and
how many such groups are left out of a proposal, where most rows are of others."""

BOTH_WAYS = 0.2
"""Share of the rows without the sign that most have from which those are described by themselves."""

if TYPE_CHECKING:
    from sabueso.stats.description import Description


def proposed_limits(
    population: Population,
    described: Description | None,
    roles: tuple[Role, ...],
    least: int,
    *,
    kinds: bool = False,
) -> tuple[list[str], Values] | None:
    """The columns whose groups of ``least`` rows are compared, and the settings that any limit takes: ``by``,
    ``scale``, ``side``, ``where``. None where a table has no amounts that are dated or of somebody again and again, too few of them,
    or is a budget. Where no column in these roles has such groups they are, with ``kinds``, those of kinds by which the amounts
    differ; where there are none all rows are compared, without it if no column has a role. Kinds that say much more of an amount
    than whom it is of come before that."""
    table = population.table
    measure = table.role("amount")
    if described is None or measure is None or described.n < LEAST_ROWS or is_budget(table):
        return None
    column = grouping_column(population, roles, least)
    if column is None and table.role("date") is None:
        return None  # a list of what there is, and no rows of what happened
    by = [] if column is None else [column.name]
    if kinds:
        beside = None if column is None else column.name
        by = kinds_of_amounts(population, measure, least, beside) or by
    if not by and not kinds and any(role in table.roles for role in roles):
        return None
    signs = signs_of(population, measure)
    log = abs(described.skewness or 0) > 1 or (described.kurtosis or 0) > 3
    settings = {
        "by": by, "scale": "log" if log else "amount", "side": "low" if signs.low else "high"
    }  # fmt: skip
    where = signs.where(measure)
    return by, settings if where is None else {**settings, "where": where}


def of_one_sign(population: Population, described: Description | None) -> Description | None:
    """The amounts as they are described, or only those of the sign that most have, where many have the other: of what is
    paid in and paid out one side has a shape of its own."""
    measure = population.table.role("amount")
    if described is None or measure is None:
        return described
    signs = signs_of(population, measure)
    where, left = signs.where(measure), max(signs.positive, signs.negative)
    if where is None or left > (1 - BOTH_WAYS) * signs.rows:
        return described
    found = survey_measure(replace(population, where=where), None)
    # Of amounts that are nothing, or not there, none may be left.
    return described if isinstance(found, str) or not found.groups else found.groups[0][1]


def tuned_limit(
    screen: Screen, population: Population, settings: Mapping[str, Any], capacity: int, limit: str
) -> Values:
    """Settings with the limit of that name solved for where they flag more than ``capacity``, or more than are the exception
    among as many amounts, to one decimal upwards: it flags no more."""
    given = screen.settings.from_plan(dict(settings), screen.name)
    found = screen.run(population, given)
    capacity = most_reviewed(sum(g.n for g in found.groups), capacity)
    if len(found.flags) <= capacity:
        return dict(settings)
    several = [g for g in found.groups if g.flagged >= LEAST_SEVERAL and g.flagged > SEVERAL * g.n]
    few = 2 * sum(g.n for g in several) < sum(g.n for g in found.groups)
    if 0 < len(several) <= MOST_SEVERAL and few and len(settings.get("by", ())) == 1:
        # Such a group has amounts of several levels, and would raise the limit for all others.
        settings = {**settings, "where": _without(settings, [g.group for g in several])}
        population = replace(population, where=settings["where"])
        given = screen.settings.from_plan(dict(settings), screen.name)
        if len(screen.run(population, given).flags) <= capacity:
            return dict(settings)
    aimed = screen.run(population, given.model_copy(update={"aim": capacity}))
    solved: Decimal = aimed.solved[limit]
    return {**settings, limit: str(solved.quantize(Decimal("0.1"), ROUND_CEILING))}


def _without(settings: Mapping[str, Any], groups: Sequence[ByColumn]) -> str:
    """The condition of some settings without the rows of some groups."""
    (name,) = settings["by"]
    listed = ", ".join(literal(value) for group in groups for value in group.values())
    out = f"{quoted_name(name)} not in ({listed})"
    where = settings.get("where")
    return f"{where} and {out}" if where else out
