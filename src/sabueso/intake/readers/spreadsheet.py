"""Spreadsheets: .xlsx, .xlsm, .xls and .ods, by the values their cells last had, and pages of tables."""

from __future__ import annotations

from collections.abc import Collection, Generator, Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.base.words import first_few, listed
from sabueso.intake.formats.above import currency_above, one_year, scale_notes, year_above
from sabueso.intake.formats.header import find_header, joined_names
from sabueso.intake.formats.page_heads import page_heads, with_page_heads
from sabueso.intake.interface import Assumed, Batch, Layout
from sabueso.intake.readers.books import Book, is_marked_up, open_book
from sabueso.intake.readers.cells import (
    SAMPLE_ROWS,
    Record,
    alone_above,
    batches_of,
    column_names,
    counted,
    name_notes,
    text_of,
    text_table,
)
from sabueso.intake.readers.source import is_text, plain_suffix
from sabueso.intake.readers.workbook_looks import Looked
from sabueso.intake.readers.xml_elements import root_name
from sabueso.intake.settings import ReadSettings
from sabueso.report import numbers as num

LOOKED_AT = 50  # rows among which the header is looked for
MOST_NAMED = 12
"""Sheets that are named of those that are not of a table."""


@dataclass(frozen=True)
class _Sheet:
    name: str
    header: list[str]
    header_row: int
    columns: list[int]  # positions in the row
    notes: tuple[str, ...]
    currency: str = ""
    begins: str = ""
    year: str = ""
    heading: str = ""


@dataclass(frozen=True)
class _Workbook(Layout):
    taken: tuple[_Sheet, ...]


class SpreadsheetReader:
    """One sheet, or all sheets that have the same header."""

    suffixes = (".xlsx", ".xlsm", ".xls", ".ods", ".xml", ".html", ".htm")
    unit = "rows"

    def takes(self, path: Path) -> bool:
        if plain_suffix(path) == ".xml":
            return root_name(path)[1] == "Workbook"
        # Programs write text and pages under the suffix of a spreadsheet.
        return not is_text(path) or is_marked_up(path)

    def layout(self, path: Path, settings: ReadSettings) -> _Workbook:
        book = open_book(path)
        named = [settings.sheet] if settings.sheet else book.names
        if settings.sheet and settings.sheet not in book.names:
            names = ", ".join(map(repr, book.names))
            raise UserError(f"{path}: there is no sheet {settings.sheet!r}; it has {names}")
        found = [s for name in named if (s := _sheet(book, name, settings.header)) is not None]
        if not found and isinstance(settings.header, int):
            raise UserError(
                f"{path}: row {settings.header} is no header: it is empty, or not one of the first {LOOKED_AT}"
            )
        if not found:
            raise UserError(f"{path}: the workbook is empty; expected a header row and rows")
        # A cover sheet is no table: the longest sheet is, and those with its header.
        first = max(found, key=lambda s: book.height(s.name) - s.header_row)
        chosen = tuple(s for s in found if s.header == first.header)
        others = [s.name for s in found if s.header != first.header]
        notes = [*first.notes, *_hidden(book.hidden(), [s.name for s in chosen], others)]
        looked = Looked()
        for sheet in chosen:
            looked.add(book.looks(sheet.name, sheet.header_row), sheet.header, sheet.columns)
        notes += looked.notes(sum(book.height(s.name) - s.header_row for s in chosen))
        if others:
            names = first_few([*map(repr, others)], MOST_NAMED)
            text = f"of this table is sheet {first.name!r}, the longest; not of it, for their columns differ: {names}"
            notes.append(Assumed(text, "read.sheet"))
        stated = {s.currency: s.name for s in chosen if s.currency}
        if len(stated) > 1:
            said = listed([f"{code} (sheet {name!r})" for code, name in stated.items()])
            raise UserError(
                f"{path}: the lines above the tables state {said}, which do not add up; take the sheets in one by "
                "one, as tables of their own, with read.sheet"
            )
        sample = [dict(r) for _, r in islice(_records(book, first), SAMPLE_ROWS)]
        layout = _Workbook(
            header=first.header,
            header_line=first.header_row,
            described={
                "sheet" if len(chosen) == 1 else "sheets": ", ".join(s.name for s in chosen)
            },
            sample=text_table(first.header, sample),
            taken=chosen,
            sheets=tuple(s.name for s in chosen),
            others=tuple(others),
            currency=next(iter(stated), ""),
            year=_shared(s.begins for s in chosen),
            titled=_shared(s.year for s in chosen),
            heading=_shared(s.heading for s in chosen),
            sheet=first.name,
            units=looked.currencies,
            found={"header": first.header_row} if first.header_row > 1 else {},
            notes=tuple(notes),
            skipped=sum(s.header_row for s in chosen[1:]),
        )
        return with_page_heads(layout, _heads(book, first, settings))

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        assert isinstance(layout, _Workbook)
        book = open_book(path)
        for sheet in layout.taken:
            part = sheet.name if len(layout.taken) > 1 else ""
            yield from batches_of(layout.header, _records(book, sheet), part)
        rows = sum(book.height(sheet.name) for sheet in layout.taken)
        yield counted(layout.header, rows)


