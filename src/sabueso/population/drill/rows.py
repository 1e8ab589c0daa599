"""The rows of a population themselves."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.exact import exactly
from sabueso.base.plain import Cells
from sabueso.population import expressions, sql
from sabueso.population.population import Account, Population
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column
from sabueso.population.units import unit_of


@dataclass(frozen=True)
class Rows:
    """Rows of a population in an order. ``population`` counts all that are selected.

    ``chosen`` tells whether the columns were asked for by name; ``order`` says the order in words.
    """

    table: str
    columns: list[Column]
    rows: list[Cells]
    population: Account
    on: str | None
    currency: str
    order: str = ""
    chosen: bool = False
    roles: Mapping[str, str] = field(default_factory=dict)


@exactly
def rows(
    population: Population,
    *,
    limit: int = 20,
    on: str | None = None,
    columns: Sequence[str] = (),
    sort: str | None = None,
) -> Rows:
    """The rows themselves, with the file and line each came from; the largest first, unless ``sort`` names
    a column or an expression, with or without ``asc`` or ``desc``.

    Raises
    ------
    UserError
        If a column is unknown or the limit is not positive.
    """
    if limit < 1:
        raise UserError(f"--limit {limit}: expected at least 1")
    table = population.table
    measure = table.measure(on) if on or "amount" in table.roles else None
    chosen = [table.column(name) for name in columns] or [
        c for c in table.columns if not c.is_place
    ]
    shown = [c for c in chosen if c.name not in (FILE_COLUMN, LINE_COLUMN)]
    shown += [c for c in table.columns if c.name in (FILE_COLUMN, LINE_COLUMN)]
    by, descending, said = None, True, "as they stand in the sources"
    if sort is not None:
        text, down = sort_direction(sort)
        by, descending = expressions.scalar(text, table, "--sort"), bool(down)
        said = f"by {text}, {'largest' if descending else 'smallest'} first"
    elif measure is not None:
        by, said = _size(measure), f"largest {measure.name} first"
    return Rows(
        table=table.name,
        columns=shown,
        rows=_in_order(population, shown, by, limit, descending=descending),
        population=population.account(measure),
        on=measure.name if measure else None,
        currency=unit_of(table, measure),
        order=said,
        chosen=bool(columns),
        roles=table.roles,
    )


@exactly
def first_rows(population: Population, limit: int) -> list[Cells]:
    """A population's rows, the largest first, in one question: they are not counted."""
    table = population.table
    by = _size(table.measure(None)) if "amount" in table.roles else None
    return _in_order(population, table.columns, by, limit)


def _size(measure: Column) -> Tree:
    return exp.Abs(this=sql.column(measure.name))


def _in_order(
    population: Population,
    columns: Sequence[Column],
    by: Tree | None,
    limit: int,
    *,
    descending: bool = True,
) -> list[Cells]:
    """Rows sorted by a tree, those that are equal in it as they stand in the sources."""
    values: dict[str, Tree] = {c.name: sql.column(c.name) for c in columns}
    order, own = sql.place(), []
    if by is not None:
        own = [_free("order", values)]
        values[own[0]] = by
        order = [sql.ordered(sql.column(own[0]), descending=descending), *order]
    found = population.query(population.base(values).order_by(*order).limit(limit))
    return found.drop_columns(own).to_pylist() if own else found.to_pylist()


def sort_direction(text: str) -> tuple[str, bool | None]:
    """What to sort by, and whether the largest come first where that is said."""
    head, _, last = text.strip().rpartition(" ")
    if head and last.lower() in ("asc", "desc"):
        return head.strip(), last.lower() == "desc"
    return text.strip(), None


def _free(name: str, taken: Collection[str]) -> str:
    """A name that no column of the client's has."""
    while name in taken:
        name += "_"
    return name
