"""Limits of groups as a table that rows are joined with: what is beyond them, how many, how far."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table
from sabueso.report import numbers as num
from sabueso.report.numbers import MINUS
from sabueso.screens.finding import Caution, NotTested, with_structs
from sabueso.screens.grouping import UNITS, Grouping, Keyed, key_table
from sabueso.screens.limits.scales import LOG_DECIMALS, WORTH, Scale
from sabueso.screens.subject import row_key

INT64 = np.iinfo(np.int64)
CONTEXT_ROLES = ("date", "party", "account", "preparer", "text")
OWN_ENDS = ("own_least", "own_greatest")


def clamped(values: Sequence[int]) -> pa.Array:
    """Integer limits as BIGINT; those outside its range flag nothing there."""
    return pa.array([min(max(v, int(INT64.min)), int(INT64.max)) for v in values], pa.int64())


def limit_table(
    groups: Grouping,
    items: Sequence[Keyed],
    bounds: Sequence[tuple[int, int]],
    places: Sequence[tuple[float, float, float]],
    ends: Sequence[tuple[int, int]] = (),
) -> pa.Table:
    """The input table ``limits``: group keys, least, greatest, and the group's position.

    ``places`` are (lower, upper, unit) of each group: the strength of a row beyond the limits is
    how many units it lies above ``upper`` or below ``lower``. ``ends`` are the least and the greatest
    amount of each, in minor units, where they are known.
    """
    known = dict(zip(OWN_ENDS, map(list, zip(*ends, strict=True)), strict=True)) if ends else {}
    return key_table(
        groups,
        items,
        {
            **{name: pa.array(values, pa.int64()) for name, values in known.items()},
            "least": clamped([low for low, _ in bounds]),
            "greatest": clamped([high for _, high in bounds]),
            "lower": pa.array([p[0] for p in places], pa.float64()),
            "upper": pa.array([p[1] for p in places], pa.float64()),
            "unit": pa.array([p[2] for p in places], pa.float64()),
            "position": pa.array(range(len(items)), pa.int64()),
        },
    )


def flag_table(found: pa.Table, columns: dict[str, np.ndarray | pa.Array]) -> pa.Table:
    """The rows of :func:`rows_beyond` as flags, with the test's own columns."""
    own = ("position", "strength", "high", WORTH)
    kept = found.drop_columns([name for name in own if name in found.column_names])
    for name, values in columns.items():
        kept = kept.append_column(
            name, values if isinstance(values, pa.Array) else pa.array(values)
        )
    return kept


def directions(high: np.ndarray) -> pa.Array:
    """Above or below the limits, a byte a row."""
    return pa.DictionaryArray.from_arrays(high.astype(np.int8), ["low", "high"])


def size_cautions(sizes: Sequence[int], not_tested: Sequence[NotTested]) -> list[Caution]:
    """``too_few`` for groups below 11 rows, ``zero_spread`` for those without any."""
    cautions = []
    few = [n for n in sizes if n < 11]
    if few:
        which = (
            f"{len(few):,} of {len(sizes):,} groups {num.verb(len(few))} fewer than 11 rows"
            if len(sizes) > 1
            else f"only {num.many(few[0], 'row')} {num.verb(few[0], 'is', 'are')} used; a limit on fewer than 11 means little"
        )
        figures = {"groups": len(few), "smallest_n": min(few)}
        cautions.append(Caution("too_few", which, figures))
    flat = [t for t in not_tested if t.reason.startswith("zero_spread")]
    if flat:
        rows = sum(t.rows for t in flat)
        have, are = num.verb(len(flat)), num.verb(len(flat), "is", "are")
        which = (
            f"{num.many(len(flat), 'group')} ({num.many(rows, 'row')}) {have} no spread and {are} not tested"
            if len(sizes) > 1
            else f"the {num.many(rows, 'amount')} {num.verb(rows)} no spread and {num.verb(rows, 'is', 'are')} not tested"
        )
        cautions.append(Caution("zero_spread", which, {"groups": len(flat), "rows": rows}))
    return cautions


def one_sided(
    bounds: Sequence[tuple[float | None, float | None]], ends: Sequence[tuple[int, int]], side: str
) -> Caution | None:
    """A limit that lies beyond anything the measure can be.

    Parameters
    ----------
    bounds : sequence of (low, high)
        Limits of the groups, as amounts.
    ends : sequence of (least, greatest)
        Their least and greatest amounts, in any unit.
    side : str
        The side that is looked at: a limit of the other one is none.
    """
    low = [
        a
        for (a, _), (least, _) in zip(bounds, ends, strict=True)
        if a is not None and a < 0 <= least
    ]
    high = [
        b
        for (_, b), (_, greatest) in zip(bounds, ends, strict=True)
        if b is not None and b > 0 >= greatest
    ]
    for name, found, sign, other in (
        ("low", low, "below", "large"),
        ("high", high, "above", "small"),
    ):
        if not found or side not in ("both", name):
            continue
        where = "" if len(bounds) == 1 else f"in {len(found):,} of {len(bounds):,} groups "
        first = f"{found[0]:,.2f}".replace("-", MINUS)
        return Caution(
            "one_sided",
            f"{where}the {name} limit, {'as ' if where else ''}{first}, lies where no amount can be: none is "
            f"{sign} 0, and {other} ones alone can be flagged",
            {"groups": len(found), "limit": found[0]},
        )
    return None


