"""Which items are drawn, by each method; the engine numbers them, and gives those that are wanted."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Reason
from sabueso.population.sql import Tree
from sabueso.population.table import money
from sabueso.screens.grouping import UNITS
from sabueso.screens.sample.frame import PLACE, UPTO, Drawn, Frame, drawn_sum
from sabueso.screens.sample.result import SampleGroup
from sabueso.stats.drawing import drawn_places, random_start, spaced_places


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
                {}, n, rows.num_rows, size == n, total, None if total is None else drawn_sum(rows)
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
                {"part": name}, items, some.num_rows, taken, money(amount, scale), drawn_sum(some)
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
