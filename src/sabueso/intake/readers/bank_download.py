"""Bank and card statements by the open standard OFX, in its form of tags (1.x) and as XML (2.x)."""

from __future__ import annotations

import html
import re
from collections.abc import Collection, Generator, Iterator
from decimal import Decimal, InvalidOperation
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.intake.interface import Batch, Damaged, Layout
from sabueso.intake.readers.cells import Record, batches_of, first_rows, text_table
from sabueso.intake.readers.source import opened, text_lines
from sabueso.intake.settings import ReadSettings

HEADER = [
    "entry", "booked", "value date", "amount", "currency", "kind", "account", "counterparty",
    "reference", "remittance",
]  # fmt: skip
LOOKED_AT = 4096
LONGEST = 1 << 16
"""Characters of one entry; a tag without an end would swallow the file."""
_TAG = re.compile(r"<(/?)([A-Za-z0-9.]+)>([^<]*)")
_COLUMNS = {
    "FITID": "entry", "DTPOSTED": "booked", "DTAVAIL": "value date", "TRNAMT": "amount",
    "TRNTYPE": "kind", "NAME": "counterparty", "CHECKNUM": "reference", "MEMO": "remittance",
    "REFNUM": "reference",
}  # fmt: skip


class BankDownloadReader:
    """One row an entry, signed as the bank signs it."""

    suffixes = (".ofx", ".qfx")
    unit = "entries"

    def takes(self, path: Path) -> bool:
        with opened(path) as file:
            return b"<OFX>" in file.read(LOOKED_AT).upper()

    def layout(self, path: Path, settings: ReadSettings) -> Layout:
        rows = first_rows(_entries(path, settings))
        if not rows:
            raise UserError(f"{path}: the statement has no entries that can be read")
        return Layout(HEADER, 0, {"form": "OFX"}, text_table(HEADER, rows))

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        yield from batches_of(HEADER, _entries(path, settings))


def _entries(path: Path, settings: ReadSettings) -> Iterator[Record | Damaged]:
    """Entries by the line they begin on, in the account and currency that stand above them."""
    above: dict[str, str] = {}
    row: Cells | None = None
    begun = 0
    for line, closing, tag, text in _tags(path, settings):
        if tag == "STMTTRN" or (closing and tag == "BANKTRANLIST"):
            if row is not None:
                yield _checked(begun, row)
            row, begun = (None if closing else dict(above)), line
        elif closing:
            continue
        elif row is not None and tag in _COLUMNS and _COLUMNS[tag] not in row:
            row[_COLUMNS[tag]] = _day(text) if tag.startswith("DT") else text
        elif row is not None and tag == "CURSYM":
            row["currency"] = text
        elif row is None and tag == "CURDEF":
            above["currency"] = text
        elif row is None and tag == "ACCTID":
            above["account"] = text
    if row is not None:
        yield Damaged(begun, "", "", "the file ends within this entry", str(row))


def _checked(line: int, row: Cells) -> Record | Damaged:
    text = str(row.get("amount", "")).replace(",", ".")
    try:
        row["amount"] = str(Decimal(text))
    except InvalidOperation:
        return Damaged(line, "amount", text, "expected an amount", str(row))
    return line, row


def _tags(path: Path, settings: ReadSettings) -> Iterator[tuple[int, bool, str, str]]:
    """(line, closing, tag, text after it) of each tag, upper case."""
    rest, begun = "", 1
    for number, line in enumerate(text_lines(path, settings.encoding), start=1):
        # What follows a tag may go on in the next lines, up to the next tag.
        rest, begun = (f"{rest}\n{line}", begun) if rest else (line, number)
        last = max(rest.rfind("<"), 0)
        yield from _found(rest[:last], begun)
        begun += rest.count("\n", 0, last)
        rest = rest[last:] if "<" in rest[last:] else ""
        if len(rest) > LONGEST:
            raise UserError(f"{path}, line {number}: a tag is opened and not closed")
    yield from _found(rest, begun)


def _found(text: str, line: int) -> Iterator[tuple[int, bool, str, str]]:
    for found in _TAG.finditer(text):
        at = line + text.count("\n", 0, found.start())
        value = " ".join(html.unescape(found[3]).split())
        yield at, bool(found[1]), found[2].upper(), value


def _day(text: str) -> str:
    """The day of a moment such as 20240131120000[-5:EST]."""
    day = text[:8]
    return f"{day[:4]}-{day[4:6]}-{day[6:]}" if day.isdigit() and len(day) == 8 else text
