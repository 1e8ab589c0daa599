"""What drives a figure: which values of other columns carry the rows, or the change, behind it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.plain import Cells
from sabueso.population import expressions, sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table, money
from sabueso.stats.adjust import adjust
from sabueso.stats.change import rate_and_volume as split_change
from sabueso.stats.hypergeometric import upper_tails

MOST_VALUES = 50_000
"""Distinct values up to which a column is looked at: each is judged by itself."""


@dataclass(frozen=True)
class Value:
    """One value of a column: its rows among the subject's and among all, and its amounts.

    ``expected`` is how many of the subject's rows it would have by its share of all; ``p`` the
    hypergeometric upper tail. Of a change, ``base`` is the amount before and ``part`` the share of
    the change.
    """

    value: Any
    rows: int
    of_all: int
    expected: float
    amount: Decimal | None
    p: float | None = None
    p_adjusted: float | None = None
    base: Decimal | None = None
    change: Decimal | None = None
    part: float | None = None


@dataclass(frozen=True)
class Driver:
    """A column and its values, those that carry most first."""

    column: str
    values: list[Value]

    @property
    def strength(self) -> float:
        """What columns are ranked by: the smallest p, or the largest part of a change."""
        if not self.values:
            return 0.0
        first = self.values[0]
        return -first.p_adjusted if first.p_adjusted is not None else abs(first.part or 0.0)


@dataclass(frozen=True)
class Candidate:
    """A column, or months, whose values are looked at."""

    name: str
    tree: Tree
    is_text: bool = True


MONTH = "month"


def candidates(
    table: Table,
    named: Sequence[str],
    subject: Sequence[str],
    measure: Column | None,
    *,
    months_of_year: bool = False,
) -> tuple[list[Candidate], list[tuple[str, str]]]:
    """Columns to look at, the months where rows have dates among them, and those that are not looked
    at with the reason.

    Parameters
    ----------
    named : sequence of str
        Columns asked for; all texts where none is.
    subject : sequence of str
        The columns of the subject's key.
    months_of_year : bool
        Whether a month is the same in every year, as where two years are compared.

    Raises
    ------
    UserError
        If a column named is not in the table.
    """
    if named:
        trees = ((n, expressions.scalar(n, table, "--columns")) for n in named)
        return [Candidate(expressions.label(n, table), tree, False) for n, tree in trees], []
    identity = table.role("id")
    found, rest = [], []
    for column in table.columns:
        if column.name in (FILE_COLUMN, LINE_COLUMN):
            continue
        if measure is not None and column.name == measure.name:
            rest.append((column.name, "the measure itself"))
        elif column.name in subject:
            rest.append((column.name, "the subject itself"))
        elif identity is not None and column.name == identity.name:
            rest.append((column.name, "names each row"))
        elif column.type != "text":
            rest.append((column.name, "no text; --columns looks at it"))
        else:
            found.append(Candidate(column.name, sql.column(column.name)))
    date = table.dated()
    if date is not None and _is_month(subject, date):
        rest.append((MONTH, "the subject itself"))
    elif date is not None and all(c.name != MONTH for c in table.columns):
        month = sql.period(sql.column(date.name), MONTH)
        if months_of_year:
            month = sql.call("RIGHT", month, sql.integer(2))
        found.append(Candidate(MONTH, month))
    return found, rest


def _is_month(subject: Sequence[str], date: Column) -> bool:
    """Whether a subject is told by the month of its rows' day."""
    return not {MONTH, f"{MONTH}_of({expressions.quoted_name(date.name)})"}.isdisjoint(subject)


def of_rows(
    population: Population, selector: str, columns: Sequence[Candidate], measure: Column | None
) -> list[Driver | str]:
    """The values of each column among the rows of a subject, against their share of all rows.

    A sentence stands where a column tells nothing: constant, or another value on every row.
    """
    found: list[Driver | str] = []
    for part in _together(columns):
        rows = _by_place(population, _valued(population, selector, part, measure))
        found += [_driver(c, rows.get(place, []), measure) for place, c in enumerate(part)]
    return found


