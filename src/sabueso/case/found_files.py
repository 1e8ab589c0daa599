"""The files of a folder as they are found: those of the same columns together, and what no reader takes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.layout import OWN_FOLDERS, REGISTER
from sabueso.intake.formats.called import folded
from sabueso.intake.formats.currencies import states_currency
from sabueso.intake.interface import Layout
from sabueso.intake.readers.audit_export import files_of
from sabueso.intake.readers.choice import readable, reader_for
from sabueso.intake.settings import ReadSettings

LEAST_OF_A_SHEET = 10
"""Rows of a further sheet from which it is a table of its own."""
LEAST_OF_A_LIST, FILLED = 3, 0.9
"""The same of a list of three columns and more, such as of the house's people, and the share of its cells that are filled."""
LOOKED_AT = 50
"""Rows of a file of which it is asked whether they say a currency."""
_NO_ROWS = "no row stands under what would be its header, or none with as many cells as that"
LEAST_WORDS = 6
"""Words of the only column's name from which a text file holds sentences."""


class Kind(NamedTuple):
    """What tells one table from another: its columns, and its sheet where that is not a workbook's longest."""

    columns: tuple[str, ...]
    sheet: str = ""


def key_of(columns: Sequence[str]) -> tuple[str, ...]:
    """What tells the columns of one table from those of another: capitals, accents, blanks and marks do not."""
    return tuple(sorted(folded(name) or name for name in columns))


@dataclass
class Found:
    """Files by the table that they may be: with their columns and the folder they were found through. ``layouts`` is the
    first of each, ``saying`` are those that say a currency, ``sheets`` the sheet of a workbook that has further tables."""

    groups: dict[Kind, list[tuple[Path, tuple[str, ...], Path]]] = field(default_factory=dict)
    layouts: dict[Kind, Layout] = field(default_factory=dict)
    saying: set[Kind] = field(default_factory=set)
    sheets: dict[Path, str] = field(default_factory=dict)
    unread: list[tuple[Path, str]] = field(default_factory=list)


def found_files(case: Case, paths: Sequence[str]) -> Found:
    """The header and first rows of every file."""
    found = Found()
    for root, path in _files(case, paths):
        try:
            if files_of(path):
                continue  # it describes others, which are read by it
            with readable(path):
                layout = reader_for(path).layout(path, ReadSettings())
        except UserError as error:
            said = str(error).removeprefix(f"{path}")
            found.unread.append((path, said.removeprefix(": ").removeprefix(", ")))
            continue
        if _is_prose(path, layout):
            found.unread.append((path, "no table: lines of words"))
            continue
        if not layout.sample.num_rows:
            found.unread.append((path, f"no table: {_NO_ROWS}"))
            continue
        further = _further_sheets(path, layout)
        if further and len(layout.sheets) == 1:
            found.sheets[path] = layout.sheet
        for sheet, own in {"": layout, **further}.items():
            kind = Kind(key_of(own.header), sheet)
            if kind not in found.groups and _says_currency(own):
                found.saying.add(kind)
            found.layouts.setdefault(kind, own)
            found.groups.setdefault(kind, []).append((path, tuple(own.header), root))
    return found


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
