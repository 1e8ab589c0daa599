"""Orders, receipts and invoices of one key: was more invoiced than ordered or received, or at a higher price?

The tables are put side by side in the engine, each added up by the key; what is over comes out of it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table, money
from sabueso.report import numbers as num
from sabueso.screens.grouping import Grouping
from sabueso.screens.match.result import Compared

MOST_OVER = 200_000
STEPS = 10_000
"""A tolerance is taken in parts of this many."""
INVOICED, ORDERED, RECEIVED = "i", "o", "r"


@dataclass(frozen=True)
class Sides:
    """The three populations with the columns of their keys."""

    invoices: Population
    orders: Population
    receipts: Population
    on: Sequence[str]
    other_on: Sequence[str]
    third_on: Sequence[str]


@dataclass(frozen=True)
class Worth:
    """What a row is worth, in whole units of ``scale`` decimals."""

    units: Tree
    scale: int


@dataclass(frozen=True)
class Tolerance:
    """How far quantities and prices may be over, as shares."""

    quantity: Fraction
    price: Fraction


def compare(
    sides: Sides, tolerance: Tolerance, reasons: Sequence[Reason]
) -> tuple[list[Cells], Compared]:
    """Keys that are over, the largest excess first, and how many keys were compared.

    Raises
    ------
    UserError
        If a table does not tell its quantity, or invoices or orders their amount.
    """
    amount, worth = _worth(sides.invoices.table), _worth(sides.orders.table)
    scale = max(_quantity(p.table).scale for p in (sides.invoices, sides.orders, sides.receipts))
    parts = {
        INVOICED: _summed(sides.invoices, sides.on, scale, amount, reasons),
        ORDERED: _summed(sides.orders, sides.other_on, scale, worth),
        RECEIVED: _summed(sides.receipts, sides.third_on, scale, None),
    }
    joined = _joined(parts, len(sides.on))
    over = _over(tolerance, worth.scale, amount.scale)
    with sides.invoices.staged("three_way", joined):
        found = _flagged(sides.invoices, len(sides.on), over)
        counts = _counts(sides.invoices, over)
    if len(found) > MOST_OVER:
        raise UserError(
            f"more than {MOST_OVER:,} keys are over: the tables are not of the same, or a tolerance is needed"
        )
    labels = Grouping.of(list(sides.on), sides.invoices.table).labels
    scales = _Scales(scale, amount.scale, worth.scale)
    flags = [_flag(row, labels, scales) for row in found]
    flags.sort(key=lambda f: (-f["amount"], str(f["subject"])))
    excess = sum((f["amount"] for f in flags), Decimal(0))
    return flags, Compared(**counts, excess=excess)


def _quantity(table: Table) -> Column:
    column = table.role("quantity")
    if column is None:
        raise UserError(
            f"table {table.name!r} names no quantity; say in case.toml which column is one: roles.quantity"
        )
    return column


def _worth(table: Table) -> Worth:
    """The amounts of invoices or orders, which with their quantity tell the price; where orders have prices
    alone, quantity times price."""
    column, price = table.role("amount"), table.role("price")
    if column is not None:
        return Worth(sql.minor_units(column), column.scale)
    if price is None:
        raise UserError(
            f"table {table.name!r} names neither an amount nor a price; say in case.toml which column is "
            "one: roles.amount or roles.price"
        )
    quantity = _quantity(table)
    product = _times(sql.minor_units(quantity), sql.minor_units(price))
    return Worth(
        exp.Coalesce(this=product, expressions=[sql.integer(0)]), quantity.scale + price.scale
    )


def _summed(
    population: Population,
    on: Sequence[str],
    scale: int,
    worth: Worth | None,
    reasons: Sequence[Reason] = (),
) -> exp.Select:
    """Rows, quantity and amount of each key, in whole units."""
    quantity = _quantity(population.table)
    grouping = Grouping.of(list(on), population.table)
    known = exp.Not(this=sql.is_missing(sql.column(quantity.name)))
    shifted = exp.Mul(
        this=sql.cast(sql.minor_units(quantity), "DECIMAL(38, 0)"),
        expression=sql.integer(10 ** (scale - quantity.scale)),
    )
    values: dict[str, Tree] = {
        **{name: sql.cast(tree, "TEXT") for name, tree in grouping.values().items()},
        "quantity": exp.Case().when(known, shifted).else_(sql.integer(0)),
        "units": sql.integer(0) if worth is None else worth.units,
    }
    base = population.base(values, reasons)
    keys = [sql.column(name, "b") for name in grouping.names]
    named = [exp.alias_(key, f"k{i}", quoted=True) for i, key in enumerate(keys)]
    quantities = exp.Sum(this=sql.cast(sql.column("quantity", "b"), "DECIMAL(38, 0)"))
    select = exp.select(
        *named,
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.cast(quantities, "DECIMAL(38, 0)"), "quantity", quoted=True),
        exp.alias_(sql.exact_sum(sql.column("units", "b")), "units"),
    ).from_(base.subquery("b"))
    present = [exp.Not(this=sql.is_missing(key.copy())) for key in keys]
    return select.where(sql.both(present)).group_by(*(key.copy() for key in keys))


def _joined(parts: Mapping[str, exp.Select], keys: int) -> exp.Select:
    """The three side by side, one row for each key that is invoiced."""
    wanted: list[Tree] = [
        exp.alias_(sql.column(f"k{i}", INVOICED), f"k{i}", quoted=True) for i in range(keys)
    ]
    for side in parts:
        for name in ("n", "quantity", "units"):
            value = exp.Coalesce(this=sql.column(name, side), expressions=[sql.integer(0)])
            kind = "BIGINT" if name == "n" else "DECIMAL(38, 0)"
            wanted.append(exp.alias_(sql.cast(value, kind), f"{side}_{name}", quoted=True))
    select = exp.select(*wanted).from_(parts[INVOICED].subquery(INVOICED))
    for side in (ORDERED, RECEIVED):
        on = sql.both(
            exp.EQ(this=sql.column(f"k{i}", INVOICED), expression=sql.column(f"k{i}", side))
            for i in range(keys)
        )
        select = select.join(parts[side].subquery(side), on=on, join_type="left")
    return select


def _times(left: Tree, right: Tree) -> Tree:
    wide = sql.cast(exp.paren(left), "DECIMAL(38, 0)")
    return sql.cast(exp.Mul(this=wide, expression=exp.paren(right)), "DECIMAL(38, 0)")


def _of(name: str) -> exp.Column:
    return sql.column(name, "t")


def _over(tolerance: Tolerance, order_scale: int, scale: int) -> dict[str, Tree]:
    """Conditions of a key that is over, by what it is over."""
    quantity = int(STEPS * (1 + tolerance.quantity))
    price = int(STEPS * (1 + tolerance.price))
    own = _times(_of("i_quantity"), sql.integer(STEPS))

    def beyond(side: str) -> Tree:
        most = _times(_of(f"{side}_quantity"), sql.integer(quantity))
        return exp.GT(this=own.copy(), expression=most)

    # Prices are compared by products: amount · quantity ordered against amount ordered · quantity.
    mine = _times(_of("i_units"), sql.integer(STEPS * 10 ** max(order_scale - scale, 0)))
    theirs = _times(_of("o_units"), sql.integer(price * 10 ** max(scale - order_scale, 0)))
    dearer = exp.GT(
        this=_times(mine, _of("o_quantity")), expression=_times(theirs, _of("i_quantity"))
    )
    known = exp.GT(this=_of("o_quantity"), expression=sql.integer(0))
    some = exp.GT(this=_of("i_quantity"), expression=sql.integer(0))
    return {
        "over_received": beyond(RECEIVED),
        "over_ordered": beyond(ORDERED),
        "over_price": sql.both([known, some, dearer]),
    }


def _from() -> exp.Table:
    return exp.alias_(exp.Table(this=exp.to_identifier("three_way", quoted=True)), "t")  # type: ignore[return-value]


def _flagged(population: Population, keys: int, over: Mapping[str, Tree]) -> list[Cells]:
    names = [f"{side}_{name}" for side in (INVOICED, ORDERED, RECEIVED) for name in ("n", "quantity", "units")]  # fmt: skip
    wanted: list[Tree] = [_of(name) for name in (*(f"k{i}" for i in range(keys)), *names)]
    wanted += [exp.alias_(tree.copy(), name, quoted=True) for name, tree in over.items()]
    some = exp.or_(*(exp.paren(tree.copy()) for tree in over.values()))
    select = exp.select(*wanted).from_(_from()).where(some)
    order = [sql.ordered(_of(f"k{i}")) for i in range(keys)]
    return population.query(select.order_by(*order).limit(MOST_OVER + 1)).to_pylist()


def _counts(population: Population, over: Mapping[str, Tree]) -> dict[str, int]:
    none = {
        "without_order": exp.EQ(this=_of("o_n"), expression=sql.integer(0)),
        "without_receipt": exp.EQ(this=_of("r_n"), expression=sql.integer(0)),
    }
    fields: list[Tree] = [exp.alias_(sql.count(), "keys", quoted=True)]
    fields += [
        exp.alias_(sql.only(sql.count(), tree.copy()), name, quoted=True)
        for name, tree in (*none.items(), *over.items())
    ]
    (row,) = population.query(exp.select(*fields).from_(_from())).to_pylist()
    return {name: int(value) for name, value in row.items()}


@dataclass(frozen=True)
class _Scales:
    quantity: int
    amount: int
    ordered: int


def _flag(row: Cells, labels: Sequence[str], scales: _Scales) -> Cells:
    """A key that is over, with what it is over by, at the price of the order where there is one."""
    unit = Fraction(1, 10**scales.quantity)
    invoiced, ordered, received = (
        int(row[f"{side}_quantity"]) * unit for side in (INVOICED, ORDERED, RECEIVED)
    )
    amount = Fraction(int(row["i_units"]), 10**scales.amount)
    worth = Fraction(int(row["o_units"]), 10**scales.ordered)
    own = amount / invoiced if invoiced else None
    price = worth / ordered if ordered else None
    due = min(ordered, received)
    by_price = (own - price) * invoiced if row["over_price"] and own and price is not None else Fraction(0)  # fmt: skip
    each = price if price is not None else own or Fraction(0)
    beyond = row["over_received"] or row["over_ordered"]
    by_quantity = (invoiced - due) * each if beyond else Fraction(0)
    kinds = [name for name in ("over_ordered", "over_received", "over_price") if row[name]]
    excess = money(round((by_quantity + by_price) * 10**scales.amount), scales.amount)
    return {
        "subject": {label: row[f"k{i}"] for i, label in enumerate(labels)},
        "score": float(excess),
        "limit": None,
        "direction": "over",
        "p": None,
        "p_adjusted": None,
        "amount": excess,
        "rows": int(row["i_n"]),
        "over": kinds,
        "orders": int(row["o_n"]),
        "receipts": int(row["r_n"]),
        "invoiced": _exactly(invoiced, scales.quantity),
        "ordered": _exactly(ordered, scales.quantity),
        "received": _exactly(received, scales.quantity),
        "price": None if own is None else float(own),
        "ordered_price": None if price is None else float(price),
        "by_quantity": money(round(by_quantity * 10**scales.amount), scales.amount),
        "by_price": money(round(by_price * 10**scales.amount), scales.amount),
        "partners": [],
        "similarity": None,
        "differs": [],
        "ids": [],
    }


def _exactly(value: Fraction, scale: int) -> Decimal:
    return money(int(value * 10**scale), scale)


def over_text(flag: Mapping[str, Any], scale: int) -> str:
    """What a key is over by, in words with its figures."""
    parts = []
    if not flag["orders"]:
        parts.append("no order")
    elif "over_ordered" in flag["over"]:
        parts.append(f"{_told(flag['invoiced'])} invoiced, {_told(flag['ordered'])} ordered")
    if not flag["receipts"]:
        parts.append("no receipt")
    elif "over_received" in flag["over"]:
        parts.append(f"{_told(flag['invoiced'])} invoiced, {_told(flag['received'])} received")
    if "over_price" in flag["over"]:
        parts.append(
            f"{num.number(flag['price'], 4)} each, {num.number(flag['ordered_price'], 4)} ordered"
        )
    return "; ".join(parts)


def _told(value: Any) -> str:
    """A quantity without zeros that say nothing."""
    text = num.amount(Decimal(value), 0)
    return text.rstrip("0").rstrip(".") if "." in text else text