def _valued(
    population: Population, selector: str, columns: Sequence[Candidate], measure: Column | None
) -> exp.Select:
    """The values of each of some columns that the subject's rows have, with how many values there are in
    all."""
    condition = expressions.condition(selector, population.table, "subject")
    inside = exp.paren(exp.Coalesce(this=condition, expressions=[exp.false()]))
    values: dict[str, Tree] = {"inside": inside}
    within = sql.column("inside", "b")
    fields: dict[str, Tree] = {"of_all": sql.count(), "n": sql.only(sql.count(), within)}
    if measure is not None:
        values["units"] = sql.minor_units(measure)
        taken = exp.Case().when(within.copy(), sql.column("units", "b"))
        fields["total"] = sql.exact_sum(taken)
    grouped = _by_each(population, columns, values, fields)
    names = ["value", "of", *fields]
    every = exp.Window(this=exp.Sum(this=sql.column("of_all", "g")), partition_by=_of())
    counted = exp.select(
        *(sql.column(name, "g") for name in names),
        exp.alias_(exp.Window(this=sql.count(), partition_by=_of()), "groups", quoted=True),
        exp.alias_(sql.cast(every, "BIGINT"), "every", quoted=True),
    ).from_(grouped.subquery("g", copy=False), copy=False)
    some = exp.GT(this=sql.column("n", "v"), expression=sql.integer(0))
    return (
        exp.select("v.*")
        .from_(counted.subquery("v", copy=False), copy=False)
        .where(some, copy=False)
    )


def _by_place(population: Population, select: exp.Select) -> dict[int, list[Cells]]:
    """What is found of each column, by the column's place."""
    rows: dict[int, list[Cells]] = {}
    for row in population.query(select).to_pylist():
        rows.setdefault(row["of"], []).append(row)
    return rows


def _of() -> list[Tree]:
    return [sql.column("of", "g")]


def _by_each(
    population: Population,
    columns: Sequence[Candidate],
    values: Mapping[str, Tree],
    fields: Mapping[str, Tree],
    chosen: Tree | None = None,
) -> exp.Select:
    """Figures by the values of each of some columns of one type, the rows gone through once: ``of`` is the
    place of the column, ``value`` its value."""
    keys = [f"c{place}" for place in range(len(columns))]
    trees = {key: column.tree.copy() for key, column in zip(keys, columns, strict=True)}
    base = population.base({**trees, **values}).subquery("b", copy=False)
    of = exp.Case()
    for place, key in enumerate(keys):
        own = exp.EQ(this=sql.call("GROUPING", sql.column(key, "b")), expression=sql.integer(0))
        of = of.when(own, sql.integer(place), copy=False)
    first, *others = (sql.column(key, "b") for key in keys)
    value = exp.Coalesce(this=first, expressions=others)
    # Each is this function's own: it is added to in place, and not copied at every step.
    grouped = exp.select(
        exp.alias_(value, "value", quoted=True),
        exp.alias_(of, "of", quoted=True),
        *(exp.alias_(field, name, quoted=True) for name, field in fields.items()),
    ).from_(base, copy=False)
    if chosen is not None:
        grouped = grouped.where(chosen, copy=False)
    sets = [exp.Tuple(expressions=[sql.column(key, "b")]) for key in keys]
    grouped.set("group", exp.Group(grouping_sets=[exp.GroupingSets(expressions=sets)]))
    return grouped


def _driver(column: Candidate, some: Sequence[Cells], measure: Column | None) -> Driver | str:
    if not some:
        return Driver(column.name, [])
    groups, every = some[0]["groups"], some[0]["every"]
    told = _tells_nothing(groups, every)
    if told:
        return told
    n = sum(row["n"] for row in some)
    tails = upper_tails([row["n"] for row in some], every, [row["of_all"] for row in some], n)
    adjusted = adjust(tails, "holm", groups)
    listed = [
        Value(
            value=row["value"],
            rows=row["n"],
            of_all=row["of_all"],
            expected=row["of_all"] * n / every,
            amount=None if measure is None else money(int(row["total"] or 0), measure.scale),
            p=p,
            p_adjusted=float(q),
        )
        for row, p, q in zip(some, tails.tolist(), adjusted, strict=True)
    ]
    return Driver(column.name, sorted(listed, key=lambda v: (v.p or 0.0, -v.rows, str(v.value))))


