"""A table of the case: columns, roles and the files that hold its rows."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from sabueso.base.errors import UserError, nearest

if TYPE_CHECKING:
    import pyarrow as pa
    import sqlglot.expressions as exp

ColumnType = Literal["text", "number", "date", "timestamp", "time"]
Role = Literal[
    "id",
    "date",
    "entered",
    "account",
    "party",
    "amount",
    "debit",
    "credit",
    "quantity",
    "price",
    "preparer",
    "approver",
    "document",
    "text",
    "currency",
    "side",
]
ROLES: tuple[Role, ...] = Role.__args__  # type: ignore[attr-defined]

FILE_COLUMN, LINE_COLUMN = "_file", "_line"
"""Where each row came from: the source file's name, and the line it starts on (header is 1)."""
HEADING = "heading"
"""The column that has what stands above the rows of a printed report."""


SELF_DEEP = 6
"""Steps that may be taken from a table to itself: from an account to its parent, and so on."""


@dataclass(frozen=True)
class Column:
    """A column under the client's name. ``scale`` is the decimals of a number, else 0."""

    name: str
    type: ColumnType
    scale: int = 0
    precision: int = 18

    @property
    def is_place(self) -> bool:
        """Whether it tells where a row came from, and is none of the client's."""
        return self.name in (FILE_COLUMN, LINE_COLUMN)


@dataclass(frozen=True)
class Part:
    """Files of a table that share one set of columns.

    ``base`` is the folder that files which are not the case's own, and lack the columns of a row's
    place, lie under: the place is then the file as it lies there, and the row's number in it.
    """

    columns: tuple[Column, ...]
    files: tuple[Path, ...]
    base: Path | None = None


@dataclass(frozen=True)
class Derived:
    """A column that the plan derives from others, and the tree of its values."""

    column: Column
    tree: exp.Expr


@dataclass(frozen=True)
class Linked:
    """Another table whose ``key`` holds the values of a column."""

    table: Table
    key: str


@dataclass(frozen=True)
class Table:
    """A population's table.

    ``parts`` may differ in the decimals of a column: ``columns`` is what they have in common,
    wide enough for each, and after them the ``derived``.
    """

    name: str
    prefix: str
    columns: tuple[Column, ...]
    parts: tuple[Part, ...]
    roles: dict[str, str] = field(default_factory=dict)
    currency: str = ""
    fiscal_year_starts: int = 1
    links: dict[str, Linked] = field(default_factory=dict)
    derived: tuple[Derived, ...] = ()
    rules: tuple[Mapping[str, Any], ...] = ()
    """The rules that the plan declares, as they stand there."""
    facts: Mapping[str, Any] = field(default_factory=dict)
    """The facts of the plan by their full names, such as ``loan.rate``."""
    quarantined: tuple[Path, ...] = ()
    """Lists of lines of its files that were set aside as damaged."""

    @property
    def stored(self) -> tuple[Column, ...]:
        """The columns that the files hold."""
        made = {each.column.name for each in self.derived}
        return tuple(c for c in self.columns if c.name not in made)

    def link(self, name: str) -> tuple[Column, Linked]:
        """The link of a column, by the column's name or role, or by the other table's name.

        Raises
        ------
        UserError
            If there is none.
        """
        for column, linked in self.links.items():
            if name in (column, linked.table.name) or self.roles.get(name) == column:
                return self.column(column), linked
        names = [*self.links, *(linked.table.name for linked in self.links.values())]
        have = nearest(name, names) or "; the links between tables are shown by: sabueso survey"
        raise UserError(f"table {self.name!r} has no link {name!r}{have}")

    def linked_with_itself(self, own: Mapping[str, str]) -> Table:
        """With links of columns to keys of its own, as a chart of accounts has them from each account to
        its parent: with so many steps on that a chart has no more."""
        found = self
        for _ in range(SELF_DEEP if own else 0):
            steps = {column: Linked(found, key) for column, key in own.items()}
            found = replace(self, links={**self.links, **steps})
        return found

    def column(self, name: str, *, what: str = "column") -> Column:
        """The column of that name, or that plays that role.

        Raises
        ------
        UserError
            If there is none; the sentence names the nearest.
        """
        for candidate in (name, bare_name(name), self.roles.get(name)):
            for column in self.columns:
                if column.name == candidate:
                    return column
        folded = [c for c in self.columns if c.name.lower() == name.lower()]
        if len(folded) == 1:
            return folded[0]
        names = [c.name for c in self.columns if not c.is_place]
        raise UserError(
            f"table {self.name!r} has no {what} {name!r}{nearest(name, [*names, *self.roles])}"
        )

    @property
    def numbers(self) -> list[Column]:
        """The columns of numbers, but the row's place."""
        return [c for c in self.columns if c.type == "number" and not c.is_place]

    def number(self, name: str, *, what: str = "measure") -> Column:
        """Like :meth:`column`, for a column that must hold numbers."""
        column = self.column(name, what=what)
        if column.type != "number":
            numbers = [c.name for c in self.numbers]
            have = f"its numbers are {', '.join(numbers)}" if numbers else "it has no numbers"
            raise UserError(
                f"column {column.name!r} of table {self.name!r} holds {column.type}, not numbers, "
                f"and cannot be a {what}; {have}"
            )
        return column

    def role(self, role: Role) -> Column | None:
        """The column in that role, or None."""
        name = self.roles.get(role)
        return next((c for c in self.columns if c.name == name), None)

    def dated(self) -> Column | None:
        """The column in the role ``date``, where it holds dates."""
        column = self.role("date")
        return column if column is not None and column.type in ("date", "timestamp") else None

    def measure(self, name: str | None) -> Column:
        """The named measure, or the column in the role ``amount``."""
        if not name and "amount" not in self.roles:
            raise UserError(
                f"table {self.name!r} has no column in the role amount: name the measure with --on"
            )
        return self.number(name or self.roles["amount"])

    @property
    def files(self) -> tuple[Path, ...]:
        return tuple(file for part in self.parts for file in part.files)


