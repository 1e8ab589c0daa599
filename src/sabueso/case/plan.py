"""The plan, ``case.toml``: read and validated, written with its comments and order kept."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Collection, Iterable, Mapping
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    ValidationError,
    ValidationInfo,
    field_validator,
    model_validator,
)

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import Json, Values
from sabueso.case.word_lists import WORDS
from sabueso.intake.settings import ReadSettings
from sabueso.population.table import ROLES

if TYPE_CHECKING:
    from sabueso.screens.rules.declared import AnyRule

_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_]{0,40}")
SCHEMA = re.compile(r"[a-z_][a-z0-9_]{0,62}")
_SIZE = re.compile(r"[1-9][0-9]*(\.[0-9]+)? ?(KB|MB|GB|TB|KiB|MiB|GiB|TiB)")
CAPACITY = 1000
"""Exceptions that one run of a screen makes at most, where the plan says nothing else."""


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class CaseSection(_Part):
    """``[case]``."""

    name: str
    currency: str = "EUR"
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


class EngineSection(_Part):
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


class RegisterSection(_Part):
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


class FileControl(_Part):
    """What the client states of one file: its rows, the sum of its amounts."""

    rows: int | None = Field(None, ge=0)
    sum: Decimal | None = None


class TableControl(FileControl):
    """``[tables.NAME.control]``: the same of the whole table, and by file."""

    files: dict[str, FileControl] = Field(default_factory=dict)


class TableSection(_Part):
    """``[tables.NAME]``."""

    prefix: str = Field(default="", pattern=r"^([A-Z][A-Z0-9]{1,5})?$")
    sources: list[str] = Field(default_factory=list)
    roles: dict[str, str] = Field(default_factory=dict)
    read: ReadSettings = Field(default_factory=ReadSettings)
    columns: dict[str, str] = Field(default_factory=dict)
    links: dict[str, str] = Field(default_factory=dict)
    control: TableControl = Field(default_factory=TableControl)
    rules: list[Json] = Field(default_factory=list)

    @field_validator("roles")
    @classmethod
    def _known_roles(cls, value: dict[str, str]) -> dict[str, str]:
        for role in value:
            if role not in ROLES:
                raise ValueError(f"there is no role {role!r}{nearest(role, ROLES)}")
        return value


class PopulationSection(_Part):
    """``[populations.NAME]``: rows of a table that later work is on, and why the others are not."""

    table: str
    where: str = Field(min_length=1)
    reason: str = Field(min_length=1)


class ViewSection(_Part):
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


class Plan(_Part):
    """The whole of ``case.toml``."""

    case: CaseSection
    engine: EngineSection = Field(default_factory=EngineSection)
    register_at: RegisterSection = Field(default_factory=RegisterSection, alias="register")
    tables: dict[str, TableSection] = Field(default_factory=dict)
    populations: dict[str, PopulationSection] = Field(default_factory=dict)
    facts: Values = Field(default_factory=dict)
    screens: list[ScreenSection] = Field(default_factory=list)
    views: list[ViewSection] = Field(default_factory=list)

    @field_validator("facts")
    @classmethod
    def _usable(cls, value: Values) -> Values:
        for name in flat_facts(value):
            if not all(_NAME.fullmatch(part) for part in name.split(".")):
                raise ValueError(f"fact {name!r}: expected a letter, then letters, digits or _")
        return value

    def facts_by_name(self) -> Values:
        """Facts by their full names: numbers exact, dates, texts, lists of these; lists of words to start
        with beside the plan's own."""
        return WORDS | flat_facts(self.facts)

    @field_validator("tables")
    @classmethod
    def _apart(cls, value: dict[str, TableSection]) -> dict[str, TableSection]:
        known: dict[str, str] = {}
        for name in value:
            if not _NAME.fullmatch(name):
                raise ValueError(_unusable(name))
            other = known.setdefault(name.lower(), name)
            if other != name:
                raise ValueError(_alike(name, other))
        # A plan written by hand need not name prefixes; the first intake writes them down.
        used = {section.prefix for section in value.values()}
        for name, section in value.items():
            if not section.prefix:
                free = _free_prefix(name, used)
                used.add(free)
                value[name] = section.model_copy(update={"prefix": free})
        return value

    @field_validator("screens", "views")
    @classmethod
    def _own_names(cls, value: list[Any], info: ValidationInfo) -> list[Any]:
        names = [each.name for each in value]
        twice = {name for name in names if names.count(name) > 1}
        if twice:
            raise ValueError(f"two {info.field_name} are named {sorted(twice)[0]!r}")
        return value

    @model_validator(mode="after")
    def _populations_of_tables(self) -> Plan:
        tables = {name.lower() for name in self.tables}
        for name, section in self.populations.items():
            if not _NAME.fullmatch(name):
                raise ValueError(
                    f"population {name!r}: expected a letter, then letters, digits or _"
                )
            if name.lower() in tables:
                raise ValueError(f"population {name!r} has the name of a table; choose another")
            if section.table not in self.tables:
                known = nearest(section.table, self.tables)
                raise ValueError(f"population {name!r}: there is no table {section.table!r}{known}")
        return self

    def base_of(self, name: str) -> str:
        """The table that a named population is of; any other name is a table's own."""
        section = self.populations.get(name)
        return name if section is None else section.table

    def free_prefix(self, table: str) -> str:
        """Three letters or so for a table's exception ids, unlike those in use."""
        return _free_prefix(table, {section.prefix for section in self.tables.values()})

    def holds(self, name: str) -> bool:
        """Whether there is such a table or population."""
        return name in self.tables or name in self.populations


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


