"""Which items are drawn, by each method; the engine numbers them, and gives those that are wanted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column, money
from sabueso.screens.grouping import UNITS
from sabueso.screens.limits.table import RowColumns
from sabueso.screens.sample.result import SampleGroup
from sabueso.stats.drawing import drawn_places, random_start, spaced_places
from sabueso.stats.sample_size import neyman, root_edges

PLACE, STRATUM, UPTO = "place", "stratum", "upto"
BINS = 1_000


LINES = 1_024
"""Lines of a block."""


def _block() -> Tree:
    return sql.whole_division(sql.column("row_line", "b"), sql.integer(LINES))


@dataclass(frozen=True)
class Blocks:
    """Blocks of lines in the order of the sources: their rows, and the sums of these in minor units."""

    files: list[str]
    blocks: np.ndarray
    strata: np.ndarray
    n: np.ndarray
    units: list[int]

    def with_places(self, places: dict[int, Sequence[int]]) -> pa.Table:
        """The blocks in which some places lie, by stratum."""
        rows = []
        for stratum, wanted in places.items():
            own = np.flatnonzero(self.strata == stratum)
            upto = np.cumsum(self.n[own])
            inside = np.unique(np.searchsorted(upto, np.asarray(wanted, np.int64)))
            rows += [(int(own[k]), int(upto[k] - self.n[own[k]]), 0) for k in inside]
        return self._chosen(rows)

    def with_units(self, interval: int, start: int) -> pa.Table:
        """The blocks that hold one of the units start, start + interval, … of those counted from 0."""
        rows, before, count = [], 0, 0
        for k, units in enumerate(self.units):
            if units and (before - 1 - start) % interval + units >= interval:
                rows.append((k, count, before))
            before += units
            count += int(self.n[k])
        return self._chosen(rows)

    def _chosen(self, rows: Sequence[tuple[int, int, int]]) -> pa.Table:
        at = [k for k, _, _ in rows]
        return pa.table(
            {
                "file": pa.array([self.files[k] for k in at], pa.string()),
                "block": pa.array(self.blocks[at] if at else [], pa.int64()),
                STRATUM: pa.array(self.strata[at] if at else [], pa.int32()),
                "before": pa.array([count for _, count, _ in rows], pa.int64()),
                "units_before": pa.array([Decimal(u) for _, _, u in rows], pa.decimal128(38, 0)),
            }
        )


@dataclass(frozen=True)
class Frame:
    """The rows that may be drawn, with what their amounts are in minor units, where they have any."""

    population: Population
    measure: Column | None
    reasons: Sequence[Reason]

    def blocks(self, stratum: Tree | None = None) -> Blocks:
        """Rows and sums of every few lines of each file, in the order of the sources.

        With them the place of any row among all is known without putting all rows in order.
        """
        base = self.base()
        names = {"file": sql.column("row_file", "b"), "block": _block()}
        if stratum is not None:
            names[STRATUM] = stratum
        fields: list[Tree] = [exp.alias_(tree, name, quoted=True) for name, tree in names.items()]
        fields.append(exp.alias_(sql.count(), "n"))
        if self.measure is not None:
            fields.append(exp.alias_(sql.exact_sum(sql.column(UNITS, "b")), "units"))
        select = exp.select(*fields).from_(base.subquery("b"))
        select = select.group_by(*(tree.copy() for tree in names.values()))
        found = self.population.query(select)
        found = found.sort_by([("file", "ascending"), ("block", "ascending")])
        n = found.column("n").to_numpy().astype(np.int64)
        strata = (
            np.zeros(len(n), np.int64)
            if stratum is None
            else found.column(STRATUM).to_numpy().astype(np.int64)
        )
        units = [0] * len(n)
        if self.measure is not None:
            units = [int(value or 0) for value in found.column("units").to_pylist()]
        blocks = found.column("block").to_numpy().astype(np.int64)
        return Blocks(found.column("file").to_pylist(), blocks, strata, n, units)

    def near(self, chosen: pa.Table, stratum: Tree | None = None) -> exp.Select:
        """The rows of some blocks, each with its place among all rows, within its stratum where there is one,
        and with the sum of the amounts up to it."""
        base = self.base()
        names = [sql.column(name, "b") for name in self._values()]
        part: list[Tree] = [sql.column("row_file", "b"), _block()]
        on = [
            exp.EQ(this=sql.column("row_file", "b"), expression=sql.column("file", "chosen")),
            exp.EQ(this=_block(), expression=sql.column("block", "chosen")),
        ]
        fields: list[Tree] = [*names]
        if stratum is not None:
            part.append(stratum)
            on.append(exp.EQ(this=stratum.copy(), expression=sql.column(STRATUM, "chosen")))
            fields.append(exp.alias_(stratum.copy(), STRATUM, quoted=True))
        order = exp.Order(expressions=[sql.ordered(sql.column("row_line", "b"))])
        number = exp.Window(this=exp.RowNumber(), partition_by=part, order=order)
        place = exp.Add(this=number, expression=sql.column("before", "chosen"))
        fields.append(exp.alias_(sql.cast(place, "BIGINT"), PLACE, quoted=True))
        if self.measure is not None:
            running = self._running([each.copy() for each in part], order)
            upto = exp.Add(this=running, expression=sql.column("units_before", "chosen"))
            fields.append(exp.alias_(sql.cast(upto, "DECIMAL(38, 0)"), UPTO, quoted=True))
        select = exp.select(*fields).from_(base.subquery("b"))
        return select.join("chosen", on=sql.both(on), join_type="inner")

    def _values(self) -> dict[str, Tree]:
        values = RowColumns.of(self.population.table, self.measure).trees()
        if self.measure is not None:
            values = {**values, UNITS: sql.minor_units(self.measure)}
        return values

    def base(self) -> exp.Select:
        return self.population.base(self._values(), self.reasons)

    def _running(self, part: list[Tree], order: exp.Order) -> exp.Window:
        units = sql.cast(sql.column(UNITS, "b"), "DECIMAL(38, 0)")
        spec = exp.WindowSpec(
            kind="ROWS", start="UNBOUNDED", start_side="PRECEDING", end="CURRENT ROW"
        )
        return exp.Window(
            this=exp.Sum(this=units), partition_by=part, order=order.copy(), spec=spec
        )

    def figures(self, stratum: Tree | None = None) -> list[dict[str, int]]:
        """Rows, sum and sum of squares of each stratum, or of all, in minor units."""
        values: dict[str, Tree] = {}
        if self.measure is not None:
            values[UNITS] = sql.minor_units(self.measure)
        base = self.population.base(values or {"one": sql.integer(1)}, self.reasons)
        units = sql.column(UNITS, "b")
        fields: list[Tree] = [exp.alias_(sql.count(), "n")]
        if self.measure is not None:
            fields += [
                exp.alias_(sql.exact_sum(units), "total"),
                exp.alias_(sql.exact_square_sum(units.copy()), "square"),
                exp.alias_(exp.Min(this=units.copy()), "least"),
                exp.alias_(exp.Max(this=units.copy()), "greatest"),
            ]
        select = exp.select(*fields).from_(base.subquery("b"))
        if stratum is not None:
            select = select.select(exp.alias_(stratum, STRATUM, quoted=True))
            select = select.group_by(stratum.copy())
        found = self.population.query(select).to_pylist()
        return [{name: int(value or 0) for name, value in row.items()} for row in found]

    def gathered(self, found: pa.Table, drop: Sequence[str] = (UPTO,)) -> pa.Table:
        """Rows as flags have them, as they stand in the sources."""
        order = [("row_file", "ascending"), ("row_line", "ascending")]
        found = found.sort_by(order)
        unused = [name for name in (UNITS, *drop) if name in found.column_names]
        found = found.drop_columns(unused)
        return RowColumns.of(self.population.table, self.measure).gathered(found)


@dataclass(frozen=True)
class Drawn:
    """The rows drawn, with ``place``, ``stratum`` and ``unit`` where the method has them, and ``whole``."""

    rows: pa.Table
    groups: list[SampleGroup]
    interval: str | None = None
    start: str | None = None


def by_places(frame: Frame, places: Sequence[int]) -> pa.Table:
    """The rows at some places."""
    drawn = pa.table({PLACE: pa.array(places, pa.int64())})
    chosen = frame.blocks().with_places({0: places})
    names = exp.select("r.*").from_(frame.near(chosen).subquery("r"))
    on = exp.EQ(this=sql.column(PLACE, "r"), expression=sql.column(PLACE, "drawn"))
    select = names.join("drawn", on=on, join_type="inner")
    return frame.population.query(select, drawn=drawn, chosen=chosen)


def draw_items(
    frame: Frame, seed: str, size: int, n: int, total: Decimal | None, *, spaced: bool
) -> Drawn:
    """So many of n rows, each alike, or at equal intervals from a random start.

    ``total`` is what their amounts add up to; None where they have none.
    """
    places = (spaced_places if spaced else drawn_places)(seed, size, n)
    found = by_places(frame, places)
    whole = pa.array(np.full(found.num_rows, size == n))
    rows = frame.gathered(found.append_column("whole", whole))
    return Drawn(
        rows,
        [
            SampleGroup(
                {}, n, rows.num_rows, size == n, total, None if total is None else _sum(rows)
            )
        ],
        f"{n / size:,.2f}" if spaced else None,
        f"{places[0]:,}" if spaced else None,
    )


def draw_money(frame: Frame, seed: str, size: int, n: int, total: int) -> Drawn:
    """Money units at an interval from a random start, of the amounts of n rows in their order.

    Amounts of an interval or more are taken whole, and the interval is computed again for the rest, until
    none is left that reaches it.
    """
    assert frame.measure is not None
    top, whole, rest, interval = None, 0, total, max(total // size, 1)
    while True:
        count, amount = _at_least(frame, interval)
        if count == whole:
            break
        top, whole, rest = interval, count, total - amount
        if whole >= size or rest <= 0:
            break
        interval = max(rest // (size - whole), 1)
    units = sql.column(UNITS, "b")
    taken = exp.GTE(this=units, expression=sql.integer(top)) if top is not None else exp.false()
    none: list[Tree] = [
        exp.alias_(sql.cast(exp.null(), kind), name, quoted=True)
        for name, kind in ((PLACE, "BIGINT"), (UPTO, "DECIMAL(38, 0)"))
    ]
    large = exp.select("b.*", *none).from_(frame.base().subquery("b")).where(taken)
    found = frame.population.query(large)
    found = found.append_column("whole", pa.array(np.full(found.num_rows, True)))
    start = 0
    if whole < size and rest > 0:
        start = random_start(seed, interval)
        others = frame
        if top is not None:
            below = exp.GTE(this=sql.minor_units(frame.measure), expression=sql.integer(top))
            others = Frame(
                frame.population, frame.measure, [*frame.reasons, Reason("whole", below)]
            )
        hit = _hit(interval, start)
        chosen = others.blocks().with_units(interval, start)
        near = exp.select("b.*").from_(others.near(chosen).subquery("b")).where(hit)
        some = frame.population.query(near, chosen=chosen)
        some = some.append_column("whole", pa.array(np.full(some.num_rows, False)))
        found = pa.concat_tables([found, some], promote_options="default")
    rows = frame.gathered(found, ())
    scale = frame.measure.scale
    upto = [int(v or 0) for v in rows.column(UPTO).to_pylist()]
    own = [int(v.scaleb(scale)) for v in rows.column("amount").to_pylist()]
    at = [
        None
        if w
        else str(money((up - one) + (interval - 1 - (up - one - 1 - start) % interval), scale))
        for up, one, w in zip(upto, own, rows.column("whole").to_pylist(), strict=True)
    ]
    rows = rows.drop_columns([UPTO, PLACE]).append_column("unit", pa.array(at, pa.string()))
    groups = _money_groups(frame, rows, n, whole, total, rest)
    drawn = any(not w for w in rows.column("whole").to_pylist())
    return Drawn(
        rows,
        groups,
        str(money(interval, scale)) if drawn else None,
        str(money(start, scale)) if drawn else None,
    )


def _money_groups(
    frame: Frame, rows: pa.Table, n: int, whole: int, total: int, rest: int
) -> list[SampleGroup]:
    """What was taken whole, and what was drawn of the rest."""
    assert frame.measure is not None
    scale = frame.measure.scale
    groups = []
    for taken in (True, False):
        some = rows.filter(pa.compute.equal(rows.column("whole"), taken))
        items = whole if taken else n - whole
        if not items:
            continue
        amount = total - rest if taken else rest
        name = "taken whole" if taken else "drawn from"
        groups.append(
            SampleGroup(
                {"part": name}, items, some.num_rows, taken, money(amount, scale), _sum(some)
            )
        )
    return groups


def _hit(interval: int, start: int) -> Tree:
    """Whether a row holds one of the units start, start + interval, … of those counted from 0."""
    units = sql.cast(sql.column(UNITS, "b"), "DECIMAL(38, 0)")
    before = exp.Sub(this=sql.column(UPTO, "b"), expression=units)
    shifted = exp.Add(this=exp.paren(before), expression=sql.integer(interval - 1 - start))
    past = exp.Mod(
        this=exp.paren(sql.cast(shifted, "DECIMAL(38, 0)")), expression=sql.integer(interval)
    )
    reach = exp.Add(this=exp.paren(past), expression=units.copy())
    return exp.GTE(this=reach, expression=sql.integer(interval))


def _at_least(frame: Frame, units: int) -> tuple[int, int]:
    """How many rows have such an amount or more, and what they add up to."""
    assert frame.measure is not None
    base = frame.population.base({UNITS: sql.minor_units(frame.measure)}, frame.reasons)
    column = sql.column(UNITS, "b")
    select = exp.select(exp.alias_(sql.count(), "n"), exp.alias_(sql.exact_sum(column), "total"))
    select = select.from_(base.subquery("b"))
    select = select.where(exp.GTE(this=column.copy(), expression=sql.integer(units)))
    row = frame.population.query(select).to_pylist()[0]
    return row["n"], int(row["total"] or 0)


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
                money(row["total"], scale), _sum(some), strata.spread[place] / 10**scale,
                money(edges[place - 1], scale) if place else None,
                money(edges[place], scale) if place < len(edges) else None,
            )
        )  # fmt: skip
    return groups


def _sum(rows: pa.Table) -> Decimal:
    """The exact sum of the amounts of some rows."""
    from sabueso.population.table import exact_total

    return exact_total(rows.column("amount"))