def bare_name(text: str) -> str:
    """A column's name as it was typed, with or without the quotes of an expression."""
    name = text.strip()
    if len(name) > 1 and name[0] == name[-1] == '"':
        return name[1:-1].replace('""', '"')
    return name


def unify(parts: list[Part], table: str) -> tuple[Column, ...]:
    """Columns that hold the values of every part without loss.

    Raises
    ------
    UserError
        If a column is text in one part and a number or date in another.
    """
    merged: dict[str, Column] = {}
    for part in parts:
        for column in part.columns:
            known = merged.setdefault(column.name, column)
            if known.type != column.type:
                raise UserError(
                    f"column {column.name!r} of table {table!r} holds {known.type} in one file "
                    f"and {column.type} in another"
                )
            scale = max(known.scale, column.scale)
            whole = max(known.precision - known.scale, column.precision - column.scale)
            merged[column.name] = Column(
                column.name, column.type, scale, 18 if whole + scale <= 18 else 38
            )
    return tuple(merged.values())


def money(minor: int, scale: int) -> Decimal:
    """Integer minor units as an exact decimal with its scale: 1234 at 2 is 12.34."""
    # Read and not computed: an operation would round to the context's digits.
    return Decimal(f"{minor}E{-scale}")


def exactly_scaled(value: Decimal | int, scale: int) -> Decimal:
    """A whole number or decimal of no more decimals than ``scale``, with just so many."""
    sign, digits, exponent = Decimal(value).as_tuple()
    padded = digits + (0,) * (int(exponent) + scale)
    return Decimal((sign, padded, -scale))


def exact_total(amounts: pa.ChunkedArray) -> Decimal:
    """The sum of decimals, exact; of none, 0. It may have more digits than a column can hold."""
    import pyarrow as pa
    import pyarrow.compute as pc

    # A sum of 38 digits that overflowed would be another number, without a word.
    if pa.types.is_integer(amounts.type):
        amounts = amounts.cast(pa.decimal128(19, 0))  # lines of a file
    if amounts.type.precision > 18:
        amounts = amounts.cast(pa.decimal256(76, amounts.type.scale))
    elif not _sums_widen():
        amounts = amounts.cast(pa.decimal128(38, amounts.type.scale))
    return pc.sum(amounts).as_py() or money(0, amounts.type.scale)


@cache
def _sums_widen() -> bool:
    """Whether a sum is wider than its column; older versions of the library keep the width."""
    import pyarrow as pa
    import pyarrow.compute as pc

    return bool(pc.sum(pa.array([], pa.decimal128(3, 0))).type.precision == 38)
