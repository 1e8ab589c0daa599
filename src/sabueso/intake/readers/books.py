"""Workbooks as sheets of rows, whatever the file is: a spreadsheet, a page of HTML tables, or the XML
in which spreadsheets were written in 2003. All three are found under the suffix .xls.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal, InvalidOperation
from itertools import islice
from pathlib import Path
from typing import Any, Protocol

from sabueso.base.errors import UserError
from sabueso.intake.readers.source import is_text, opened, other_encoding
from sabueso.intake.readers.workbook_looks import Looks, looks_of
from sabueso.intake.readers.xml_elements import SAFELY, elements

Row = tuple[int, Sequence[Any]]
"""The number of a row as the sheet shows it, and its cells; an empty cell is an empty text."""
_SHEET_XML = "urn:schemas-microsoft-com:office:spreadsheet"
_INDEX = f"{{{_SHEET_XML}}}Index"
MOST_COLUMNS = 20_000


class Book(Protocol):
    """Sheets of rows."""

    @property
    def names(self) -> list[str]:
        """The sheets' names, in order."""

    def height(self, name: str) -> int:
        """The number of the last row of a sheet."""

    def rows(self, name: str) -> Iterator[Row]:
        """The rows of a sheet."""

    def hidden(self) -> list[str]:
        """Sheets that are not shown."""

    def looks(self, name: str, header_row: int) -> Looks:
        """What is known of a sheet's cells below the header, by their places in its rows."""


def is_marked_up(path: Path) -> bool:
    """Whether a text begins with a mark of XML or HTML."""
    with opened(path) as file:
        head = file.read(4096)
    text = head.decode("utf-16" if head[:2] in (b"\xff\xfe", b"\xfe\xff") else "latin-1", "replace")
    return text.lstrip("\ufeffï»¿ \t\r\n").startswith("<")


def open_book(path: Path) -> Book:
    """The sheets of a file.

    Raises
    ------
    UserError
        If it is no workbook that can be read.
    """
    if is_text(path):
        return _Xml2003.of(path) if _is_xml_2003(path) else _Html.of(path)
    return _Spreadsheet.of(path)


class _Shown:
    """A workbook of which no more is known than its rows."""

    def hidden(self) -> list[str]:
        return []

    def looks(self, name: str, header_row: int) -> Looks:
        return Looks()


@dataclass(frozen=True)
class _Spreadsheet:
    """A workbook by the library, which reads a sheet whole each time it is asked for: the last one is kept."""

    path: Path
    book: Any
    kept: dict[str, Any] = field(default_factory=dict)
    spans: dict[str, tuple[int, int, int]] = field(default_factory=dict)

    @classmethod
    def of(cls, path: Path) -> _Spreadsheet:
        from python_calamine import CalamineError, CalamineWorkbook

        try:
            return cls(path, CalamineWorkbook.from_path(str(path)))
        except (CalamineError, OSError, ValueError) as error:
            reason = (str(error).strip().splitlines() or ["no reason was given"])[0]
            raise UserError(f"{path}: cannot be read as a spreadsheet: {reason}") from None

    @property
    def names(self) -> list[str]:
        return list(self.book.sheet_names)

    def _sheet(self, name: str) -> Any:
        if name not in self.kept:
            self.kept.clear()
            self.kept[name] = sheet = self.book.get_sheet_by_name(name)
            row, column = sheet.start or (0, 0)
            self.spans[name] = row, column, 0 if sheet.end is None else int(sheet.end[0]) + 1
        return self.kept[name]

    def _span(self, name: str) -> tuple[int, int, int]:
        """The first row and column of a sheet that have something, from 0, and its height."""
        if name not in self.spans:
            self._sheet(name)
        return self.spans[name]

    def height(self, name: str) -> int:
        return self._span(name)[2]

    def rows(self, name: str) -> Iterator[Row]:
        start = self._span(name)[0]
        yield from enumerate(islice(self._sheet(name).iter_rows(), start, None), start + 1)

    def hidden(self) -> list[str]:
        from python_calamine import SheetVisibleEnum

        shown = SheetVisibleEnum.Visible
        return [s.name for s in self.book.sheets_metadata if s.visible != shown]

    def looks(self, name: str, header_row: int) -> Looks:
        # Rows begin at the first column that has something.
        return looks_of(self.path, name, header_row).from_place(self._span(name)[1])


