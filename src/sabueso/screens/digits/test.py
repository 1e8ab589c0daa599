"""Leading digits of a measure against their expected proportions."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.accounting import Counting
from sabueso.population.calendar import Span
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population, Reason, missing, zero
from sabueso.population.table import Column, Table
from sabueso.population.units import unit_of
from sabueso.report.blocks import Suit
from sabueso.screens import grouping as grp
from sabueso.screens.cautions import copied_rows
from sabueso.screens.digits.classes import (
    Counted,
    count_classes,
    least_units,
)
from sabueso.screens.digits.described import described_groups
from sabueso.screens.digits.detail import changed_classes, repeated_amounts, who_is_behind
from sabueso.screens.digits.doubts import digit_cautions
from sabueso.screens.digits.flags import change_flags, flagged_classes
from sabueso.screens.digits.result import DigitChange, DigitGroup, DigitMore
from sabueso.screens.digits.settings import DigitsSettings
from sabueso.screens.digits.suitability import STAGED, distinct_amounts, distinct_differences
from sabueso.screens.digits.view import DigitsView
from sabueso.screens.finding import Caution, Finding, Flags
from sabueso.screens.grouping import UNITS, Grouping, distinct_units
from sabueso.screens.interface import Screen
from sabueso.screens.proposal import Proposal
from sabueso.stats.digit_law import DigitTest
from sabueso.stats.digits import DigitFit, fit_digits

if TYPE_CHECKING:
    from sabueso.stats.description import Description


AGAINST = frozenset({"assigned_numbers", "repeated_prices", "bounded"})
"""Cautions that say that a population is none for leading digits."""


class Digits(Screen):
    """First, second, first-two, first-three and last-two digits."""

    name = "digits"
    summary = "leading digits that occur more or less often than they should"
    reference = (
        "Benford, F. (1938), Proceedings of the American Philosophical Society 78, 551-572; "
        "Nigrini, M. J. (2012), Benford's Law, Wiley; Fleiss, J. L. (1981), Statistical Methods "
        "for Rates and Proportions"
    )
    settings = DigitsSettings
    group = DigitGroup
    more = DigitMore
    view = DigitsView
    same_again = True
    place = 10
    examples = (
        "sabueso try digits payments --digits first-two --by-whom preparer",
        "sabueso try digits payments --by usuario --sign positive",
        "sabueso try digits payments --compare 2024,2025 --out digits.png",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        if described is None:
            yield Suit(self.name, "no", "the table has no amount")
            return
        finding = self.run(population, self.settings())
        found = {c.code: c.text for c in finding.cautions}
        against = [code for code in found if code in AGAINST]
        if against:
            yield Suit(self.name, "no", found[against[0]])
        elif found:
            first = next(iter(found))
            yield Suit(self.name, "with care", found[first])
        else:
            n = finding.population.used
            yield Suit(self.name, "yes", f"{n:,} amounts over several orders of magnitude")

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.digits.proposed import proposed_digits

        if described is not None:

            def run(chosen: Population, digits: str) -> Finding[DigitGroup]:
                return self.run(chosen, self.settings(digits=digits))

            yield from proposed_digits(run, population, AGAINST)

    def counts(self, population: Population, settings: DigitsSettings) -> list[Counting]:
        measure = population.table.measure(settings.on)
        return [Counting(measure, _groups(population.table, measure, settings)[1])]

    def run(self, population: Population, settings: DigitsSettings) -> Finding[DigitGroup]:
        table = population.table
        measure = table.measure(settings.on)
        groups, reasons = _groups(table, measure, settings)
        account = population.account(measure, reasons)
        values = {**groups.values(), UNITS: sql.minor_units(measure)}
        base = population.base(values, reasons)
        amounts = settings.of == "amounts"
        few: dict[tuple[Any, ...], int] | None = None
        if amounts:
            staged = distinct_amounts(population, measure, reasons)
        else:
            differences = _differences(base, groups)
            base = _large_enough(differences, groups, settings.digits)
            few = _too_small(population, differences, groups, settings.digits)
            staged = distinct_differences(base)
        with population.staged(STAGED, staged):
            counted = count_classes(population, base, measure, groups, settings)
            cautions: list[Caution] = digit_cautions(
                population, measure, base, groups, account, settings.digits, counted, whole=amounts
            )
            if amounts:
                copied = copied_rows(population, measure, reasons, account.used)
                cautions += [copied] if copied is not None else []
            fit = _fitted(counted, settings) if counted.keys else None
            described = [] if fit is None else described_groups(counted, fit, measure.scale, few)
            if amounts and fit is not None and not groups.labels:
                of_all, of_class = repeated_amounts(population, measure, fit, settings.digits)
                described[0] = replace(described[0], repeated=of_all, repeated_in_class=of_class)
        tests = 0 if fit is None else fit.z.size
        # Under Holm and Bonferroni chance flags a class of some group in no more than alpha of cases.
        by_chance = None if fit is None or settings.tolerance is not None else settings.alpha
        change: DigitChange | None = None
        if settings.compare and len(described) == 2:
            change = changed_classes(described, settings.alpha, settings.adjust)
            tests = len(change.classes)
        if settings.by_whom and amounts and fit is not None and fit.flagged.any():
            behind = who_is_behind(
                population, base, values, reasons, groups, counted.keys, fit, settings,
                measure.scale,
            )  # fmt: skip
            described = [
                replace(group, behind=found) for group, found in zip(described, behind, strict=True)
            ]
        if settings.compare:
            flags = change_flags(described, change, settings, measure)
        elif amounts:
            flags = flagged_classes(counted.keys, fit, described, settings, measure, table)
        else:  # no row is behind a difference
            flags = Flags("class", pa.table({}))
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=list(groups.labels),
            settings=settings.model_dump(),
            population=account,
            groups=described,
            flags=flags,
            tests_made=tests,
            subjects=tests,
            flags_by_chance=by_chance if amounts else None,
            cautions=cautions,
            not_tested=counted.not_tested,
            currency=unit_of(table, measure),
            scale=measure.scale,
            more=DigitMore(change),
        )


def _fitted(counted: Counted, settings: DigitsSettings) -> DigitFit:
    """The classes beside what is expected of them, those of the side that is asked for marked."""
    fit = fit_digits(
        counted.classes,
        settings.digits,
        z_limit=None if settings.z_limit is None else float(settings.z_limit),
        alpha=settings.alpha,
        tolerance=settings.tolerance,
        adjustment=settings.adjust,
    )
    if settings.side == "both":
        return fit
    return replace(fit, flagged=fit.flagged & _on_side(fit, settings.side))


def _groups(
    table: Table, measure: Column, settings: DigitsSettings
) -> tuple[Grouping, list[Reason]]:
    """Groups of the test, and why rows are left out of it."""
    value, nothing = sql.column(measure.name), sql.integer(0)
    reasons = [missing(measure), zero(measure)]
    if settings.sign == "positive":
        reasons.append(Reason("other_sign", exp.LT(this=value, expression=nothing)))
    elif settings.sign == "negative":
        reasons.append(Reason("other_sign", exp.GT(this=value, expression=nothing)))
    floor = settings.at_least
    if settings.digits == "last-two" and (floor is None or floor < 10):
        reasons.append(_below(measure, "below_10", Decimal(10)))
    least = least_units(settings.digits)
    if settings.of == "amounts" and least > 1:
        # An amount of one minor unit has no second digit: padded, it would always begin 10.
        reasons.append(_below(measure, "few_digits", Decimal(least).scaleb(-measure.scale)))
    if floor is not None:
        reasons.append(_below(measure, "below_floor", floor))
    groups = Grouping.of(settings.by, table)
    if settings.sign == "each":
        side = exp.Case().when(
            exp.LT(this=value.copy(), expression=nothing.copy()), exp.Neg(this=sql.integer(1))
        )
        groups = Grouping(
            (*groups.labels, f"sign({quoted_name(measure.name)})"),
            (*groups.trees, side.else_(sql.integer(1))),
        )
    if settings.compare:
        date = table.role("date")
        if date is None:
            raise UserError(
                f"compare needs a column in the role date; table {table.name!r} has none"
            )
        first, second = (Span.of(p, table.fiscal_year_starts, "compare") for p in settings.compare)
        if first.overlaps(second):
            raise UserError(f"the periods {first.name} and {second.name} overlap")
        day = sql.column(date.name)
        within = exp.or_(*(exp.paren(span.holds(day)) for span in (first, second)))
        inside = exp.paren(exp.Coalesce(this=within, expressions=[exp.false()]))
        reasons.append(Reason("outside_periods", exp.Not(this=inside)))
        which = exp.Case().when(first.holds(day), sql.text(first.name)).else_(sql.text(second.name))
        groups = Grouping(("period",), (which,))
    return groups, reasons


def _below(measure: Column, code: str, floor: Decimal) -> Reason:
    size = exp.Abs(this=sql.column(measure.name))
    return Reason(code, exp.LT(this=size, expression=sql.number(floor)))


def _on_side(fit: DigitFit, side: str) -> np.ndarray:
    """The classes that are too frequent, or too rare."""
    return np.asarray(fit.share > fit.expected if side == "high" else fit.share < fit.expected)


def _differences(base: exp.Select, groups: Grouping) -> exp.Select:
    """The differences between the sorted distinct amounts of each group; none of them is zero."""
    units = sql.column(UNITS, "d")
    following = exp.Window(
        this=exp.Anonymous(this="LEAD", expressions=[units]),
        partition_by=list(groups.columns("d")),
        order=exp.Order(expressions=[sql.ordered(units.copy())]),
    )
    gap = exp.Sub(this=following, expression=units.copy())
    gaps = exp.select(*groups.columns("d"), exp.alias_(gap, UNITS, quoted=True))
    gaps = gaps.from_(distinct_units(base, groups).subquery("d"))
    kept = exp.Not(this=sql.is_missing(sql.column(UNITS, "g")))
    wanted = [*groups.columns("g"), sql.column(UNITS, "g")]
    return exp.select(*wanted).from_(gaps.subquery("g")).where(kept)


def _large_enough(base: exp.Select, groups: Grouping, test: DigitTest) -> exp.Select:
    """The differences that have as many digits as are tested."""
    size = sql.magnitude(sql.column(UNITS, "l"))
    large = exp.GTE(this=size, expression=sql.integer(least_units(test)))
    wanted = [*groups.columns("l"), sql.column(UNITS, "l")]
    return exp.select(*wanted).from_(base.subquery("l")).where(large)


def _too_small(
    population: Population, base: exp.Select, groups: Grouping, test: DigitTest
) -> dict[tuple[Any, ...], int]:
    """By group, how many differences have fewer digits than are tested."""
    small = exp.LT(
        this=sql.magnitude(sql.column(UNITS, "b")), expression=sql.integer(least_units(test))
    )
    found = population.query(grp.per_group(base, groups, {"few": sql.only(sql.count(), small)}))
    keys = groups.keys(found)
    return {tuple(key.values()): n for key, n in zip(keys, grp.integers(found, "few"), strict=True)}
