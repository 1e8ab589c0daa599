"""Limits by deviates: how many standard deviations from the mean, plain or robust."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from sabueso.base.plain import ByColumn, Values
from sabueso.base.words import either, listed
from sabueso.population import sql
from sabueso.population.accounting import Counting
from sabueso.population.population import Population, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Role
from sabueso.population.units import unit_of
from sabueso.report.blocks import Suit
from sabueso.screens.cautions import copied_rows
from sabueso.screens.finding import Aim, Finding, Flags, NotTested
from sabueso.screens.grouping import Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.limits import table as lim
from sabueso.screens.limits.aiming import solved_limit
from sabueso.screens.limits.effects import Effect, FlaggedSums, without_flagged
from sabueso.screens.limits.every import every_deviate
from sabueso.screens.limits.histogram import histogram
from sabueso.screens.limits.kinds import kind_there
from sabueso.screens.limits.scales import WORTH, Scale
from sabueso.screens.proposal import Proposal
from sabueso.screens.trying import flags_by
from sabueso.screens.worths import Worths
from sabueso.screens.zscore.cautions import cautions_of, shape_words
from sabueso.screens.zscore.deviates import (
    DeviateGroup,
    Tested,
    group_figures,
    limits_of,
    testable,
)
from sabueso.screens.zscore.probability import adjusted_p, by_chance, p_of
from sabueso.screens.zscore.result import DeviateResult
from sabueso.screens.zscore.sequential import sequential_limits, steps_of
from sabueso.screens.zscore.settings import ZScoreSettings
from sabueso.screens.zscore.view import ZScoreView
from sabueso.stats.moments import (
    deviate_limits,
    greatest_deviate,
    moments,
    shape,
)
from sabueso.stats.quartiles import centred_limits, in_units, robust_unit
from sabueso.stats.sequential import SequentialTest

if TYPE_CHECKING:
    from sabueso.stats.description import Description


LEAST_PROPOSED = 12
"""Rows of a group from which its amounts are proposed to be compared."""


class ZScore(Screen):
    """z-scores and modified z-scores on one measure."""

    name = "zscore"
    family = "limits"
    summary = "rows many standard deviations from the mean of their group"
    reference = (
        "Shiffler, R. E. (1988), The American Statistician 42, 79-80; Iglewicz, B. and Hoaglin, "
        "D. C. (1993), How to Detect and Handle Outliers, ASQC; Rosner, B. (1983), Technometrics 25, "
        "165-172"
    )
    settings = ZScoreSettings
    group = DeviateResult
    view = ZScoreView
    same_again = True
    place = 20
    examples = (
        "sabueso try zscore payments --by account --scale log --method modified",
        'sabueso try zscore payments --by proveedor --aim 12 --where "importe > 0"',
        "sabueso try zscore payroll --on neto --by categoria --out pay.png --figure quantile",
    )
    figures = ("plain", "quantile", "strip")
    from_quantiles = ("quantile", "strip")

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        if described is None:
            yield Suit(self.name, "no", "the table has no amount")
            return
        skewness, kurtosis = described.skewness, described.kurtosis
        if described.n < 11 or not described.sd:
            yield Suit(
                self.name,
                "no",
                f"{described.n:,} amounts with s {described.sd or 0:g}: no limit means anything",
            )
        elif abs(skewness or 0) > 1 or (kurtosis or 0) > 3:
            yield Suit(
                self.name,
                "with care",
                f"{shape_words(skewness, kurtosis or 0)}: on the log scale",
                "--scale log",
            )
        else:
            yield Suit(
                self.name,
                "yes",
                shape_words(skewness, kurtosis or 0),
            )

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.limits.proposing import of_one_sign, proposed_limits
        from sabueso.screens.zscore.prices import (
            proposed_counts,
            proposed_measures,
            proposed_prices,
        )

        yield from proposed_prices(population, LEAST_PROPOSED)
        yield from proposed_counts(population, LEAST_PROPOSED)
        for proposal in proposed_measures(population, LEAST_PROPOSED):
            if flags_by(self, population, proposal.settings):
                yield proposal
        roles: tuple[Role, ...] = ("party", "account")
        described = of_one_sign(population, described)
        found = proposed_limits(population, described, roles, LEAST_PROPOSED, kinds=True)
        if found is None or described is None:
            return
        by, settings = found
        measure = population.table.measure(None)
        there = None if by else kind_there(population, measure, LEAST_PROPOSED)
        if there is not None:
            by = [there.sql]
            settings = {**settings, "by": by}
        called = listed(by) if there is None else there.told
        because = f"groups of {LEAST_PROPOSED} rows and more by {called}"
        if not by:
            named = [column.name for role in roles if (column := population.table.role(role))]
            few = f"too few of {either(named)} have {LEAST_PROPOSED} rows and more"
            why = few if named else "neither parties nor accounts are named"
            because = f"all rows, since {why}"
        if settings["scale"] == "log":
            because += (
                f"; {shape_words(described.skewness, described.kurtosis or 0)}: on the log scale"
            )
        if not by:
            name, of = "far from the rest", "all others"
        elif there is None:
            name, of = f"unlike the {listed(by)}'s others", f"the others of its {listed(by)}"
        else:
            name, of = f"unlike others of the {there.told}", f"the others of the {there.told}"
        yield Proposal(
            f"{population.table.name} {name}",
            {"method": "modified", "min_group": LEAST_PROPOSED, **settings},
            f"A slip of the decimal mark, or an amount out of proportion, stands far from {of}.",
            because,
            tuned=True,
        )

    def tuned(self, population: Population, settings: Mapping[str, Any], capacity: int) -> Values:
        from sabueso.screens.limits.proposing import tuned_limit

        return tuned_limit(self, population, settings, capacity, "limit")

    def every_row(
        self, population: Population, finding: Finding[DeviateResult]
    ) -> Generator[pa.RecordBatch] | None:
        if finding.settings["method"] == "sequential":
            return None
        measure = population.table.measure(finding.on)
        groups = Grouping.of(finding.settings["by"], population.table)
        worths = Worths.of(population, groups, measure, [missing(measure)])
        scale = Scale.of(finding.settings["scale"], worths, measure)
        limit = float(finding.used["limit"])
        places = []
        for g in finding.groups:
            if g.low is not None and g.high is not None:
                low, high = (scale.place(v, g.group) * 10**scale.decimals for v in (g.low, g.high))
                places.append((g.group, (low + high) / 2, (high - low) / 2 / limit))
        return every_deviate(population, finding, scale, places)

    def counts(self, population: Population, settings: ZScoreSettings) -> list[Counting]:
        measure = population.table.measure(settings.on)
        return [Counting(measure, [missing(measure)])]

    def run(self, population: Population, settings: ZScoreSettings) -> Finding[DeviateResult]:
        table = population.table
        measure = table.measure(settings.on)
        groups = Grouping.of(settings.by, table)
        reasons = [missing(measure)]
        account = population.account(measure, reasons)
        worths = Worths.of(population, groups, measure, reasons)
        scale = Scale.of(settings.scale, worths, measure)
        population = scale.of_population(population)
        values: dict[str, Tree] = {**groups.values(), WORTH: sql.minor_units(measure)}
        base = scale.base(population, values, reasons)
        limit = Fraction(settings.limit or ("3.5" if settings.method == "modified" else "3"))

        found, not_tested = testable(group_figures(worths, scale, settings), settings.min_group)
        aim: Aim | None = None
        steps: list[SequentialTest] = []
        if settings.method == "sequential":
            tested, flat, steps = sequential_limits(
                worths, scale, found, settings.most, settings.alpha
            )
        else:
            tested, flat = _limits(found, settings.method, limit)
            if settings.aim is not None:
                aim = solved_limit(
                    population, base, groups, limits_of(groups, tested), settings.side,
                    settings.aim, measure.scale,
                )  # fmt: skip
                limit = Fraction(aim.limit)
                tested, flat = _limits(found, settings.method, limit)
        not_tested += flat
        flags, beyond = _flags(
            population, values, reasons, groups, worths, tested, settings, scale, limit
        )
        places, wholes = [t.group.place for t in tested], [t.group.effect for t in tested]
        without = without_flagged(worths, places, wholes, beyond)
        described = [
            _described(t, rest, scale, settings, limit)
            for t, rest in zip(tested, without, strict=True)
        ]
        described = _with_steps(described, steps, scale)
        if tested and not groups.labels:
            bounds = (tested[0].least, tested[0].greatest)
            ends = tested[0].group.ends
            bins = histogram(population, base, scale.decimals, bounds, ends)
            described = [replace(described[0], histogram=bins)]
        doubt = copied_rows(population, measure, reasons, account.used)
        copied = [] if doubt is None or settings.method == "sequential" else [doubt]
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=list(groups.labels),
            settings=settings.model_dump(),
            solved={"limit": _decimal(limit, settings)},
            population=account,
            groups=described,
            flags=flags,
            tests_made=sum(t.group.n for t in tested),
            flags_by_chance=by_chance(tested, settings, limit),
            cautions=[*cautions_of(tested, described, not_tested, settings, limit), *copied],
            not_tested=not_tested,
            currency=unit_of(table, measure),
            scale=measure.scale,
            aim=aim,
        )


def _limits(
    found: Sequence[DeviateGroup], method: str, limit: Fraction
) -> tuple[list[Tested], list[NotTested]]:
    tested, flat = [], []
    for g in found:
        if method == "plain":
            spread = moments(g.n, g.total, g.squares).sd or None
            centre = g.total / g.n
            bounds = deviate_limits(g.n, g.total, g.squares, limit)
        else:
            unit = robust_unit(g.mad, Fraction(g.deviation2, 2 * g.n))
            spread, centre = None if unit is None else float(unit), float(g.median)
            bounds = centred_limits(g.median, unit or Fraction(0), limit)
        if spread is None:
            flat.append(NotTested(g.key, f"zero_spread: all {g.n:,} amounts are the same", g.n))
        else:
            tested.append(Tested(g, bounds[0], bounds[1], centre, spread))
    return tested, flat


def _flags(
    population: Population,
    values: dict[str, Tree],
    reasons: list[Any],
    groups: Grouping,
    worths: Worths,
    tested: list[Tested],
    settings: ZScoreSettings,
    scale: Scale,
    limit: Fraction,
) -> tuple[Flags, FlaggedSums]:
    """The rows beyond the limits, and their sums by group."""
    limits = limits_of(groups, tested)
    found = lim.rows_beyond(
        population, values, reasons, groups, limits, settings.side, scale.measure,
        carry=(WORTH,), scale=scale,
    )  # fmt: skip
    sums = FlaggedSums.of(found, len(tested))
    high = found.column("high").to_numpy(zero_copy_only=False).astype(bool)
    strength = found.column("strength").to_numpy()
    score = np.where(high, strength, -strength)
    if settings.method == "sequential":
        # The test judges the values one after another; no row has a p of its own.
        columns: dict[str, Any] = {"score": score, "direction": lim.directions(high)}
        return Flags("row", lim.flag_table(found, columns)), sums
    at = found.column("position").to_numpy()
    p = p_of(strength, at, tested, settings)
    adjusted = adjusted_p(worths, scale, tested, p, settings)
    columns = {
        "score": score,
        "limit": np.full(len(strength), float(limit)),
        "direction": lim.directions(high),
        "p": pa.array(p, from_pandas=True),
        "p_adjusted": pa.array(adjusted, from_pandas=True),
    }
    return Flags("row", lim.flag_table(found, columns)), sums


def _described(
    t: Tested,
    rest: Effect | None,
    scale: Scale,
    settings: ZScoreSettings,
    limit: Fraction,
) -> DeviateResult:
    g = t.group
    unit, amount_scale = 10**scale.decimals, scale.measure.scale
    m = moments(g.n, g.total, g.squares, scale.decimals)
    form = shape(g.n, g.cubes, g.fourths) if m.sd else shape(0, 0.0, 0.0)
    reach = float(limit) * t.unit
    low, high = t.centre - reach, t.centre + reach
    open_low = open_high = False
    if settings.method == "sequential":
        # What is no outlier; without an outlier on a side there is no limit on it.
        low, high = float(t.least), float(t.greatest)
        open_low, open_high = t.least == lim.INT64.min, t.greatest == lim.INT64.max

    def place(value: float) -> float | None:
        return scale.amount(value, g.key)

    return DeviateResult(
        group=g.key,
        n=g.n,
        mean=place(m.mean),
        sd=m.sd,
        median=place(in_units(g.median, unit)),
        mad=in_units(g.mad, unit),
        skewness=form.skewness,
        kurtosis=form.kurtosis,
        low=None if open_low else place(low / unit),
        high=None if open_high else place(high / unit),
        reachable=settings.method != "plain" or greatest_deviate(g.n) > float(limit),
        flagged=g.n - (rest.n if rest is not None else 0),
        with_flags=g.effect.amounts(amount_scale),
        without_flags=None if rest is None else rest.amounts(amount_scale),
        scale_unit=scale.unit(g.key),
    )


def _with_steps(
    described: list[DeviateResult], steps: list[SequentialTest], scale: Scale
) -> list[DeviateResult]:
    """The groups, each with the steps of its sequential test where there was one."""
    if not steps:
        return described
    return [
        replace(group, sequential=steps_of(test, partial(_on_scale, scale, group.group)))
        for group, test in zip(described, steps, strict=True)
    ]


def _on_scale(scale: Scale, key: ByColumn, units: float) -> float | None:
    return scale.amount(units / 10**scale.decimals, key)


def _decimal(limit: Fraction, settings: ZScoreSettings) -> Decimal | None:
    """The limit as it is told; the sequential test has one at every step."""
    if settings.method == "sequential":
        return None
    return Decimal(limit.numerator) / limit.denominator
