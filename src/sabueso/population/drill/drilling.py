"""Drill-down: totals by group, narrower groups within, and any column across."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

import pyarrow as pa

from sabueso.base.errors import UserError, nearest
from sabueso.base.exact import exactly
from sabueso.base.plain import Cells
from sabueso.population import expressions, sql
from sabueso.population.drill.levels import Grouped, Key, Levels, Order
from sabueso.population.drill.measures import Figure, Measure, plan_of
from sabueso.population.drill.rows import sort_direction
from sabueso.population.population import Account, Population
from sabueso.population.table import Column, Table, bare_name, exactly_scaled, money
from sabueso.population.units import unit_of
from sabueso.report import numbers as num

OWN_ORDER_MOST = 60
"""Groups with an order of their own, such as months, that a level shows whatever its limit."""


@dataclass
class Node:
    """A group: its key, rows, values of the measures, values across, and the groups within it.

    ``value`` is that of the first measure, and so are those across. ``others`` are the groups within
    that are not shown, and ``unmet`` those that the condition on groups leaves out, each in one.
    """

    key: list[Any]
    rows: int
    values: list[Any]
    across: dict[str, Any] = field(default_factory=dict)
    children: list[Node] = field(default_factory=list)
    others: Others | None = None
    unmet: Others | None = None

    @property
    def value(self) -> Any:
        return self.values[0] if self.values else None


@dataclass
class Others:
    """Groups that are not shown, together: how many, and their figures."""

    groups: int
    node: Node


@dataclass(frozen=True)
class Drill:
    """A drill-down. ``total`` holds the groups; its values are those of all rows used."""

    table: str
    on: str | None
    measure: str
    figures: tuple[Figure, ...]
    by: list[str]
    across: str | None
    across_values: list[str]
    population: Account
    total: Node
    currency: str
    scale: int
    having: str | None = None
    cautions: tuple[tuple[str, str], ...] = ()
    own_order: tuple[bool, ...] = ()
    """Which groups stand in an order of their own, such as that of months."""


@dataclass(frozen=True)
class Asked:
    """What a drill-down is asked for.

    ``by`` are group columns, the widest first: each further one opens the groups of those before.
    ``across`` is a column, or year, quarter, month, weekday or hour, whose values become columns.
    ``measures`` are figures such as ``sum(amount)``, ``count(distinct party)``, ``share``; without them
    ``measure`` of ``on`` is taken, by default of the column in the role amount. ``having`` is a
    condition on the narrowest groups. ``sort`` is a measure, ``rows`` or a group, with or without
    ``asc`` or ``desc``. ``limit`` is how many groups of a level are told one by one, and ``within`` how
    many of each level below the first where that is another number; None for all.
    """

    by: Sequence[str] = ()
    across: str | None = None
    measures: Sequence[str] = ()
    measure: Measure = "sum"
    on: str | None = None
    having: str | None = None
    sort: str | None = None
    limit: int | None = None
    within: int | None = None


@exactly
def drill(population: Population, asked: Asked) -> Drill:
    """Totals by group, to any depth.

    Raises
    ------
    UserError
        If a column is unknown or no number, or a measure, a condition or an order is none.
    """
    table = population.table
    texts, column = _measures(asked, table)
    if asked.having is not None and not asked.by:
        raise UserError("--having is a condition on groups: say which with --by")
    plan = plan_of(texts, table, having=asked.having)
    if not asked.measures:
        scale = plan.figures[0].scale if column is None else column.scale
        own = replace(plan.figures[0], label=asked.measure, scale=scale)
        plan = replace(plan, figures=(own,))
    named = column or _first_column(plan.figures, table)
    keys = [_grouped(text, table, "--by") for text in asked.by]
    wide = _grouped(asked.across, table, "--across") if asked.across else None
    levels = Levels(population, keys, wide, plan)
    orders = _orders(asked, table, plan.figures)
    with levels.ready():
        total = _filled(levels, orders, asked)
        cells = {} if wide is None else levels.whole_across()
        total.across = {num.shown(w): _value(c, plan.figures, 0) for w, c in cells.items()}
        names = [] if asked.across is None else _across_names(asked.across, table, cells)
    first = plan.figures[0]
    drilled = Drill(
        table=table.name,
        on=named.name if named else None,
        measure=first.label,
        figures=plan.figures,
        by=[expressions.label(text, table) for text in asked.by],
        across=asked.across,
        across_values=names,
        population=_account(population, named, plan.figures, total),
        total=total,
        currency=unit_of(table, named),
        scale=first.scale,
        having=asked.having,
        cautions=plan.cautions,
        own_order=tuple(order.values is not None for order in orders),
    )
    _in_order(total, names)
    return drilled


def _grouped(text: str, table: Table, what: str) -> Grouped:
    """What a text groups by."""
    tree = expressions.scalar(text, table, what)
    period, date = expressions.period_named(text, table), table.role("date")
    if period is None or date is None:
        return Grouped(tree)
    code = sql.period_code(sql.column(date.name), period, table.fiscal_year_starts)
    return Grouped(tree, period, code)


def _account(
    population: Population, named: Column | None, figures: Sequence[Figure], total: Node
) -> Account:
    """The rows used and left out; where none can be left out they are those of the total, and need not be
    counted again."""
    summed = [i for i, f in enumerate(figures) if f.sum_of and named and f.column == named.name]
    if population.conditions() or (named is not None and not summed):
        return population.account(named)
    if named is None:
        return Account(total.rows, total.rows, {})
    whole = total.values[summed[0]]
    amount = money(0, named.scale) if whole is None else whole
    return Account(total.rows, total.rows, {}, amount, amount)


def _measures(asked: Asked, table: Table) -> tuple[list[str], Column | None]:
    """Measures as texts; and the column of a single one that is given by name."""
    if asked.measures:
        if asked.on is not None:
            raise UserError("--on goes with --measure; in --measures each names its own column")
        return list(asked.measures), None
    if asked.measure == "count" and asked.on is None:
        return ["count(*)"], None
    column = table.measure(asked.on)
    call = "avg" if asked.measure == "mean" else asked.measure
    # Of a count, rows are counted whether they have the measure or not.
    inside = "*" if call == "count" else expressions.quoted_name(column.name)
    return [f"{call}({inside})"], column


def _first_column(figures: Sequence[Figure], table: Table) -> Column | None:
    """The number column that the account of rows is summed over: of the first measure that has one."""
    name = next((figure.column for figure in figures if figure.column is not None), None)
    return None if name is None else table.column(name)


def _orders(asked: Asked, table: Table, figures: Sequence[Figure]) -> list[Order]:
    """How each level is sorted."""
    own = [expressions.own_order(text, table) for text in asked.by]
    first = next((i for i, figure in enumerate(figures) if not figure.share), None)
    size = first is not None and figures[first].signed
    plain = [
        Order(None, first, size=size) if values is None else Order(values, first, descending=False)
        for values in own
    ]
    if asked.sort is None:
        return plain
    text, descending = sort_direction(asked.sort)
    labels = [figure.label for figure in figures]
    folded = [_squeezed(label) for label in labels]
    if _squeezed(text) in folded:
        place = folded.index(_squeezed(text))
        figure = first if figures[place].share else place
        down = descending is not False
        return [Order(None, figure, down, size=False) for _ in own]
    try:
        named = table.column(bare_name(text)).name
    except UserError:
        named = ""
    of_column = [i for i, figure in enumerate(figures) if figure.column and figure.column == named]
    if of_column:
        return [Order(None, of_column[0], descending is not False, size=False) for _ in own]
    if text.lower() == "rows":
        return [Order(None, None, descending is not False, size=False) for _ in own]
    groups = [bare_name(each).lower() for each in asked.by]
    if bare_name(text).lower() in groups:
        place = groups.index(bare_name(text).lower())
        plain[place] = Order(own[place] or [], first, bool(descending))
        return plain
    raise UserError(
        f"--sort {asked.sort!r}: expected a measure, rows or a group"
        f"{nearest(text, [*labels, 'rows', *asked.by])}"
    )


def _squeezed(text: str) -> str:
    return "".join(text.lower().split())


def _filled(levels: Levels, orders: Sequence[Order], asked: Asked) -> Node:
    """The tree of groups that are shown, with what the others of each make."""
    figures = levels.plan.figures
    row = levels.whole()
    first = next(
        (i for i, figure in enumerate(figures) if figure.additive and not figure.share), None
    )
    whole = None if first is None else row[f"v{first}"]

    def node(key: Key, row: Cells) -> Node:
        return Node(list(key), int(row["n"] or 0), _values(row, figures, first, whole))

    total = node((), row)
    known: dict[Key, Node] = {(): total}
    parents = None
    for depth in range(1, len(orders) + 1):
        limit, order = asked.limit, orders[depth - 1]
        if depth > 1 and asked.within is not None:
            limit = asked.within
        if limit is not None and order.values is not None:
            limit = max(limit, OWN_ORDER_MOST)
        level = levels.level(depth, order, limit, parents)
        for key, cells in level.groups:
            known[key] = node(key, cells)
            known[key[:-1]].children.append(known[key])
        shown = levels.marked(level.groups, depth)
        if level.hidden:
            _with_rest(levels, depth, (shown, parents), known, node)
        if levels.wide is not None and level.groups:
            for key, cell, cells in levels.across(depth, shown):
                known[key].across[num.shown(cell)] = _value(cells, figures, 0)
        parents = shown
        if not level.groups:
            break
    return total


def _with_rest(
    levels: Levels,
    depth: int,
    shown: tuple[pa.Table, pa.Table | None],
    known: dict[Key, Node],
    node: Callable[[Key, Cells], Node],
) -> None:
    """Put the groups that are not shown under their parents, as one."""
    figures = levels.plan.figures
    for (parent, kind), cells in levels.rest(depth, *shown):
        together = Others(int(cells["groups"]), node(parent, cells))
        if kind == "rest":
            known[parent].others = together
        else:
            known[parent].unmet = together
    if levels.wide is None:
        return
    for (parent, kind), cells in levels.rest(depth, *shown, wide=True):
        others = known[parent].others if kind == "rest" else known[parent].unmet
        if others is not None:
            others.node.across[num.shown(cells["wide"])] = _value(cells, figures, 0)


def _values(row: Cells, figures: Sequence[Figure], first: int | None, whole: Any) -> list[Any]:
    values = []
    for place, figure in enumerate(figures):
        if figure.share:
            part = None if first is None else row[f"v{first}"]
            values.append(float(part) / float(whole) if whole and part is not None else None)
        else:
            values.append(_value(row, figures, place))
    return values


def _value(row: Cells, figures: Sequence[Figure], place: int) -> Any:
    value = row.get(f"v{place}")
    if isinstance(value, Decimal):
        places = -int(value.as_tuple().exponent)
        if places == 0 and figures[place].scale == 0:
            return int(value)
        return exactly_scaled(value, max(places, figures[place].scale))
    return value


def _across_names(across: str, table: Table, cells: Mapping[Any, Cells]) -> list[str]:
    """The values across in their own order, or in that of their letters."""
    order = expressions.own_order(across, table) or []
    places = {value: place for place, value in enumerate(order)}
    numeric = all(isinstance(v, (int, float, Decimal)) for v in cells if v is not None)

    def key(value: Any) -> tuple[Any, ...]:
        if value is None:
            return (1, 0, "")
        if numeric:
            return (0, value, "")
        return (0, places.get(str(value), len(places)), str(value))

    return [num.shown(value) for value in sorted(cells, key=key)]


def _in_order(node: Node, names: Sequence[str]) -> None:
    """Values across in the order of their columns, in every group."""
    for each in (node, *(o.node for o in (node.others, node.unmet) if o is not None)):
        each.across = {name: each.across[name] for name in names if name in each.across}
    for child in node.children:
        _in_order(child, names)
