"""The largest or smallest share of the rows of each group, with the count and the cut-off beside it."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from math import ceil
from typing import Any, Literal

import numpy as np
import sqlglot.expressions as exp
from pydantic import Field, field_validator, model_validator

from sabueso.base.plain import ByColumn
from sabueso.population import sql
from sabueso.population.accounting import Counting
from sabueso.population.population import Population, missing
from sabueso.population.table import money
from sabueso.population.units import unit_of
from sabueso.report import numbers as num
from sabueso.screens import grouping as grp
from sabueso.screens.finding import Caution, Finding, Flags, NotTested
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.limits import table as lim
from sabueso.screens.settings import MeasureSettings, proportion
from sabueso.screens.top.result import TopGroup
from sabueso.screens.top.view import TopView

INT64 = lim.INT64


class TopSettings(MeasureSettings):
    """Settings of ``top``."""

    share: str | None = Field(
        None, description="share of the rows of each group, as 1% or 0.01 (default: 1%)"
    )
    aim: int | None = Field(None, ge=1, description="this many rows of each group, not a share")
    side: Literal["high", "low", "both"] = Field(
        "high", description="the largest, the smallest, or the share at both ends"
    )
    min_group: int = Field(2, ge=1, description="rows below which a group is not tested")

    @field_validator("share", mode="before")
    @classmethod
    def _share(cls, value: Any) -> Any:
        if value is None:
            return None
        text = str(value).strip()
        try:
            share = proportion(text)
        except ValueError:
            raise ValueError("expected a share of the rows such as 1% or 0.01") from None
        if share >= 1 and not text.endswith("%"):
            raise ValueError(f"a share is below 1; {text} per cent is written {text}%")
        if not 0 < share < 1:
            raise ValueError("expected a share of the rows such as 1% or 0.01")
        return text

    @model_validator(mode="after")
    def _one(self) -> TopSettings:
        if self.share is not None and self.aim is not None:
            raise ValueError("give a share of the rows or a number of them, not both")
        return self

    def count(self, n: int) -> int:
        """How many of n rows are wanted at each end: ceil(n·p), never rounded down to nothing."""
        return (
            min(self.aim, n) if self.aim is not None else ceil(n * proportion(self.share or "1%"))
        )


@dataclass(frozen=True)
class _Tested:
    key: ByColumn
    n: int
    k: int
    low: int | None
    high: int | None


class Top(Screen):
    """Top share on one measure."""

    name = "top"
    family = "limits"
    summary = "the largest or smallest rows: a share of each group, its count and cut-off stated"
    reference = "none: an order statistic; amounts equal to the cut-off are all kept"
    settings = TopSettings
    group = TopGroup
    view = TopView
    place = 40
    examples = (
        'sabueso try top payments --share 0.1% --where "importe > 0"',
        "sabueso try top payments --by cuenta --aim 3",
        "sabueso try top payroll --on neto --by categoria --aim 2 --side both",
    )
    figures = ("plain", "quantile", "strip")
    from_quantiles = ("quantile", "strip")

    def counts(self, population: Population, settings: TopSettings) -> list[Counting]:
        measure = population.table.measure(settings.on)
        return [Counting(measure, [missing(measure)])]

    def run(self, population: Population, settings: TopSettings) -> Finding[TopGroup]:
        table = population.table
        measure = table.measure(settings.on)
        groups = Grouping.of(settings.by, table)
        reasons = [missing(measure)]
        values = {**groups.values(), UNITS: sql.minor_units(measure)}
        account = population.account(measure, reasons)
        base = population.base(values, reasons)
        sizes = population.query(grp.per_group(base, groups, {"n": sql.count()}))
        counted = [
            (key, n)
            for key, n in zip(groups.keys(sizes), sizes.column("n").to_pylist(), strict=True)
            if n
        ]
        least = settings.min_group
        not_tested = [NotTested(key, num.too_few(n, least), n) for key, n in counted if n < least]
        counted = [(key, n) for key, n in counted if n >= least]
        tested = _cut_offs(population, base, groups, counted, settings)
        bounds = [
            (
                int(INT64.min) if t.low is None else t.low + 1,
                int(INT64.max) if t.high is None else t.high - 1,
            )
            for t in tested
        ]
        places = [(float(t.low or 0), float(t.high or 0), float(10**measure.scale)) for t in tested]
        limits = lim.limit_table(groups, tested, bounds, places)
        found = lim.rows_beyond(population, values, reasons, groups, limits, settings.side, measure)
        position = found.column("position").to_numpy()
        up = found.column("high").to_numpy(zero_copy_only=False).astype(bool)
        cut = np.array([[t.low or 0, t.high or 0] for t in tested]).reshape(-1, 2)
        columns = {
            "score": found.column("strength").to_numpy(),
            "limit": cut[position, up.astype(np.int64)] / 10**measure.scale,
            "direction": np.where(up, "high", "low"),
        }
        flagged = np.bincount(position, minlength=len(tested)).tolist() if tested else []
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=list(groups.labels),
            settings=settings.model_dump(),
            population=account,
            groups=[
                _described(t, count, settings, measure.scale)
                for t, count in zip(tested, flagged, strict=True)
            ],
            flags=Flags("row", lim.flag_table(found, columns)),
            tests_made=0,
            subjects=sum(t.n for t in tested),
            cautions=_cautions(tested, flagged, settings),
            not_tested=not_tested,
            currency=unit_of(table, measure),
            scale=measure.scale,
        )


def _cut_offs(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    counted: list[tuple[ByColumn, int]],
    settings: TopSettings,
) -> list[_Tested]:
    """The values of each group, of a known number of rows, at which its share begins."""
    ranks: list[tuple[int, int]] = []
    for place, (_, n) in enumerate(counted):
        k = settings.count(n)
        ranks += [(place, n - k + 1)] if settings.side != "low" else []
        ranks += [(place, k)] if settings.side != "high" else []
    wanted = grp.rank_table(groups, [key for key, _ in counted], sorted(set(ranks)))
    at = grp.values_at(population, base, groups, wanted) if ranks else {}
    tested = []
    for place, (key, n) in enumerate(counted):
        k = settings.count(n)
        high = at[place, n - k + 1] if settings.side != "low" else None
        low = at[place, k] if settings.side != "high" else None
        tested.append(_Tested(key, n, k, low, high))
    return tested


def _described(t: _Tested, flagged: int, settings: TopSettings, scale: int) -> TopGroup:
    return TopGroup(
        group=t.key,
        n=t.n,
        share=t.k / t.n,
        k=t.k,
        cutoff=_cutoff(t.high if settings.side == "high" else t.low, scale),
        cutoff_high=_cutoff(t.high, scale),
        cutoff_low=_cutoff(t.low, scale),
        flagged=flagged,
    )


def _cutoff(units: int | None, scale: int) -> Decimal | None:
    return None if units is None else money(units, scale)


def _cautions(tested: list[_Tested], flagged: list[int], settings: TopSettings) -> list[Caution]:
    """Ties at the cut-off, and the fact that a share always flags."""
    found = []
    ends = 2 if settings.side == "both" else 1
    wanted = sum(min(ends * t.k, t.n) for t in tested)
    if sum(flagged) > wanted:
        found.append(
            Caution(
                "ties_kept",
                f"{sum(flagged):,} rows for {wanted:,} wanted: rows equal to the cut-off are all kept",
                {"wanted": wanted, "flagged": sum(flagged)},
            )
        )
    if tested:
        found.append(
            Caution(
                "always_flags",
                "a share of any population is flagged, whatever it holds: large is not unusual",
                {},
            )
        )
    return found
