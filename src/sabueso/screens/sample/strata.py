"""Strata of amounts: their edges, their sums, and what is drawn of each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.sql import Tree
from sabueso.population.table import money
from sabueso.screens.grouping import UNITS
from sabueso.screens.sample.frame import PLACE, STRATUM, Drawn, Frame, drawn_sum
from sabueso.screens.sample.result import SampleGroup
from sabueso.stats.drawing import drawn_places
from sabueso.stats.sample_size import neyman, root_edges

BINS = 1_000
"""Bins of equal width in which amounts are counted for the edges of strata."""


def stratum_tree(edges: Sequence[int]) -> Tree:
    """The number of a row's stratum, from 0: how many of the edges its amount reaches."""
    units = sql.column(UNITS, "b")
    case = exp.Case()
    for place in range(len(edges), 0, -1):
        reached = exp.GTE(this=units.copy(), expression=sql.integer(edges[place - 1]))
        case = case.when(reached, sql.integer(place), copy=False)
    # A bare number to group by is the place of a column.
    return case.else_(sql.integer(0)) if edges else sql.cast(sql.integer(0), "INTEGER")


def chosen_edges(frame: Frame, strata: int, below: int | None) -> list[int]:
    """Edges of so many strata by the cumulative square root of the frequency, of the amounts below the
    one from which on all are taken."""
    code = stratum_tree([] if below is None else [below])
    rows = [row for row in frame.figures(code) if row[STRATUM] == 0]
    if not rows or rows[0]["least"] == rows[0]["greatest"]:
        return []
    least, greatest = rows[0]["least"], rows[0]["greatest"]
    width = max(-(-(greatest - least + 1) // BINS), 1)
    assert frame.measure is not None
    base = frame.population.base({UNITS: sql.minor_units(frame.measure)}, frame.reasons)
    units = sql.column(UNITS, "b")
    off = exp.paren(exp.Sub(this=units, expression=sql.integer(least)))
    place = exp.alias_(sql.whole_division(off, sql.integer(width)), "bin", quoted=True)
    inner = exp.select(place).from_(base.subquery("b"))
    inner = inner.where(exp.LTE(this=units.copy(), expression=sql.integer(greatest)))
    select = exp.select(sql.column("bin", "c"), exp.alias_(sql.count(), "n"))
    select = select.from_(inner.subquery("c")).group_by(sql.column("bin", "c"))
    counted = {int(row["bin"]): row["n"] for row in frame.population.query(select).to_pylist()}
    bins = max(counted) + 1
    counts = [counted.get(i, 0) for i in range(bins)]
    edges = least + width * np.arange(bins + 1)
    return [int(edge) for edge in root_edges(counts, edges, strata)]


@dataclass(frozen=True)
class Strata:
    """Rows and sums of each stratum between edges, the empty ones too, and the deviations of their amounts,
    all in minor units."""

    edges: Sequence[int]
    rows: list[dict[str, int]]
    spread: list[float]


def strata_between(frame: Frame, edges: Sequence[int]) -> Strata:
    """The strata between edges, in one scan."""
    found = {row[STRATUM]: row for row in frame.figures(stratum_tree(edges))}
    empty = {"n": 0, "total": 0, "square": 0}
    rows = [found.get(i, {STRATUM: i, **empty}) for i in range(len(edges) + 1)]
    spread = [
        ((r["square"] * r["n"] - r["total"] ** 2) / (r["n"] * (r["n"] - 1))) ** 0.5 if r["n"] > 1 else 0.0
        for r in rows
    ]  # fmt: skip
    return Strata(edges, rows, spread)


def draw_strata(frame: Frame, seed: str, size: int, strata: Strata, *, last_whole: bool) -> Drawn:
    """So many rows of the strata, allocated by Neyman; all of the last where so asked."""
    rows, spread, edges = strata.rows, strata.spread, strata.edges
    counts = [row["n"] for row in rows]
    last = [counts.pop()] if last_whole else []
    given = [*neyman(max(size - sum(last), 0), counts, spread[: len(counts)]).tolist(), *last]
    stratum, places = [], []
    for place, (row, wanted) in enumerate(zip(rows, given, strict=True)):
        chosen = drawn_places(f"{seed}:{place + 1}", wanted, row["n"])
        stratum += [place] * len(chosen)
        places += chosen
    drawn = pa.table({STRATUM: pa.array(stratum, pa.int32()), PLACE: pa.array(places, pa.int64())})
    wanted = {
        k: [p for p, own in zip(places, stratum, strict=True) if own == k] for k in set(stratum)
    }
    chosen = frame.blocks(stratum_tree(edges)).with_places(wanted)
    numbered = frame.near(chosen, stratum_tree(edges)).subquery("r")
    on = sql.both(
        exp.EQ(this=sql.column(name, "r"), expression=sql.column(name, "drawn"))
        for name in (STRATUM, PLACE)
    )
    select = exp.select("r.*").from_(numbered).join("drawn", on=on, join_type="inner")
    found = frame.population.query(select, drawn=drawn, chosen=chosen)
    full = np.array([row["n"] == wanted for row, wanted in zip(rows, given, strict=True)])
    own = found.column(STRATUM).to_numpy().astype(np.int64)
    found = found.append_column("whole", pa.array(full[own] if own.size else np.zeros(0, bool)))
    return Drawn(frame.gathered(found), _strata_groups(frame, found, strata, given))


def _strata_groups(
    frame: Frame, found: pa.Table, strata: Strata, given: Sequence[int]
) -> list[SampleGroup]:
    assert frame.measure is not None
    scale, edges = frame.measure.scale, strata.edges
    groups = []
    for place, row in enumerate(strata.rows):
        some = found.filter(pa.compute.equal(found.column(STRATUM), place))
        groups.append(
            SampleGroup(
                {"stratum": place + 1}, row["n"], given[place], row["n"] == given[place],
                money(row["total"], scale), drawn_sum(some), strata.spread[place] / 10**scale,
                money(edges[place - 1], scale) if place else None,
                money(edges[place], scale) if place < len(edges) else None,
            )
        )  # fmt: skip
    return groups
