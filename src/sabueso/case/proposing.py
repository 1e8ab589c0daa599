"""What a folder of files may become: tables, told by their columns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import NamedTuple

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.layout import OWN_FOLDERS, REGISTER
from sabueso.case.plan_parts import TableSection
from sabueso.case.proposed_programme import Proposed as Screened
from sabueso.case.renamed import kinds_held, kinds_of, renamed, under_names
from sabueso.case.table_names import free_name, named_after, named_after_sheet
from sabueso.case.taken import TakeReport
from sabueso.intake.formats.called import folded
from sabueso.intake.formats.currencies import states_currency
from sabueso.intake.interface import Layout
from sabueso.intake.readers.audit_export import files_of
from sabueso.intake.readers.choice import readable, reader_for
from sabueso.intake.settings import ReadSettings
from sabueso.population.links import Link
from sabueso.population.table import HEADING

LEAST_OF_A_SHEET = 10
"""Rows of a further sheet from which it is a table of its own."""
LEAST_OF_A_LIST, FILLED = 3, 0.9
"""The same of a list of three columns and more, such as of the house's people, and the share of its cells that are filled."""
LOOKED_AT = 50
"""Rows of a file of which it is asked whether they say a currency."""
_NO_ROWS = "no row under what would be its header has as many cells as that"


@dataclass(frozen=True)
class Proposed:
    """Files with the same columns, and the table that they may become; ``known`` where the case has
    it already, ``says_currency`` where the first of them says one. ``sheet`` is that of a workbook whose
    longest sheet is another table, ``names`` the columns that later files call otherwise, with what the table calls them."""

    table: str
    files: tuple[Path, ...]
    columns: tuple[str, ...]
    known: bool = False
    says_currency: bool = False
    sheet: str = ""
    names: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Alike:
    """A table whose files are called as those of another are, and have most of its columns; ``beside`` are
    those that one has and the other has not."""

    table: str
    other: str
    beside: tuple[str, ...]


@dataclass(frozen=True)
class Proposal:
    """What a folder holds, and what no reader takes, with the reason."""

    tables: list[Proposed]
    unread: list[tuple[Path, str]]
    alike: list[Alike] = field(default_factory=list)


@dataclass(frozen=True)
class Worked:
    """What became of a proposal: tables taken in, those refused with the reason, the links found, and the
    screens that were written to a plan without any."""

    proposal: Proposal
    taken: list[TakeReport] = field(default_factory=list)
    refused: list[tuple[str, str]] = field(default_factory=list)
    links: list[Link] = field(default_factory=list)
    kept: frozenset[tuple[str, str]] = frozenset()
    screens: list[Screened] = field(default_factory=list)
    done: bool = False


def propose(case: Case, paths: Sequence[str]) -> Proposal:
    """Tables that files may become: those with the same columns are one.

    Raises
    ------
    UserError
        If a path names nothing, or nothing in it can be read.
    """
    read = _read(case, paths)
    unread, sheets = read.unread, read.sheets
    if not read.groups:
        first = f": {unread[0][0].name}: {unread[0][1]}" if unread else ""
        raise UserError(f"{', '.join(paths)}: no file of it can be read{first}")
    columns_held = {
        name: source.columns for name in case.plan.tables for source in case.sources(name)[-1:]
    }
    columns_of: dict[str, Sequence[str]] = {
        name: [c.name for c in columns if not c.is_place] for name, columns in columns_held.items()
    }
    held = dict(columns_of)
    known = {
        _Kind(_key(columns), case.plan.tables[name].read.sheet or ""): name
        for name, columns in held.items()
    }
    tables: list[Proposed] = []
    alike: list[Alike] = []
    # What the plan says of a table before its first file, such as rates, is said of the files that are called so.
    taken = {name.lower() for name in held}
    # Of tables called alike the one of most files has the name.
    for kind, found in sorted(read.groups.items(), key=lambda group: -len(group[1])):
        files = tuple(path for path, _, _ in found)
        name = known.get(kind) or known.get(_Kind(kind.columns, sheets.get(files[0], "")))
        if name is None and not kind.sheet:
            name = _made_of(found[0][1], held, case.plan.tables) or _called_so(
                found[0][1], known, case.plan.tables
            )
        is_known = name is not None
        if name is None:
            sheet = kind.sheet or (sheets.get(files[0], "") if len(files) == 1 else "")
            wanted = named_after_sheet(sheet) or named_after(files, found[0][2])
            if not sheet and _is_one_with(tables, wanted, read, kind, files):
                continue
            if not sheet and wanted in held:
                names = renamed(kinds_of(read.layouts[kind]), kinds_held(columns_held[wanted]))
                if names is not None:
                    said = {**case.plan.tables[wanted].read.names, **names}
                    tables.append(Proposed(wanted, files, found[0][1], True, names=said))
                    continue
            name = free_name(wanted, taken)
            taken.add(name.lower())
            columns_of[name] = found[0][1]
            if name != wanted and wanted in columns_of:
                beside = _beside(columns_of[name], columns_of[wanted])
                alike += [Alike(name, wanted, beside)] if beside else []
        there = next((t for t in tables if is_known and t.table == name and not t.sheet), None)
        if there is not None and not kind.sheet:  # under other names, which the plan says
            tables.remove(there)
            files = tuple(sorted((*there.files, *files)))
        tables.append(
            Proposed(name, files, found[0][1], is_known, kind in read.saying, sheet=kind.sheet)
        )
    return Proposal(sorted(tables, key=lambda each: each.table), unread, alike)


