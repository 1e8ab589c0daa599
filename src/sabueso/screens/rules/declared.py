"""Rules that a table's rows must keep, as the plan declares them. Kept apart: it needs no engine.

A missing value breaks ``required`` and no other rule.
"""

from __future__ import annotations

import re
from datetime import date
from decimal import Decimal
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from sabueso.base.errors import UserError
from sabueso.population.table import Column, Table

Names = Annotated[tuple[str, ...], Field(min_length=1)]


class AnyRule(BaseModel):
    """What every rule has. ``then`` says what becomes of a row that breaks it: ``mark`` keeps and
    lists it, ``set aside`` puts it in quarantine with the rows that could not be read."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    of_groups: ClassVar[bool] = False
    """Whether one row is judged beside others, so that setting rows aside changes the verdict."""

    rule: str
    name: str = ""
    then: Literal["mark", "set aside"] = "mark"

    @property
    def title(self) -> str:
        return self.name or self.described()

    def described(self) -> str:
        """The rule in words."""
        raise NotImplementedError

    def columns(self, table: Table) -> list[Column]:
        """The columns judged.

        Raises
        ------
        UserError
            If the table lacks one, or it holds another type.
        """
        raise NotImplementedError


class Required(AnyRule):
    """Columns that must hold a value."""

    rule: Literal["required"]
    on: Names

    def described(self) -> str:
        return f"{', '.join(self.on)} required"

    def columns(self, table: Table) -> list[Column]:
        return [table.column(name) for name in self.on]


class Unique(AnyRule):
    """Columns whose values together occur once. The first row in the order of the files keeps the rule."""

    of_groups = True
    rule: Literal["unique"]
    on: Names

    def described(self) -> str:
        return f"{', '.join(self.on)} unique"

    def columns(self, table: Table) -> list[Column]:
        return [table.column(name) for name in self.on]


class Range(AnyRule):
    """A number between two limits, both allowed; or a date."""

    rule: Literal["range"]
    on: str
    least: Decimal | date | None = None
    greatest: Decimal | date | None = None

    @model_validator(mode="after")
    def _some(self) -> Range:
        if self.least is None and self.greatest is None:
            raise ValueError("a range needs least, greatest or both")
        return self

    def described(self) -> str:
        low = "" if self.least is None else f" from {self.least}"
        return f"{self.on}{low}" + ("" if self.greatest is None else f" to {self.greatest}")

    def columns(self, table: Table) -> list[Column]:
        column = table.column(self.on)
        for limit in (self.least, self.greatest):
            wanted = ("number",) if isinstance(limit, Decimal) else ("date", "timestamp")
            if limit is not None and column.type not in wanted:
                raise UserError(f"column {column.name!r} holds {column.type}, and the limit {limit} "
                                f"is a {wanted[0]}")  # fmt: skip
        return [column]


class Allowed(AnyRule):
    """A text among those listed."""

    rule: Literal["allowed"]
    on: str
    values: Annotated[tuple[str, ...], Field(min_length=1)]

    def described(self) -> str:
        shown = ", ".join(self.values[:4]) + (" …" if len(self.values) > 4 else "")
        return f"{self.on} one of {shown}"

    def columns(self, table: Table) -> list[Column]:
        return [_of_type(table.column(self.on), "text")]


class Pattern(AnyRule):
    """A text that a regular expression fits as a whole."""

    rule: Literal["pattern"]
    on: str
    pattern: str

    @field_validator("pattern")
    @classmethod
    def _compiles(cls, value: str) -> str:
        try:
            re.compile(value)
        except re.error as error:
            raise ValueError(f"no regular expression: {error}") from None
        return value

    def described(self) -> str:
        return f"{self.on} like {self.pattern}"

    def columns(self, table: Table) -> list[Column]:
        return [_of_type(table.column(self.on), "text")]


class NotAfter(AnyRule):
    """A date not after another column's, or not after a day. Times of day are not compared."""

    rule: Literal["not after"]
    on: str
    than: date | str

    @field_validator("than", mode="before")
    @classmethod
    def _day(cls, value: Any) -> Any:
        """A day where the text is one, else the name of a column."""
        try:
            return date.fromisoformat(value) if isinstance(value, str) else value
        except ValueError:
            return value

    def described(self) -> str:
        return f"{self.on} not after {self.than}"

    def columns(self, table: Table) -> list[Column]:
        names = [self.on] if isinstance(self.than, date) else [self.on, self.than]
        return [_of_type(table.column(name), "date", "timestamp") for name in names]


class Balances(AnyRule):
    """The amounts of each entry add up to zero. All rows of an entry that does not balance break it."""

    of_groups = True
    rule: Literal["balances"]
    per: Names
    on: str = "amount"

    def described(self) -> str:
        return f"{self.on} of each {', '.join(self.per)} balances"

    def columns(self, table: Table) -> list[Column]:
        return [table.number(self.on), *(table.column(name) for name in self.per)]


class Product(AnyRule):
    """Quantity times price is the amount. ``tolerance`` is the greatest difference allowed; half the
    amount's last unit where none is given, so that a rounded product keeps the rule."""

    rule: Literal["product"]
    of: Annotated[tuple[str, ...], Field(min_length=2, max_length=2)] = ("quantity", "price")
    on: str = "amount"
    tolerance: Decimal | None = Field(None, ge=0)

    def described(self) -> str:
        return f"{self.of[0]} × {self.of[1]} = {self.on}"

    def columns(self, table: Table) -> list[Column]:
        return [table.number(name) for name in (self.on, *self.of)]


class Exists(AnyRule):
    """A value that is among those of another table's column, named ``table.column``."""

    rule: Literal["exists"]
    on: str
    among: str = Field(pattern=r"^\w+\..+$")

    def described(self) -> str:
        return f"{self.on} among {self.among}"

    @property
    def other(self) -> str:
        return self.among.partition(".")[0]

    def columns(self, table: Table) -> list[Column]:
        return [table.column(self.on)]


class Sequence(AnyRule):
    """Numbers that follow one another: the last digits of a text, counted for each text before them
    and each value of ``per``. A repeat breaks the rule; numbers that are missing are reported."""

    of_groups = True
    rule: Literal["sequence"]
    on: str
    per: tuple[str, ...] = ()

    def described(self) -> str:
        return f"{self.on} in sequence" + (f" per {', '.join(self.per)}" if self.per else "")

    def columns(self, table: Table) -> list[Column]:
        column = table.column(self.on)
        if column.type not in ("text", "number") or column.scale:
            raise UserError(
                f"column {column.name!r} holds no whole numbers or texts that end in them"
            )
        return [column, *(table.column(name) for name in self.per)]


Rule = Annotated[
    Required
    | Unique
    | Range
    | Allowed
    | Pattern
    | NotAfter
    | Balances
    | Product
    | Exists
    | Sequence,
    Field(discriminator="rule"),
]


def _of_type(column: Column, *types: str) -> Column:
    if column.type not in types:
        raise UserError(f"column {column.name!r} holds {column.type}, not {types[0]}")
    return column
