"""Limits by deviates: how many standard deviations from the mean, plain or robust."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field
from scipy.special import ndtr

from sabueso.population import sql
from sabueso.population.population import Population, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Column, money
from sabueso.screens import grouping as grp
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.interface import Caution, Finding, Flags, NotTested
from sabueso.screens.scales import LOG_SCALE, amount_of, scaled_units
from sabueso.screens.settings import MeasureSettings
from sabueso.stats.adjust import adjust
from sabueso.stats.moments import (
    deviate_limits,
    greatest_deviate,
    moments,
    shape,
)
from sabueso.stats.quartiles import centred_limits, robust_unit

WORTH = "worth"  # the amount itself, whatever the scale of the test


class ZScoreSettings(MeasureSettings):
    """Settings of ``zscore``."""

    limit: Decimal | None = Field(
        None, gt=0, description="deviates beyond which a row is flagged (3; modified: 3.5)"
    )
    method: Literal["plain", "modified"] = Field(
        "plain", description="(x - mean)/s, or the median and its absolute deviations"
    )
    scale: Literal["amount", "log"] = Field(
        "amount", description="the measure as it is, or sign(x)·log10(1 + |x|)"
    )
    side: Literal["both", "high", "low"] = Field("both", description="which side is flagged")
    min_group: int = Field(3, ge=2, description="rows below which a group is not tested")


@dataclass(frozen=True)
class _Group:
    """One group's sums and order statistics, in minor units of the scale used.

    ``effect`` describes its amounts, whatever the scale. ``cubes`` and ``fourths`` are Σz³ and Σz⁴.
    """

    key: dict[str, Any]
    n: int
    total: int
    squares: int
    median: Fraction
    ends: list[int]
    effect: _Effect
    mad: Fraction = Fraction(0)
    deviation2: int = 0
    cubes: float = 0.0
    fourths: float = 0.0


@dataclass(frozen=True)
class _Effect:
    """n, Σ, Σ², median and 95th percentile of some amounts, in minor units."""

    n: int
    total: int
    squares: int
    median: Fraction
    p95: Fraction

    @classmethod
    def of(cls, row: dict[str, Any], prefix: str) -> _Effect | None:
        """From a row of :func:`_effects`; None where no row is in it."""
        if not row[f"{prefix}n"]:
            return None
        middle = row[f"{prefix}middle"]
        return cls(
            row[f"{prefix}n"],
            int(row[f"{prefix}total"]),
            int(row[f"{prefix}squares"]),
            sql.exact_quantile(middle[0], "0.5"),
            sql.exact_quantile(middle[1], "0.95"),
        )

    def as_json(self, scale: int) -> dict[str, Any]:
        unit = 10**scale
        m = moments(self.n, self.total, self.squares, scale)
        return {
            "n": m.n,
            "mean": m.mean,
            "median": float(self.median / unit),
            "sd": m.sd,
            "sum": money(self.total, scale),
            "p95": float(self.p95 / unit),
        }


class ZScore:
    """z-scores and modified z-scores on one measure."""

    name = "zscore"
    summary = "rows many standard deviations from the mean of their group"
    reference = (
        "Shiffler, R. E. (1988), The American Statistician 42, 79-80; Iglewicz, B. and Hoaglin, "
        "D. C. (1993), How to Detect and Handle Outliers, ASQC"
    )
    settings = ZScoreSettings

    def run(self, population: Population, settings: ZScoreSettings) -> Finding:
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

        found = _groups(population, base, groups, settings.scale, account.used)
        found, not_tested = _testable(found, settings.min_group)
        if settings.method == "plain":
            # The sums alone give the limits: one pass tells the spread and what is within them.
            tested, flat = _limits(found, settings.method, limit)
            tested = _with_spread(population, base, groups, tested, settings.side)
        else:
            bare = [_Tested(g, 0, 0, 0.0, 1.0) for g in found]
            spread = _with_spread(population, base, groups, bare, None)
            tested, flat = _limits([t.group for t in spread], settings.method, limit)
        not_tested += flat
        flags, counts = _flags(
            population, values, reasons, base, groups, tested, settings, measure, limit
        )
        if settings.method == "plain":
            without = [t.inside for t in tested]
        else:
            without = _without(population, base, groups, tested, counts, settings.side)
        described = [
            _described(t, rest, scale, measure.scale, settings, limit)
            for t, rest in zip(tested, without, strict=True)
        ]
        if tested and not groups.labels:
            bounds = (tested[0].least, tested[0].greatest)
            ends = tested[0].group.ends
            described[0]["histogram"] = grp.histogram(population, base, scale, bounds, ends)
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=list(groups.labels),
            settings=settings.model_dump()
            | {"limit": Decimal(limit.numerator) / limit.denominator},
            population=account,
            groups=described,
            flags=flags,
            tests_made=sum(t.group.n for t in tested),
            cautions=_cautions(tested, not_tested, settings, limit),
            not_tested=not_tested,
            currency=table.currency,
            scale=measure.scale,
        )


def _groups(
    population: Population, base: exp.Select, groups: Grouping, kind: str, used: int
) -> list[_Group]:
    """Sums and order statistics of each group, in one pass."""
    units, worth = sql.column(UNITS, "b"), sql.column(WORTH, "b")
    shares = grp.ends_of(groups)
    fields = _effects(worth, "", shares=("0.5", "0.95", *shares))
    if kind == "log":
        fields |= {
            "log_total": sql.exact_sum(units),
            "log_squares": sql.exact_square_sum(units),
            "log_middle": sql.quantiles(units, ("0.5", *shares)),
        }
    result = grp.order_statistics(population, base, groups, fields, used)
    found = []
    for key, row in zip(groups.keys(result), result.to_pylist(), strict=True):
        effect = _Effect.of(row, "")
        if effect is None:
            continue
        median, ends = effect.median, row["middle"][2:]
        total, squares = effect.total, effect.squares
        if kind == "log":
            middle, *ends = row["log_middle"]
            median = sql.exact_quantile(middle, "0.5")
            total, squares = int(row["log_total"]), int(row["log_squares"])
        found.append(_Group(key, effect.n, total, squares, median, list(map(round, ends)), effect))
    return found


def _effects(worth: Tree, prefix: str, shares: Sequence[str] = ("0.5", "0.95")) -> dict[str, Tree]:
    """What :class:`_Effect` is made of."""
    return {
        f"{prefix}n": exp.Count(this=worth),
        f"{prefix}total": sql.exact_sum(worth),
        f"{prefix}squares": sql.exact_square_sum(worth),
        f"{prefix}middle": sql.quantiles(worth, shares),
    }


def _testable(found: list[_Group], least: int) -> tuple[list[_Group], list[NotTested]]:
    small = [
        NotTested(
            g.key, f"only {g.n} row{'s' if g.n != 1 else ''}; at least {least} are needed", g.n
        )
        for g in found
        if g.n < least
    ]
    return [g for g in found if g.n >= least], small


def _with_spread(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    tested: list[_Tested],
    side: str | None,
) -> list[_Tested]:
    """Add the absolute deviations from the median, and the standardised third and fourth powers;
    with a side, the amounts within the limits of that side too.

    The powers are rounded to steps so fine that it does not show and so coarse that the greatest
    fits 64 bits; their sums are then whole numbers and the same in any order of rows.
    """
    if not tested:
        return []
    found = [t.group for t in tested]
    fits = [moments(g.n, g.total, g.squares) for g in found]
    figures = grp.key_table(
        groups,
        found,
        {
            "median2": pa.array([int(2 * g.median) for g in found], pa.int64()),
            "mean": pa.array([m.mean for m in fits], pa.float64()),
            "sd": pa.array([m.sd or None for m in fits], pa.float64()),
            "step": pa.array([float(_step(g.n)) for g in found], pa.float64()),
            "least": grp.clamped([t.least for t in tested]),
            "greatest": grp.clamped([t.greatest for t in tested]),
        },
    )
    units = sql.column(UNITS, "b")
    doubled = exp.Mul(this=sql.integer(2), expression=units)
    off = exp.Abs(this=exp.Sub(this=doubled, expression=sql.column("median2", "limits")))
    centred = exp.Sub(
        this=sql.cast(units.copy(), "DOUBLE"), expression=sql.column("mean", "limits")
    )
    z = exp.Div(this=exp.paren(centred), expression=sql.column("sd", "limits"))
    inner = exp.select(
        *(exp.alias_(sql.column(name, "b"), name, quoted=True) for name in groups.names),
        exp.alias_(off, "deviation"),
        exp.alias_(z, "z"),
        sql.column("step", "limits"),
        *([exp.alias_(_within(side), "inside")] if side else []),
    ).from_(base.subquery("b"))
    inner = inner.join("limits", on=groups.join("b", "limits"), join_type="inner")
    square = exp.paren(exp.Mul(this=sql.column("z"), expression=sql.column("z")))

    def power(rest: Tree) -> Tree:
        raised = exp.paren(exp.Mul(this=square.copy(), expression=rest))
        steps = exp.Mul(this=raised, expression=sql.column("step"))
        return sql.exact_sum(sql.cast(exp.Round(this=steps), "BIGINT"))

    fields = {
        "middle": sql.quantiles(sql.column("deviation"), ["0.5"]),
        "cubes": power(sql.column("z")),
        "fourths": power(square.copy()),
    }
    if side:
        fields |= _effects(sql.column("inside"), "inside_")
    else:
        fields["deviations"] = sql.exact_sum(sql.column("deviation"))
    used = sum(g.n for g in found)
    result = grp.order_statistics(population, inner, groups, fields, used, limits=figures)
    by_key = {
        tuple(key.values()): row
        for key, row in zip(groups.keys(result), result.to_pylist(), strict=True)
    }
    spread = []
    for t in tested:
        row = by_key[tuple(t.key.values())]
        g = replace(
            t.group,
            mad=sql.exact_quantile(row["middle"][0], "0.5") / 2,
            deviation2=0 if side else int(row["deviations"]),
            cubes=int(row["cubes"] or 0) / _step(t.group.n),
            fourths=int(row["fourths"] or 0) / _step(t.group.n),
        )
        spread.append(replace(t, group=g, inside=_Effect.of(row, "inside_") if side else None))
    return spread


def _within(side: str) -> Tree:
    """The amount of a row within its group's limits, missing beyond them."""
    return exp.Case().when(exp.Not(this=grp.beyond(side)), sql.column(WORTH, "b"))


