"""Limits by deviates: how many standard deviations from the mean, plain or robust."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from decimal import Decimal
from fractions import Fraction
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field, model_validator
from scipy.special import ndtr

from sabueso.population import sql
from sabueso.population.population import Population, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.report.blocks import Suit
from sabueso.screens.finding import Aim, Caution, Finding, Flags, NotTested
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.limits import table as lim
from sabueso.screens.limits.scales import LOG_SCALE, amount_of, scaled_units
from sabueso.screens.limits.table import WORTH
from sabueso.screens.settings import MeasureSettings
from sabueso.screens.zscore.deviates import (
    MIDDLE,
    DeviateGroup,
    Effect,
    FlaggedSums,
    Tested,
    by_position,
    group_figures,
    limits_of,
    testable,
    with_spread,
)
from sabueso.screens.zscore.result import DeviateResult
from sabueso.screens.zscore.sequential import GOOD_FROM, sequential_limits, steps_of
from sabueso.screens.zscore.view import ZScoreView
from sabueso.stats.adjust import adjust
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


class ZScoreSettings(MeasureSettings):
    """Settings of ``zscore``."""

    limit: Decimal | None = Field(
        None, gt=0, description="deviates beyond which a row is flagged (3; modified: 3.5)"
    )
    method: Literal["plain", "modified", "sequential"] = Field(
        "plain",
        description="(x - mean)/s; the median and its absolute deviations; or the sequential deviate "
        "test, which removes and recomputes",
    )
    most: int = Field(10, ge=1, le=1000, description="outliers of a group looked for in sequence")
    alpha: float = Field(0.05, gt=0, lt=1, description="level of the sequential test")
    aim: int | None = Field(
        None, ge=1, description="solve for the limit that flags as many rows as can be reviewed"
    )
    scale: Literal["amount", "log"] = Field(
        "amount", description="the measure as it is, or sign(x)·log10(1 + |x|)"
    )
    side: Literal["both", "high", "low"] = Field("both", description="which side is flagged")
    min_group: int = Field(3, ge=2, description="rows below which a group is not tested")

    @model_validator(mode="after")
    def _fitting(self) -> ZScoreSettings:
        if self.method == "sequential" and (self.limit is not None or self.aim is not None):
            raise ValueError("the sequential test has limits of its own; leave limit and aim out")
        if self.method == "sequential" and self.side != "both":
            raise ValueError("the sequential test looks at both sides")
        if self.aim is not None and self.limit is not None:
            raise ValueError("aim solves for the limit; give one of them")
        return self


class ZScore(Screen):
    """z-scores and modified z-scores on one measure."""

    name = "zscore"
    summary = "rows many standard deviations from the mean of their group"
    reference = (
        "Shiffler, R. E. (1988), The American Statistician 42, 79-80; Iglewicz, B. and Hoaglin, "
        "D. C. (1993), How to Detect and Handle Outliers, ASQC; Rosner, B. (1983), Technometrics 25, "
        "165-172"
    )
    settings = ZScoreSettings
    group = DeviateResult
    view = ZScoreView
    place = 20
    examples = (
        "sabueso try zscore payments --by account --scale log --method modified",
        'sabueso try zscore payments --by proveedor --aim 12 --where "importe > 0"',
        "sabueso try zscore payroll --on neto --by categoria --out pay.png --figure quantile",
    )
    figures = ("plain", "quantile", "strip")

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
                f"skewness {skewness or 0:.1f}, excess kurtosis {kurtosis or 0:.1f}: on the log scale",
                "--scale log",
            )
        else:
            yield Suit(
                self.name,
                "yes",
                f"skewness {skewness or 0:.1f}, excess kurtosis {kurtosis or 0:.1f}",
            )

    def run(self, population: Population, settings: ZScoreSettings) -> Finding[DeviateResult]:
        table = population.table
        measure = table.measure(settings.on)
        groups = Grouping.of(settings.by, table)
        reasons = [missing(measure)]
        scale = LOG_SCALE if settings.scale == "log" else measure.scale
        values = {
            **groups.values(),
            UNITS: scaled_units(measure, settings.scale),
            WORTH: sql.minor_units(measure),
        }
        account = population.account(measure, reasons)
        base = population.base(values, reasons)
        limit = Fraction(settings.limit or ("3.5" if settings.method == "modified" else "3"))

        found = group_figures(population, base, groups, settings.scale, account.used)
        found, not_tested = testable(found, settings.min_group)
        aim: Aim | None = None
        steps: list[SequentialTest] = []

        def solved(groups_found: Sequence[DeviateGroup]) -> Fraction:
            """The limit, solved for where a number of rows is aimed at."""
            nonlocal aim
            if settings.aim is None:
                return limit
            places, _ = _limits(groups_found, settings.method, limit)
            aim = lim.aim(
                population, base, groups, limits_of(groups, places), settings.side, settings.aim,
                measure.scale,
            )  # fmt: skip
            return Fraction(aim.limit)

        if settings.method == "plain":
            # The sums alone give the limits: one pass tells the spread and what is within them.
            limit = solved(found)
            tested, flat = _limits(found, settings.method, limit)
        else:
            bare = [Tested(g, 0, 0, 0.0, 1.0) for g in found]
            spread = [t.group for t in with_spread(population, base, groups, bare)]
            if settings.method == "sequential":
                tested, flat, steps = sequential_limits(
                    population, base, groups, spread, settings.most, settings.alpha, account.used
                )
            else:
                limit = solved(spread)
                tested, flat = _limits(spread, settings.method, limit)
        not_tested += flat
        flags, beyond = _flags(
            population, values, reasons, base, groups, tested, settings, measure, limit
        )
        if settings.method == "plain":
            tested = with_spread(population, base, groups, tested)
        without = _without(population, base, groups, tested, beyond, settings.side)
        described = [
            _described(t, rest, scale, measure.scale, settings, limit)
            for t, rest in zip(tested, without, strict=True)
        ]
        if steps:
            described = [
                replace(group, sequential=steps_of(t, lambda v: _place(v / 10**scale, settings)))
                for group, t in zip(described, steps, strict=True)
            ]
        if tested and not groups.labels:
            bounds = (tested[0].least, tested[0].greatest)
            ends = tested[0].group.ends
            bins = lim.histogram(population, base, scale, bounds, ends)
            described = [replace(described[0], histogram=bins)]
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
            cautions=_cautions(tested, not_tested, settings, limit),
            not_tested=not_tested,
            currency=table.currency,
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
            flat.append(NotTested(g.key, f"zero_spread: all {g.n} amounts are the same", g.n))
        else:
            tested.append(Tested(g, bounds[0], bounds[1], centre, spread))
    return tested, flat


def _flags(
    population: Population,
    values: dict[str, Tree],
    reasons: list[Any],
    base: exp.Select,
    groups: Grouping,
    tested: list[Tested],
    settings: ZScoreSettings,
    measure: Column,
    limit: Fraction,
) -> tuple[Flags, FlaggedSums]:
    """The rows beyond the limits, and their sums by group."""
    limits = limits_of(groups, tested)
    found = lim.rows_beyond(
        population, values, reasons, groups, limits, settings.side, measure, carry=(WORTH,),
        scale=settings.scale,
    )  # fmt: skip
    sums = FlaggedSums.of(found, len(tested))
    high = found.column("high").to_numpy(zero_copy_only=False).astype(bool)
    strength = found.column("strength").to_numpy()
    p = 2 * ndtr(-strength)
    if settings.method == "sequential":
        # The test judges the values one after another; no row has a p of its own.
        columns = {
            "score": np.where(high, strength, -strength),
            "direction": lim.directions(high),
        }
        kept = lim.flag_table(found, columns)
        return Flags("row", kept), sums
    family = sum(t.group.n for t in tested)
    columns = {
        "score": np.where(high, strength, -strength),
        "limit": np.full(len(strength), float(limit)),
        "direction": lim.directions(high),
        "p": p,
        "p_adjusted": _adjusted(population, base, groups, tested, limits, p, settings, family),
    }
    kept = lim.flag_table(found, columns)
    return Flags("row", kept), sums


def _without(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    tested: list[Tested],
    beyond: FlaggedSums,
    side: str,
) -> list[Effect | None]:
    """Each group's amounts without its flagged rows: order statistics of those that have any."""
    touched = [place for place, n in enumerate(beyond.n) if n]
    middles: dict[int, list[float] | None] = {}
    if touched:
        found = by_position(
            population,
            base,
            groups,
            limits_of(groups, [tested[place] for place in touched]),
            {"worth": sql.column(WORTH, "b")},
            {"middle": sql.quantiles(sql.column("worth"), MIDDLE)},
            sum(tested[place].group.n for place in touched),
            exp.Not(this=lim.beyond(side)),
        )
        middles = {touched[row["g0"]]: row["middle"] for row in found.to_pylist()}
    return [
        beyond.rest(place, t.group.effect, middles.get(place)) for place, t in enumerate(tested)
    ]