def _is_one_with(
    tables: list[Proposed], wanted: str, read: _Read, kind: _Kind, files: tuple[Path, ...]
) -> bool:
    """Whether files are of a new table that is called as they are, and have its columns under other names: they go
    there."""
    for place, each in enumerate(tables):
        if each.table != wanted or each.known or each.sheet:
            continue
        before = read.layouts[_Kind(_key(each.columns))]
        names = renamed(kinds_of(read.layouts[kind]), kinds_of(before))
        if names is None or names.keys() & each.names.keys():
            return False
        tables[place] = replace(
            each, files=tuple(sorted((*each.files, *files))), names={**each.names, **names}
        )
        return True
    return False


def _called_so(
    header: Sequence[str], known: Mapping[_Kind, str], tables: Mapping[str, TableSection]
) -> str | None:
    """The table that has a file's columns under the names that its plan says."""
    for kind, name in known.items():
        said = tables[name].read.names
        if said and not kind.sheet and _key(under_names(header, said)) == kind.columns:
            return name
    return None


@dataclass
class _Read:
    """Files by the table that they may be: with their columns and the folder they were found through. ``layouts`` is the
    first of each, ``saying`` are
    those that say a currency, ``sheets`` the sheet of a workbook that has further tables."""

    groups: dict[_Kind, list[tuple[Path, tuple[str, ...], Path]]] = field(default_factory=dict)
    layouts: dict[_Kind, Layout] = field(default_factory=dict)
    saying: set[_Kind] = field(default_factory=set)
    sheets: dict[Path, str] = field(default_factory=dict)
    unread: list[tuple[Path, str]] = field(default_factory=list)


def _read(case: Case, paths: Sequence[str]) -> _Read:
    """The header and first rows of every file."""
    read = _Read()
    for root, path in _files(case, paths):
        try:
            if files_of(path):
                continue  # it describes others, which are read by it
            with readable(path):
                layout = reader_for(path).layout(path, ReadSettings())
        except UserError as error:
            read.unread.append((path, str(error).removeprefix(f"{path}: ")))
            continue
        if _is_prose(path, layout):
            read.unread.append((path, "no table: lines of words"))
            continue
        if not layout.sample.num_rows:
            read.unread.append((path, f"no table: {_NO_ROWS}"))
            continue
        further = _further_sheets(path, layout)
        if further and len(layout.sheets) == 1:
            read.sheets[path] = layout.sheet
        for sheet, own in {"": layout, **further}.items():
            kind = _Kind(_key(own.header), sheet)
            if kind not in read.groups and _says_currency(own):
                read.saying.add(kind)
            read.layouts.setdefault(kind, own)
            read.groups.setdefault(kind, []).append((path, tuple(own.header), root))
    return read


class _Kind(NamedTuple):
    """What tells one table from another: its columns, and its sheet where that is not a workbook's longest."""

    columns: tuple[str, ...]
    sheet: str = ""


