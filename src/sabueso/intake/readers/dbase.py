"""Tables of dBASE and its successors: .dbf, records of one length, read in blocks.

The form is that of dBASE III to 7 and of Visual FoxPro as far as both agree: a header of 32 bytes, 32
bytes a field, then records that begin with a mark, a blank or ``*`` for one that was deleted.
"""

from __future__ import annotations

import struct
from collections.abc import Collection, Generator
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path

import numpy as np
import pyarrow as pa

from sabueso.base.errors import UserError
from sabueso.intake.formats.encodings import gathered, tell
from sabueso.intake.interface import Batch, Damaged, Layout
from sabueso.intake.readers.cells import BATCH_ROWS, SAMPLE_ROWS, column_names, counted, name_notes
from sabueso.intake.readers.source import assumed_encoding, opened
from sabueso.intake.settings import ReadSettings

CODE_PAGES = {
    0x01: "cp437", 0x02: "cp850", 0x03: "cp1252", 0x04: "mac-roman", 0x64: "cp852", 0x65: "cp866",
    0x66: "cp865", 0x69: "cp852", 0x6A: "cp737", 0x6B: "cp857", 0x57: "cp1252", 0x58: "cp1252", 0x59: "cp1252",
    0x26: "cp866", 0x1F: "cp852", 0x0D: "cp437", 0x0A: "cp850", 0x10: "cp850", 0x13: "cp932",
    0xC8: "cp1250", 0xC9: "cp1251", 0xCA: "cp1254", 0xCB: "cp1253", 0xCC: "cp1257",
}  # fmt: skip
"""The header's mark of a language, and its encoding."""
_VERSIONS = bytes.fromhex("02030405303132436383 8b8ccbf5fb7b")
_FIELD = struct.Struct("<11sc4xBB14x")
_MEMOS = "MGPBW"
_JULIAN_1970 = 2_440_588


@dataclass(frozen=True)
class _Field:
    name: str
    kind: str
    start: int
    size: int
    scale: int


@dataclass(frozen=True)
class _Dbase(Layout):
    fields: tuple[_Field, ...]
    encoding: str
    start: int
    size: int
    records: int


class DbaseReader:
    """One row a record; a record marked as deleted is quarantined, since that is worth a look."""

    suffixes = (".dbf",)
    unit = "records"

    def takes(self, path: Path) -> bool:
        return True

    def layout(self, path: Path, settings: ReadSettings) -> _Dbase:
        with opened(path) as file:
            head = file.read(32)
            if len(head) < 32 or head[0] not in _VERSIONS:
                raise UserError(f"{path}: is no dBASE table: its header is not that of one")
            records, start, size = struct.unpack_from("<IHH", head, 4)
            if start < 65 or size < 2:
                raise UserError(f"{path}: is no dBASE table: its header states no fields")
            if head[0] in (0x04, 0x8C):
                raise UserError(
                    f"{path}: is a dBASE 7 table, whose header is another; export it as dBASE III"
                )
            fields = _fields(path, file.read(start - 32), size)
            encoding = settings.encoding or CODE_PAGES.get(head[29], "")
            first = file.read(min(records, SAMPLE_ROWS) * size)
        language = ""
        if not encoding:
            told = tell(*gathered([first]))
            encoding, language = told.encoding, told.language
        if not records:
            raise UserError(f"{path}: the file holds fields and no records")
        texts = [f.name for f in fields]
        names = column_names(texts)
        notes = list(name_notes(texts, names))
        if memos := [f.name for f in fields if f.kind in _MEMOS and f.size in (4, 10)]:
            notes.append(
                f"{', '.join(memos)}: texts kept in a file beside this one are not read, their numbers are"
            )
        if language:
            notes.append(assumed_encoding(encoding, language))
        cells, _ = _cells(first, fields, names, size, encoding)
        return _Dbase(
            header=names, header_line=0, sample=cells, notes=tuple(notes), fields=fields,
            described={"form": "dBASE", "encoding": encoding},
            encoding=encoding, start=start, size=size, records=records,
        )  # fmt: skip

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        assert isinstance(layout, _Dbase)
        done = 0
        with opened(path) as file:
            file.read(layout.start)
            while done < layout.records:
                wanted = min(BATCH_ROWS, layout.records - done)
                block = file.read(wanted * layout.size)
                if len(block) < wanted * layout.size:
                    raise UserError(
                        f"{path}: ends after record {done + len(block) // layout.size:,}; its header "
                        f"states {layout.records:,}"
                    )
                cells, deleted = _cells(
                    block, layout.fields, layout.header, layout.size, layout.encoding
                )
                lines = np.arange(done + 1, done + wanted + 1)
                gone = np.flatnonzero(deleted)
                rows = cells.take(pa.array(gone)).to_pylist()
                yield Batch(
                    lines=lines[~deleted],
                    cells=cells.filter(pa.array(~deleted)) if len(gone) else cells,
                    damaged=[
                        Damaged(int(lines[i]), "", "", "marked as deleted in the file", _joined(row))
                        for i, row in zip(gone.tolist(), rows, strict=True)
                    ],
                )  # fmt: skip
                done += wanted
        yield counted(layout.header, done)


