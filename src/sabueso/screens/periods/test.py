"""Lines of one period against another, or against a budget: change, shares, rate and volume."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from fractions import Fraction
from typing import TYPE_CHECKING, Any, Literal

import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field, field_validator, model_validator

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import ByColumn, Cells, Values
from sabueso.population import expressions, sql
from sabueso.population.population import Account, Population, Reason, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table, bare_name, money
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.finding import Caution, Finding, Flags
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.periods.judging import (
    Judge,
    Key,
    Side,
    deviate_of,
    mean_side,
    moved,
    rate_percent,
    reading_of,
    volume_percent,
)
from sabueso.screens.periods.partial import partial_periods
from sabueso.screens.periods.proposed import proposed_months, proposed_periods
from sabueso.screens.periods.result import ComparedLine, Comparison, Parts
from sabueso.screens.periods.spans import (
    Axis,
    Chosen,
    Labels,
    axis_of,
    base_of,
    period_columns,
    quoted_period,
    together,
)
from sabueso.screens.periods.view import PeriodsView
from sabueso.screens.proposal import Proposal
from sabueso.screens.settings import Settings, listed
from sabueso.screens.subject import own_name
from sabueso.stats.change import Change, RateVolume, compare, rate_and_volume

if TYPE_CHECKING:
    from sabueso.stats.description import Description


MOST_MONTHS = 240
SMALL = Decimal("0.05")
"""Part of all change that the smallest lines may make together and not be looked at."""


class PeriodsSettings(Settings):
    """Settings of ``periods``."""

    per: list[str] = Field(min_length=1, description="the lines: account, or several columns")
    base: str | None = Field(
        None,
        description="the period compared with: 2024, 2024-Q3, 2024-07; prior, year-before",
    )
    period: str | None = Field(
        None, description="the column that says what period a row is of, of a table without dates"
    )
    current: str = Field(
        description="the period judged: the same, or latest-year, latest-quarter, latest-month"
    )
    mean_of: int | None = Field(
        None, ge=2, le=60, description="compare with the mean of this many periods before"
    )
    deviate_limit: float | None = Field(
        None,
        gt=0,
        description="and at least this many standard deviations of these periods from their mean",
    )
    against: str | None = Field(
        None, description="another table to compare with, such as budget (same period)"
    )
    on: str | None = Field(None, description="the measure: a number column (default: role amount)")
    amount_limit: Decimal | None = Field(
        None, ge=0, description="a flagged change is at least this amount"
    )
    percent_limit: Decimal | None = Field(
        Decimal(10), ge=0, description="and at least this per cent of the base; off: 0"
    )
    share_limit: Decimal | None = Field(
        None, gt=0, description="flag also a share that shifts by this many points"
    )
    quantity: str | None = Field(
        None, description="column of quantities: splits the change into rate and volume"
    )
    flag_by: Literal["change", "rate", "volume"] = Field(
        "change", description="what the limits are compared with: all of a change, or a part of it"
    )
    leave_out: list[Literal["new", "ceased"]] = Field(
        default_factory=list, description="lines that are not judged: new, ceased"
    )

    _listed = field_validator("per", "leave_out", mode="before")(listed)

    @model_validator(mode="after")
    def _fit(self) -> PeriodsSettings:
        if self.flag_by != "change" and not self.quantity:
            raise ValueError(f"a {self.flag_by} needs a quantity: name its column")
        if self.mean_of and (self.base or self.against):
            raise ValueError("mean-of says what is compared with; base or against do too")
        if self.deviate_limit and not self.mean_of:
            raise ValueError("deviate-limit is of the periods of mean-of; give how many")
        return self


class Periods(Screen):
    """Horizontal and vertical comparison of two periods."""

    name = "periods"
    summary = "lines that moved against the prior period or the budget"
    reference = "Horizontal and vertical (common-size) analysis; METHODS in the documentation"
    settings = PeriodsSettings
    group = Comparison
    view = PeriodsView
    place = 70
    examples = (
        "sabueso try periods journal --per account --base 2024 --current 2025 --amount-limit 5000",
        "sabueso try periods journal --per cuenta --against budget --current 2025-Q1",
        "sabueso try periods traffic --on pasajeros --per ruta --base 2024 --current 2025",
    )

    def tables(self, settings: Mapping[str, Any]) -> tuple[str, ...]:
        """The budget that the ledger is compared with, where one is named."""
        against = settings.get("against")
        return (str(against),) if against else ()

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        table = population.table
        date, account = table.dated(), table.role("account")
        if date is None:
            yield self._suit_without_dates(population)
            return
        years = _years(population, date)
        if len(years) < 2:
            only = years[0] if years else "none"
            yield Suit(
                self.name, "with care", f"one year only, {only}: against a budget, or by months"
            )
            return
        line = account.name if account is not None else "a column"
        last = years[-2:]
        options = f"--per {line} --base {last[0]} --current {last[1]}"
        yield Suit(self.name, "yes", f"{len(years)} years: {', '.join(map(str, years))}", options)

    def _suit_without_dates(self, population: Population) -> Suit:
        """Whether a column names the periods."""
        named = period_columns(population)
        if not named:
            return Suit(self.name, "no", "the table has no date, and no column that names periods")
        account = population.table.role("account") or population.table.role("party")
        line = account.name if account is not None else "a column"
        options = f"--per {line} --period {named[0]} --current latest-year --base prior"
        return Suit(self.name, "yes", f"{named[0]} says what period a row is of", options)

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        date = population.table.dated()
        if described is None:
            return
        if date is not None:
            yield from proposed_periods(population, _years(population, date))
        elif len(period_columns(population)) == 1:
            spans = [span for span in Labels(population, None).spans.values() if span is not None]
            years = {span.start.year for span in spans if span.name == str(span.start.year)}
            yield from proposed_periods(population, sorted(years))
        if _is_monthly(population, date):
            yield from proposed_months(population)

    def tuned(self, population: Population, settings: Mapping[str, Any], capacity: int) -> Values:
        given = self.settings.from_plan(dict(settings), self.name)
        lines = self.run(population, given).groups[0].lines
        changes = sorted(abs(moved(line, given.flag_by)) for line in lines)
        small, limit = SMALL * sum(changes), Decimal(0)
        for change in changes:
            small -= change
            if small < 0:
                break
            limit = change
        flagged = sorted(
            (abs(moved(line, given.flag_by)) for line in lines if line.flagged), reverse=True
        )
        if len(flagged) > capacity:
            limit = max(limit, flagged[capacity])
        # The next amount of one digit: easily said, and no more than can be reviewed.
        size = 10 ** max(len(str(int(limit))) - 1, 0)
        return {**settings, "amount_limit": str((int(limit) // size + 1) * size)}

    def run(self, population: Population, settings: PeriodsSettings) -> Finding[Comparison]:
        table = population.table
        measure = table.measure(settings.on)
        quantity = table.number(settings.quantity, what="quantity") if settings.quantity else None
        axis = axis_of(population, settings.period)
        now = axis.named(settings.current, "current")
        spread: dict[Key, float] = {}
        if settings.mean_of is not None:
            every = [axis.before(now, k) for k in range(settings.mean_of, 0, -1)]
            before = together(every)
            account, sides = _sums(population, settings, axis, (measure, quantity), [*every, now])
            old, spread = mean_side(sides[:-1])
            new = sides[-1]
            base_name = f"the mean of {before.name}"
        elif settings.against is None:
            before = base_of(axis, now, settings.base)
            account, sides = _sums(population, settings, axis, (measure, quantity), [before, now])
            old, new = sides
            base_name = before.name
        else:
            other = _other(population, settings.against)
            its_axis = axis_of(other, _own_period(settings.period, other.table))
            before = its_axis.named(settings.base or now.name, "base")
            account, (new,) = _sums(population, settings, axis, (measure, quantity), [now])
            against = other.table.measure(
                settings.on if settings.on in {c.name for c in other.table.columns} else None
            )
            if against.scale > measure.scale:
                raise UserError(
                    f"{against.name!r} of {settings.against!r} has more decimals than {measure.name!r}"
                )
            _, (old,) = _sums(other, settings, its_axis, (against, None), [before])
            factor = 10 ** (measure.scale - against.scale)
            old = replace(old, amounts={k: v * factor for k, v in old.amounts.items()})
            base_name = f"{settings.against} {before.name}"
        keys = sorted({*old.amounts, *new.amounts}, key=lambda key: [str(part) for part in key])
        lines = compare(
            [old.amounts.get(k, 0) for k in keys], [new.amounts.get(k, 0) for k in keys]
        )
        labels = [expressions.label(text, table) for text in settings.per]
        parts, whole = _rates(quantity, keys, lines, old, new)
        judge = Judge(settings, measure.scale)
        described = []
        for key, line, part in zip(keys, lines, parts, strict=True):
            deviate = deviate_of(line.change, spread.get(key)) if spread else None
            flag = judge.flags(line, part, deviate)
            named = dict(zip(labels, key, strict=True))
            described.append(_line(named, line, part, flag, measure.scale, deviate))
        total = compare([sum(line.base for line in lines)], [sum(line.current for line in lines)])[
            0
        ]
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=[],
            settings=settings.model_dump(),
            solved={"base": base_name, "current": now.name, **_by_labels(axis, before, now)},
            population=account,
            groups=[
                Comparison(
                    group={},
                    base=base_name,
                    current=now.name,
                    lines=described,
                    total=_line({}, total, whole, False, measure.scale),
                    rate_volume=_rate_volume(whole, measure.scale),
                )
            ],
            flags=_flags(described, settings, now, axis),
            tests_made=0,
            subjects=len(lines),
            cautions=[
                *_cautions(lines, old, new, base_name, before, now),
                *judge.cautions(lines, parts, base_name),
            ],
            not_tested=[],
            currency=table.currency,
            scale=measure.scale,
        )


def _years(population: Population, date: Column) -> list[int]:
    year = exp.alias_(sql.year(sql.column(date.name), population.table.fiscal_year_starts), "y")
    select = population.used(exp.select(year), [missing(date)])
    each = exp.select(sql.column("y")).from_(select.subquery("b")).group_by(sql.column("y"))
    return sorted(row["y"] for row in population.query(each).to_pylist())


def _is_monthly(population: Population, date: Column | None) -> bool:
    """Whether rows are figures of whole months, two or more: dated the first day of each, or of months by
    a column that names them."""
    if date is None:
        if len(period_columns(population)) != 1:
            return False
        spans = Labels(population, None).spans.values()
        return len(spans) > 1 and all(
            s is not None and len(s.name) == 7 and "Q" not in s.name for s in spans
        )
    day = sql.cast(sql.column(date.name), "DATE")
    base = population.base({"day": day}, [missing(date)]).distinct()
    found = population.query(base.limit(MOST_MONTHS + 1)).column("day").to_pylist()
    return 1 < len(found) <= MOST_MONTHS and all(each.day == 1 for each in found)


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


def _sums(
    population: Population,
    settings: PeriodsSettings,
    axis: Axis,
    summed: tuple[Column, Column | None],
    spans: Sequence[Chosen],
) -> tuple[Account, list[Side]]:
    """Exact sums by line of each period, in one pass, of the measure and the quantity."""
    table = population.table
    measure, quantity = summed
    within = exp.or_(*(exp.paren(axis.holds(span)) for span in spans))
    reasons = [missing(measure), *axis.reasons(), Reason("outside_periods", exp.Not(this=exp.paren(
        exp.Coalesce(this=within, expressions=[exp.false()])
    )))]  # fmt: skip
    lines = Grouping.of(settings.per, table)
    if quantity is not None and settings.flag_by != "change":
        # What has no quantity has no price, and would be one of the others'.
        reasons.insert(0, missing(quantity))
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


def _own_period(text: str | None, table: Table) -> str | None:
    """The column of periods of the table compared with: of the same name, where it has one."""
    if text is None:
        return None
    known = any(c.name == bare_name(text) for c in table.columns)
    return text if known or table.dated() is None else None


def _by_labels(axis: Axis, before: Chosen, now: Chosen) -> Values:
    """What a reader needs to find the rows of periods that a column names."""
    text = quoted_period(axis)
    if text is None:
        return {}
    rows = {"base_rows": axis.condition(before)} if before.values else {}
    return {"period": text, **rows, "current_rows": axis.condition(now)}


def _rates(
    quantity: Column | None, keys: Sequence[Key], lines: Sequence[Change], old: Side, new: Side
) -> tuple[Sequence[RateVolume | None], RateVolume | None]:
    if quantity is None:
        return [None] * len(lines), None
    return rate_and_volume(
        [line.base for line in lines],
        [line.current for line in lines],
        [old.quantities.get(k, Fraction(0)) for k in keys],
        [new.quantities.get(k, Fraction(0)) for k in keys],
    )


def _number(value: Fraction | None, factor: int = 1) -> float | None:
    return None if value is None else float(value * factor)


def _line(
    key: ByColumn,
    line: Change,
    part: RateVolume | None,
    flagged: bool,
    scale: int,
    deviate: float | None = None,
) -> ComparedLine:
    return ComparedLine(
        key=key,
        base=money(line.base, scale),
        current=money(line.current, scale),
        change=money(line.change, scale),
        change_percent=_number(line.percent),
        part_of_change=_number(line.part),
        base_share=_number(line.base_share),
        current_share=_number(line.current_share),
        share_shift=_number(line.share_shift, 100),
        reading=line.reading,
        flagged=flagged,
        rate_volume=_rate_volume(part, scale),
        deviate=deviate,
        rate_percent=_number(rate_percent(part, line)),
        volume_percent=_number(volume_percent(part, line)),
    )


def _rate_volume(part: RateVolume | None, scale: int) -> Parts | None:
    """Parts as amounts; volume and mix are rounded and the rate takes the rest, so that they add
    to the change to the last unit."""
    if part is None:
        return None
    change = part.volume + part.rate + part.mix
    volume, mix = round(part.volume), round(part.mix)
    return Parts(
        volume=money(volume, scale),
        rate=money(int(change) - volume - mix, scale),
        mix=money(mix, scale),
    )


def _flags(
    lines: Sequence[ComparedLine], settings: PeriodsSettings, now: Chosen, axis: Axis
) -> Flags:
    """Flagged lines, the largest change first. The period is part of the subject."""
    rows = []
    by = settings.flag_by
    for line in sorted(lines, key=lambda item: -abs(moved(item, by))):
        if not line.flagged:
            continue
        amount = moved(line, by)
        row: Cells = {"subject": {**line.key, own_name("period", line.key): now.name}}
        percent = line.change_percent
        if axis.labelled:
            row["within"] = axis.condition(now)
        row |= {
            "score": float(amount),
            "limit": float(settings.amount_limit or 0),
            "direction": "high" if amount > 0 else "low",
            "p": None,
            "p_adjusted": None,
            "amount": amount,
            "base": line.base,
            "current": line.current,
            "change_percent": percent,
            "share_shift": line.share_shift,
            "reading": reading_of(line, by),
            "deviate": line.deviate,
            "rate_percent": line.rate_percent,
            "volume_percent": line.volume_percent,
        }
        rows.append(row)
    return Flags("line", pa.Table.from_pylist(rows) if rows else pa.table({}))


def _cautions(
    lines: Sequence[Change], old: Side, new: Side, base: str, before: Chosen, now: Chosen
) -> list[Caution]:
    current = now.name
    found = []
    zero = [line for line in lines if line.base == 0 and line.current != 0]
    if zero:
        found.append(
            Caution(
                "base_zero",
                f"{len(zero)} of {len(lines)} lines have nothing in {base}: no per cent for them",
                {"lines": len(zero)},
            )
        )
    for name, amounts in ((base, [x.base for x in lines]), (current, [x.current for x in lines])):
        if min(amounts, default=0) < 0 < max(amounts, default=0):
            gross = sum(abs(a) for a in amounts)
            found.append(
                Caution(
                    "mixed_signs",
                    f"the lines of {name} have both signs: shares are of a net total that is "
                    f"{100 * abs(sum(amounts)) / gross:.1f}% of the gross",
                    {"period": name},
                )
            )
    if before.span is not None and now.span is not None and old.days | new.days:
        spans = (base, before.span, old.days), (current, now.span, new.days)
        found += partial_periods(spans)
    of_one = before.span is None or now.span is None or not before.name.count(" to ")
    if of_one and before.values and now.values and len(before.values) != len(now.values):
        text = (
            f"{base} is of {num.many(len(before.values), 'period')} of its column ({', '.join(before.values[:4])}"
            f"{' …' if len(before.values) > 4 else ''}), {current} of {len(now.values):,}: they do not cover the "
            "same part of a year"
        )
        found.append(Caution("partial_period", text, {"period": current}))
    return found
