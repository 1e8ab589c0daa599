"""A case's tables, put together from the sources that the register has of them and from its plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from sabueso.base.currencies import coded
from sabueso.base.errors import UserError, nearest
from sabueso.population.table import Column, Derived, Linked, Part, Table, unify

if TYPE_CHECKING:
    from sabueso.case.events import Source
    from sabueso.case.plan import Plan
    from sabueso.case.plan_parts import TableSection


class Sourced(Protocol):
    """What a case has that its tables are made of."""

    folder: Path
    plan_path: Path
    derived: dict[tuple[str, tuple[Column, ...]], tuple[Derived, ...]]

    @property
    def plan(self) -> Plan: ...
    def sources(self, table: str | None = None) -> list[Source]: ...
    def check_unaltered(self, source: Source) -> None: ...
    def part(self, source: Source) -> Part: ...


def table_of(case: Sourced, name: str, links: int) -> Table:
    """A table of a case with its roles and the tables it is linked with, so many links on.

    Raises
    ------
    UserError
        If it is not in the plan, has no rows yet, or a role names a column it lacks.
    """
    name = case.plan.base_of(name)
    if name not in case.plan.tables:
        hint = (
            nearest(name, [*case.plan.tables, *case.plan.populations])
            or "; take files in with: sabueso intake PATH --as TABLE"
        )
        raise UserError(f"there is no table {name!r}{hint}")
    found = case.sources(name)
    if not found:
        raise UserError(f"table {name!r} has no rows yet; take its files in with sabueso intake")
    section = case.plan.tables[name]
    parts = _parts(case, found)
    table = Table(
        name=name,
        prefix=section.prefix,
        columns=unify(parts, name),
        parts=tuple(parts),
        roles=dict(section.roles),
        currency=currency_of(case, found, section),
        fiscal_year_starts=case.plan.case.fiscal_year_starts,
        links=_links(case, name, links - 1) if links else {},
        rules=tuple(section.rules),
        facts=case.plan.facts_by_name(),
        quarantined=tuple(sorted((case.folder / "quarantine" / name).glob("*.csv"))),
    )
    table = _with_derived(case, _linked_with_itself(case, table, section), section)
    _check_roles(case, table, section)
    return table


def currency_of(case: Sourced, sources: Sequence[Source], section: TableSection) -> str:
    """The currency of the amounts: the one that the rows state, where they do and no rate converts
    them."""
    stated = [c for source in sources for c in source.currencies]
    own = case.plan.case.currency
    return coded(stated[0], own) if stated and not section.read.rates else own


def _parts(case: Sourced, sources: Sequence[Source]) -> list[Part]:
    """The files of rows, those with the same columns and the same place together."""
    groups: dict[tuple[tuple[Column, ...], Path | None], list[Path]] = {}
    for source in sources:
        case.check_unaltered(source)
        part = case.part(source)
        (file,) = part.files
        groups.setdefault((part.columns, part.base), []).append(file)
    return [Part(columns, tuple(files), base) for (columns, base), files in groups.items()]


def _with_derived(case: Sourced, table: Table, section: TableSection) -> Table:
    """With the columns that the plan derives."""
    if not section.columns:
        return table
    from sabueso.population.derived import with_derived

    # Their types take an engine to tell: once a command, however often the table is asked for.
    known = case.derived.get((table.name, table.columns))
    if known is None:
        place = f"{case.plan_path}: tables.{table.name}.columns"
        known = with_derived(table, section.columns, place).derived
        case.derived[table.name, table.columns] = known
    columns = (*table.columns, *(each.column for each in known))
    return replace(table, columns=columns, derived=known)


def _check_roles(case: Sourced, table: Table, section: TableSection) -> None:
    names = [column.name for column in table.columns]
    for role, column in section.roles.items():
        if column not in names:
            raise UserError(
                f"{case.plan_path}: tables.{table.name}.roles.{role} names the column {column!r}, "
                f"which the table lacks{nearest(column, names)}"
            )


def _linked_with_itself(case: Sourced, table: Table, section: TableSection) -> Table:
    """With those of the plan's links that lead from the table to itself."""
    targets = {c: target.partition(".") for c, target in section.links.items()}
    own = {c: key for c, (other, _, key) in targets.items() if other == table.name and key}
    try:
        return table.linked_with_itself({c: table.column(key).name for c, key in own.items()})
    except UserError as error:
        raise UserError(f"{case.plan_path}: tables.{table.name}.links: {error}") from None


def _links(case: Sourced, name: str, links: int) -> dict[str, Linked]:
    """The plan's links of a table, as far as their tables have rows, with so many links of theirs."""
    found = {}
    tables = case.plan.tables
    for column, target in tables[name].links.items():
        other, _, key = target.partition(".")
        place = f"{case.plan_path}: tables.{name}.links.{column}"
        if other not in tables or not key:
            raise UserError(f"{place} = {target!r}: expected table.column{nearest(other, tables)}")
        if other != name and case.sources(other):
            table = table_of(case, other, links)
            try:
                found[column] = Linked(table, table.column(key).name)
            except UserError as error:
                raise UserError(f"{place}: {error}") from None
    return found