def _step(n: int) -> int:
    """Steps that 1 is cut into: a power of ten with n² steps, the bound of z⁴, within 64 bits."""
    return int(10 ** max(min(int(18.9 - 2 * np.log10(max(n, 2))), 12), 0))


@dataclass(frozen=True)
class _Tested:
    group: _Group
    least: int
    greatest: int
    centre: float
    unit: float
    inside: _Effect | None = None

    @property
    def key(self) -> dict[str, Any]:
        return self.group.key


def _limits(
    found: list[_Group], method: str, limit: Fraction
) -> tuple[list[_Tested], list[NotTested]]:
    tested, flat = [], []
    for g in found:
        if method == "plain":
            m = moments(g.n, g.total, g.squares)
            unit: Fraction | None = Fraction(m.sd or 0) or None
            centre = Fraction(g.total, g.n)
            bounds = deviate_limits(g.n, g.total, g.squares, limit)
        else:
            unit = robust_unit(g.mad, Fraction(g.deviation2, 2 * g.n))
            centre = g.median
            bounds = centred_limits(centre, unit or Fraction(0), limit)
        if unit is None:
            flat.append(NotTested(g.key, f"zero_spread: all {g.n} amounts are the same", g.n))
        else:
            tested.append(_Tested(g, bounds[0], bounds[1], float(centre), float(unit)))
    return tested, flat


