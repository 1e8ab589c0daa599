"""The plan written: its comments and order kept, and nothing saved that is no plan."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from pydantic import ValidationError

from sabueso.base.errors import UserError
from sabueso.base.files import write_whole
from sabueso.base.plain import Json, Values
from sabueso.case.plan import Plan
from sabueso.case.plan_parts import ViewSection

UNSAID = 'currency = "EUR", until the amounts state theirs or it is said here'


def new_plan(name: str, currency: str | None, server: tuple[str, str] | None = None) -> str:
    """The text of a plan for a case without tables, its register on a server where one is given."""
    import tomlkit

    document = tomlkit.document()
    document.add(tomlkit.comment("The plan of this case: edit it at will, the program keeps it."))
    section = tomlkit.table()
    section.add("name", name)
    if currency is None:
        section.add(tomlkit.comment(UNSAID))
    else:
        section.add("currency", currency)
    section.add("fiscal_year_starts", tomlkit.item(1).comment("month"))
    document.add("case", section)
    if server:
        document.add("register", _server(server))
    return tomlkit.dumps(document)


def write_server(path: Path, server: tuple[str, str]) -> None:
    """Say in the plan that the register lies on a server."""
    document = _document(path)
    document["register"] = _server(server)
    _save(path, document)


def _server(server: tuple[str, str]) -> Any:
    import tomlkit

    section = tomlkit.table()
    for key, value in zip(("url", "schema"), server, strict=True):
        section.add(key, value)
    return section


def _document(path: Path) -> Any:
    """The plan with its comments and order, to be edited."""
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        return tomlkit.parse(path.read_text(encoding="utf-8-sig"))
    except TOMLKitError as error:
        raise UserError(f"{path}: {error}") from None


def _save(path: Path, document: Any) -> None:
    """Write an edited plan, once it is seen to be one.

    Raises
    ------
    UserError
        If the edit does not fit the form in which the plan is written.
    """
    import tomlkit

    text = tomlkit.dumps(document)
    try:
        Plan(**tomllib.loads(text))
    except (tomllib.TOMLDecodeError, ValidationError):
        raise UserError(
            f"{path}: it is written in a form that cannot be added to (such as tables = {{ … }} on "
            "one line); write its tables and screens under headings, [tables.NAME] and [[screens]]"
        ) from None
    write_whole(path, text.encode())


def write_table(
    path: Path,
    name: str,
    prefix: str,
    sources: list[str],
    roles: dict[str, str],
    read: Mapping[str, Any],
) -> None:
    """Add a table to the plan, or new sources and roles to one that is there, and how it is read as
    far as that was said."""
    import tomlkit

    document = _document(path)
    tables: Any = document.get("tables")
    fresh = False
    if tables is None:
        tables = tomlkit.table(is_super_table=True)
        document.add("tables", tables)
    if name not in tables:
        section = tomlkit.table()
        section.add("prefix", prefix)
        section.add("sources", [])
        tables.add(name, section)
        fresh = True
    section = tables[name]
    for key, value in (("prefix", prefix), ("sources", [])):
        if key not in section:
            _add_key(section, key, value)
    known = section["sources"]
    for source in sources:
        if source not in known:
            known.append(source)
    if read:
        if "read" not in section:
            _add_key(section, "read", tomlkit.inline_table())
        section["read"].update(dict(read))
    if roles and "roles" not in section:
        _add_key(section, "roles", tomlkit.inline_table())
    for role, column in roles.items():
        if role not in section["roles"]:
            section["roles"].update({role: column})
    if fresh:
        section.add(tomlkit.nl())
    _save(path, document)


def _add_key(section: Any, key: str, value: Any) -> None:
    """Add a key to a table of the plan before the tables within it: after them it would be one of
    theirs."""
    within = [name for name, item in section.items() if _is_table(item)]
    held = [(name, section.pop(name)) for name in within]
    section.add(key, value)
    for name, item in held:
        section.add(name, item)


def _is_table(item: Any) -> bool:
    from tomlkit.items import AoT, Table

    return isinstance(item, (AoT, Table))


def write_links(
    path: Path,
    links: Mapping[str, Mapping[str, str]],
    roles: Mapping[str, Mapping[str, str]] | None = None,
    columns: Mapping[str, Mapping[str, str]] | None = None,
) -> None:
    """Add links between tables to the plan: by table, column = "table.column"; the roles that they tell, and the derived
    columns that they are of. Those there stay."""
    import tomlkit

    document = _document(path)
    tables: Any = document["tables"]
    for part, of_tables in (("columns", columns or {}), ("links", links), ("roles", roles or {})):
        for name, found in of_tables.items():
            section = tables[name]
            if part not in section:
                section.add(part, tomlkit.inline_table())
            for key, value in found.items():
                if key not in section[part]:
                    section[part].update({key: value})
    _save(path, document)


def write_currency(path: Path, currency: str, table: str) -> None:
    """Set the currency of the case to that which the amounts of a table state."""
    import tomlkit

    document = _document(path)
    text = tomlkit.dumps(document)
    stated = {"currency": currency, "currency_of": table}
    if f"# {UNSAID}\n" in text:
        lines = tomlkit.dumps(stated)
        document = tomlkit.parse(text.replace(f"# {UNSAID}\n", lines))
    else:
        case: Any = document["case"]
        case.update(stated)
    _save(path, document)


def write_facts(path: Path, facts: Values) -> None:
    """Add facts to the plan, groups of them as tables of their own. Those there stay."""
    import tomlkit

    document = _document(path)
    section: Any = document.setdefault("facts", tomlkit.table())
    for name, value in facts.items():
        if name not in section:
            section.add(name, value)
    _save(path, document)


def write_withdrawn(path: Path, table: str, *, whole: bool) -> None:
    """Take a table out of the plan, or, where something else names it, its sources."""
    document = _document(path)
    tables: Any = document["tables"]
    if whole:
        tables.remove(table)
    else:
        tables[table]["sources"] = []
    _save(path, document)


def write_rules(path: Path, table: str, prefix: str, rules: Sequence[Json]) -> None:
    """Declare rules of a table that has none yet."""
    import tomlkit

    document = _document(path)
    tables: Any = document.setdefault("tables", tomlkit.table(is_super_table=True))
    section = tomlkit.table()
    section.add("prefix", prefix)
    section.add("sources", [])
    section.add(tomlkit.nl())
    listed = tomlkit.aot()
    for rule in rules:
        item = tomlkit.table()
        item.update(rule)
        listed.append(item)
    section.add("rules", listed)
    tables.add(table, section)
    _save(path, document)


class NewScreen(NamedTuple):
    """A screen as it is written to the plan."""

    name: str
    test: str
    table: str
    settings: Values
    purpose: str = ""

    def section(self) -> Values:
        told = {"purpose": self.purpose} if self.purpose else {}
        named = {"name": self.name, "test": self.test, "table": self.table}
        return {**named, **told, **self.settings}


def write_screens(path: Path, screens: Sequence[NewScreen]) -> None:
    """Append screens to the programme; a screen that has the name of one is put in its place."""
    _write_named(path, "screens", [screen.section() for screen in screens])


def remove_screen(path: Path, name: str) -> None:
    """Take a screen out of the programme again."""
    document = _document(path)
    listed: Any = document["screens"]
    place = [str(each.get("name")) for each in listed].index(name)
    if len(listed) > 1:
        del listed[place]
    else:
        document.remove("screens")
    _save(path, document)


def write_view(path: Path, view: ViewSection) -> None:
    """Append a view to the plan; a view of that name is replaced in place."""
    _write_named(path, "views", [view.model_dump(exclude_defaults=True)])


def _write_named(path: Path, what: str, sections: Sequence[Values]) -> None:
    """Append sections to a list of those that have names, or put each in the place of its namesake."""
    import tomlkit

    document = _document(path)
    listed: Any = document.get(what)
    if listed is None:
        listed = tomlkit.aot()
        document.add(what, listed)
    names = [str(each.get("name")) for each in listed]
    for values in sections:
        section = tomlkit.table()
        for key, value in values.items():
            section.add(key, value)
        if values is sections[-1]:
            section.add(tomlkit.nl())
        if values["name"] in names:
            listed[names.index(values["name"])] = section
        else:
            listed.append(section)
            names.append(values["name"])
    _save(path, document)