def two_heaps(ends: Sequence[tuple[int, int]], scale: str) -> Caution | None:
    """On the log scale amounts of both signs lie in two heaps, and the smaller is flagged."""
    both = sum(least < 0 < greatest for least, greatest in ends)
    if scale != "log" or not both:
        return None
    where = "" if len(ends) == 1 else f"in {both:,} of {len(ends):,} groups "
    return Caution(
        "mixed_signs",
        f"{where}there are amounts of both signs, which on the log scale lie in two heaps apart: look at "
        "each sign alone",
        {"groups": both},
    )


def beyond(side: str = "both") -> Tree:
    """Condition of a row beyond its group's limits."""
    units = sql.column(UNITS, "b")
    low = exp.LT(this=units, expression=sql.column("least", "limits"))
    high = exp.GT(this=units.copy(), expression=sql.column("greatest", "limits"))
    if side == "both":
        return exp.paren(exp.or_(low, high))
    return low if side == "low" else high


def context_columns(table: Table) -> list[Column]:
    """Columns that help a reader to recognise a row, in the order of their roles; without an id its document first."""
    own = () if "id" in table.roles else ("document",)
    found = (table.role(role) for role in (*own, *CONTEXT_ROLES))
    return [column for column in found if column is not None]


@dataclass(frozen=True)
class RowColumns:
    """What names a flagged row, what helps to recognise it, and its amount.

    In a query they have names of this program's, whatever the client's columns are called; in the
    flags they are the fields of structs.
    """

    identity: Column | None
    context: tuple[Column, ...]
    measure: Column | None

    @classmethod
    def of(cls, table: Table, measure: Column | None) -> RowColumns:
        identity = table.role("id")
        shown = (c for c in context_columns(table) if identity is None or c.name != identity.name)
        return cls(identity, tuple(shown), measure)

    def trees(self) -> dict[str, Tree]:
        """Named values for the base of a query."""
        columns = {"row_file": FILE_COLUMN, "row_line": LINE_COLUMN}
        if self.identity is not None:
            columns["row_id"] = self.identity.name
        columns |= {f"c{i}": column.name for i, column in enumerate(self.context)}
        if self.measure is not None:
            columns["amount"] = self.measure.name
        return {name: sql.column(column) for name, column in columns.items()}

    def gathered(self, found: pa.Table, groups: Mapping[str, str] | None = None) -> pa.Table:
        """A result with these values as flags have them; ``groups`` are labels and their columns."""
        own = [] if self.identity is None else [self.identity.name]
        key = row_key(own[0] if own else None, "row_file", "row_line", "row_id")
        return with_structs(
            found,
            {
                "subject": key,
                "context": {column.name: f"c{i}" for i, column in enumerate(self.context)},
                "group": groups or {},
            },
        )


MANY_ROWS = 100_000
"""Flagged rows whose memory is worth the loading of what saves it."""


def rows_beyond(
    population: Population,
    values: dict[str, Tree],
    reasons: Sequence[Reason],
    grouping: Grouping,
    limits: pa.Table,
    side: str,
    measure: Column,
    carry: Sequence[str] = (),
    scale: Scale | None = None,
) -> pa.Table:
    """Rows beyond their group's limits, strongest first, then as they stand in the sources.

    ``limits`` is a :func:`limit_table`; ``carry`` are named values that come along. The result has
    ``position`` (of the group), ``strength``, ``high`` (above, not below), ``amount`` and the
    structs of flags.
    """
    columns = RowColumns.of(population.table, measure)
    named = columns.trees()
    values = {**values, **named}
    if scale is not None and scale.is_log:
        limits = with_amounts(limits, _units_of(limits, scale))
        rows = _near(population, values, reasons, grouping, side, _reach(measure, limits, side))
    else:
        rows = population.base({**values, UNITS: sql.minor_units(measure)}, reasons)
        rows = rows.where(_reach(measure, limits, side))
    units = sql.column(UNITS, "b")
    high = exp.GT(this=units, expression=sql.column("greatest", "limits"))
    value = sql.cast(units.copy(), "DOUBLE")
    above = exp.Sub(this=value, expression=sql.column("upper", "limits"))
    below = exp.Sub(this=sql.column("lower", "limits"), expression=value.copy())
    off = exp.Case().when(high, above).else_(below)
    strength = exp.Div(this=off, expression=sql.column("unit", "limits"))
    wanted: list[Tree] = [
        sql.column("position", "limits"),
        exp.alias_(strength, "strength"),
        exp.alias_(high.copy(), "high"),
    ]
    wanted += [sql.column(name, "b") for name in (*carry, *named)]
    wanted += grouping.columns("b")
    select = exp.select(*wanted).from_(rows.subquery("b"))
    select = select.join("limits", on=grouping.join("b", "limits"), join_type="inner")
    select = select.where(beyond(side)).order_by(
        sql.ordered(sql.column("strength"), descending=True),
        sql.ordered(sql.column("row_file")),
        sql.ordered(sql.column("row_line")),
    )
    found = population.query(select, limits=limits)
    if found.num_rows >= MANY_ROWS:
        # A file's name stands in each of its rows.
        place = found.column_names.index("row_file")
        found = found.set_column(place, "row_file", found.column(place).dictionary_encode())
    return columns.gathered(found, dict(zip(grouping.labels, grouping.names, strict=True)))