def _flags(
    population: Population,
    values: dict[str, Tree],
    reasons: list[Any],
    base: exp.Select,
    groups: Grouping,
    tested: list[_Tested],
    settings: ZScoreSettings,
    measure: Column,
    limit: Fraction,
) -> tuple[Flags, np.ndarray]:
    """The rows beyond the limits, and how many each group has."""
    limits = grp.limit_table(
        groups,
        tested,
        [(t.least, t.greatest) for t in tested],
        [(t.centre, t.centre, t.unit) for t in tested],
    )
    found = grp.rows_beyond(population, values, reasons, groups, limits, settings.side, measure)
    position = found.column("position").to_numpy()
    high = found.column("high").to_numpy(zero_copy_only=False).astype(bool)
    strength = found.column("strength").to_numpy()
    p = 2 * ndtr(-strength)
    family = sum(t.group.n for t in tested)
    columns = {
        "score": np.where(high, strength, -strength),
        "limit": np.full(len(strength), float(limit)),
        "direction": np.where(high, "high", "low"),
        "p": p,
        "p_adjusted": _adjusted(population, base, groups, tested, limits, p, settings, family),
    }
    kept = grp.flag_table(found, columns)
    return Flags("row", kept), np.bincount(position, minlength=len(tested))


def _without(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    tested: list[_Tested],
    flagged: np.ndarray,
    side: str,
) -> list[_Effect | None]:
    """Each group's amounts without its flagged rows, as far as it has any."""
    rest: list[_Effect | None] = [t.group.effect for t in tested]
    places = np.flatnonzero(flagged).tolist()
    if not places:
        return rest
    touched = [tested[place] for place in places]
    limits = grp.limit_table(
        groups,
        touched,
        [(t.least, t.greatest) for t in touched],
        [(t.centre, t.centre, t.unit) for t in touched],
    )
    wanted = [exp.alias_(_within(side), "inside"), sql.column("position", "limits")]
    inner = exp.select(*wanted).from_(base.subquery("b"))
    inner = inner.join("limits", on=groups.join("b", "limits"), join_type="inner")
    fields = _effects(sql.column("inside"), "inside_")
    by_place = Grouping(("position",), (sql.column("position"),))
    named = exp.select(
        exp.alias_(sql.column("position", "c"), "g0", quoted=True), sql.column("inside", "c")
    ).from_(inner.subquery("c"))
    used = sum(t.group.n for t in touched)
    found = grp.order_statistics(population, named, by_place, fields, used, limits=limits)
    for row in found.to_pylist():
        rest[places[row["g0"]]] = _Effect.of(row, "inside_")
    return rest