def of_change(
    population: Population,
    before: Tree,
    after: Tree,
    columns: Sequence[Candidate],
    measure: Column,
) -> list[Driver | str]:
    """The values of each column by how much of the change between two sets of rows each carries.

    A sentence stands where a column tells nothing.
    """

    def total(side: str) -> Tree:
        return sql.exact_sum(exp.Case().when(sql.column(side, "b"), sql.column("units", "b")))

    fields: dict[str, Tree] = {
        "of_all": sql.count(),
        "n": sql.only(sql.count(), sql.column("after", "b")),
        "old": total("before"),
        "new": total("after"),
    }
    found: list[Driver | str] = []
    for part in _together(columns):
        values = {"units": sql.minor_units(measure), "before": before.copy(), "after": after.copy()}
        either = exp.or_(sql.column("before", "b"), sql.column("after", "b"))
        grouped = _by_each(population, part, values, fields, either)
        groups = exp.Window(this=sql.count(), partition_by=_of())
        counted = exp.select("g.*", exp.alias_(groups, "groups", quoted=True))
        counted = counted.from_(grouped.subquery("g", copy=False), copy=False)
        few = exp.LTE(this=sql.column("groups", "v"), expression=sql.integer(MOST_VALUES))
        select = exp.select("v.*").from_(counted.subquery("v", copy=False), copy=False)
        rows = _by_place(population, select.where(few, copy=False))
        found += [_carrying(c, rows.get(place), measure) for place, c in enumerate(part)]
    return found


def _together(columns: Sequence[Candidate]) -> list[Sequence[Candidate]]:
    """Texts are asked for in one question, which goes through the rows once."""
    if all(c.is_text for c in columns):
        return [columns] if columns else []
    return [[each] for each in columns]


def _carrying(column: Candidate, rows: list[Cells] | None, measure: Column) -> Driver | str:
    """A column's part of a change; a sentence where it tells nothing."""
    if rows is None:
        return _tells_nothing(MOST_VALUES + 1, 0)
    told = _tells_nothing(len(rows), sum(row["of_all"] for row in rows))
    if told:
        return told
    whole = sum(int(row["new"] or 0) - int(row["old"] or 0) for row in rows)
    listed = []
    for row in rows:
        old, new = int(row["old"] or 0), int(row["new"] or 0)
        listed.append(
            Value(
                value=row["value"],
                rows=row["n"],
                of_all=row["of_all"],
                expected=0.0,
                amount=money(new, measure.scale),
                base=money(old, measure.scale),
                change=money(new - old, measure.scale),
                part=(new - old) / whole if whole else None,
            )
        )
    return Driver(
        column.name, sorted(listed, key=lambda v: (-abs(v.change or Decimal(0)), str(v.value)))
    )


def rate_and_volume(
    population: Population, before: Tree, after: Tree, quantity: Column, measure: Column
) -> tuple[Decimal, Decimal] | None:
    """The change of a line split by its quantity: (volume, rate), which add up to it; None where a
    quantity is zero or missing.

    volume = (q1 - q0)·p0 and rate = (p1 - p0)·q1, to the unit of the amounts.
    """
    base = population.base(
        {"units": sql.minor_units(measure), "quantity": sql.minor_units(quantity),
         "before": before, "after": after}
    )  # fmt: skip
    fields: list[Tree] = []
    for side in ("before", "after"):
        for name in ("units", "quantity"):
            kept = exp.Case().when(sql.column(side, "b"), sql.column(name, "b"))
            fields.append(exp.alias_(sql.exact_sum(kept), f"{side}_{name}"))
    row = population.query(exp.select(*fields).from_(base.subquery("b"))).to_pylist()[0]
    amounts = [int(row[f"{side}_units"] or 0) for side in ("before", "after")]
    unit = 10**quantity.scale
    quantities = [Fraction(int(row[f"{side}_quantity"] or 0), unit) for side in ("before", "after")]
    (parts,), _ = split_change([amounts[0]], [amounts[1]], [quantities[0]], [quantities[1]])
    if parts is None or not quantities[1]:
        return None
    volume = round(parts.volume)
    rest = amounts[1] - amounts[0] - volume
    return money(volume, measure.scale), money(rest, measure.scale)


def _tells_nothing(values: int, rows: int) -> str:
    if values > MOST_VALUES:
        return f"more than {MOST_VALUES:,} values"
    if values <= 1:
        return "one value on every row"
    return "another value on every row" if values == rows and rows > 1 else ""
