"""Limits by quartiles: rows beyond the interquartile fences of their group."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from math import ceil, floor
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import pyarrow as pa
from pydantic import Field, model_validator

from sabueso.base.plain import ByColumn, Values
from sabueso.population import sql
from sabueso.population.accounting import Counting
from sabueso.population.population import Population, missing
from sabueso.population.sql import Tree
from sabueso.population.units import unit_of
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.fences.cautions import cautions_of, normal_share
from sabueso.screens.fences.result import FenceGroup
from sabueso.screens.fences.view import FencesView
from sabueso.screens.finding import Aim, Finding, Flags, NotTested
from sabueso.screens.grouping import Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.limits import table as lim
from sabueso.screens.limits.aiming import solved_limit
from sabueso.screens.limits.effects import Effect, FlaggedSums, effects_of, without_flagged
from sabueso.screens.limits.histogram import ends_of, histogram
from sabueso.screens.limits.scales import WORTH, Ordered, Scale
from sabueso.screens.proposal import Proposal
from sabueso.screens.settings import MeasureSettings
from sabueso.screens.worths import Worths
from sabueso.stats.medcouple import adjusted_fences, medcouple
from sabueso.stats.quartiles import Fences as FenceLimits
from sabueso.stats.quartiles import QuartileRule, between, fences, in_units, quartile_positions

if TYPE_CHECKING:
    from sabueso.stats.description import Description


LEAST_PROPOSED = 20
"""Rows of a group from which its quartiles are proposed to be taken."""


class FencesSettings(MeasureSettings):
    """Settings of ``fences``."""

    inner: Decimal = Field(Decimal("1.5"), gt=0, description="k of the inner fences")
    outer: Decimal = Field(Decimal("3"), gt=0, description="k of the outer fences")
    beyond: Literal["inner", "outer"] = Field("inner", description="the fences that flag a row")
    fence: Literal["plain", "skew-adjusted"] = Field(
        "plain",
        description="the same k on both sides, or further on the long side of a skewed group",
    )
    rule: QuartileRule = Field(
        "linear", description="quartiles: interpolation at (n-1)p, at (n+1)p, or Tukey's hinges"
    )
    scale: Literal["amount", "log"] = Field(
        "amount",
        description="the measure as it is, or sign(x)·log10(1 + |x|/u), u 1% of the median |x|",
    )
    side: Literal["both", "high", "low"] = Field("both", description="which side is flagged")
    aim: int | None = Field(
        None, ge=1, description="solve for the k that flags as many rows as can be reviewed"
    )
    min_group: int = Field(5, ge=2, description="rows below which a group is not tested")

    @model_validator(mode="after")
    def _fitting(self) -> FencesSettings:
        if self.inner > self.outer:
            raise ValueError("the outer fences cannot lie inside the inner ones")
        if self.aim is not None and self.fence == "skew-adjusted":
            raise ValueError("aim solves for one k; the skew-adjusted fences have one of each side")
        return self

    def at(self, k: Decimal) -> FencesSettings:
        """The same with the fences that flag at k, the other ones pushed out of the way."""
        if self.beyond == "outer":
            changed = {"outer": k, "inner": min(self.inner, k)}
        else:
            changed = {"inner": k, "outer": max(self.outer, k)}
        return self.model_copy(update=changed)


@dataclass(frozen=True)
class _Tested:
    place: int
    key: ByColumn
    n: int
    limits: FenceLimits
    ends: list[int]
    effect: Effect
    least: int
    greatest: int
    medcouple: float | None = None


class Fences(Screen):
    """Interquartile fences on one measure."""

    name = "fences"
    family = "limits"
    summary = "rows beyond the interquartile fences of their group"
    reference = (
        "Tukey, J. W. (1977), Exploratory Data Analysis; Hyndman, R. J. and Fan, Y. (1996), "
        "The American Statistician 50, 361-365; Hubert, M. and Vandervieren, E. (2008), Computational "
        "Statistics & Data Analysis 52, 5186-5201"
    )
    settings = FencesSettings
    group = FenceGroup
    view = FencesView
    same_again = True
    place = 30
    examples = (
        "sabueso try fences payments --by cuenta --scale log --beyond outer",
        "sabueso try fences payroll --on neto --by categoria --fence skew-adjusted",
        "sabueso try fences payments --by usuario --aim 20 --out fences.png --figure strip",
    )
    figures = ("plain", "quantile", "strip")
    from_quantiles = ("quantile", "strip")

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        if described is None:
            yield Suit(self.name, "no", "the table has no amount")
            return
        skewness = described.skewness
        if not described.iqr:
            yield Suit(
                self.name, "no", "the middle half of the amounts is one value: there is no spread"
            )
        elif abs(skewness or 0) > 2:
            yield Suit(
                self.name,
                "with care",
                f"skewness {skewness or 0:.1f}: many lie beyond the upper fence, on the log scale fewer",
                "--scale log",
            )
        else:
            yield Suit(self.name, "yes", f"interquartile range {float(described.iqr):,.2f}")

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.limits.proposing import of_one_sign, proposed_limits

        described = of_one_sign(population, described)
        found = proposed_limits(population, described, ("account",), LEAST_PROPOSED)
        # Without a party deviates by account are proposed: the same amounts in the same groups.
        if found is None or described is None or not described.iqr:
            return
        if population.table.role("party") is None:
            return
        by, settings = found
        if not by:
            return
        yield Proposal(
            f"{population.table.name} beyond the fences of each {by[0]}",
            {"beyond": "outer", **settings},
            f"The largest amounts of each {by[0]}, by its own quartiles.",
            f"groups of {LEAST_PROPOSED} rows and more by {by[0]}",
            tuned=True,
        )

    def tuned(self, population: Population, settings: Mapping[str, Any], capacity: int) -> Values:
        from sabueso.screens.limits.proposing import tuned_limit

        beyond = settings.get("beyond", "inner")
        return tuned_limit(self, population, settings, capacity, beyond)

    def counts(self, population: Population, settings: FencesSettings) -> list[Counting]:
        measure = population.table.measure(settings.on)
        return [Counting(measure, [missing(measure)])]

    def run(self, population: Population, settings: FencesSettings) -> Finding[FenceGroup]:
        given, solved = settings, dict[str, Any]()
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
        aim: Aim | None = None
        tested, not_tested = _quartiles(worths, scale, settings)
        if settings.aim is not None:
            aim = solved_limit(
                population, base, groups, _limit_table(groups, tested),
                settings.side, settings.aim, measure.scale,
            )  # fmt: skip
            settings = settings.at(aim.limit)
            solved = {name: getattr(settings, name) for name in ("inner", "outer")}
            tested = [
                replace(
                    t, limits=_limits(t.limits.q1, t.limits.median, t.limits.q3, None, settings)
                )
                for t in tested
            ]
        limits = _limit_table(groups, tested)
        found = lim.rows_beyond(
            population, values, reasons, groups, limits, settings.side, measure, carry=(WORTH,),
            scale=scale,
        )  # fmt: skip
        flags, counts = _flags(found, tested, settings)
        sums = FlaggedSums.of(found, len(tested))
        places, wholes = [t.place for t in tested], [t.effect for t in tested]
        without = without_flagged(worths, places, wholes, sums)
        described = [
            _described(t, count, scale, rest)
            for t, count, rest in zip(tested, counts, without, strict=True)
        ]
        if tested and not groups.labels:
            bounds = (tested[0].limits.least, tested[0].limits.greatest)
            bins = histogram(population, base, scale.decimals, bounds, tested[0].ends)
            described = [replace(described[0], histogram=bins)]
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=list(groups.labels),
            settings=given.model_dump(),
            solved=solved,
            population=account,
            groups=described,
            flags=flags,
            tests_made=sum(t.n for t in tested),
            flags_by_chance=_by_chance(tested, settings),
            cautions=cautions_of(tested, described, not_tested, settings),
            not_tested=not_tested,
            currency=unit_of(table, measure),
            scale=measure.scale,
            aim=aim,
        )


def _limit_table(groups: Grouping, tested: list[_Tested]) -> pa.Table:
    return lim.limit_table(
        groups,
        tested,
        [(t.limits.least, t.limits.greatest) for t in tested],
        [(float(t.limits.q1), float(t.limits.q3), float(t.limits.iqr)) for t in tested],
        [(t.least, t.greatest) for t in tested],
    )


def _limits(
    q1: Fraction, median: Fraction, q3: Fraction, mc: float | None, settings: FencesSettings
) -> FenceLimits:
    k, outer_k = Fraction(settings.inner), Fraction(settings.outer)
    far = settings.beyond == "outer"
    if mc is None:
        return fences(q1, median, q3, k, outer_k, far=far)
    return adjusted_fences(q1, median, q3, mc, k, outer_k, far=far)


QUARTERS = ("0.25", "0.5", "0.75")


def _quartiles(
    worths: Worths, scale: Scale, settings: FencesSettings
) -> tuple[list[_Tested], list[NotTested]]:
    """The groups with their fences, and those that have none."""
    found, not_tested = [], []
    for part, worth in worths.slices():
        units = scale.ordered(part, worth)
        effects = effects_of(worth)
        quartiles = _by_rule(units, settings.rule)
        ends = [[round(q) for q in units.quantiles(s)] for s in ends_of(worths.groups)]
        for place, (key, effect, (q1, median, q3)) in enumerate(
            zip(worths.keys[part], effects, quartiles, strict=True)
        ):
            n = effect.n
            if n < settings.min_group:
                few = num.too_few(n, settings.min_group)
                not_tested.append(NotTested(key, few, n))
                continue
            if q1 == q3:
                flat = f"zero_spread: the middle half of its {n} amounts is one value"
                not_tested.append(NotTested(key, flat, n))
                continue
            mc = None
            if settings.fence == "skew-adjusted":
                mc = medcouple(*np.unique(units.group(place), return_counts=True))
            limits = _limits(q1, median, q3, mc, settings)
            values = worth.group(place)
            found.append(
                _Tested(
                    part.start + place, key, n, limits, [end[place] for end in ends], effect,
                    int(values[0]), int(values[-1]), mc,
                )
            )  # fmt: skip
    # Those that are too small come before those without spread.
    return found, sorted(not_tested, key=lambda t: t.rows >= settings.min_group)


def _by_rule(units: Ordered, rule: QuartileRule) -> list[tuple[Fraction, ...]]:
    """Q1, median and Q3 of each group."""
    if rule == "linear":
        return list(zip(*(units.quantiles(share) for share in QUARTERS), strict=True))
    positions = [quartile_positions(n, rule) for n in units.sizes.tolist()]
    around = [
        [units.at(np.array([side(three[i]) - 1 for three in positions])) for side in (floor, ceil)]
        for i in range(len(QUARTERS))
    ]
    return [
        tuple(
            between(three[i], int(around[i][0][place]), int(around[i][1][place]))
            for i in range(len(QUARTERS))
        )
        for place, three in enumerate(positions)
    ]


def _flags(
    found: pa.Table, tested: list[_Tested], settings: FencesSettings
) -> tuple[Flags, list[int]]:
    """Flags, the score being the distance beyond the nearer quartile in interquartile ranges."""
    position = found.column("position").to_numpy()
    over = found.column("strength").to_numpy()
    high = found.column("high").to_numpy(zero_copy_only=False).astype(bool)
    # How many interquartile ranges each side's inner and outer fence lie beyond its quartile: k, but
    # for skewed groups.
    reach = np.array([_reach(t, settings) for t in tested]).reshape(-1, 2, 2)
    side = high.astype(np.int64)
    inner, outer = reach[position, side].T
    outside = over > outer
    columns = {
        "score": over,
        "limit": np.where(outside, outer, inner),
        "direction": lim.directions(high),
        "fence": np.where(outside, "outer", "inner"),
    }
    counts = np.bincount(position, minlength=len(tested)).tolist() if len(tested) else []
    return Flags("row", lim.flag_table(found, columns)), counts


def _reach(t: _Tested, settings: FencesSettings) -> list[list[float]]:
    """[[inner, outer] of the low side, then of the high side], in interquartile ranges."""
    limits = t.limits
    if t.medcouple is None:
        return [[float(settings.inner), float(settings.outer)]] * 2
    low, high, iqr = float(limits.q1), float(limits.q3), float(limits.iqr)
    return [
        [(low - float(limits.low)) / iqr, (low - float(limits.outer_low)) / iqr],
        [(float(limits.high) - high) / iqr, (float(limits.outer_high) - high) / iqr],
    ]


def _described(t: _Tested, flagged: int, scale: Scale, rest: Effect | None) -> FenceGroup:
    unit = 10**scale.decimals

    def shown(value: Fraction) -> float | None:
        return scale.amount(in_units(value, unit), t.key)

    f = t.limits
    return FenceGroup(
        group=t.key,
        n=t.n,
        q1=shown(f.q1),
        median=shown(f.median),
        q3=shown(f.q3),
        iqr=in_units(f.iqr, unit),
        low=shown(f.low),
        high=shown(f.high),
        outer_low=shown(f.outer_low),
        outer_high=shown(f.outer_high),
        medcouple=t.medcouple,
        flagged=flagged,
        with_flags=t.effect.amounts(scale.measure.scale),
        without_flags=None if rest is None else rest.amounts(scale.measure.scale),
        scale_unit=scale.unit(t.key),
    )


def _by_chance(tested: list[_Tested], settings: FencesSettings) -> float | None:
    """How many rows of normal data of these sizes would be beyond the fences; unknown where they lean
    with the data."""
    if settings.fence == "skew-adjusted":
        return None
    k = float(settings.outer if settings.beyond == "outer" else settings.inner)
    sides = 2 if settings.side == "both" else 1
    return sum(t.n * normal_share(k, t.n) for t in tested) * sides / 2
