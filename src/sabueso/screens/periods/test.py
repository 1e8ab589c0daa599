"""Lines of one period against another, or against a budget: change, shares, rate and volume."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import date as day
from datetime import timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any, Literal

import sqlglot.expressions as exp
from pydantic import Field, field_validator, model_validator

from sabueso.base.plain import Values
from sabueso.population import expressions, sql
from sabueso.population.accounting import Counting
from sabueso.population.calendar import Span
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population, missing
from sabueso.population.table import Column, Table, money
from sabueso.population.trees import next_group
from sabueso.population.units import unit_of
from sabueso.report.blocks import Suit
from sabueso.screens.asked import asked
from sabueso.screens.finding import Finding
from sabueso.screens.interface import Screen
from sabueso.screens.periods.doubts import cautions_of, spared_lines
from sabueso.screens.periods.expected import compared, counts_of
from sabueso.screens.periods.judging import (
    Judge,
    moved,
)
from sabueso.screens.periods.lines import at_pace, flags_of, line_of, parts_of, rates_of, with_band
from sabueso.screens.periods.moves import moves_of
from sabueso.screens.periods.result import Comparison
from sabueso.screens.periods.spans import (
    Axis,
    Chosen,
    Labels,
    period_columns,
    quoted_period,
)
from sabueso.screens.periods.view import PeriodsView
from sabueso.screens.proposal import LISTED, Proposal
from sabueso.screens.settings import Settings, listed_once
from sabueso.stats.change import compare

if TYPE_CHECKING:
    from sabueso.stats.description import Description


MOST_MONTHS = 240
FEW_LINES = 10
"""Lines that a limit set by what it flags may always flag."""
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
    seasonal: int | None = Field(
        None,
        ge=2,
        le=10,
        description="compare a month or quarter with what level, growth and season of this many years lead to expect",
    )
    deviate_limit: float | None = Field(
        None,
        gt=0,
        description="and at least this many standard deviations of these periods from their mean, or standard "
        "errors from the season",
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
    tolerance: Decimal | None = Field(
        None,
        gt=0,
        description="flag what lies outside the expectation by this per cent of it, in place of the limits",
    )
    share_limit: Decimal | None = Field(
        None, gt=0, description="flag also a share that shifts by this many points"
    )
    quantity: str | None = Field(
        None, description="column of quantities: splits the change into rate and volume"
    )
    flag_by: Literal["change", "rate", "volume", "moved"] = Field(
        "change",
        description="what the limits are compared with: all of a change, a part of it, or what moved to a new line "
        "from others of the first column of per",
    )
    leave_out: list[Literal["new", "ceased"]] = Field(
        default_factory=list, description="lines that are not judged: new, ceased"
    )

    @field_validator("tolerance", mode="before")
    @classmethod
    def _of_hundred(cls, value: object) -> object:
        return value.strip().removesuffix("%") if isinstance(value, str) else value

    _listed = field_validator("per", "leave_out", mode="before")(listed_once)

    @model_validator(mode="after")
    def _fit(self) -> PeriodsSettings:
        if self.flag_by == "moved" and len(self.per) < 2:
            raise ValueError("moved is between lines of one group: give two columns with per")
        if self.flag_by in ("rate", "volume") and not self.quantity:
            raise ValueError(f"a {self.flag_by} needs a quantity: name its column")
        ways = {"base": self.base, "mean-of": self.mean_of, "seasonal": self.seasonal}
        given = [name for name, value in ways.items() if value]
        if self.against and (self.mean_of or self.seasonal):
            given.append("against")
        if len(given) > 1:
            raise ValueError(f"{given[0]} says what is compared with; {given[1]} does too")
        if self.deviate_limit and not (self.mean_of or self.seasonal):
            raise ValueError(
                "deviate-limit is of the periods of mean-of or seasonal; give how many"
            )
        limits = {"amount_limit", "percent_limit", "deviate_limit"} & self.model_fields_set
        limits = {
            name
            for name in limits
            if getattr(self, name) != PeriodsSettings.model_fields[name].default
        }
        if self.tolerance is not None and limits:
            raise ValueError(f"tolerance stands in the place of the limits; {min(limits)} is one")
        return self


def _next_of_one_digit(limit: Decimal) -> str:
    """The next amount of one digit: easily said, and no more than can be reviewed."""
    size = 10 ** max(len(str(int(limit))) - 1, 0)
    return str((int(limit) // size + 1) * size)


class Periods(Screen):
    """Horizontal and vertical comparison of two periods."""

    name = "periods"
    summary = "lines that moved against the prior period or the budget"
    reference = "Horizontal and vertical (common-size) analysis; METHODS in the documentation"
    settings = PeriodsSettings
    group = Comparison
    view = PeriodsView
    same_again = True
    place = 70
    figures = ("changes", "pairs", "bridge", "shares", "months")
    examples = (
        "sabueso try periods journal --per account --base 2024 --current 2025 --amount-limit 5000",
        "sabueso try periods journal --per cuenta --against budget --current 2025-Q1",
        "sabueso try periods traffic --on pasajeros --per ruta --base 2024 --current 2025",
        "sabueso try periods journal --per cuenta --base 2024 --current 2025 --tolerance 20% --figure pairs --out pairs.png",
    )

    def tables(self, settings: Mapping[str, Any]) -> tuple[str, ...]:
        """The budget that the ledger is compared with, where one is named."""
        against = settings.get("against")
        return (str(against),) if against else ()

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        table = population.table
        date = table.dated()
        if "amount" not in table.roles:
            why = "the table has no amount: name the measure with --on"
            yield Suit(self.name, "with care", why, ready=False)
            return
        if date is None:
            yield self._suit_without_dates(population)
            return
        years = _years(population, date)
        if len(years) < 2:
            only = years[0] if years else "none"
            yield Suit(
                self.name,
                "with care",
                f"one year only, {only}: against a budget, or by months",
                ready=False,
            )
            return
        last = years[-2:]
        options = asked(per=_line(table), base=str(last[0]), current=str(last[1]))
        yield Suit(self.name, "yes", f"{len(years)} years: {', '.join(map(str, years))}", options)

    def _suit_without_dates(self, population: Population) -> Suit:
        """Whether a column names the periods."""
        named = period_columns(population)
        if not named:
            return Suit(self.name, "no", "the table has no date, and no column that names periods")
        options = asked(
            per=_line(population.table),
            period=quoted_name(named[0]),
            current="latest-year",
            base="prior",
        )
        return Suit(self.name, "yes", f"{named[0]} says what period a row is of", options)

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.periods.proposed import proposed_months, proposed_periods

        date = population.table.dated()
        if described is None:
            return
        if date is not None:
            yield from proposed_periods(population, _whole_years(population, date))
        elif len(period_columns(population)) == 1:
            spans = [span for span in Labels(population, None).spans.values() if span is not None]
            years = {span.start.year for span in spans if span.name == str(span.start.year)}
            yield from proposed_periods(population, sorted(years))
        if _is_monthly(population, date):
            yield from proposed_months(population)

    def tuned(self, population: Population, settings: Mapping[str, Any], capacity: int) -> Values:
        given = self.settings.from_plan(dict(settings), self.name)
        found = self.run(population, given)
        lines = found.groups[0].lines
        if given.flag_by == "moved":
            # Small ones are not left out of what moved: a supplier that is new on an account may be small.
            sizes = sorted((abs(flag["amount"] or 0) for flag in found.flags.rows()), reverse=True)
            if len(sizes) <= capacity:
                return dict(settings)
            return {**settings, "amount_limit": _next_of_one_digit(sizes[capacity])}
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
        # More than a tenth of the lines is a list of lines, and of no exceptions; nor are more than can be looked through.
        capacity = min(capacity, LISTED, max(FEW_LINES, len(lines) // 10))
        if len(flagged) > capacity:
            limit = max(limit, flagged[capacity])
        return {**settings, "amount_limit": _next_of_one_digit(limit)}

    def counts(self, population: Population, settings: PeriodsSettings) -> list[Counting]:
        return counts_of(population, settings, *_summed(population.table, settings))

    def run(self, population: Population, settings: PeriodsSettings) -> Finding[Comparison]:
        table = population.table
        measure, quantity = _summed(table, settings)
        sides = compared(population, settings, measure, quantity)
        old, new, now, base_name = sides.old, sides.new, sides.now, sides.name
        keys = sorted({*old.amounts, *new.amounts}, key=lambda key: [str(part) for part in key])
        lines = compare(
            [old.amounts.get(k, 0) for k in keys], [new.amounts.get(k, 0) for k in keys]
        )
        labels = [expressions.label(text, table) for text in settings.per]
        parts, whole = rates_of(quantity, keys, lines, old, new)
        judge = Judge(settings, measure.scale)
        moves = moves_of(keys, lines) if settings.flag_by == "moved" else None
        paced = at_pace(sides, keys, lines, parts, quantity)
        spared = 0
        described = []
        for place, (key, line, part) in enumerate(zip(keys, lines, parts, strict=True)):
            deviate = sides.deviates.get(key)
            move = None if moves is None else moves.get(key)
            if moves is not None:
                flag = move is not None and judge.flags_move(move.amount, move.percent)
            else:
                flag = judge.flags(line, part, deviate)
                if flag and not judge.flags_too(*paced[place], line, deviate):
                    flag, spared = False, spared + 1
            named = dict(zip(labels, key, strict=True))
            one = line_of(named, line, part, flag, measure.scale, deviate)
            if move is not None:
                came = money(round(move.amount), measure.scale)
                one = replace(one, moved=came, moved_from=move.source)
            described.append(
                with_band(one, key, judge.band(line) or sides.bands.get(key), sides, measure.scale)
            )
        (total,) = compare(
            [sum(each.base for each in lines)], [sum(each.current for each in lines)]
        )
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=[],
            settings=settings.model_dump(),
            solved={
                "base": base_name,
                "current": now.name,
                **_by_labels(sides.axis, sides.before, now),
                **_opens_by(population, settings.per),
            },
            population=sides.account,
            groups=[
                Comparison(
                    group={},
                    base=base_name,
                    current=now.name,
                    lines=described,
                    total=line_of({}, total, whole, False, measure.scale),
                    rate_volume=parts_of(whole, measure.scale),
                )
            ],
            flags=flags_of(described, settings, sides),
            tests_made=0,
            subjects=len(lines),
            cautions=[
                *cautions_of(lines, sides),
                *judge.cautions(lines, parts, base_name),
                *spared_lines(spared, sides),
            ],
            not_tested=[],
            currency=unit_of(table, measure),
            scale=measure.scale,
        )


def _summed(table: Table, settings: PeriodsSettings) -> tuple[Column, Column | None]:
    """The measure, and the quantity where the settings name one."""
    measure = table.measure(settings.on)
    return measure, table.number(settings.quantity, what="quantity") if settings.quantity else None


def _years(population: Population, date: Column) -> list[int]:
    year = exp.alias_(sql.year(sql.column(date.name), population.table.fiscal_year_starts), "y")
    select = population.used(exp.select(year), [missing(date)])
    each = exp.select(sql.column("y")).from_(select.subquery("b")).group_by(sql.column("y"))
    return sorted(row["y"] for row in population.query(each).to_pylist())


WHOLE = 0.75
"""Share of a year that the data reach, from which it is compared with another of its own accord."""


def _whole_years(population: Population, date: Column) -> list[int]:
    """The years of the rows but for a first and a last of which the data reach a part."""
    years, account = _years(population, date), population.account(None)
    if account.first_date is None or account.last_date is None:
        return years
    first = day.fromisoformat(account.first_date[:10])
    after = day.fromisoformat(account.last_date[:10]) + timedelta(days=1)

    def whole(year: int) -> bool:
        span = Span.of(str(year), population.table.fiscal_year_starts)
        reached = min(after, span.end) - max(first, span.start)
        return reached >= WHOLE * (span.end - span.start)

    return [year for year in years if whole(year)]


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


def _opens_by(population: Population, per: list[str]) -> Values:
    """What a line is opened by: the next level of the tree of accounts, or another column."""
    below = next_group(population, per)
    return {} if below is None else {"opens_by": below}


def _by_labels(axis: Axis, before: Chosen, now: Chosen) -> Values:
    """What a reader needs to find the rows of periods that a column names."""
    text = quoted_period(axis)
    if text is None:
        return {}
    rows = {"base_rows": axis.condition(before)} if before.values else {}
    return {"period": text, **rows, "current_rows": axis.condition(now)}


def _line(table: Table) -> str:
    """What totals may be of: accounts, parties, or else the first texts that are no row's own."""
    named = (table.roles.get(role) for role in ("account", "party", "preparer"))
    none = {table.roles.get("id"), table.roles.get("document")}
    texts = (
        c.name for c in table.columns if c.type == "text" and not c.is_place and c.name not in none
    )
    name = next((name for name in (*named, *texts) if name is not None), None)
    return "" if name is None else quoted_name(name)