def _adjusted(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    tested: list[_Tested],
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
    t: _Tested,
    rest: _Effect | None,
    scale: int,
    amount_scale: int,
    settings: ZScoreSettings,
    limit: Fraction,
) -> dict[str, Any]:
    g = t.group
    unit = 10**scale
    m = moments(g.n, g.total, g.squares, scale)
    form = shape(g.n, g.cubes, g.fourths) if m.sd else shape(0, 0.0, 0.0)
    reach = float(limit) * t.unit

    def place(value: float) -> float | None:
        """A point of the scale as an amount; spreads stay on the scale itself."""
        return amount_of(value) if settings.scale == "log" else value

    return {
        "group": g.key,
        "n": g.n,
        "mean": place(m.mean),
        "sd": m.sd,
        "median": place(float(g.median / unit)),
        "mad": float(g.mad / unit),
        "skewness": form.skewness,
        "kurtosis": form.kurtosis,
        "low": place((t.centre - reach) / unit),
        "high": place((t.centre + reach) / unit),
        "reachable": settings.method == "modified" or greatest_deviate(g.n) > limit,
        "flagged": g.n - (rest.n if rest is not None else 0),
        "with_flags": g.effect.as_json(amount_scale),
        "without_flags": None if rest is None else rest.as_json(amount_scale),
    }


def _cautions(
    tested: list[_Tested],
    not_tested: list[NotTested],
    settings: ZScoreSettings,
    limit: Fraction,
) -> list[Caution]:
    cautions = []
    if settings.method == "plain":
        short = [t.group.n for t in tested if greatest_deviate(t.group.n) <= limit]
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
    return cautions + grp.size_cautions(sizes, not_tested)