@dataclass(frozen=True)
class _Html(_Shown):
    """The tables of a page, each a sheet; a table within another is one of its own."""

    path: Path
    encoding: str | None
    heights: dict[str, int]

    @classmethod
    def of(cls, path: Path) -> _Html:
        found = cls(path, _declared(path), {})
        for name, number, _ in found._all():
            found.heights[name] = number
        if not found.heights:
            raise UserError(f"{path}: the page holds no table")
        return found

    @property
    def names(self) -> list[str]:
        return list(self.heights)

    def height(self, name: str) -> int:
        return self.heights[name]

    def rows(self, name: str) -> Iterator[Row]:
        yield from ((number, cells) for table, number, cells in self._all() if table == name)

    def _all(self) -> Iterator[tuple[str, int, list[str]]]:
        from lxml import etree

        counts: list[int] = []
        spans: list[dict[int, int]] = []
        within: list[int] = []
        with opened(self.path) as raw:
            # The library knows fewer encodings than Python does.
            told = self.encoding is not None
            file: Any = codecs.EncodedFile(raw, "utf-8", self.encoding, "replace") if told else raw
            context = etree.iterparse(
                file, events=("start", "end"), tag=("table", "tr"), html=True, encoding="utf-8" if told else None,
                no_network=True, huge_tree=False, remove_comments=True,
            )  # fmt: skip
            try:
                for event, element in context:
                    if element.tag == "table":
                        if event == "start":
                            counts.append(0)
                            spans.append({})
                            within.append(len(counts))
                        elif within:
                            within.pop()
                    elif event == "end" and within:
                        place = within[-1]
                        counts[place - 1] += 1
                        yield (
                            f"table {place}",
                            counts[place - 1],
                            _cells_of(element, spans[place - 1]),
                        )
                        element.clear()
                        while element.getprevious() is not None:
                            del element.getparent()[0]
            except etree.XMLSyntaxError as error:
                line, reason = error.lineno or 0, error.msg or "it is no page"
                raise UserError(f"{self.path}, line {line}: {reason}") from None


def _cells_of(row: Any, spans: dict[int, int]) -> list[str]:
    """The texts of a row's cells. One that spans several columns or rows leaves the others empty, as a
    merged cell of a spreadsheet does; ``spans`` are the rows that cells above still reach into."""
    cells: list[str] = []

    def filled() -> None:
        while spans.get(len(cells), 0):
            spans[len(cells)] -= 1
            cells.append("")

    for cell in row:
        if cell.tag not in ("td", "th"):
            continue
        filled()
        wide = min(max(_whole(cell, "colspan"), 1), MOST_COLUMNS)
        deep = _whole(cell, "rowspan") - 1
        text = " ".join("".join(cell.itertext()).split())
        for place in range(wide):
            if deep > 0:
                spans[len(cells)] = deep
            cells.append("" if place else text)
    filled()
    return cells


def _whole(cell: Any, name: str) -> int:
    text = cell.get(name, "1").strip()
    return int(text) if text.isdigit() else 1


def _declared(path: Path) -> str | None:
    """The encoding of a page that declares none and is not UTF-8."""
    with opened(path) as file:
        head = file.read(1 << 20)
    if head[:2] in (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE):
        return "utf-16"
    if re.search(rb"(?i)charset\s*=|encoding\s*=", head[:4096]):
        return None
    try:
        head[: head.rfind(b"\n") + 1].decode("utf-8")
    except UnicodeDecodeError:
        return other_encoding(path)[0]
    return "utf-8"


def _is_xml_2003(path: Path) -> bool:
    from lxml import etree

    try:
        with opened(path) as file:
            for _, element in etree.iterparse(file, events=("start",), **SAFELY):
                name = etree.QName(element)
                return name.localname == "Workbook" and name.namespace == _SHEET_XML
    except etree.XMLSyntaxError:
        return False
    return False


@dataclass(frozen=True)
class _Xml2003(_Shown):
    path: Path
    heights: dict[str, int]

    @classmethod
    def of(cls, path: Path) -> _Xml2003:
        found = cls(path, {})
        for name, number, cells in found._all():
            found.heights[name] = number if cells else found.heights.get(name, 0)
        return found

    @property
    def names(self) -> list[str]:
        return list(self.heights)

    def height(self, name: str) -> int:
        return self.heights[name]

    def rows(self, name: str) -> Iterator[Row]:
        yield from ((number, row) for sheet, number, row in self._all() if sheet == name and row)

    def _all(self) -> Iterator[tuple[str, int, list[Any]]]:
        """(sheet, row, cells); a row without cells where a sheet ends."""
        from lxml import etree

        number, last = 0, None
        for kind, element in elements(self.path, "Row", ("Worksheet",)):
            if kind == "Worksheet":
                yield element.get(f"{{{_SHEET_XML}}}Name", "sheet"), number, []
                number, last = 0, None
                continue
            sheet = next((a for a in element.iterancestors(f"{{{_SHEET_XML}}}Worksheet")), None)
            name = "sheet" if sheet is None else sheet.get(f"{{{_SHEET_XML}}}Name", "sheet")
            if name != last:
                number, last = 0, name
            given = element.get(_INDEX, "")
            number = int(given) if given.isdigit() else number + 1
            cells: list[Any] = []
            for cell in element:
                if etree.QName(cell).localname != "Cell":
                    continue
                place = cell.get(_INDEX, "")
                while place.isdigit() and len(cells) < min(int(place) - 1, MOST_COLUMNS):
                    cells.append("")
                cells.append(_value(cell.find(f"{{{_SHEET_XML}}}Data")))
                merged = cell.get(f"{{{_SHEET_XML}}}MergeAcross", "")
                cells += [""] * min(int(merged) if merged.isdigit() else 0, MOST_COLUMNS)
            yield name, number, cells or [""]


def _value(data: Any) -> Any:
    if data is None:
        return ""
    text = "".join(data.itertext()).strip()
    kind = data.get(f"{{{_SHEET_XML}}}Type", "String")
    try:
        if kind == "DateTime" and text:
            return datetime.fromisoformat(text)
        if kind == "Number" and text:
            number = Decimal(text)
            return float(text) if number.is_finite() else text
    except (ValueError, InvalidOperation):
        return text
    if kind == "Error":
        return ""
    return text