def _adjusted(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    tested: list[Tested],
    limits: pa.Table,
    p: np.ndarray,
    settings: ZScoreSettings,
    family: int,
) -> np.ndarray:
    """Adjusted p of the flagged rows. Holm and Bonferroni need those alone.

    The false discovery rate needs the rank of each p among all: one column of units is fetched
    for it, 8 bytes a row.
    """
    if settings.adjust != "bh" or not len(p):
        return adjust(p, settings.adjust, max(family, len(p)))
    select = exp.select(sql.column("position", "limits"), sql.column(UNITS, "b"))
    select = select.from_(base.subquery("b"))
    select = select.join("limits", on=groups.join("b", "limits"), join_type="inner")
    every = population.query(select, limits=limits)
    at = every.column("position").to_numpy()
    centre, unit = np.array([t.centre for t in tested]), np.array([t.unit for t in tested])
    all_p = 2 * ndtr(-np.abs((every.column(UNITS).to_numpy() - centre[at]) / unit[at]))
    order = np.argsort(all_p)
    ranked = all_p[order]
    stepped = adjust(ranked, "bh")
    return np.asarray(stepped[np.minimum(np.searchsorted(ranked, p), len(ranked) - 1)])


def _described(
    t: Tested,
    rest: Effect | None,
    scale: int,
    amount_scale: int,
    settings: ZScoreSettings,
    limit: Fraction,
) -> DeviateResult:
    g = t.group
    unit = 10**scale
    m = moments(g.n, g.total, g.squares, scale)
    form = shape(g.n, g.cubes, g.fourths) if m.sd else shape(0, 0.0, 0.0)
    reach = float(limit) * t.unit
    low, high = t.centre - reach, t.centre + reach
    open_low = open_high = False
    if settings.method == "sequential":
        # What is no outlier; without an outlier on a side there is no limit on it.
        low, high = float(t.least), float(t.greatest)
        open_low, open_high = t.least == lim.INT64.min, t.greatest == lim.INT64.max

    def place(value: float) -> float | None:
        return _place(value, settings)

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
    )