def _free_prefix(table: str, used: Collection[str]) -> str:
    letters = "".join(c for c in table.upper() if c.isascii() and c.isalnum())
    for candidate in (letters[:3], letters[:4], letters[:5], letters[:1] + letters[-2:]):
        if len(candidate) >= 2 and candidate not in used:
            return candidate
    return next(f"{letters[:3]}{n}" for n in range(2, 1000) if f"{letters[:3]}{n}" not in used)


def check_table_name(name: str, known: Iterable[str] = ()) -> str:
    """A table name that can be a folder and an SQL identifier on every system.

    Raises
    ------
    UserError
        If it cannot, or differs from a known one in case alone: engines and some file systems take
        the two for one.
    """
    if not _NAME.fullmatch(name):
        raise UserError(_unusable(name))
    for other in known:
        if other != name and other.lower() == name.lower():
            raise UserError(_alike(name, other))
    return name


def _unusable(name: str) -> str:
    return f"table name {name!r} is not usable; expected a letter, then letters, digits or _"


def _alike(name: str, other: str) -> str:
    return (
        f"table name {name!r} differs from {other!r} in upper and lower case alone, and would be "
        "taken for it; choose another"
    )


def read_plan(path: Path) -> Plan:
    """Read and validate a plan.

    Raises
    ------
    UserError
        With the line, the key, and what was expected.
    """
    try:
        text = path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        raise UserError(f"{path} is gone; restore it from a copy") from None
    except UnicodeDecodeError as error:
        raise UserError(f"{path}: not UTF-8 text near byte {error.start}") from None
    try:
        values = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise UserError(f"{path}: {_toml_message(str(error), text)}") from None
    except RecursionError:
        raise UserError(f"{path}: it is nested too deeply to be read") from None
    try:
        return Plan(**values)
    except ValidationError as error:
        raise _refused(path, text, error) from None


def rules_of(path: Path, table: str, section: TableSection) -> list[AnyRule]:
    """The rules of a table, validated. Apart from the plan: only intake needs them, and their models
    take as long to build as all the others.

    Raises
    ------
    UserError
        As :func:`read_plan`.
    """
    if not section.rules:
        return []
    from pydantic import TypeAdapter

    from sabueso.screens.rules.declared import Rule

    adapter: TypeAdapter[AnyRule] = TypeAdapter(Rule)
    found: list[AnyRule] = []
    for place, values in enumerate(section.rules):
        try:
            found.append(adapter.validate_python(values))
        except ValidationError as error:
            text = path.read_text(encoding="utf-8-sig")
            raise _refused(path, text, error, ("tables", table, "rules", place)) from None
    return found


def _refused(
    path: Path, text: str, error: ValidationError, within: tuple[int | str, ...] = ()
) -> UserError:
    """The first thing wrong with a plan, as a sentence with its line and key."""
    first = error.errors()[0]
    loc = (*within, *first["loc"])
    message = first["msg"].removeprefix("Value error, ")
    key = ".".join(str(part) for part in loc)
    if first["type"] == "extra_forbidden":
        message = "there is no such key" + nearest(str(loc[-1]), _keys(loc))
    elif first["type"] == "union_tag_invalid":
        given, kinds = first["ctx"]["tag"], first["ctx"]["expected_tags"].strip("'").split("', '")
        message = f"there is no rule {given!r}{nearest(given, kinds)}"
    elif first["type"] in ("missing", "union_tag_not_found"):
        message = "this key is required"
    line = _line_of(text, loc)
    return UserError(f"{path}, line {line}: {key}: {message[:1].lower()}{message[1:]}")


def _toml_message(message: str, text: str) -> str:
    match = re.search(r"^(.*) \(at line (\d+), column (\d+)\)$", message)
    if match:
        return f"line {match[2]}, column {match[3]}: {match[1][:1].lower()}{match[1][1:]}"
    last = text.count("\n") + 1
    return f"line {last}: {message.removesuffix(' (at end of document)')} at the end of the file"


def _line_of(text: str, loc: tuple[int | str, ...]) -> int:
    """The line of a key, as far along its path as the text names it."""
    lines = text.splitlines()
    at = 0
    for part, before in zip(loc, ("", *loc), strict=False):
        if isinstance(part, int):
            header = re.compile(rf"\s*\[\[.*\b{re.escape(str(before))}\s*\]\]")
            headers = [i for i, line in enumerate(lines) if i >= at and header.match(line)]
            at = headers[part] if part < len(headers) else at
            continue
        pattern = re.compile(
            rf"""^\s*(\[+\s*(?:[\w"'.-]+\.)?)?["']?{re.escape(part)}["']?\s*(=|\]|\.)|[{{,]\s*{re.escape(part)}\s*="""
        )
        found = next((i for i in range(at, len(lines)) if pattern.search(lines[i])), None)
        at = at if found is None else found
    return at + 1


def _keys(loc: tuple[int | str, ...]) -> list[str]:
    models: dict[str, type[BaseModel]] = {
        "case": CaseSection, "engine": EngineSection, "tables": TableSection,
    }  # fmt: skip
    if "read" in loc:
        return list(ReadSettings.model_fields)
    if len(loc) > 1 and str(loc[0]) in models:
        return list(models[str(loc[0])].model_fields)
    return list(Plan.model_fields)
