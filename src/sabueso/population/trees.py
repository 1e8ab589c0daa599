"""The tree that the values of a column are the leaves of: group, sub-group, account; country, town, supplier.

It is told by the table that the column is linked with: a column of it each of whose values belongs to one
value of another is a level below that; where the table is linked with itself, by the codes of parents, each
step up is a level.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from itertools import pairwise

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.visible import visible
from sabueso.population import expressions, sql
from sabueso.population.linked import linked
from sabueso.population.population import Population
from sabueso.population.table import SELF_DEEP, Column, Linked, Table

MOST_ROWS, MOST_COLUMNS = 20_000, 16
"""A master of more rows is none of accounts; of more columns, the first are looked at."""
FEWER = 0.7
"""A level has at most this share of the values of the level below it: else it is another name of these."""


def levels(population: Population, column: str) -> tuple[str, ...]:
    """The levels that the values of a column belong to, the widest first and the column itself last, as a
    user types them; empty where there is none above it."""
    key = ("levels", population.table.name, column)
    if key not in population.known:
        population.known[key] = _levels(population, column)
    found: tuple[str, ...] = population.known[key]
    return found


def level_below(population: Population, taken: Sequence[str]) -> str | None:
    """The next level of the tree that the last of some groups is a level of."""
    table = population.table
    for column, link in table.links.items():
        # What is no column of the master is no level of its tree: nothing is asked of it then.
        begins = _name_of(table, table.column(column), link)
        if not taken or not taken[-1].strip().startswith(f"{begins}."):
            continue
        tree = levels(population, column)
        for above, below in pairwise(tree):
            if _same(above, taken[-1], table) and below not in taken:
                return below
    return None


DEEPER = ("account", "party", "preparer", "document", "text")
"""Roles that a next step groups by, the first that is not grouped by yet."""


def next_group(population: Population, taken: Sequence[str]) -> str | None:
    """What narrower groups would be grouped by: the next level of the tree, else the first column in a
    role that rows are told apart by; None where all of these are taken."""
    below = level_below(population, taken)
    if below is not None:
        return below
    table = population.table
    names = {expressions.label(each, table) for each in taken}
    roles = (table.roles.get(role) for role in DEEPER)
    # One that cannot be printed as it is cannot be typed either.
    return next((c for c in roles if c and c not in names and visible(c) == c), None)


def trees(population: Population) -> list[tuple[str, ...]]:
    """Every tree of a table's columns."""
    found = (levels(population, column) for column in population.table.links)
    return [tree for tree in found if tree]


def _same(one: str, other: str, table: Table) -> bool:
    return expressions.label(one, table) == expressions.label(other, table)


def _levels(population: Population, name: str) -> tuple[str, ...]:
    table = population.table
    column, link = table.link(name)
    begins = _name_of(table, column, link)
    parent = next((c for c, up in link.table.links.items() if up.table.name == link.table.name), "")
    above = (
        _above(population, link, parent, begins) if parent else _nested(population, link, begins)
    )
    return (*above, expressions.quoted_name(column.name)) if above else ()


def _name_of(table: Table, column: Column, link: Linked) -> str:
    """What a link is called in an expression: the other table, unless two columns are linked with it."""
    others = [each.table.name for each in table.links.values()]
    taken = link.table.name in (c.name for c in table.columns) or others.count(link.table.name) > 1
    return expressions.quoted_name(column.name if taken else link.table.name)


def _nested(population: Population, link: Linked, begins: str) -> list[str]:
    """The longest chain of columns each of which tells the one before."""
    columns = [
        c for c in link.table.columns
        if not c.is_place and c.name != link.key and c.type in ("text", "number") and not c.scale
    ][:MOST_COLUMNS]  # fmt: skip
    rows = _rows(population, link, {c.name: sql.column(c.name) for c in (*columns, _key(link))})
    if rows is None or not columns:
        return []
    codes = {
        c.name: _codes(rows.column(c.name)) for c in columns if not rows.column(c.name).null_count
    }
    many = {name: int(values.max()) + 1 for name, values in codes.items()}
    least = FEWER * rows.num_rows
    names = [name for name, n in many.items() if 2 <= n <= least]

    @cache
    def chain(name: str) -> tuple[str, ...]:
        """The longest chain that ends with a column."""
        wider = [
            o for o in names if many[o] <= FEWER * many[name] and _tells(codes[name], codes[o])
        ]
        best = max((chain(o) for o in wider), key=len, default=())
        return (*best, name)

    longest = max((chain(name) for name in names), key=len, default=())
    # A single column of few values is an attribute; a tree has two levels above its leaves, or is one by
    # what its codes begin with.
    if len(longest) < 2 and not _by_prefix(rows, longest, link.key):
        return []
    return [f"{begins}.{expressions.quoted_name(name)}" for name in longest]


def _key(link: Linked) -> Column:
    return link.table.column(link.key)


def _by_prefix(rows: pa.Table, names: Sequence[str], key: str) -> bool:
    """Whether each key begins with the value of the level above it."""
    if not names:
        return False
    above, keys = (rows.column(n).cast(pa.string()).to_pylist() for n in (names[-1], key))
    return all(str(k).startswith(str(a)) for a, k in zip(above, keys, strict=True))


def _above(population: Population, link: Linked, parent: str, begins: str) -> list[str]:
    """Steps up from the accounts that are no parents, as long as most of them have one."""
    own, table = expressions.quoted_name(parent), link.table
    paths = [".".join([own] * n) for n in range(1, SELF_DEEP + 1)]
    trees: dict[str, sql.Tree] = {parent: sql.column(parent), link.key: sql.column(link.key)}
    trees |= {f"{n} up": linked([parent] * n, table, "level") for n in range(2, SELF_DEEP + 1)}
    rows = _rows(population, link, trees)
    if rows is None:
        return []
    parents = set(rows.column(parent).to_pylist())
    leaves = [k not in parents for k in rows.column(link.key).to_pylist()]
    rows = rows.filter(pa.array(leaves))
    names = [parent, *(f"{n} up" for n in range(2, SELF_DEEP + 1))]
    found: list[str] = []
    for name, path in zip(names, paths, strict=True):
        if not rows.num_rows or rows.column(name).null_count * 2 > rows.num_rows:
            break
        found.append(f"{begins}.{path}")
    return found[::-1]


def _rows(population: Population, link: Linked, values: dict[str, sql.Tree]) -> pa.Table | None:
    """Values of the linked table's rows; None where these are too many for a tree."""
    fields = [exp.alias_(tree, name, quoted=True) for name, tree in values.items()]
    source = exp.Table(this=exp.to_identifier(link.table.name, quoted=True))
    try:
        rows = population.query(exp.select(*fields).from_(source).limit(MOST_ROWS + 1))
    except UserError:  # the table was withdrawn since it was linked
        return None
    return rows if 0 < rows.num_rows <= MOST_ROWS else None


def _codes(column: pa.ChunkedArray) -> np.ndarray:
    found: np.ndarray = column.combine_chunks().dictionary_encode().indices.to_numpy()
    return found


def _tells(narrow: np.ndarray, wide: np.ndarray) -> bool:
    """Whether each value of the narrower goes with one value of the wider alone."""
    pairs = np.unique(np.stack([narrow, wide]), axis=1)
    return pairs.shape[1] == np.unique(narrow).size
