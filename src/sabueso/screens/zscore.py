"""Limits by deviates: how many standard deviations from the mean, plain or robust."""

from __future__ import annotations

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
    """One group's sums and limits, in minor units of the scale used."""

    key: dict[str, Any]
    n: int
    total: int
    squares: int
    median2: int  # twice the median: whole
    effect: dict[str, Any]
    mad2: int = 0
    deviation2: int = 0
    cubes: float = 0.0
    fourths: float = 0.0


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

        first = population.query(grp.per_group(base, groups, _sums() | _effects()))
        rows = first.to_pylist()
        found = [_group(key, row) for key, row in zip(groups.keys(first), rows, strict=True)]
        found = [g for g in found if g.n]
        found, not_tested = _testable(found, settings.min_group)
        if found:
            found = _with_spread(population, base, groups, found, scale)
        tested, flat = _limits(found, settings.method, limit)
        not_tested += flat
        flags, without = _flags(
            population, values, reasons, base, groups, tested, settings, measure, limit
        )
        described = [
            _described(t, without.get(i), scale, measure.scale, settings, limit)
            for i, t in enumerate(tested)
        ]
        if tested and not groups.labels:
            bounds = (tested[0].least, tested[0].greatest)
            described[0]["histogram"] = grp.histogram(population, base, scale, bounds)
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


def _sums() -> dict[str, Tree]:
    units = sql.column(UNITS, "b")
    return {
        "n": sql.count(),
        "total": sql.exact_sum(units),
        "squares": sql.exact_square_sum(units),
        "middle": sql.quantiles(units, ["0.5"]),
    }


def _effects() -> dict[str, Tree]:
    """What flagged rows do to a group is told in amounts, on either scale."""
    worth = sql.column(WORTH, "b")
    return {
        "worth_n": sql.count(),
        "worth": sql.exact_sum(worth),
        "worth_squares": sql.exact_square_sum(worth),
        "worth_middle": sql.quantiles(worth, ["0.5", "0.95"]),
    }


def _group(key: dict[str, Any], row: dict[str, Any]) -> _Group:
    return _Group(
        key=key,
        n=row["n"],
        total=int(row["total"] or 0),
        squares=int(row["squares"] or 0),
        median2=round(2 * row["middle"][0]) if row["middle"] else 0,
        effect=row,
    )


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
    population: Population, base: exp.Select, groups: Grouping, found: list[_Group], scale: int
) -> list[_Group]:
    """Add the absolute deviations from the median, and the standardised third and fourth powers.

    Standardised deviates are rounded to a step so fine that it does not show and so coarse that
    the sum of fourth powers fits 128 bits; the sums are then whole numbers and the same in any
    order of rows.
    """
    rows = []
    for g in found:
        m = moments(g.n, g.total, g.squares)
        rows.append((g.median2, m.mean, m.sd or 0.0, _step(g.n)))
    figures = grp.key_table(
        groups,
        found,
        {
            "median2": pa.array([r[0] for r in rows], pa.int64()),
            "mean": pa.array([r[1] for r in rows], pa.float64()),
            "sd": pa.array([r[2] if r[2] > 0 else None for r in rows], pa.float64()),
            "step": pa.array([r[3] for r in rows], pa.float64()),
        },
    )
    units = sql.column(UNITS, "b")
    off = exp.Abs(
        this=exp.Sub(
            this=exp.Mul(this=sql.integer(2), expression=sql.cast(units, "DECIMAL(19,0)")),
            expression=sql.column("median2", "limits"),
        )
    )
    deviation = sql.cast(off, "BIGINT")
    centred = exp.paren(
        exp.Sub(this=sql.cast(units.copy(), "DOUBLE"), expression=sql.column("mean", "limits"))
    )
    z = exp.Div(this=centred, expression=sql.column("sd", "limits"))
    steps = sql.cast(
        exp.Round(this=exp.Mul(this=exp.paren(z), expression=sql.column("step", "limits"))),
        "BIGINT",
    )
    # Squares fit 64 bits (|z| <= sqrt(n) and the step shrinks with n); the products do not.
    named = base.subquery("b")
    inner = exp.select(
        *(exp.alias_(sql.column(name, "b"), name, quoted=True) for name in groups.names),
        exp.alias_(deviation, "deviation"),
        exp.alias_(sql.cast(steps, "DECIMAL(19,0)"), "z"),
        exp.alias_(
            sql.cast(exp.Mul(this=steps.copy(), expression=steps.copy()), "DECIMAL(19,0)"), "z2"
        ),
    ).from_(named)
    inner = inner.join("limits", on=groups.join("b", "limits"), join_type="inner")

    def total(tree: Tree) -> Tree:
        return sql.cast(exp.Sum(this=tree), "DECIMAL(38,0)")

    z_, z2 = sql.column("z"), sql.column("z2")
    fields = {
        "middle": sql.quantiles(sql.column("deviation"), ["0.5"]),
        "deviations": sql.exact_sum(sql.column("deviation")),
        "cubes": total(exp.Mul(this=z_, expression=z2)),
        "fourths": total(exp.Mul(this=z2.copy(), expression=z2.copy())),
    }
    result = population.query(grp.per_group(inner, groups, fields), limits=figures)
    by_key = {
        tuple(key.values()): row
        for key, row in zip(groups.keys(result), result.to_pylist(), strict=True)
    }
    spread = []
    for g, (_, _, _, step) in zip(found, rows, strict=True):
        row = by_key[tuple(g.key.values())]
        spread.append(
            replace(
                g,
                mad2=round(2 * row["middle"][0]),
                deviation2=int(row["deviations"]),
                cubes=int(row["cubes"] or 0) / step**3,
                fourths=int(row["fourths"] or 0) / step**4,
            )
        )
    return spread


