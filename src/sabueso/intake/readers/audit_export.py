"""Exports for the German tax audit: text files beside an ``index.xml`` that describes them.

The index (the description standard of the tax authorities, version 1.x) names each file's columns,
their types, marks and places. A file that such an index names is read as it says.
"""

from __future__ import annotations

from collections.abc import Collection, Generator, Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.errors import UserError
from sabueso.base.plain import Values
from sabueso.intake.interface import Batch, Damaged, Layout
from sabueso.intake.readers.cells import (
    Record,
    batches_of,
    column_names,
    first_rows,
    name_notes,
    text_table,
)
from sabueso.intake.readers.delimited import DelimitedReader
from sabueso.intake.readers.source import text_lines
from sabueso.intake.readers.xml_elements import SAFELY, value
from sabueso.intake.settings import ReadSettings

INDEX = "index.xml"
_ENCODINGS = {"UTF8": "utf-8-sig", "ANSI": "cp1252", "Macintosh": "mac-roman", "OEM": "cp850",
              "UTF16": "utf-16", "UTF7": "utf-7"}  # fmt: skip


@dataclass(frozen=True)
class Described:
    """One file as the index describes it. ``places`` are (from, to) of each column, from 1, where the
    columns stand at fixed places; ``implied`` the decimals of a number that are written without mark."""

    name: str
    columns: tuple[str, ...]
    types: dict[str, str]
    implied: dict[str, int]
    given: Values
    first: int
    places: tuple[tuple[int, int], ...] = ()


def described(path: Path) -> Described | None:
    """What an index beside a file says of it."""
    index = next((p for p in path.parent.glob("*") if p.name.lower() == INDEX), None)
    if index is None or path.name.lower() == INDEX:
        return None
    tables = tables_of(index, index.stat().st_mtime_ns)
    return next((d for url, d in tables.items() if url.lower() == path.name.lower()), None)


def files_of(index: Path) -> list[Path] | None:
    """The files that an index names, in its order; None where the file is no index.

    Raises
    ------
    UserError
        If one of them is not beside it.
    """
    if index.name.lower() != INDEX:
        return None
    tables = tables_of(index, index.stat().st_mtime_ns)
    beside = {path.name.lower(): path for path in index.parent.iterdir()}
    for url in tables:
        if url.lower() not in beside:
            raise UserError(f"{index}: names {url}, which is not beside it")
    return [beside[url.lower()] for url in tables] or None


@lru_cache(maxsize=8)
def tables_of(index: Path, _changed: int) -> dict[str, Described]:
    """The files that an index names.

    Raises
    ------
    UserError
        If it is an index, and cannot be read.
    """
    from lxml import etree

    try:
        root = etree.fromstring(_undeclared(index), etree.XMLParser(**SAFELY))
    except etree.XMLSyntaxError as error:
        raise UserError(
            f"{index}, line {error.lineno or 0}: {error.msg or 'not well-formed'}"
        ) from None
    if etree.QName(root).localname != "DataSet":
        return {}
    found: dict[str, Described] = {}
    for table in root.iterfind(".//{*}Table"):
        url = value(table, "URL")
        if url:
            found[url.replace("\\", "/").rpartition("/")[2]] = _described(index, table, url)
    return found


def _undeclared(index: Path) -> bytes:
    """The index without its document type, which names a file of rules that is not fetched."""
    text = index.read_bytes()
    start = text.find(b"<!DOCTYPE")
    if start < 0:
        return text
    end = text.find(b">", start)
    if b"[" in text[start:end]:
        raise UserError(
            f"{index}: declares a document type with entities of its own; such a file is not read"
        )
    return text[:start] + text[end + 1 :]


def _described(index: Path, table: Any, url: str) -> Described:
    form = table.find("{*}VariableLength")
    fixed = table.find("{*}FixedLength")
    form = fixed if form is None else form
    if form is None:
        raise UserError(f"{index}: {url}: neither VariableLength nor FixedLength is given")
    columns: list[str] = []
    types: dict[str, str] = {}
    implied: dict[str, int] = {}
    places: list[tuple[int, int]] = []
    for column in form:
        if not str(column.tag).endswith(("Column", "PrimaryKey")):
            continue
        name = value(column, "Name") or f"column {len(columns) + 1}"
        columns.append(name)
        if column.find("{*}Numeric") is not None:
            types[name] = "number"
            places_after = value(column, "Numeric/ImpliedAccuracy") or ""
            if places_after.isdigit() and int(places_after):
                implied[name] = int(places_after)
        elif column.find("{*}Date") is not None:
            types[name] = "date"
        else:
            types[name] = "text"
        if fixed is not None:
            places.append(_place(index, url, column))
    if not columns:
        raise UserError(f"{index}: {url}: no column is described")
    given: Values = {
        "decimal": value(table, "DecimalSymbol") or ",",
        "thousands": value(table, "DigitGroupingSymbol") or ".",
    }
    if fixed is None:
        given["delimiter"] = value(form, "ColumnDelimiter") or ";"
        given["quote"] = "'" if value(form, "TextEncapsulator") == "'" else '"'
    encoding = next(
        (e for name, e in _ENCODINGS.items() if table.find(f"{{*}}{name}") is not None), None
    )
    if encoding:
        given["encoding"] = encoding
    first = value(table, "Range/From") or "1"
    return Described(
        value(table, "Name") or url, tuple(columns), types, implied, given,
        int(first) if first.isdigit() and int(first) else 1, tuple(places),
    )  # fmt: skip