def _joined(row: dict[str, str | None]) -> str:
    return " | ".join(value or "" for value in row.values())


def _fields(path: Path, text: bytes, size: int) -> tuple[_Field, ...]:
    found: list[_Field] = []
    start = 1
    for at in range(0, len(text) - 31, 32):
        if text[at] == 0x0D:
            break
        name, kind, length, scale = _FIELD.unpack_from(text, at)
        width = length + (scale << 8 if kind == b"C" else 0)
        title = name.partition(b"\0")[0].decode("cp850").strip()
        if kind != b"0":  # of Visual FoxPro: which fields are null
            found.append(_Field(title, kind.decode("latin-1"), start, width, scale))
        start += width
    if not found or start != size:
        raise UserError(f"{path}: is no dBASE table: its fields do not fill its records")
    return tuple(found)


def _cells(
    block: bytes, fields: tuple[_Field, ...], names: list[str], size: int, encoding: str
) -> tuple[pa.Table, np.ndarray]:
    """Texts of the records of a block, and which are deleted."""
    rows = np.frombuffer(block, np.uint8)[: len(block) // size * size].reshape(-1, size)
    columns = [
        _column(np.ascontiguousarray(rows[:, f.start : f.start + f.size]), f, encoding)
        for f in fields
    ]
    return pa.table(columns, names=names), rows[:, 0] == ord("*")


def _column(cells: np.ndarray, field: _Field, encoding: str) -> pa.Array:
    if field.kind in "I+" and field.size == 4:
        return _texts(cells.view("<i4").ravel())
    if field.kind == "Y" and field.size == 8:
        return pa.array(
            [format(Decimal(int(v)).scaleb(-4), "f") for v in cells.view("<i8").ravel()]
        )
    if field.kind in "BO" and field.size == 8:
        return pa.array([format(v, ".15g") for v in cells.view("<f8").ravel().tolist()])
    if field.kind in "T@" and field.size == 8:
        return pa.array([_moment(day, ms) for day, ms in cells.view("<i4").reshape(-1, 2).tolist()])
    raw = cells.view(f"S{field.size}").ravel()
    texts = np.char.decode(raw, encoding, "replace")
    texts = np.char.strip(texts, " \0\t")
    if field.kind == "D":
        return pa.array([_day(text) for text in texts.tolist()])
    if field.kind == "L":
        known = {"T": "true", "Y": "true", "F": "false", "N": "false"}
        return pa.array([known.get(text.upper()) for text in texts.tolist()], pa.string())
    return _texts(texts)


def _texts(values: np.ndarray) -> pa.Array:
    return pa.array([text or None for text in values.astype(str).tolist()], pa.string())


def _day(text: str) -> str | None:
    if len(text) == 8 and text.isdigit():
        return None if text == "00000000" else f"{text[:4]}-{text[4:6]}-{text[6:]}"
    return text or None


def _moment(day: int, milliseconds: int) -> str | None:
    if not day:
        return None
    try:
        moment = date(1970, 1, 1) + timedelta(days=day - _JULIAN_1970)
    except OverflowError:
        return str(day)
    seconds = milliseconds // 1000
    return f"{moment} {seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}"
