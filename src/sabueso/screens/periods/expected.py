"""What a period is compared with: another, the mean or the season of those before, another table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Protocol

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.errors import UserError, nearest
from sabueso.population import sql
from sabueso.population.accounting import Counting
from sabueso.population.population import Account, Population, Reason, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table, bare_name
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.periods.judging import Key, Side, deviate_of, mean_side
from sabueso.screens.periods.spans import Axis, Chosen, axis_of, base_of, is_latest, together
from sabueso.stats.seasonal import seasonal_expectation

USUAL_DEVIATES = 2.0
"""Standard errors to both sides of a season that are shown where no limit is given."""


class Asked(Protocol):
    """Settings that say what is compared."""

    @property
    def per(self) -> list[str]: ...
    @property
    def base(self) -> str | None: ...
    @property
    def current(self) -> str: ...
    @property
    def period(self) -> str | None: ...
    @property
    def mean_of(self) -> int | None: ...
    @property
    def seasonal(self) -> int | None: ...
    @property
    def deviate_limit(self) -> float | None: ...
    @property
    def against(self) -> str | None: ...
    @property
    def on(self) -> str | None: ...
    @property
    def flag_by(self) -> str: ...


@dataclass(frozen=True)
class Compared:
    """Two sides of a comparison, and what is known of the expectation by line: how many deviates the
    current amount lies from it, the band in minor units, the sums of the periods that it comes from."""

    name: str
    axis: Axis
    before: Chosen
    now: Chosen
    old: Side
    new: Side
    account: Account
    deviates: Mapping[Key, float | None] = field(default_factory=dict)
    bands: Mapping[Key, tuple[int, int]] = field(default_factory=dict)
    history: Sequence[tuple[str, Side]] = ()
    without: int = 0
    """Lines that have no season: something of theirs was not positive."""

    @property
    def several(self) -> bool:
        """Whether the base is made of several periods."""
        return bool(self.history)


def compared(
    population: Population, settings: Asked, measure: Column, quantity: Column | None
) -> Compared:
    """Sum the period judged and what it is compared with.

    Raises
    ------
    UserError
        If a period, a table or a column is none.
    """
    axis = axis_of(population, settings.period)
    now = axis.named(settings.current, "current")
    if settings.mean_of is not None:
        return _with_mean(population, settings, axis, now, (measure, quantity), settings.mean_of)
    if settings.seasonal is not None:
        return _with_season(population, settings, axis, now, (measure, quantity), settings.seasonal)
    if settings.against is not None:
        return _with_table(population, settings, axis, now, (measure, quantity), settings.against)
    before = base_of(axis, now, settings.base)
    account, (old, new) = _sums(population, settings, axis, (measure, quantity), [before, now])
    return Compared(before.name, axis, before, now, old, new, account)


def _with_mean(
    population: Population,
    settings: Asked,
    axis: Axis,
    now: Chosen,
    summed: tuple[Column, Column | None],
    many: int,
) -> Compared:
    every = [axis.before(now, k) for k in range(many, 0, -1)]
    before = together(every)
    account, sides = _sums(population, settings, axis, summed, [*every, now])
    _check_whole(f"the mean of {many} periods", every, sides)
    old, spread = mean_side(sides[:-1])
    new = sides[-1]
    keys = {*old.amounts, *new.amounts}
    deviates = {
        k: deviate_of(new.amounts.get(k, 0) - old.amounts.get(k, 0), spread.get(k)) for k in keys
    }
    limit, bands = settings.deviate_limit, {}
    if limit is not None:
        bands = {
            k: (round(old.amounts[k] - limit * s), round(old.amounts[k] + limit * s))
            for k, s in spread.items()
        }
    history = [(each.name, side) for each, side in zip(every, sides[:-1], strict=True)]
    name = f"the mean of {before.name}"
    return Compared(name, axis, before, now, old, new, account, deviates, bands, history)


def _with_season(
    population: Population,
    settings: Asked,
    axis: Axis,
    now: Chosen,
    summed: tuple[Column, Column | None],
    years: int,
) -> Compared:
    """What level, growth and season of the months or quarters of some years lead to expect. A line that
    has none, since an amount was 0 or of another sign, is compared with the mean of the same part of
    each year."""
    a_year = {7: 4 if "Q" in now.name else 12}.get(len(now.name))
    if a_year is None:
        raise UserError(f"--seasonal is of months or quarters; current {now.name!r} is neither")
    every = [axis.before(now, k) for k in range(years * a_year, 0, -1)]
    before = together(every)
    account, sides = _sums(population, settings, axis, summed, [*every, now])
    _check_whole(f"the season of {years} years", every, sides)
    past, new = sides[:-1], sides[-1]
    limit = settings.deviate_limit or USUAL_DEVIATES
    amounts: dict[Key, int] = {}
    deviates: dict[Key, float | None] = {}
    bands: dict[Key, tuple[int, int]] = {}
    without = 0
    for key in {key for side in past for key in side.amounts}:
        values = np.array([float(side.amounts.get(key, 0)) for side in past])
        sign = 1 if values[-1] > 0 else -1
        season = seasonal_expectation(sign * values, a_year)
        if season is None:
            same = [side.amounts.get(key, 0) for side in past[::a_year]]
            amounts[key], without = round(Fraction(sum(same), len(same))), without + 1
            continue
        amounts[key] = sign * round(season.expected)
        current = sign * new.amounts.get(key, 0)
        away = season.deviate(current) if current > 0 else None
        deviates[key] = None if away is None else sign * away
        low, high = season.band(limit)
        bands[key] = (round(low), round(high)) if sign > 0 else (-round(high), -round(low))
    same_part = [side.quantities for side in past[::a_year]]
    keys = {key for each in same_part for key in each}
    quantities = {
        k: sum((each.get(k, Fraction(0)) for each in same_part), Fraction(0)) / len(same_part)
        for k in keys
    }
    old = Side(amounts, quantities, past[0].days)
    history = [(each.name, side) for each, side in zip(every, past, strict=True)]
    name = f"the season of {before.name}"
    return Compared(name, axis, before, now, old, new, account, deviates, bands, history, without)


def _check_whole(what: str, every: Sequence[Chosen], sides: Sequence[Side]) -> None:
    """Refuse periods that no row is of: they would count as nothing, and lower what is expected.

    Raises
    ------
    UserError
        If there is one.
    """
    empty = [each.name for each, side in zip(every, sides, strict=False) if not side.amounts]
    if empty:
        several = f" and {len(empty) - 1} more have" if len(empty) > 1 else " has"
        raise UserError(
            f"{what} before: {empty[0]}{several} no rows, and would be counted as nothing; ask for fewer, or judge "
            "a later period"
        )


def _with_table(
    population: Population,
    settings: Asked,
    axis: Axis,
    now: Chosen,
    summed: tuple[Column, Column | None],
    against: str,
) -> Compared:
    """Another table of the same lines, such as a budget."""
    measure, _ = summed
    other = _other(population, against)
    its_axis = axis_of(other, _own_period(settings.period, other.table))
    before = its_axis.named(settings.base or now.name, "base")
    account, (new,) = _sums(population, settings, axis, summed, [now])
    known = settings.on in {c.name for c in other.table.columns}
    its = other.table.measure(settings.on if known else None)
    if its.scale > measure.scale:
        raise UserError(f"{its.name!r} of {against!r} has more decimals than {measure.name!r}")
    _, (old,) = _sums(other, settings, its_axis, (its, None), [before])
    factor = 10 ** (measure.scale - its.scale)
    old = replace(old, amounts={k: v * factor for k, v in old.amounts.items()})
    return Compared(f"{against} {before.name}", axis, before, now, old, new, account)


def _other(population: Population, name: str) -> Population:
    if name not in population.tables:
        raise UserError(
            f"there is no table {name!r} to compare with{nearest(name, population.tables)}"
        )
    other = Population(
        population.engine, population.tables[name], population.where, tables=population.tables
    )
    try:
        other.conditions()
    except UserError as error:
        raise UserError(f"the condition must hold for {name!r} as well: {error}") from None
    return other


def _own_period(text: str | None, table: Table) -> str | None:
    """The column of periods of the table compared with: of the same name, where it has one."""
    if text is None:
        return None
    known = any(c.name == bare_name(text) for c in table.columns)
    return text if known or table.dated() is None else None


def counts_of(
    population: Population, settings: Asked, measure: Column, quantity: Column | None
) -> list[Counting]:
    """What :func:`compared` has counted, where two periods are named; nothing where the rows have to tell them."""
    several = settings.mean_of or settings.seasonal or settings.against
    if several or settings.period is not None or population.table.dated() is None:
        return []
    axis = axis_of(population, None)
    if any(is_latest(name) for name in (settings.current, settings.base or "")):
        return []
    now = axis.named(settings.current, "current")
    spans = [base_of(axis, now, settings.base), now]
    return [Counting(measure, _reasons(settings, axis, (measure, quantity), spans))]


def _reasons(
    settings: Asked, axis: Axis, summed: tuple[Column, Column | None], spans: Sequence[Chosen]
) -> list[Reason]:
    """Why rows are left out of the sums of some periods."""
    measure, quantity = summed
    within = exp.or_(*(exp.paren(axis.holds(span)) for span in spans))
    inside = exp.paren(exp.Coalesce(this=within, expressions=[exp.false()]))
    reasons = [
        missing(measure),
        *axis.reasons(),
        Reason("outside_periods", exp.Not(this=inside)),
    ]
    if quantity is not None and settings.flag_by != "change":
        # What has no quantity has no price, and would be one of the others'.
        reasons.insert(0, missing(quantity))
    return reasons


def _sums(
    population: Population,
    settings: Asked,
    axis: Axis,
    summed: tuple[Column, Column | None],
    spans: Sequence[Chosen],
) -> tuple[Account, list[Side]]:
    """Exact sums by line of each period, in one pass, of the measure and the quantity."""
    table = population.table
    measure, quantity = summed
    reasons = _reasons(settings, axis, summed, spans)
    lines = Grouping.of(settings.per, table)
    which = exp.Case()
    for position, span in enumerate(spans):
        which = which.when(axis.holds(span), sql.integer(position))
    values: dict[str, Tree] = {
        **lines.values(),
        UNITS: sql.minor_units(measure),
        "side": which,
    }
    if quantity is not None:
        values["quantity"] = sql.minor_units(quantity)
    base = population.base(values, reasons)
    keys: list[Tree] = [*lines.columns(), sql.column("side")]
    fields: list[Tree] = [exp.alias_(sql.exact_sum(sql.column(UNITS)), "total")]
    if quantity is not None:
        fields.append(exp.alias_(sql.exact_sum(sql.column("quantity")), "items"))
    select = exp.select(*keys, *fields).from_(base.subquery("b")).group_by(*keys)
    found = population.query(select)
    sides = [Side({}, {}, frozenset()) for _ in spans]
    unit = 10**quantity.scale if quantity is not None else 1
    for named_key, row in zip(lines.keys(found), found.to_pylist(), strict=True):
        key, side = tuple(named_key.values()), sides[row["side"]]
        side.amounts[key] = int(row["total"])
        if quantity is not None:
            side.quantities[key] = Fraction(int(row["items"] or 0), unit)
    covered = axis.days(measure)
    sides = [replace(side, days=covered) for side in sides]
    return population.account(measure, reasons), sides
