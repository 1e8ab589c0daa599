"""What an .xlsx holds beside the values of its cells: currencies in their number formats, errors, formulas that were
never computed, and rows that are hidden. The sheets are searched as they lie in the file, a piece at a time."""

from __future__ import annotations

import re
import zipfile
import zlib
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

from sabueso.base.currencies import CODES, OF_ONE, OF_SEVERAL, of_one_currency
from sabueso.base.words import listed
from sabueso.intake.readers.xml_elements import SAFELY
from sabueso.report import numbers as num

PIECE = 1 << 20
_BOOK, _LINKS, _STYLES = "xl/workbook.xml", "xl/_rels/workbook.xml.rels", "xl/styles.xml"
_OF_DOLLARS = {
    "409": "USD", "1009": "CAD", "c0c": "CAD", "c09": "AUD", "1409": "NZD", "80a": "MXN", "340a": "CLP",
    "240a": "COP", "2c0a": "ARS", "1004": "SGD", "c04": "HKD", "404": "TWD",
}  # fmt: skip
"""Of a dollar the currency by the language beside it, as number formats number them."""
_BRACKETS = re.compile(r"\[\$([^\]-]*)(?:-([0-9A-Fa-f]+))?\]")
_LITERAL = re.compile(r'"([^"]*)"|\\(.)')
_CELL = rb'<(?:\w+:)?c r="([A-Z]{1,3})([0-9]+)"'
_ERROR = re.compile(_CELL + rb'[^>]*\bt="e"[^>]*>(?:<(?:\w+:)?f\b[^>]*?(?:/>|>[^<]*</(?:\w+:)?f>))?<(?:\w+:)?v>([^<]*)<')  # fmt: skip
_UNCOMPUTED = re.compile(_CELL + rb"[^>]*><(?:\w+:)?f\b(?:[^>]*/>|[^>]*>[^<]*</(?:\w+:)?f>)(?:<(?:\w+:)?v ?/>)?</(?:\w+:)?c>")  # fmt: skip
_HIDDEN = re.compile(rb'<(?:\w+:)?row\b[^>]*\bhidden="(?:1|true)"[^>]*>')
# Its values are read by the library, which says what it cannot read.
_DAMAGED = (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, OSError)
_HIDDEN_COLUMNS = re.compile(rb'<(?:\w+:)?col\b[^>]*\bhidden="(?:1|true)"[^>]*>')
_FROM, _TO = re.compile(rb'\bmin="([0-9]+)"'), re.compile(rb'\bmax="([0-9]+)"')
_NUMBER = re.compile(rb'\br="([0-9]+)"')


@dataclass
class Looks:
    """Of one sheet, by the place of a column from 0: how many cells have which currency in their number format,
    which errors, and how many formulas without a value; the ``columns`` that are hidden, from one to another, and
    how many rows below the header are."""

    currencies: dict[int, Counter[str]] = field(default_factory=dict)
    errors: dict[int, Counter[str]] = field(default_factory=dict)
    uncomputed: Counter[int] = field(default_factory=Counter)
    columns: list[range] = field(default_factory=list)
    hidden: int = 0

    def from_place(self, start: int) -> Looks:
        """The same with columns counted from another."""
        return Looks(
            {place - start: signs for place, signs in self.currencies.items()},
            {place - start: errors for place, errors in self.errors.items()},
            Counter({place - start: many for place, many in self.uncomputed.items()}),
            [range(r.start - start, r.stop - start) for r in self.columns],
            self.hidden,
        )


