"""Limits by quartiles: rows beyond the interquartile fences of their group."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from math import ceil, floor
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field

from sabueso.population import sql
from sabueso.population.population import Population, missing
from sabueso.screens import grouping as grp
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.interface import Caution, Finding, Flags, NotTested
from sabueso.screens.scales import LOG_SCALE, amount_of, scaled_units
from sabueso.screens.settings import MeasureSettings
from sabueso.stats.quartiles import Fences as FenceLimits
from sabueso.stats.quartiles import QuartileRule, between, fences, quartile_positions


class FencesSettings(MeasureSettings):
    """Settings of ``fences``."""

    inner: Decimal = Field(Decimal("1.5"), gt=0, description="k of the inner fences")
    outer: Decimal = Field(Decimal("3"), gt=0, description="k of the outer fences")
    beyond: Literal["inner", "outer"] = Field("inner", description="the fences that flag a row")
    rule: QuartileRule = Field(
        "linear", description="quartiles: interpolation at (n-1)p, at (n+1)p, or Tukey's hinges"
    )
    scale: Literal["amount", "log"] = Field(
        "amount", description="the measure as it is, or sign(x)·log10(1 + |x|)"
    )
    side: Literal["both", "high", "low"] = Field("both", description="which side is flagged")
    min_group: int = Field(5, ge=2, description="rows below which a group is not tested")


@dataclass(frozen=True)
class _Tested:
    key: dict[str, Any]
    n: int
    limits: FenceLimits
    ends: list[int]


class Fences:
    """Interquartile fences on one measure."""

    name = "fences"
    summary = "rows beyond the interquartile fences of their group"
    reference = (
        "Tukey, J. W. (1977), Exploratory Data Analysis; Hyndman, R. J. and Fan, Y. (1996), "
        "The American Statistician 50, 361-365"
    )
    settings = FencesSettings

    def run(self, population: Population, settings: FencesSettings) -> Finding:
        table = population.table
        measure = table.measure(settings.on)
        groups = Grouping.of(settings.by, table)
        reasons = [missing(measure)]
        scale = LOG_SCALE if settings.scale == "log" else measure.scale
        values = {**groups.values(), UNITS: scaled_units(measure, settings.scale)}
        base = population.base(values, reasons)
        account = population.account(measure, reasons)
        tested, not_tested = _quartiles(population, base, groups, settings, account.used)
        limits = grp.limit_table(
            groups,
            tested,
            [(t.limits.least, t.limits.greatest) for t in tested],
            [(float(t.limits.q1), float(t.limits.q3), float(t.limits.iqr)) for t in tested],
        )
        found = grp.rows_beyond(population, values, reasons, groups, limits, settings.side, measure)
        flags, counts = _flags(found, tested, settings)
        described = [
            _described(t, count, scale, settings.scale)
            for t, count in zip(tested, counts, strict=True)
        ]
        if tested and not groups.labels:
            bounds = (tested[0].limits.least, tested[0].limits.greatest)
            described[0]["histogram"] = grp.histogram(
                population, base, scale, bounds, tested[0].ends
            )
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=list(groups.labels),
            settings=settings.model_dump(),
            population=account,
            groups=described,
            flags=flags,
            tests_made=sum(t.n for t in tested),
            cautions=_cautions(tested, not_tested),
            not_tested=not_tested,
            currency=table.currency,
            scale=measure.scale,
        )


QUARTERS = ("0.25", "0.5", "0.75")


def _quartiles(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    settings: FencesSettings,
    used: int,
) -> tuple[list[_Tested], list[NotTested]]:
    units = sql.column(UNITS, "b")
    fields = {
        "n": sql.count(),
        "quartiles": sql.quantiles(units, [*QUARTERS, *grp.ends_of(groups)]),
    }
    result = grp.order_statistics(population, base, groups, fields, used)
    rows = [
        (key, row)
        for key, row in zip(groups.keys(result), result.to_pylist(), strict=True)
        if row["n"]
    ]
    not_tested = [
        NotTested(key, f"only {row['n']} rows; at least {settings.min_group} are needed", row["n"])
        for key, row in rows
        if row["n"] < settings.min_group
    ]
    rows = [(key, row) for key, row in rows if row["n"] >= settings.min_group]
    if settings.rule == "linear":
        quartiles = [
            tuple(map(sql.exact_quantile, row["quartiles"][:3], QUARTERS)) for _, row in rows
        ]
    else:
        quartiles = _by_rank(population, base, groups, rows, settings.rule)
    tested = []
    for (key, row), (q1, median, q3) in zip(rows, quartiles, strict=True):
        if q1 == q3:
            reason = f"zero_spread: the middle half of its {row['n']} amounts is one value"
            not_tested.append(NotTested(key, reason, row["n"]))
            continue
        limits = fences(
            q1,
            median,
            q3,
            Fraction(settings.inner),
            Fraction(settings.outer),
            far=settings.beyond == "outer",
        )
        tested.append(_Tested(key, row["n"], limits, [round(q) for q in row["quartiles"][3:]]))
    return tested, not_tested


def _by_rank(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    rows: list[tuple[dict[str, Any], dict[str, Any]]],
    rule: QuartileRule,
) -> list[tuple[Fraction, ...]]:
    """Quartiles by the other rules: order statistics at each group's own ranks."""
    positions = [quartile_positions(row["n"], rule) for _, row in rows]
    wanted = [
        (index, rank)
        for index, three in enumerate(positions)
        for rank in sorted({r for p in three for r in (floor(p), ceil(p))})
    ]
    keys = {
        name: pa.array([rows[index][0][label] for index, _ in wanted])
        for name, label in zip(groups.names, groups.labels, strict=True)
    }
    ranks = pa.table(
        {
            **keys,
            "position": pa.array([index for index, _ in wanted], pa.int64()),
            "rank": pa.array([rank for _, rank in wanted], pa.int64()),
        }
    )
    numbered = exp.Window(
        this=exp.RowNumber(),
        partition_by=[sql.column(name, "b") for name in groups.names],
        order=exp.Order(expressions=[sql.ordered(sql.column(UNITS, "b"))]),
    )
    inner = exp.select(
        *(sql.column(name, "b") for name in groups.names),
        sql.column(UNITS, "b"),
        exp.alias_(numbered, "row_rank"),
    ).from_(base.subquery("b"))
    same_rank = exp.EQ(this=sql.column("row_rank", "r"), expression=sql.column("rank", "ranks"))
    select = exp.select(
        sql.column("position", "ranks"), sql.column("rank", "ranks"), sql.column(UNITS, "r")
    ).from_(inner.subquery("r"))
    select = select.join("ranks", on=sql.both([groups.join("r", "ranks"), same_rank]))
    at = {
        (row["position"], row["rank"]): row[UNITS]
        for row in population.query(select, ranks=ranks).to_pylist()
    }
    return [
        tuple(between(p, at[index, floor(p)], at[index, ceil(p)]) for p in three)
        for index, three in enumerate(positions)
    ]


