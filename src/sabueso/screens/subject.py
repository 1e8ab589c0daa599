"""What a test flags and a reviewer judges: a row, an entity, a class of amounts, a line of two periods.

A subject knows its key, which its id is made of; its label, by which the queue calls it; and its
rows, as a condition that a user can type. A client's columns share no name with what this program
adds to a key: where a client has a column called ``line``, the number of the line gets a longer name.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, ClassVar

from sabueso.base.plain import ByColumn
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Table
from sabueso.report import numbers as num

OCCASION = "occasion"
"""The key of what columns name together, in place of a number of a series."""
OWN = " (sabueso)"
"""What a name of this program's ends in where a client's column has the plain one."""
LABEL_ROLES = ("date", "party", "account", "text")
MOST_PARTS = 4
_MIDNIGHT = re.compile(r"([0-9]{4}-[0-9]{2}-[0-9]{2})[ T]00:00(?::00)?")
"""A day, of a column that has days with a time of nought."""
BETWEEN = " · "


def own_name(name: str, taken: Collection[str]) -> str:
    """The name of a key of this program's beside a client's."""
    times = [_times(name, other) for other in taken]
    return name + OWN * (max((n for n in times if n is not None), default=-1) + 1)


def own_key(name: str, key: Collection[str]) -> str:
    """That name again, read off a whole key."""
    return _read_off(name, tuple(key))


@lru_cache(maxsize=256)
def _read_off(name: str, key: tuple[str, ...]) -> str:
    # Asked of every row that is flagged, and the same for all of a table.
    times = [_times(name, other) for other in key]
    return name + OWN * max((n for n in times if n is not None), default=0)


def _times(name: str, other: str) -> int | None:
    """How often ``OWN`` follows a name in another; None where that is another name."""
    rest = other[len(name) :]
    times = len(rest) // len(OWN)
    return times if other == name + OWN * times else None


@dataclass(frozen=True)
class Subject:
    """A flagged subject. ``named`` is its key as flags and the register have it."""

    kind: ClassVar[str] = ""
    several: ClassVar[str] = ""
    """The word for more of them, where it is not the kind's with an s."""
    limit_places: ClassVar[int] = 2
    """Decimals of a limit that it is told with."""

    named: Mapping[str, Any]

    def key(self) -> Mapping[str, Any]:
        """What tells it from every other of its table."""
        return self.named

    def clients(self) -> ByColumn:
        """The part of the key that is the client's: columns, or expressions, and values."""
        return dict(self.named)

    def short(self) -> str:
        """What a table calls it."""
        return BETWEEN.join(num.shown(v) for v in self.clients().values()) or "all rows"

    def label(self) -> str:
        """What the queue calls it."""
        return BETWEEN.join(num.named(self.clients()))

    def rows(self, table: Table) -> str:
        """The rows behind it, as a condition; of a key alone, those of the client's part."""
        # Keys and labels are asked for by commands that read no expression, and load no parser.
        from sabueso.population.expressions import equals

        names = [c.name for c in table.columns]
        return " and ".join(equals(name, value, names) for name, value in self.clients().items())


@dataclass(frozen=True)
class Row(Subject):
    """One row, by its id, or by its file and line where it has none or shares it."""

    kind = "row"

    shown: tuple[str, ...] = ()
    shares_id: bool = False

    def key(self) -> Mapping[str, Any]:
        own = self.clients()
        return own if own and not self.shares_id else self.named

    def clients(self) -> ByColumn:
        place = self._place()
        return {name: value for name, value in self.named.items() if name not in place}

    def _place(self) -> tuple[str, str]:
        return own_key("file", self.named), own_key("line", self.named)

    def short(self) -> str:
        own = [v for v in self.clients().values() if v is not None]
        file, line = self._place()
        return str(own[0]) if own else f"{self.named[file]}:{self.named[line]}"

    def label(self) -> str:
        own = [v for v in self.clients().values() if v]
        file, line = self._place()
        first = str(own[0]) if own else f"{self.named[file]} line {self.named[line]}"
        return BETWEEN.join([first, *self.shown][:MOST_PARTS])

    def rows(self, table: Table) -> str:
        from sabueso.population.expressions import equals, literal

        file, line = self._place()
        names = [c.name for c in table.columns]
        places = {file: FILE_COLUMN, line: LINE_COLUMN}
        return " and ".join(
            f"{places[name]} = {literal(value)}"
            if name in places and name in self.named and self.key() is self.named
            else equals(name, value, names)
            for name, value in self.key().items()
        )


@dataclass(frozen=True)
class Entity(Subject):
    """Whoever the rows are of: a supplier, an employee, an account; of several columns together."""

    kind = "entity"
    several = "entities"

    asked: str = ""

    def rows(self, table: Table) -> str:
        return _both(super().rows(table), self.asked)


@dataclass(frozen=True)
class Selected(Entity):
    """Whoever some of their rows are flagged for: ``asked`` alone says which rows those are."""

    def rows(self, table: Table) -> str:
        return self.asked


@dataclass(frozen=True)
class Class(Subject):
    """A class of amounts within a group. Its test says in a condition which rows it holds."""

    kind = "class"
    several = "classes"
    limit_places = 3

    name: str = ""
    group: Mapping[str, Any] = field(default_factory=dict)
    condition: str = ""

    def label(self) -> str:
        return BETWEEN.join([self.name, *num.named(self.group)])

    def rows(self, table: Table) -> str:
        return self.condition