@dataclass
class Looked:
    """The same of the columns of a table, by their names, from one sheet or several."""

    currencies: dict[str, Counter[str]] = field(default_factory=dict)
    errors: dict[str, Counter[str]] = field(default_factory=dict)
    uncomputed: Counter[str] = field(default_factory=Counter)
    columns: list[str] = field(default_factory=list)
    hidden: int = 0

    def add(self, looks: Looks, names: Sequence[str], places: Sequence[int]) -> None:
        """Add a sheet, of which the columns called so stand at these places."""
        for name, place in zip(names, places, strict=True):
            if place in looks.currencies:
                self.currencies.setdefault(name, Counter()).update(looks.currencies[place])
            if place in looks.errors:
                self.errors.setdefault(name, Counter()).update(looks.errors[place])
            if looks.uncomputed[place]:
                self.uncomputed[name] += looks.uncomputed[place]
            if name not in self.columns and any(place in each for each in looks.columns):
                self.columns.append(name)
        self.hidden += looks.hidden

    def notes(self, rows: int) -> list[str]:
        """What is to be said of them, of so many rows in all."""
        found = []
        for name, signs in self.currencies.items():
            sign = of_one_currency(signs)
            if sign and 2 * signs.total() < rows:
                which = num.many(signs.total(), "cell is", "cells are")
                found.append(f"{name}: {which} shown in {sign}, and the others in no currency")
        if self.hidden:
            found.append(
                f"{num.many(self.hidden, 'row is', 'rows are')} hidden in the workbook, and {num.verb(self.hidden, 'is a row', 'are rows')} "
                "like all others"
            )
        if self.columns:
            shown = listed(self.columns[:6]) + (" …" if len(self.columns) > 6 else "")
            many = len(self.columns)
            found.append(
                f"{num.verb(many, 'column', 'columns')} {shown} {num.verb(many, 'is', 'are')} hidden in the workbook, and "
                f"{num.verb(many, 'is', 'are')} read like all others"
            )
        for name, errors in self.errors.items():
            many, said = errors.total(), listed([error for error, _ in errors.most_common(3)])
            found.append(
                f"{name}: {num.many(many, 'cell holds an error', 'cells hold errors')} of the spreadsheet, {said}, and "
                f"{num.verb(many, 'is', 'are')} read as missing"
            )
        for name, many in self.uncomputed.items():
            found.append(
                f"{name}: {num.many(many, 'formula has no value, and is', 'formulas have no value, and are')} read as missing: "
                "they were never computed"
            )
        return found


def looks_of(path: Path, name: str, header_row: int) -> Looks:
    """What is to be known of a sheet below its header; nothing of a file that is no .xlsx, or a damaged one."""
    try:
        return _searched(path, name, header_row) if zipfile.is_zipfile(path) else Looks()
    except _DAMAGED:
        return Looks()


def _searched(path: Path, name: str, header_row: int) -> Looks:
    found = Looks()
    with zipfile.ZipFile(path) as archive:
        part = _part_of(archive, name)
        if part is None:
            return found
        signs = _signs(archive)
        money = _money(signs)
        with archive.open(part) as sheet:
            for piece in _pieces(sheet):
                _look(piece, found, header_row, money, signs)
    return found


def _look(
    piece: bytes, found: Looks, header_row: int, money: re.Pattern[bytes] | None, signs: Mapping[bytes, str]
) -> None:  # fmt: skip
    if money is not None:
        # A header is a text, and none of these.
        for (column, style), many in Counter(money.findall(piece)).items():
            found.currencies.setdefault(_place(column), Counter())[signs[style]] += many
    if b't="e"' in piece:
        for column, row, error in _ERROR.findall(piece):
            if int(row) > header_row:
                said = error.decode("utf-8", "replace")
                found.errors.setdefault(_place(column), Counter())[said] += 1
    if b"<f" in piece or b":f" in piece:
        for column, row in _UNCOMPUTED.findall(piece):
            found.uncomputed[_place(column)] += int(row) > header_row
    if b"hidden=" in piece:
        numbers = (_NUMBER.search(row) for row in _HIDDEN.findall(piece))
        for column in _HIDDEN_COLUMNS.findall(piece):
            first, last = _FROM.search(column), _TO.search(column)
            if first is not None and last is not None:
                found.columns.append(range(int(first[1]) - 1, int(last[1])))
        found.hidden += sum(each is not None and int(each[1]) > header_row for each in numbers)