def _flags(
    found: pa.Table, tested: list[_Tested], settings: FencesSettings
) -> tuple[Flags, list[int]]:
    """Flags, the score being the distance beyond the nearer quartile in interquartile ranges."""
    position = found.column("position").to_numpy()
    over = found.column("strength").to_numpy()
    high = found.column("high").to_numpy(zero_copy_only=False).astype(bool)
    inner, outer = float(settings.inner), float(settings.outer)
    outside = over > outer
    columns = {
        "score": over,
        "limit": np.where(outside, outer, inner),
        "direction": np.where(high, "high", "low"),
        "fence": np.where(outside, "outer", "inner"),
    }
    counts = np.bincount(position, minlength=len(tested)).tolist() if len(tested) else []
    return Flags("row", grp.flag_table(found, columns)), counts


def _described(t: _Tested, flagged: int, scale: int, kind: str) -> dict[str, Any]:
    unit = 10**scale

    def shown(value: Fraction) -> float | None:
        return amount_of(float(value / unit)) if kind == "log" else float(value / unit)

    f = t.limits
    return {
        "group": t.key,
        "n": t.n,
        "q1": shown(f.q1),
        "median": shown(f.median),
        "q3": shown(f.q3),
        "iqr": float(f.iqr / unit),
        "low": shown(f.low),
        "high": shown(f.high),
        "outer_low": shown(f.outer_low),
        "outer_high": shown(f.outer_high),
        "medcouple": None,
        "flagged": flagged,
    }


def _cautions(tested: list[_Tested], not_tested: list[NotTested]) -> list[Caution]:
    sizes = [(t.key, t.n) for t in tested] + [(t.group, t.rows) for t in not_tested]
    return grp.size_cautions([n for _, n in sizes], not_tested)
