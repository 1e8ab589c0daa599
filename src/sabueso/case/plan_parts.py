"""The sections of the plan: what each key may hold."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import date
from decimal import Decimal
from typing import Any, Literal

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    PrivateAttr,
    field_validator,
    model_validator,
)

from sabueso.base.errors import nearest
from sabueso.base.plain import Json, Values
from sabueso.intake.settings import ReadSettings
from sabueso.population.table import ROLES

TABLE_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_]{0,40}")
SCHEMA = re.compile(r"[a-z_][a-z0-9_]{0,62}")
_SIZE = re.compile(r"[1-9][0-9]*(\.[0-9]+)? ?(KB|MB|GB|TB|KiB|MiB|GiB|TiB)")
CAPACITY = 1000
"""Exceptions that one run of a screen makes at most, where the plan says nothing else."""


class Section(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class CaseSection(Section):
    """``[case]``."""

    name: str
    currency: str = "EUR"
    currency_of: str = ""
    """The table whose amounts stated it, where nobody did."""
    fiscal_year_starts: int = Field(1, ge=1, le=12)
    prepared_by: str = ""
    question: str = ""
    scope: str = ""
    capacity: int = Field(CAPACITY, ge=1, le=1_000_000)
    material_change: Decimal = Field(Decimal(5), ge=0)

    @property
    def says_currency(self) -> bool:
        """Whether the currency is what somebody, or the amounts, said."""
        return "currency" in self.model_fields_set


class EngineSection(Section):
    """``[engine]``."""

    kind: str = "duckdb"
    memory: str = ""
    threads: int = Field(0, ge=0)
    master: str = ""
    remote: str = ""

    @field_validator("memory")
    @classmethod
    def _a_size(cls, value: str) -> str:
        if value and not _SIZE.fullmatch(value):
            raise ValueError(f'{value!r} is no size of memory; expected such as "4GB" or "800MB"')
        return value


class RegisterSection(Section):
    """``[register]``: where the review register lies, if not in the case's folder."""

    url: str = ""
    name: str = Field("", alias="schema")

    @field_validator("url")
    @classmethod
    def _a_server(cls, value: str) -> str:
        if value and not re.match(r"postgres(ql)?://\S+$", value):
            raise ValueError("expected a URL such as postgresql://user@server/database")
        return value

    @field_validator("name")
    @classmethod
    def _a_schema(cls, value: str) -> str:
        if value and not SCHEMA.fullmatch(value):
            raise ValueError(f"{value!r} is no schema; expected small letters, digits and _")
        return value

    @model_validator(mode="after")
    def _both(self) -> RegisterSection:
        if bool(self.url) != bool(self.name):
            raise ValueError("it takes both url and schema, a schema of its own for each case")
        return self


class FileControl(Section):
    """What the client states of one file: its rows, the sum of its amounts."""

    rows: int | None = Field(None, ge=0)
    sum: Decimal | None = None


class TableControl(FileControl):
    """``[tables.NAME.control]``: the same of the whole table, and by file."""

    files: dict[str, FileControl] = Field(default_factory=dict)


class TableSection(Section):
    """``[tables.NAME]``."""

    prefix: str = Field(default="", pattern=r"^([A-Z][A-Z0-9]{1,5})?$")
    sources: list[str] = Field(default_factory=list)
    roles: dict[str, str] = Field(default_factory=dict)
    read: ReadSettings = Field(default_factory=ReadSettings)
    columns: dict[str, str] = Field(default_factory=dict)
    links: dict[str, str] = Field(default_factory=dict)
    control: TableControl = Field(default_factory=TableControl)
    rules: list[Json] = Field(default_factory=list)
    _of_none: frozenset[str] = PrivateAttr(frozenset())

    @field_validator("roles")
    @classmethod
    def _known_roles(cls, value: dict[str, str]) -> dict[str, str]:
        for role in value:
            if role not in ROLES:
                raise ValueError(f"there is no role {role!r}{nearest(role, ROLES)}")
        return value

    def model_post_init(self, _: object) -> None:
        self._of_none = frozenset(role for role, column in self.roles.items() if not column)
        for role in self._of_none:
            del self.roles[role]

    @property
    def roles_of_none(self) -> frozenset[str]:
        """Roles that no column has, whatever it is called: the plan gives them to ``""``."""
        return self._of_none


class PopulationSection(Section):
    """``[populations.NAME]``: rows of a table that later work is on, and why the others are not."""

    table: str
    where: str = Field(min_length=1)
    reason: str = Field(min_length=1)


class ViewSection(Section):
    """``[[views]]``: a drill-down that is made again with each run of the programme."""

    name: str = Field(min_length=1)
    table: str
    where: str = ""
    by: list[str] = Field(default_factory=list)
    across: str = ""
    measures: list[str] = Field(default_factory=list)
    measure: Literal["sum", "count", "mean", "min", "max"] = "sum"
    on: str = ""
    having: str = ""
    sort: str = ""
    limit: int = Field(15, ge=1)
    within: int = Field(0, ge=0)


class ScreenSection(BaseModel):
    """``[[screens]]``: a name, a test, a table, and the test's settings."""

    model_config = ConfigDict(extra="allow", frozen=True)

    name: str = Field(min_length=1)
    test: str
    table: str
    purpose: str = ""
    capacity: int | None = Field(None, ge=1, le=1_000_000)

    @property
    def settings(self) -> Values:
        return dict(self.model_extra or {})


def flat_facts(values: Mapping[str, Any], before: str = "") -> Values:
    """Facts in tables within tables by their full names.

    Examples
    --------
    >>> flat_facts({"approval": 5000, "loan": {"rate": 0.035}})
    {'approval': 5000, 'loan.rate': Decimal('0.035')}

    Raises
    ------
    ValueError
        If a value is none that an expression could hold.
    """
    found: Values = {}
    for name, value in values.items():
        if isinstance(value, Mapping):
            found |= flat_facts(value, f"{before}{name}.")
        elif isinstance(value, list):
            found[before + name] = [_fact(f"{before}{name}", each) for each in value]
        else:
            found[before + name] = _fact(before + name, value)
    return found


def _fact(name: str, value: Any) -> Any:
    if isinstance(value, float):
        return Decimal(repr(value))
    if isinstance(value, bool) or not isinstance(value, (int, Decimal, str, date)):
        raise ValueError(f"fact {name!r}: expected a number, a text, a date, or a list of these")
    return value