def _place(value: float, settings: ZScoreSettings) -> float | None:
    """A point of the scale as an amount; spreads stay on the scale itself."""
    return amount_of(value) if settings.scale == "log" else value


def _decimal(limit: Fraction, settings: ZScoreSettings) -> Decimal | None:
    """The limit as it is told; the sequential test has one at every step."""
    if settings.method == "sequential":
        return None
    return Decimal(limit.numerator) / limit.denominator


def _cautions(
    tested: list[Tested],
    not_tested: list[NotTested],
    settings: ZScoreSettings,
    limit: Fraction,
) -> list[Caution]:
    cautions = []
    if settings.method == "sequential":
        few = [t.group.n for t in tested if t.group.n < GOOD_FROM]
        if few:
            cautions.append(
                Caution(
                    "too_few",
                    f"{len(few)} of {len(tested)} groups have fewer than {GOOD_FROM} rows, where the "
                    "limits of the sequential test are rough",
                    {"groups": len(few), "smallest_n": min(few)},
                )
            )
    if settings.method == "plain":
        short = [t.group.n for t in tested if greatest_deviate(t.group.n) <= float(limit)]
        if short:
            largest = max(short)
            cautions.append(
                Caution(
                    "limit_unreachable",
                    f"{len(short)} of {len(tested)} groups are too small for any row to pass "
                    f"{float(limit):g}: with n = {largest} the largest possible |z| is "
                    f"{greatest_deviate(largest):.2f}",
                    {"groups": len(short), "largest_n": largest},
                )
            )
    if settings.method in ("plain", "sequential"):
        skewed = []
        for t in tested:
            m = moments(t.group.n, t.group.total, t.group.squares)
            if m.sd:
                form = shape(t.group.n, t.group.cubes, t.group.fourths)
                if abs(form.skewness or 0) > 1 or (form.kurtosis or 0) > 3:
                    skewed.append((t.group.n, form))
        if skewed:
            _n, form = max(skewed, key=lambda pair: pair[0])
            where = (
                ""
                if len(tested) == 1
                else f"in {len(skewed)} of {len(tested)} groups; the largest has "
            )
            kurtosis = "" if form.kurtosis is None else f", excess kurtosis {form.kurtosis:.1f}"
            cautions.append(
                Caution(
                    "not_normal",
                    f"the amounts are not normal: {where}skewness {form.skewness or 0:.1f}{kurtosis}; "
                    "a limit in standard deviations fits them badly, try --scale log or fences",
                    {"groups": len(skewed), "skewness": form.skewness, "kurtosis": form.kurtosis},
                )
            )
    sizes = [t.group.n for t in tested] + [t.rows for t in not_tested]
    return cautions + lim.size_cautions(sizes, not_tested)
