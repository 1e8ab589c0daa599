"""Two figures of each group that must be equal: a stated total and the sum of its parts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.population import expressions, sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.finding import Flags
from sabueso.screens.grouping import Grouping, without_key
from sabueso.screens.recompute.products import wide

MOST_KEPT = 1_000_000


@dataclass(frozen=True)
class Sides:
    """What is compared: of this table ``equals`` by ``by``, of another (or this) ``expect`` by ``other_on``; where
    ``both``, of groups that both have."""

    by: Sequence[str]
    equals: str
    expect: str
    other: str | None = None
    other_on: Sequence[str] = ()
    both: bool = False


@dataclass(frozen=True)
class Tied:
    """How many groups there are, how many differ, by how much in all; and those as flags."""

    reasons: list[Reason]
    checked: int
    differing: int
    total: Decimal
    flags: Flags


@dataclass(frozen=True)
class _Compared:
    """Both figures of each group and their difference, as a SELECT; ``both`` says that both sides have it."""

    own: Grouping
    reasons: list[Reason]
    kind: str
    select: exp.Select


def agreement(population: Population, sides: Sides) -> tuple[int, int, int]:
    """How many groups there are, how many of them both sides have, and in how many both figures are the same."""
    compared = _compared(population, sides)
    zero = sql.cast(sql.integer(0), compared.kind)
    same = exp.EQ(this=sql.column("difference", "d"), expression=zero)
    both = sql.column("both", "d")
    asked = {
        "n": sql.count(), "both": sql.only(sql.count(), both), "same": sql.only(sql.count(), exp.and_(both.copy(), same)),
    }  # fmt: skip
    select = exp.select(*(exp.alias_(tree, name) for name, tree in asked.items()))
    (row,) = population.query(select.from_(compared.select.subquery("d"))).to_pylist()
    return int(row["n"]), int(row["both"]), int(row["same"])


def _compared(population: Population, sides: Sides) -> _Compared:
    """Two figures by group.

    Raises
    ------
    UserError
        If a table is unknown, or the keys of both sides are not as many.
    """
    own = Grouping.of(sides.by, population.table)
    reasons = [without_key(own)]
    other = population
    if sides.other is not None:
        other = population.rows_of(sides.other, to="to compare with")
    recorded = expressions.aggregate(sides.equals, population.table, "--equals")
    expected = expressions.aggregate(sides.expect, other.table, "--expect")
    kind = wide(*_named(recorded, population), *_named(expected, other))
    left = _summed(population, own, sql.cast(recorded, kind), "recorded", reasons)
    if sides.other is None:
        right = _summed(population, own, sql.cast(expected, kind), "expected", reasons)
    else:
        grouping = Grouping.of(sides.other_on or sides.by, other.table)
        if len(grouping.names) != len(own.names):
            raise UserError(
                f"--by has {len(own.names)} keys and --other-on {len(grouping.names)}; expected as many"
            )
        _of_one_kind(population, own, other, grouping)
        missing = [without_key(grouping)]
        right = _summed(other, grouping, sql.cast(expected, kind), "expected", missing)
    both = _joined(left, right, own.names)
    zero = sql.cast(sql.integer(0), kind)
    sums = {
        side: exp.Coalesce(this=sql.column(side, "j"), expressions=[zero.copy()])
        for side in ("recorded", "expected")
    }
    difference = exp.Sub(this=sums["recorded"], expression=sums["expected"])
    there = [exp.Not(this=sql.is_missing(sql.column(side, "j"))) for side in sums]
    inner = exp.select(
        *(sql.column(name, "j") for name in own.names),
        *(exp.alias_(tree.copy(), name, quoted=True) for name, tree in sums.items()),
        exp.alias_(sql.cast(difference, kind), "difference", quoted=True),
        exp.alias_(exp.and_(*there), "both", quoted=True),
    ).from_(both.subquery("j"))
    if sides.both:
        inner = inner.where(exp.and_(*(tree.copy() for tree in there)))
    return _Compared(own, reasons, kind, inner)


def _of_one_kind(
    population: Population, own: Grouping, other: Population, theirs: Grouping
) -> None:
    """Refuse keys that no group can share: one side's are numbers, say, and the other's text."""
    here, there = _kinds(population, own), _kinds(other, theirs)
    for label, kind, name, found in zip(own.labels, here, theirs.labels, there, strict=True):
        if kind != found:
            raise UserError(
                f"--by {label} of {population.table.name!r} holds {kind}, and {name} of {other.table.name!r}, which names "
                f"the groups there, {found}; expected both to hold the same"
            )


def _kinds(population: Population, grouping: Grouping) -> list[str]:
    """What each key of a grouping holds."""
    named = [exp.alias_(tree, key, quoted=True) for key, tree in grouping.values().items()]
    found = population.query(population.used(exp.select(*named), []).limit(0))
    return [_held(field.type) for field in found.schema]


def _held(kind: pa.DataType) -> str:
    if pa.types.is_decimal(kind) or pa.types.is_integer(kind) or pa.types.is_floating(kind):
        return "numbers"
    if pa.types.is_date(kind) or pa.types.is_timestamp(kind):
        return "days"
    return "times of the day" if pa.types.is_time(kind) else "text"


def totals(
    population: Population,
    sides: Sides,
    measure: Column | None,
    tolerance: Decimal | None,
    side: str = "both",
) -> Tied:
    """Groups in which the two figures differ by more than a tolerance, or of which the one recorded is above, or below,
    the other by more. A group that one side lacks is compared with nothing there, which is 0.

    Raises
    ------
    UserError
        If a table is unknown, or the keys of both sides are not as many.
    """
    compared = _compared(population, sides)
    own, inner, kind = compared.own, compared.select, compared.kind
    size = exp.Abs(this=sql.column("difference", "d"))
    away = {
        "above": sql.column("difference", "d"),
        "below": exp.Neg(this=sql.column("difference", "d")),
    }.get(side, size)
    far = exp.GT(this=away, expression=sql.cast(sql.number(tolerance or Decimal(0)), kind))
    counted = exp.select(
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.only(sql.count(), far), "differing"),
        exp.alias_(
            exp.Sum(this=exp.Case().when(far.copy(), sql.column("difference", "d"))), "total"
        ),
    ).from_(inner.subquery("d"))
    row = population.query(counted).to_pylist()[0]
    wanted = [*own.names, "recorded", "expected", "difference"]
    select = exp.select(*(sql.column(name, "d") for name in wanted))
    select = select.from_(inner.copy().subquery("d")).where(far.copy())
    select = select.order_by(
        sql.ordered(size.copy(), descending=True),
        *(sql.ordered(sql.column(name, "d")) for name in own.names),
    )
    found = population.query(select.limit(MOST_KEPT))
    return Tied(
        reasons=compared.reasons,
        checked=int(row["n"]),
        differing=int(row["differing"]),
        total=Decimal(row["total"] or 0),
        flags=_flags(own.keys(found), found.to_pylist(), measure),
    )


def measure_of(figure: str, table: Table) -> Column | None:
    """The number that a figure is of; of several the amount, where the table has one. None of a figure that only counts
    rows."""
    tree = expressions.aggregate(figure, table, "--equals")
    names = {column.name for column in tree.find_all(exp.Column)}
    numbers = [c for c in table.columns if c.name in names and c.type == "number"]
    amount = table.role("amount")
    if amount is not None and (amount in numbers or len(numbers) > 1):
        return amount
    return max(numbers, key=lambda c: c.scale, default=None)


def _named(figure: Tree, population: Population) -> list[Column]:
    """Number columns that a figure is of."""
    names = {column.name for column in figure.find_all(exp.Column)}
    return [c for c in population.table.columns if c.name in names and c.type == "number"]


def _summed(
    population: Population, grouping: Grouping, figure: Tree, name: str, reasons: list[Reason]
) -> exp.Select:
    named = [exp.alias_(tree, key, quoted=True) for key, tree in grouping.values().items()]
    select = population.used(exp.select(*named, exp.alias_(figure, name, quoted=True)), reasons)
    return select.group_by(*(tree.copy() for tree in grouping.trees))


def _joined(left: exp.Select, right: exp.Select, keys: Sequence[str]) -> exp.Select:
    """Groups of either side."""
    same = sql.both(sql.same(sql.column(key, "a"), sql.column(key, "z")) for key in keys)
    named = [
        exp.alias_(
            exp.Coalesce(this=sql.column(key, "a"), expressions=[sql.column(key, "z")]),
            key,
            quoted=True,
        )
        for key in keys
    ]
    select = exp.select(*named, sql.column("recorded", "a"), sql.column("expected", "z"))
    select = select.from_(left.subquery("a"))
    return select.join(right.subquery("z"), on=same, join_type="full")


def _flags(keys: Sequence[Cells], rows: Sequence[Cells], measure: Column | None) -> Flags:
    """The groups; those of which rows are counted have no amount."""
    unit = Decimal(1).scaleb(-measure.scale if measure is not None else 0)
    flags = [
        {
            "subject": key,
            "score": float(abs(row["difference"])),
            "limit": None,
            "direction": "above" if row["difference"] > 0 else "below",
            "p": None,
            "p_adjusted": None,
            "amount": row["difference"].quantize(unit),
            "recorded": row["recorded"],
            "expected": row["expected"],
            "difference": row["difference"],
        }
        for key, row in zip(keys, rows, strict=True)
    ]
    found = pa.Table.from_pylist(flags) if flags else pa.table({})
    if flags and measure is None:
        place = found.schema.get_field_index("amount")
        none = pa.nulls(found.num_rows, pa.decimal128(18, 2))
        found = found.set_column(place, "amount", none)
    return Flags("entity", found)
