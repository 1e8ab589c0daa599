"""Quantiles of the groups that a figure shows: each point stands for one per cent of the rows."""

from __future__ import annotations

from typing import Any

import pyarrow as pa

from sabueso.population import sql
from sabueso.population.population import Population, missing
from sabueso.screens import grouping as grp
from sabueso.screens.finding import Finding, Points
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.limits.result import LimitGroup

MOST_GROUPS = 12
SHARES = tuple(f"{(2 * i + 1) / 200:.3f}" for i in range(100))


def quantile_points(population: Population, finding: Finding[Any]) -> list[Points]:
    """For the groups with the most flagged rows, the amounts at 0.5 %, 1.5 %, … 99.5 %.

    Order statistics interpolated at (n - 1)p.
    """
    table = population.table
    measure = table.measure(finding.on)
    groups = Grouping.of(finding.settings.get("by") or [], table)
    values = {**groups.values(), UNITS: sql.minor_units(measure)}
    base = population.base(values, [missing(measure)])
    chosen = sorted(finding.groups, key=lambda g: (-g.flagged, -g.n))[:MOST_GROUPS]
    inputs: dict[str, pa.Table] = {}
    if groups.labels:
        inputs["chosen"] = pa.table(grp.group_table(groups, [g.group for g in chosen]))
        base = grp.only_groups(base, groups, "chosen")
    fields = {"points": sql.quantiles(sql.column(UNITS, "b"), SHARES)}
    found = population.query(grp.per_group(base, groups, fields), **inputs)
    points = {
        tuple(key.values()): row["points"]
        for key, row in zip(groups.keys(found), found.to_pylist(), strict=True)
    }

    def amounts(group: LimitGroup) -> list[float | None]:
        return [v / 10**measure.scale for v in points[tuple(group.group.values())]]

    return [Points(g.group, g.n, amounts(g)) for g in chosen]