def _pieces(sheet: IO[bytes]) -> Iterator[bytes]:
    """A sheet in pieces that end where a row does, or where one begins."""
    held = b""
    while read := sheet.read(PIECE):
        held += read
        end = held.rfind(b"<row")
        if end < 0 and (named := held.rfind(b":row ")) > 0:
            end = held.rfind(b"<", 0, named)
        if end > 0:
            yield held[:end]
            held = held[end:]
    yield held


def _place(letters: bytes) -> int:
    """The place of a column from 0, by its letters."""
    place = 0
    for letter in letters:
        place = 26 * place + letter - ord("A") + 1
    return place - 1


def _tree(archive: zipfile.ZipFile, part: str) -> Any:
    """A small part of the file as a tree; None where it is not there, or none."""
    from lxml import etree

    try:
        with archive.open(part) as file:
            return etree.parse(file, etree.XMLParser(**SAFELY)).getroot()
    except (KeyError, etree.XMLSyntaxError):
        return None


def _part_of(archive: zipfile.ZipFile, name: str) -> str | None:
    """Where in the file a sheet lies."""
    book, links = _tree(archive, _BOOK), _tree(archive, _LINKS)
    if book is None or links is None:
        return None
    targets = {link.get("Id"): link.get("Target", "") for link in links.iterfind("{*}Relationship")}
    for sheet in book.iterfind(".//{*}sheet"):
        if sheet.get("name") == name:
            by = next((value for key, value in sheet.attrib.items() if key.endswith("}id")), None)
            target = str(targets.get(by, ""))
            part = target.lstrip("/") if target.startswith("/") else f"xl/{target}"
            return part if part in archive.namelist() else None
    return None


def _signs(archive: zipfile.ZipFile) -> dict[bytes, str]:
    """The currency of each style of cells whose number format states one."""
    styles = _tree(archive, _STYLES)
    if styles is None:
        return {}
    formats = {f.get("numFmtId"): f.get("formatCode", "") for f in styles.iterfind(".//{*}numFmt")}
    found = {}
    for place, style in enumerate(styles.iterfind("{*}cellXfs/{*}xf")):
        sign = currency_of(formats.get(style.get("numFmtId"), ""))
        if sign:
            found[str(place).encode()] = sign
    return found


def currency_of(code: str) -> str:
    """The sign or the code of a currency in a number format; nothing where there is none.

    Examples
    --------
    >>> [currency_of(code) for code in ('[$€-407] #,##0.00', '[$$-409]#,##0', '"$"#,##0.00;[Red]-"$"#,##0.00', '0.00')]
    ['€', 'USD', '$', '']
    >>> [currency_of(code) for code in ('#,##0.00\\\\ [$CHF]', '_-* #,##0.00\\\\ "kr"_-', '[$-409]d-mmm', '#,##0 "pcs"', '$#,##0')]
    ['CHF', 'kr', '', '', '$']
    """
    first = code.partition(";")[0]
    said = [(sign.strip(), language.lower()) for sign, language in _BRACKETS.findall(first)]
    rest = _BRACKETS.sub("", first)
    said += [((quoted or single).strip(), "") for quoted, single in _LITERAL.findall(rest)]
    said += [(sign, "") for sign in "$€£¥" if sign in _LITERAL.sub("", rest)]
    for sign, language in said:
        if sign == "$" and language in _OF_DOLLARS:
            return _OF_DOLLARS[language]
        if sign in OF_ONE or sign in OF_SEVERAL or sign in CODES:
            return sign
    return ""


def _money(signs: Mapping[bytes, str]) -> re.Pattern[bytes] | None:
    """Cells that hold a number and whose style states a currency: their columns and styles."""
    if not signs:
        return None
    styles = b"|".join(signs)
    number = rb'(?: t="n")?'
    return re.compile(
        rb'r="([A-Z]{1,3})[0-9]+"' + number + rb' s="(' + styles + rb')"' + number + b">"
    )