def _step(n: int) -> float:
    """Steps a standard deviation is cut into: a power of ten with n² step⁴ < 10^37."""
    power = int((37 - 2 * np.log10(max(n, 2))) / 4)
    return float(10 ** min(power, 8))


@dataclass(frozen=True)
class _Tested:
    group: _Group
    least: int
    greatest: int
    centre: float
    unit: float

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
            # mad2 is twice the median of doubled deviations, so a quarter of it is the MAD.
            unit = robust_unit(Fraction(g.mad2, 4), Fraction(g.deviation2, 2 * g.n))
            centre = Fraction(g.median2, 2)
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
) -> tuple[Flags, dict[int, dict[str, Any]]]:
    """The rows beyond the limits, and each flagged group's sums without them."""
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
    without: dict[int, dict[str, Any]] = {}
    if len(strength):
        inside = exp.Not(this=grp.beyond(settings.side))
        fields = _effects() | {"position": exp.Min(this=sql.column("position", "limits"))}
        rest = population.query(grp.with_groups(base, groups, fields, where=inside), limits=limits)
        touched = set(position.tolist())
        without = {r["position"]: r for r in rest.to_pylist() if r["position"] in touched}
    return Flags("row", kept), without


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


def _effect(row: dict[str, Any], scale: int) -> dict[str, Any]:
    unit = 10**scale
    m = moments(row["worth_n"], int(row["worth"]), int(row["worth_squares"]), scale)
    median, p95 = row["worth_middle"]
    return {
        "n": m.n,
        "mean": m.mean,
        "median": median / unit,
        "sd": m.sd,
        "sum": money(int(row["worth"]), scale),
        "p95": p95 / unit,
    }


def _described(
    t: _Tested,
    rest: dict[str, Any] | None,
    scale: int,
    amount_scale: int,
    settings: ZScoreSettings,
    limit: Fraction,
) -> dict[str, Any]:
    g = t.group
    unit = 10**scale
    m = moments(g.n, g.total, g.squares, scale)
    form = shape(g.n, g.cubes, g.fourths) if m.sd else shape(0, 0.0, 0.0)
    with_flags = _effect(g.effect, amount_scale)
    without = _effect(rest, amount_scale) if rest is not None else with_flags
    reach = float(limit) * t.unit

    def place(value: float) -> float | None:
        """A point of the scale as an amount; spreads stay on the scale itself."""
        return amount_of(value) if settings.scale == "log" else value

    return {
        "group": g.key,
        "n": g.n,
        "mean": place(m.mean),
        "sd": m.sd,
        "median": place(g.median2 / (2 * unit)),
        "mad": g.mad2 / (4 * unit),
        "skewness": form.skewness,
        "kurtosis": form.kurtosis,
        "low": place((t.centre - reach) / unit),
        "high": place((t.centre + reach) / unit),
        "reachable": settings.method == "modified" or greatest_deviate(g.n) > limit,
        "flagged": g.n - without["n"],
        "with_flags": with_flags,
        "without_flags": without,
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