def _place(index: Path, url: str, column: Any) -> tuple[int, int]:
    start, end = value(column, "FixedRange/From") or "", value(column, "FixedRange/To") or ""
    length = value(column, "FixedRange/Length") or ""
    if start.isdigit() and end.isdigit():
        return int(start), int(end)
    if start.isdigit() and length.isdigit():
        return int(start), int(start) + int(length) - 1
    raise UserError(f"{index}: {url}: a column's FixedRange is not given")


@dataclass(frozen=True)
class _Export(Layout):
    said: Described
    inner: Layout | None
    read: ReadSettings


class AuditExportReader:
    """A text file by the index beside it."""

    suffixes = (".csv", ".txt", ".asc", ".dat", ".tsv", ".tab")
    unit = "lines"

    def takes(self, path: Path) -> bool:
        return described(path) is not None

    def layout(self, path: Path, settings: ReadSettings) -> Layout:
        said = described(path)
        assert said is not None
        names = column_names(said.columns)
        given = {k: v for k, v in said.given.items() if getattr(settings, k) is None}
        read = settings.model_copy(update=given)
        types = {names[said.columns.index(k)]: v for k, v in said.types.items()}
        settled = {**given, "types": types | settings.types}
        notes = (
            f"read as {INDEX} beside it describes {said.name!r}",
            *name_notes(said.columns, names),
        )
        if said.places:
            sample = text_table(names, first_rows(_records(path, said, names, read)))
            form, inner = {"form": f"fixed places, by {INDEX}"}, None
        else:
            header = said.first - 1
            read = read.model_copy(update={"header": "none"})
            own = DelimitedReader().layout(path, read)
            if len(own.header) != len(names):
                raise UserError(
                    f"{path}: has {len(own.header)} columns, and {INDEX} beside it describes {len(names)}"
                )
            inner = replace(own, header=names, header_line=header, notes=())
            sample = _pointed(own.sample.rename_columns(names), said, names)
            form = {"form": f"by {INDEX}"} | own.described
        return _Export(
            header=names, header_line=said.first - 1, described=form, sample=sample, notes=notes,
            settled=settled, said=said, inner=inner, read=read,
        )  # fmt: skip

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        assert isinstance(layout, _Export)
        if layout.inner is None:
            yield from batches_of(
                layout.header, _records(path, layout.said, layout.header, layout.read)
            )
            return
        plain = [name for name in repeated if name not in layout.said.implied]
        inner = DelimitedReader().batches(path, layout.inner, layout.read, plain)
        try:
            for batch in inner:
                yield replace(batch, cells=_pointed(batch.cells, layout.said, layout.header))
        finally:
            inner.close()


def _pointed(cells: pa.Table, said: Described, names: list[str]) -> pa.Table:
    """Cells with the decimal mark that is only implied."""
    for name, places in said.implied.items():
        at = names[said.columns.index(name)]
        texts = pc.utf8_trim_whitespace(cells.column(at))
        bare = pc.match_substring_regex(texts, r"^[+-]?[0-9]+$")
        signs = pc.replace_substring_regex(texts, r"^(-?).*$", r"\1")
        digits = pc.utf8_lpad(pc.utf8_ltrim(texts, "+-"), width=places + 1, padding="0")
        whole = pc.utf8_slice_codeunits(digits, 0, -places)
        rest = pc.utf8_slice_codeunits(digits, -places)
        numbers = pc.binary_join_element_wise(signs, whole, "", null_handling="emit_null")
        pointed = pc.binary_join_element_wise(numbers, rest, said.given["decimal"])
        cells = cells.set_column(cells.column_names.index(at), at, pc.if_else(bare, pointed, texts))
    return cells


def _records(
    path: Path, said: Described, names: list[str], read: ReadSettings
) -> Iterator[Record | Damaged]:
    """Records of fixed places."""
    least = min(start for start, _ in said.places)
    mark = said.given["decimal"]
    for number, line in enumerate(text_lines(path, read.encoding), start=1):
        if number < said.first or not line.strip():
            continue
        if len(line) < least:
            yield Damaged(number, "", "", "is shorter than the first column's place", line)
            continue
        cells: dict[str, str | None] = {}
        for name, column, (start, end) in zip(names, said.columns, said.places, strict=True):
            text = line[start - 1 : end].strip()
            if places := said.implied.get(column, 0):
                sign, digits = ("-", text[1:]) if text.startswith("-") else ("", text.lstrip("+"))
                if digits.isdigit():
                    digits = digits.rjust(places + 1, "0")
                    text = f"{sign}{digits[:-places]}{mark}{digits[-places:]}"
            cells[name] = text or None
        yield number, cells