def _reach(measure: Column, limits: pa.Table, side: str) -> Tree:
    """Condition of the rows that are beyond the limits of any group that has such rows: held to two
    numbers, an engine need not fetch what else the others hold."""
    if not set(OWN_ENDS) <= set(limits.column_names):
        return exp.true()
    unit = 10**measure.scale
    conditions: list[Tree] = []
    for name, own, of, amount, sign in (
        ("low", "own_least", "least", "low_amount", 1),
        ("high", "own_greatest", "greatest", "high_amount", -1),
    ):
        bounds = limits.column(of).to_numpy()
        if amount in limits.column_names:
            # Floats: a minor unit nearer is surely nearer.
            near = limits.column(amount).to_numpy() * unit + sign
            limit = 2.0**62
            bounds = np.clip(near, -limit, limit).astype(np.int64)
        passed = bounds[sign * limits.column(own).to_numpy() < sign * bounds]
        if side in ("both", name) and len(passed):
            bar = Decimal(int(sign * np.max(sign * passed))).scaleb(-measure.scale)
            kind = exp.LT if sign > 0 else exp.GT
            conditions.append(kind(this=sql.column(measure.name), expression=sql.number(bar)))
    return exp.paren(exp.or_(*conditions)) if conditions else exp.false()


def _units_of(limits: pa.Table, scale: Scale) -> np.ndarray:
    """The unit on the log scale of each group of a limit table."""
    keys = scale.groups.keys(limits)
    return np.array([scale.unit(key) or 1.0 for key in keys], dtype=np.float64)


def with_amounts(limits: pa.Table, units: np.ndarray) -> pa.Table:
    """Limits on the log scale with the groups' ``log_unit``, and the amounts ``low_amount`` and
    ``high_amount`` that rows beyond them are surely beyond: a millionth nearer than the limits."""
    for name, of, sign in (("low_amount", "least", 1), ("high_amount", "greatest", -1)):
        place = limits.column(of).to_numpy() / 10**LOG_DECIMALS
        with np.errstate(over="ignore"):
            amount = np.sign(place) * (10 ** np.abs(place) - 1) * units
        # No amount is beyond what a float holds: such a limit flags nothing, and stays infinite.
        margin = np.where(np.isfinite(amount), (np.abs(amount) + units) * 1e-6, 0)
        limits = limits.append_column(name, pa.array(amount + sign * margin))
    return limits.append_column("log_unit", pa.array(units))


def _near(
    population: Population,
    values: dict[str, Tree],
    reasons: Sequence[Reason],
    grouping: Grouping,
    side: str,
    reach: Tree,
) -> exp.Select:
    """A base of the rows that may be beyond their limits. Amounts are compared first: a comparison
    costs a tenth of a logarithm, and few rows are left to take one of."""
    plain = {name: tree for name, tree in values.items() if name != UNITS}
    amount = sql.cast(sql.column("amount", "b"), "DOUBLE")
    low = exp.LT(this=amount, expression=sql.column("low_amount", "limits"))
    high = exp.GT(this=amount.copy(), expression=sql.column("high_amount", "limits"))
    select = exp.select(*(sql.column(name, "b") for name in plain))
    unit = sql.column("log_unit", "limits")
    units = sql.log_units(sql.column("amount", "b"), LOG_DECIMALS, unit)
    select = select.select(exp.alias_(units, UNITS))
    select = select.from_(population.base(plain, reasons).where(reach).subquery("b"))
    select = select.join("limits", on=grouping.join("b", "limits"), join_type="inner")
    return select.where({"low": low, "high": high}.get(side, exp.paren(exp.or_(low, high))))
