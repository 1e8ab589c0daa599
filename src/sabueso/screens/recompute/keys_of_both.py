"""What tells groups of the rows of two tables alike, as their sums are compared by it: what both name, a period, a thing in a
period."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import product
from typing import NamedTuple

from sabueso.population import expressions
from sabueso.population.expressions import quoted_name
from sabueso.population.period_names import names_period
from sabueso.population.population import Population
from sabueso.screens.first_rows import first_coded
from sabueso.screens.named_columns import columns_there
from sabueso.screens.proposal import LEAST_OF_RULE, texts_without
from sabueso.screens.recompute.siblings import happened, named_by_both

MOST_STATED, MOST_SEEN = 2_000, 20_000
"""Rows of a table of which each states what a period came to, and rows that are looked at for things."""
SEVERAL = 3
"""Rows of the other table that a sum has on average at least."""
MOST_COLUMNS, MOST_THINGS = 4, 60
SHARED = 0.8
"""Share of the things of which a table states figures that the other's rows are of."""
THING = "named by both"
"""The kind of keys that are rows which both tables name."""
_UNITS = {"month": r"\d{4}-\d{2}", "quarter": r"\d{4}-Q\d", "year": r"\d{4}"}


class Key(NamedTuple):
    """What tells groups of rows: of what kind (two keys of one kind may be the same), its SQL, and its name."""

    kind: str
    by: tuple[str, ...]
    told: str

    @property
    def of_things(self) -> bool:
        """Whether it is rows that both tables name, or a period of each."""
        return self.kind.endswith(THING)

    def of(self, thing: Key) -> Key:
        """A period of each of some things."""
        return Key(
            f"{self.kind} of {thing.kind}", (*thing.by, *self.by), f"{thing.told} and {self.told}"
        )


def keys_of_both(population: Population, there: Population) -> Iterator[tuple[Key, Key]]:
    """What tells the rows of a table apart, beside what tells groups of another: what both name, what those rows name, or a
    period."""
    table, other = population.table, there.table
    rows = population.account(None).used
    things: list[tuple[Key, Key]] = []
    for column, also, named in named_by_both(table, other):
        third = population.tables.get(named.name, named)
        # What happened once is compared from either side.
        if rows >= LEAST_OF_RULE and not happened(population, other, third):
            mine = Key(THING, (quoted_name(column),), column)
            things.append((mine, Key(THING, (quoted_name(also),), also)))
    yield from things
    few = there.account(None).used < SEVERAL * rows
    if few and not things:
        return
    for column, link in () if few else sorted(other.links.items()):
        # Of many that are named the sums are compared from the other side.
        if link.table.name == table.name and rows < LEAST_OF_RULE:
            by = quoted_name(link.key)
            yield Key("named", (by,), link.key), Key("named", (quoted_name(column),), column)
    theirs: dict[str, list[Key]] = {}
    for their in _periods(there, stated=False):
        theirs.setdefault(their.kind, []).append(their)
    periods = list(_periods(population, stated=True))
    for mine in () if few else periods:
        for their in theirs.get(mine.kind, []):
            yield mine, their
    things += _things(population, there) if theirs and periods and not few else []
    for (thing, their_thing), mine in product(things, periods):
        for their in theirs.get(mine.kind, []):
            yield mine.of(thing), their.of(their_thing)


def _things(population: Population, there: Population) -> list[tuple[Key, Key]]:
    """Columns of few texts, such as departments, that rows of both have, or one of them has and what the other's name."""
    mine, theirs = _coded(population), _coded(there)
    found = []
    for (by, own), (by_there, other) in product(mine.items(), theirs.items()):
        if len(own & other) >= SHARED * len(own):
            told = by.replace('"', "")
            found.append((Key(told, (by,), told), Key(told, (by_there,), told)))
    return found[:MOST_COLUMNS]


def _coded(population: Population) -> dict[str, set[str]]:
    """The values of columns of few texts, and of those of the rows that are named."""
    table = population.table
    names = texts_without(table, ("id", "document", "text", "currency"))
    also = {
        there.sql: expressions.scalar(there.sql, table)
        for there in columns_there(population)
        if there.column.type == "text" and there.column.name != table.links[there.by].key
    }
    seen = first_coded(population, names, MOST_SEEN, also) if names or also else {}
    return {
        quoted_name(name) if name in names else name: set(coded.values)
        for name, coded in seen.items()
        if 1 < len(coded.values) <= MOST_THINGS
    }


def _periods(population: Population, *, stated: bool) -> Iterator[Key]:
    """The periods of rows: those that they state, and those of their days."""
    table, date = population.table, population.table.dated()
    yield from _named_periods(population)
    days = [c for c in table.columns if c.type in ("date", "timestamp")]
    days.sort(key=lambda c: date is None or c.name != date.name)
    for column in days:
        name = quoted_name(column.name)
        own = date is not None and column.name == date.name
        for unit in _UNITS:
            by = expressions.period_text(unit, table) if own else f"{unit}_of({name})"
            yield Key(unit, (by,), unit)
        if not stated:
            yield Key("month code", (f"year({name}) * 100 + month({name})",), "month")
            yield Key("year code", (f"year({name})",), "year")
            yield Key("year and month", (f"year({name})", f"month({name})"), "month")


def _named_periods(population: Population) -> Iterator[Key]:
    columns = [c for c in population.table.columns if names_period(c.name) and not c.is_place]
    seen = first_coded(population, [c.name for c in columns], MOST_STATED) if columns else {}
    alone = {}
    for column in columns:
        values, name = seen[column.name].values, quoted_name(column.name)
        if column.type == "text":
            for unit, form in _UNITS.items():
                if values and all(re.fullmatch(form, value) for value in values):
                    yield Key(unit, (name,), column.name)
            if values and all(re.fullmatch(r"(0\d|1[0-2])[/.-]\d{4}", value) for value in values):
                by = f"right({name}, 4) || '-' || left({name}, 2)"
                yield Key("month", (by,), column.name)
        elif column.type == "number" and column.scale == 0:
            whole = {int(value) for value in values}
            if whole and all(
                1 <= each % 100 <= 12 and 1900 <= each // 100 <= 2100 for each in whole
            ):
                yield Key("month code", (name,), column.name)
            elif whole and min(whole) >= 1900 and max(whole) <= 2100:
                alone["year"] = column
                yield Key("year code", (name,), column.name)
            elif whole and min(whole) >= 1 and max(whole) <= 12:
                alone["month"] = column
    if len(alone) == 2:
        names = tuple(alone[each].name for each in ("year", "month"))
        yield Key("year and month", tuple(map(quoted_name, names)), " and ".join(names))