@dataclass(frozen=True)
class Line(Subject):
    """A line of two periods: its key and the period that moved."""

    kind = "line"

    reading: str = ""
    asked: str = ""
    within: str = ""
    """The rows of its period as a condition, where a column names it and no date."""

    @property
    def period(self) -> str:
        return str(self.named[own_key("period", self.named)])

    def clients(self) -> ByColumn:
        period = own_key("period", self.named)
        return {name: value for name, value in self.named.items() if name != period}

    def label(self) -> str:
        return BETWEEN.join([*map(str, self.clients().values()), self.period, self.reading])

    def rows(self, table: Table) -> str:
        from sabueso.population.calendar import Span
        from sabueso.population.expressions import quoted_name

        if self.within:
            return _both(super().rows(table), self.within, self.asked)
        date = quoted_name(table.roles["date"])
        span = Span.of(self.period, table.fiscal_year_starts).condition(date)
        return _both(super().rows(table), span, self.asked)

    def every_period(self, table: Table) -> str:
        """Its rows whatever their period."""
        return _both(super().rows(table), self.asked)


@dataclass(frozen=True)
class Cluster(Subject):
    """Rows that belong together: repeats, the parts of a split, an entry. ``members`` are their files
    and lines."""

    kind = "cluster"

    members: tuple[tuple[str, int], ...] = ()

    def label(self) -> str:
        return self.short()

    def rows(self, table: Table) -> str:
        from sabueso.population.expressions import literal

        places = (f"{FILE_COLUMN} = {literal(f)} and {LINE_COLUMN} = {n}" for f, n in self.members)
        return " or ".join(f"({place})" for place in places)


@dataclass(frozen=True)
class Cell(Subject):
    """A cell of a cross table: a value of each of its sides. A side that it spans has none."""

    kind = "cell"

    asked: str = ""

    def clients(self) -> ByColumn:
        return {name: value for name, value in self.named.items() if value is not None}

    def label(self) -> str:
        return " × ".join(num.named(self.clients()))

    def rows(self, table: Table) -> str:
        return _both(super().rows(table), self.asked)


_CODED = re.compile(r"year\((.+)\) \* 100? \+ (month|quarter)\(\1\)")
"""A month or quarter as a number."""


@dataclass(frozen=True)
class NumberRange(Subject):
    """Numbers of a series that are missing, or otherwise no part of it (``what``). Missing ones have no
    rows: those before and after them are looked at, ``first`` and ``last``. ``column`` is one of the
    table's, or an expression."""

    kind = "range"

    column: str = ""
    first: str = ""
    last: str = ""
    what: str = "missing"

    def label(self) -> str:
        named = (f"{name.removesuffix(OWN)} {value}" for name, value in self.clients().items())
        return f"{BETWEEN.join(named)} {self.what}"

    def rows(self, table: Table) -> str:
        from sabueso.population.expressions import equals, literal, quoted_name

        names = {c.name: c.type for c in table.columns}
        name = quoted_name(self.column) if self.column in names else self.column
        if names.get(self.column, "text") != "text":
            name = f"cast({name} as text)"
        listed = ", ".join(map(literal, dict.fromkeys((self.first, self.last))))
        own = {self.column, *(n for n in self.named if n.endswith(OWN))}
        own |= {OCCASION} - names.keys()
        if coded := _CODED.fullmatch(self.column):
            own.add(coded[2])  # as a number, where a column of the client's is called so
        groups = (equals(n, v, list(names)) for n, v in self.named.items() if n not in own)
        return _both(f"{name} in ({listed})", *groups)


@dataclass(frozen=True)
class Sampled(Row):
    """A row that was drawn into a sample, and flagged by nobody."""

    kind = "sampled"


KINDS: dict[str, type[Subject]] = {
    each.kind: each for each in (Row, Entity, Class, Line, Cluster, Cell, NumberRange, Sampled)
}


def of_key(kind: str, key: Mapping[str, Any]) -> Subject:
    """A subject from its recorded key."""
    return KINDS[kind](key)


def of_flag(kind: str, flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    """The subject of a flag, for the kinds that every test builds alike.

    Parameters
    ----------
    flag : mapping
        With ``subject``, and maybe ``context`` and ``reading``.
    where : str or None
        The condition that the test was run under.
    """
    named = flag["subject"]
    asked = f"({where})" if where else ""
    if kind == Line.kind:
        return Line(named, str(flag.get("reading", "")), asked, str(flag.get("within") or ""))
    if kind in (Entity.kind, Cell.kind):
        return KINDS[kind](named, asked)  # type: ignore[call-arg]
    if kind in (Row.kind, Sampled.kind):
        context = flag.get("context") or {}
        own = () if "id" in table.roles else ("document",)
        columns = (table.roles.get(role) for role in (*own, *LABEL_ROLES))
        shown = [
            _MIDNIGHT.sub(r"\1", str(context[c]))
            for c in columns
            if c is not None and context.get(c) is not None
        ]
        return KINDS[kind](named, tuple(shown))  # type: ignore[call-arg]
    return KINDS[kind](named)


def row_key(identity: str | None, file: Any, line: Any, value: Any = None) -> ByColumn:
    """The key of a row: its id where the table has one, its file and its line."""
    own = {} if identity is None else {identity: value}
    return own | {own_name("file", own): file, own_name("line", own): line}


def _both(*conditions: str) -> str:
    return " and ".join(each for each in conditions if each)