def _hidden(hidden: Sequence[str], taken: Sequence[str], others: Sequence[str]) -> list[str]:
    """What is said of sheets that a workbook does not show."""
    notes = []
    for names, done in ((taken, "taken in"), (others, "not taken")):
        if unseen := [name for name in names if name in hidden]:
            shown = listed(list(map(repr, unseen[:4]))) + (" …" if len(unseen) > 4 else "")
            which = num.verb(len(unseen), "sheet", "sheets")
            notes.append(
                f"{which} {shown} {num.verb(len(unseen), 'is', 'are')} hidden in the workbook, and {done}"
            )
    return notes


def _sheet(book: Book, name: str, given: int | str | None) -> _Sheet | None:
    """The header of a sheet: the first row that is about as wide as the table, and names it."""
    head = list(islice(book.rows(name), LOOKED_AT))
    filled = [[i for i, cell in enumerate(row) if cell not in ("", None)] for _, row in head]
    width = max(map(len, filled), default=0)
    if not width:
        return None
    last = max(max(p) for p in filled if p)
    start = min(min(p) for p in filled if len(p) >= max(0.6 * width, 1))
    columns = list(range(start, last + 1))
    cells = [[text_of(row[i]) or "" if i < len(row) else "" for i in columns] for _, row in head]
    found = find_header(cells)
    if found is None:
        return None
    place = found.row
    if isinstance(given, int):
        place = next((i for i, (number, _) in enumerate(head) if number == given), -1)
        if place < 0 or not any(text.strip() for text in cells[place]):
            return None
    notes: list[str] = []
    if given == "none" or (found.none and given is None):
        said = "the sheet has no header; the columns are named by their places, and which have roles is for you to say"
        notes.append(said if given else Assumed(said, "read.header"))
        texts = [f"column {i}" for i in range(1, len(columns) + 1)]
        return _Sheet(name, texts, head[place][0] - 1, columns, tuple(notes))
    texts, top = cells[place], place
    if found.above is not None and given is None:
        top = found.above
        texts = joined_names(cells[top], texts)
        text = f"the names stand in two rows, {head[top][0]} and {head[place][0]}"
        notes.append(Assumed(text, "read.header"))
    skipped = sum(map(bool, filled[:top]))
    if skipped:
        text = f"the header is row {head[place][0]}; {skipped} filled above {num.verb(skipped, 'is no row', 'are no rows')} of the table"
        notes.append(Assumed(text, "read.header"))
    notes += scale_notes(cells[:top])
    names = column_names(texts)
    notes += name_notes(texts, names)
    above = cells[:top]
    told = currency_above(above), year_above(above), one_year(above), alone_above(above)
    return _Sheet(name, names, head[place][0], columns, tuple(notes), *told)


def _heads(book: Book, sheet: _Sheet, settings: ReadSettings) -> frozenset[str]:
    """The heads of pages on a sheet."""
    if settings.headings == "none" or sheet.header_row < 2:
        return frozenset()
    last = sheet.header_row + SAMPLE_ROWS
    lines = [""] * last
    for number, row in islice(book.rows(sheet.name), last):
        if number <= last:
            lines[number - 1] = " ".join(filter(None, map(text_of, row)))
    return page_heads(lines, sheet.header_row)


def _shared(told: Iterable[str]) -> str:
    """What all sheets tell; nothing where one tells something else."""
    found = set(told)
    return found.pop() if len(found) == 1 else ""


def _records(book: Book, sheet: _Sheet) -> Iterator[Record]:
    for number, row in book.rows(sheet.name):
        if number > sheet.header_row:
            cells = (row[i] if i < len(row) else None for i in sheet.columns)
            yield number, dict(zip(sheet.header, map(text_of, cells), strict=True))