def _further_sheets(path: Path, layout: Layout) -> dict[str, Layout]:
    """The other sheets of a workbook that are tables: of some columns and rows, most cells of which are filled."""
    found: dict[str, Layout] = {}
    for sheet in layout.others:
        try:
            own = reader_for(path).layout(path, ReadSettings(sheet=sheet))
        except UserError:
            continue
        rows, columns = own.sample.num_rows, own.sample.num_columns
        filled = sum(sum(map(bool, column.to_pylist())) for column in own.sample.columns)
        is_list = columns >= 3 and filled >= FILLED * rows * columns
        least = LEAST_OF_A_LIST if is_list else LEAST_OF_A_SHEET
        if columns >= 2 and rows >= least and 2 * filled >= rows * columns:
            found[sheet] = own
    return found


def _says_currency(layout: Layout) -> bool:
    """Whether the first rows of a file, or its header, say a currency."""
    sample = layout.sample.slice(0, LOOKED_AT)
    texts = {
        name: [value for value in sample.column(name).to_pylist() if isinstance(value, str)]
        for name in sample.column_names
    }
    return states_currency(texts)


def _made_by(table: TableSection, name: str) -> bool:
    """Whether intake makes a column of that name for a table: the amount of a debit and a credit, or by rates, the period
    of a file's name, what stands in lines above the rows."""
    if name == HEADING:
        return True
    if name == "period":
        return bool(table.read.period or table.read.months or table.roles.get("date") == name)
    sides = {"debit", "credit"} <= table.roles.keys()
    return name == table.roles.get("amount") and (sides or bool(table.read.rates))


def _made_of(
    header: Sequence[str],
    columns_of: Mapping[str, Sequence[str]],
    tables: Mapping[str, TableSection],
) -> str | None:
    """The table that has a file's columns and, beside them, none but those that intake made of such columns."""
    mine = set(_key(header))
    for name, columns in columns_of.items():
        beside = [c for c in columns if _key([c])[0] not in mine]
        made = [c for c in beside if _made_by(tables[name], c)]
        if beside and len(made) == len(beside) and len(columns) - len(beside) == len(mine):
            return name
    return None


MOSTLY_ALIKE = 0.5
"""Share of the columns of two tables from which those that both have make them alike."""
LEAST_WORDS = 6
"""Words of the only column's name from which a text file holds sentences."""


def _key(columns: Sequence[str]) -> tuple[str, ...]:
    """What tells the columns of one table from those of another: capitals, accents, blanks and marks do not."""
    return tuple(sorted(folded(name) or name for name in columns))


def _beside(one: Sequence[str], other: Sequence[str]) -> tuple[str, ...]:
    """The columns that one of two tables lacks; none where both have too few of the same to be alike."""
    mine, its = _key(one), _key(other)
    every = {folded(name) or name: name for name in (*other, *one)}
    beside = tuple(name for key, name in every.items() if key not in mine or key not in its)
    return beside if len(beside) <= (1 - MOSTLY_ALIKE) * len(every) else ()


def _is_prose(path: Path, layout: Layout) -> bool:
    """Whether a file of text is written to be read: one column under a sentence."""
    plain = path.suffix.lower() in (".txt", ".md", ".log")
    return plain and len(layout.header) == 1 and len(layout.header[0].split()) >= LEAST_WORDS


def _files(case: Case, paths: Sequence[str]) -> list[tuple[Path, Path]]:
    """Every file with the folder it was found through, the case's own left alone."""
    found: list[tuple[Path, Path]] = []
    own = [case.folder / name for name in OWN_FOLDERS]
    for text in paths:
        given = Path.cwd() / text
        if given.is_file():
            found.append((given.parent, given))
        elif given.is_dir():
            for path in sorted(given.rglob("*")):
                inside = path.relative_to(given).parts
                mine = any(folder in path.parents for folder in own)
                if path.is_file() and not mine and not any(p.startswith(".") for p in inside):
                    found.append((given, path))
        else:
            raise UserError(f"{text}: there is no such file or folder")
    own_files = {case.plan_path.resolve(), (case.folder / REGISTER).resolve()}
    return [(root, path) for root, path in found if path.resolve() not in own_files]
