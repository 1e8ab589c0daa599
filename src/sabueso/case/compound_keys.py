"""Tables whose rows are told by several columns together, such as a document by company, number and year, and the lines that
name them: a column made of these in both, and a link."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from itertools import permutations

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.linking import is_kept
from sabueso.case.plan_writing import write_links
from sabueso.intake.formats.called import folded
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.links import Link
from sabueso.population.population import Population
from sabueso.population.table import Column, Role, Table

LEAST_ROWS, MOST_SHARED, MOST_TOGETHER = 20, 8, 4
"""Rows of a table, columns that two have in common, and columns of a key."""


@dataclass(frozen=True)
class CompoundKey:
    """Columns that together tell the rows of a table, and are the names of another's rows for them: how many rows of that
    there are, and how many are found."""

    keyed: str
    of: str
    columns: tuple[str, ...]
    others: tuple[str, ...]
    rows: int
    found: int

    @property
    def name(self) -> str:
        """What the column is called in both tables."""
        return f"{self.keyed}_key"

    @property
    def link(self) -> Link:
        return Link(f"{self.of}.{self.name}", f"{self.keyed}.{self.name}", self.rows, self.found)


def compound_keys(
    populations: Sequence[Population], linked: Sequence[Link]
) -> Iterator[CompoundKey]:
    """Keys of several columns by which nearly all rows of one table name those of another, where no column alone does."""
    known = {
        frozenset(name.partition(".")[0] for name in (link.column, link.other))
        for link in linked
        if is_kept(link)
    }
    for keyed, other in permutations(populations, 2):
        if frozenset((keyed.table.name, other.table.name)) in known:
            continue
        shared = _shared(keyed.table, other.table)
        if len(shared) < 2 or not _names_papers(keyed.table, other.table, shared):
            continue
        try:
            columns = _least(keyed, list(shared))
            if columns is None or not _names_papers(keyed.table, other.table, columns):
                continue
            others = tuple(shared[name] for name in columns)
            rows, found = _found(keyed, columns, other, others)
        except UserError:  # more than the engine may hold: there is no link, as before
            continue
        key = CompoundKey(keyed.table.name, other.table.name, columns, others, rows, found)
        if rows >= LEAST_ROWS and is_kept(key.link):
            yield key


def keep_compound_keys(case: Case, found: Sequence[CompoundKey]) -> list[Link]:
    """Write the columns and the links to the plan, and the role id of tables that have none; returns the links. A name that is
    there already stays what it is."""
    kept: list[Link] = []
    with case.locked():
        columns: dict[str, dict[str, str]] = {}
        links: dict[str, dict[str, str]] = {}
        roles: dict[str, dict[str, str]] = {}
        for key in found:
            here, there = (case.table(name) for name in (key.keyed, key.of))
            if any(_has(table, key.name) for table in (here, there)):
                continue
            columns.setdefault(key.keyed, {})[key.name] = together(key.columns)
            columns.setdefault(key.of, {})[key.name] = together(key.others)
            links.setdefault(key.of, {})[key.name] = f"{key.keyed}.{key.name}"
            for table in (here, there):
                if "id" not in table.roles:
                    roles.setdefault(table.name, {}).setdefault("id", key.name)
            kept.append(key.link)
        if kept:
            write_links(case.plan_path, links, roles, columns)
            case.changed()
    return kept


def together(columns: Sequence[str]) -> str:
    """Columns as one text.

    Examples
    --------
    >>> print(together(["Company", "Doc No"]))
    Company || ' ' || "Doc No"
    """
    return " || ' ' || ".join(map(quoted_name, columns))


def _has(table: Table, name: str) -> bool:
    return any(column.name.lower() == name.lower() for column in table.columns)


def _shared(keyed: Table, other: Table) -> dict[str, str]:
    """Columns of a table that may be a part of its key, and those of another that are called the same."""
    theirs = {folded(c.name): c.name for c in other.columns if _may_be_part(other, c)}
    mine = [c.name for c in keyed.columns if _may_be_part(keyed, c)]
    found = {name: theirs[folded(name)] for name in mine if folded(name) in theirs}
    return dict(list(found.items())[:MOST_SHARED])


def _may_be_part(table: Table, column: Column) -> bool:
    """Texts, and whole numbers such as years, but what is counted or paid."""
    roles = {table.roles.get(role) for role in ("amount", "debit", "credit", "quantity", "price")}
    kind = column.type == "text" or (column.type == "number" and not column.scale)
    return kind and not column.is_place and column.name not in roles


def _names_papers(keyed: Table, other: Table, columns: Collection[str]) -> bool:
    """Whether one of some columns is that of a document, or tells the rows, in either table."""
    papers: tuple[Role, ...] = ("document", "id")
    named = {folded(t.roles[role]) for t in (keyed, other) for role in papers if role in t.roles}
    return not named.isdisjoint(map(folded, columns))


def _least(population: Population, columns: list[str]) -> tuple[str, ...] | None:
    """As few of some columns as tell every row together, two at least; None where they do not, or one does alone."""
    if not _tells(population, columns):
        return None
    kept = list(columns)
    for name in reversed(columns):
        fewer = [each for each in kept if each != name]
        if fewer and _tells(population, fewer):
            kept = fewer
    return tuple(kept) if 1 < len(kept) <= MOST_TOGETHER else None


def _tells(population: Population, columns: Sequence[str]) -> bool:
    """Whether no two rows have some columns alike, and all have them."""
    key = expressions.scalar(together(columns), population.table)
    fields = {"n": sql.count(), "d": exp.Count(this=exp.Distinct(expressions=[key]))}
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
    (row,) = population.query(select.from_(population.source())).to_pylist()
    return int(row["n"]) >= LEAST_ROWS and int(row["n"]) == int(row["d"])


def _found(
    keyed: Population, columns: Sequence[str], other: Population, others: Sequence[str]
) -> tuple[int, int]:
    """Rows of a table with the columns of a key, and those that find a row of the other one."""

    def keys(population: Population, names: Sequence[str], alias: str) -> exp.Subquery:
        tree = expressions.scalar(together(names), population.table)
        return exp.select(exp.alias_(tree, "k")).from_(population.source()).subquery(alias)

    left, right = sql.column("k", "a"), sql.column("k", "b")
    select = exp.select(
        exp.alias_(exp.Count(this=left.copy()), "n"),
        exp.alias_(exp.Count(this=right.copy()), "found"),
    ).from_(keys(other, others, "a"))
    select = select.join(
        keys(keyed, columns, "b"), on=exp.EQ(this=left, expression=right), join_type="left"
    )
    (row,) = other.query(select).to_pylist()
    return int(row["n"]), int(row["found"])
