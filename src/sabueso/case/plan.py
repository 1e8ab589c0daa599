"""The plan, ``case.toml``: read and validated, written with its comments and order kept."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Collection, Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import (
    BaseModel,
    Field,
    ValidationError,
    ValidationInfo,
    field_validator,
    model_validator,
)

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import Values
from sabueso.case.plan_parts import (
    TABLE_NAME,
    CaseSection,
    EngineSection,
    PopulationSection,
    RegisterSection,
    ScreenSection,
    Section,
    TableSection,
    ViewSection,
    flat_facts,
)
from sabueso.case.word_lists import WORDS
from sabueso.intake.settings import ReadSettings

if TYPE_CHECKING:
    from sabueso.screens.rules.declared import AnyRule


class Plan(Section):
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
            if not all(TABLE_NAME.fullmatch(part) for part in name.split(".")):
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
            if not TABLE_NAME.fullmatch(name):
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
            if not TABLE_NAME.fullmatch(name):
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
    if not TABLE_NAME.fullmatch(name):
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
