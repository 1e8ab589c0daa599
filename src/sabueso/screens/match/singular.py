"""Columns whose values each row of a table has for itself: what tells an account, or where somebody lives."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.words import CalledSo
from sabueso.population import sql
from sabueso.population.figures import figures
from sabueso.population.nothing import states_nothing
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table

LONG = 8
"""Letters of a value from which two masters do not share it by chance."""
SINGULAR = 0.9
"""Share of distinct values from which a column is of each row's own."""
MOSTLY = 0.8
"""Share of values that are long, and of digits or an address, above which the column is of such."""
KINDS, OF_KINDS = 4, 10
"""Different texts up to which a column tells kinds of rows, where so many rows or more have each."""
MOST_SEEN = 200_000
_ADDRESS = CalledSo(
    r"addr|street|direcci|domicilio|calle|anschrift|adress|stra(?:ß|ss)e|\brue\b|indirizzo|endere|morada|osoite|adres"
)
_NO_ADDRESS = CalledSo(r"mail|\bip\b|\bmac\b|web|url|wallet")
_POSTAL = CalledSo(
    r"\bzip|plz|postal|post ?code|postleitzahl|\bcap\b|\bcp\b|\bcep\b|psč|irányítószám"
)
_TOWN = CalledSo(
    r"\bcity|town|\bort\b|stadt|\bville\b|ciudad|localidad|poblaci|municip|comune|citt|cidade|plaats|gemeente|miasto"
)
Key = tuple[str, ...]
"""Columns that are met together: one, or an address and its place."""


def is_address(name: str) -> bool:
    return _ADDRESS.search(name) and not _NO_ADDRESS.search(name)


def _place_of(table: Table) -> str | None:
    """The column of a table that tells the place of its addresses, the postal code before the town."""
    for called in (_POSTAL, _TOWN):
        for column in table.columns:
            if column.type in ("text", "number") and called.search(column.name):
                return column.name
    return None


def singular(population: Population, table: Table, without: set[str]) -> dict[Key, list[str]]:
    """Long texts that nearly every row has for itself, normalised, by their columns: looked at once for all that ask."""
    own = population.beside(table)
    return own.once(("singular", frozenset(without)), partial(_singular, own, without))


def _singular(own: Population, without: set[str]) -> dict[Key, list[str]]:
    from sabueso.stats.alike import normalised

    found: dict[Key, list[str]] = {}
    table = own.table
    place = _place_of(table)
    own_texts = [
        c for c in table.columns if c.type == "text" and c.name not in without and not c.is_place
    ]
    for column in _beyond_kinds(own, own_texts):
        value = sql.column(column.name)
        stated = exp.Not(this=exp.paren(states_nothing(value)))
        address = is_address(column.name)
        beside = place if address and place != column.name else None
        fields: dict[str, Tree] = {"v": value.copy()}
        if beside is not None:
            fields["place"] = sql.cast(sql.column(beside), "TEXT")
        select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
        rows = own.query(own.used(select).where(stated).limit(MOST_SEEN))
        # What is written otherwise may be the same, so that there are never more values than texts: most columns are
        # told by counting alone.
        if rows.num_rows == 0 or _distinct(rows) < SINGULAR * rows.num_rows:
            continue
        texts = rows.column("v").to_pylist()
        # A name is many words; what tells one from all others is mostly digits, or where somebody lives.
        least = 0.0 if address else 0.5
        digits = sum(sum(c.isdigit() for c in v) > least * len(v.replace(" ", "")) for v in texts)
        if digits <= MOSTLY * len(texts):
            continue
        alone = [normalised(v) for v in texts]
        keys: dict[Key, list[str]] = {(column.name,): alone}
        if beside is not None:
            places = (normalised(each or "") for each in rows.column("place").to_pylist())
            keys[column.name, beside] = [" ".join(each) for each in zip(alone, places, strict=True)]
        for key, folded in keys.items():
            long = [v for v in folded if len(v) >= LONG]
            own_each = len(set(folded)) >= SINGULAR * len(folded)
            if own_each and len(long) > MOSTLY * len(folded):
                found[key] = long
    return found


def _beyond_kinds(population: Population, texts: Sequence[Column]) -> Iterator[Column]:
    """Those of some columns that do more than tell a few kinds of rows apart: counted together, since a wide table has
    little else."""
    rows = population.used(exp.select(*(sql.column(c.name) for c in texts))).limit(MOST_SEEN)
    fields = []
    for i, c in enumerate(texts):
        value = sql.column(c.name)
        different = exp.Count(this=exp.Distinct(expressions=[value.copy()]))
        fields += [exp.alias_(exp.Count(this=value), f"n{i}"), exp.alias_(different, f"d{i}")]
    found = figures(fields, lambda select: select.from_(rows.subquery("r")), population.query)
    for i, column in enumerate(texts):
        kinds, filled = found[f"d{i}"], found[f"n{i}"]
        if kinds > KINDS or filled < OF_KINDS * kinds:
            yield column


def _distinct(rows: pa.Table) -> int:
    """How many rows of some differ."""
    return int(rows.group_by(rows.column_names).aggregate([]).num_rows)
