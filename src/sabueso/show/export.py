"""Results as files: the suffix says which form. Files appear whole or not at all."""

from __future__ import annotations

import io
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from sabueso.base.files import csv_rows, json_text, numbered
from sabueso.base.visible import visible
from sabueso.report.blocks import Sheet

Cell = str | int | float | Decimal | None
DATA = (".csv", ".xlsx", ".parquet", ".json")
FIGURES = (".png", ".svg")


def sheets_as(suffix: str, sheets: Sequence[Sheet], content: Any) -> bytes:
    """A result as the file that a suffix asks for.

    Parameters
    ----------
    suffix : str
        One of ``DATA``.
    sheets : sequence of Sheet
        The first is what a one-table form holds.
    content : JSON-serialisable
        What ``.json`` holds.
    """
    if suffix == ".json":
        return (json_text(numbered(content)) + "\n").encode()
    if suffix == ".csv":
        return csv_text(sheets[0]).encode("utf-8-sig")
    if suffix == ".xlsx":
        return workbook(sheets)
    import pyarrow as pa
    import pyarrow.parquet as pq

    sheet = sheets[0]
    names = columns_apart(sheet.header)
    columns = {name: _arrow([row[i] for row in sheet.rows]) for i, name in enumerate(names)}
    buffer = io.BytesIO()
    pq.write_table(pa.table(columns), buffer)
    return buffer.getvalue()


def columns_apart(names: Sequence[str]) -> list[str]:
    """Names with a number behind those that were there before: columns need names of their own."""
    found: list[str] = []
    for name in names:
        fresh, again = name, 2
        while fresh in found:
            fresh, again = f"{name} {again}", again + 1
        found.append(fresh)
    return found


def _arrow(values: Sequence[Any]) -> list[Any]:
    """A column's values; as texts where a word such as "total" stands among numbers or dates."""
    kinds = {type(value) for value in values if value is not None}
    if str in kinds and len(kinds) > 1:
        return [None if value is None else str(value) for value in values]
    return [
        float(value) if isinstance(value, Decimal) and value.as_tuple().exponent == 0 else value
        for value in values
    ]


def csv_text(sheet: Sheet) -> str:
    """A sheet as CSV; no cell starts a formula."""
    return csv_rows([sheet.header, *([plain_cell(v) for v in row] for row in sheet.rows)])


def plain_cell(value: Any) -> Any:
    """Decimals in plain digits, other numbers as they are, anything else as text."""
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, (int, float)) or value is None:
        return value
    return str(value)


def workbook(sheets: Sequence[Sheet]) -> bytes:
    """Sheets as a spreadsheet: text is written as text, amounts as numbers."""
    import xlsxwriter

    buffer = io.BytesIO()
    book = xlsxwriter.Workbook(
        buffer, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False}
    )
    head = book.add_format({"bold": True, "bottom": 1, "font_color": "#16324F"})
    amount = book.add_format({"num_format": "#,##0.00"})
    for sheet in sheets:
        page = book.add_worksheet(sheet.name[:31])
        widths = [len(name) for name in sheet.header]
        for j, name in enumerate(sheet.header):
            page.write_string(0, j, visible(name)[:32_000], head)
        for i, row in enumerate(sheet.rows, 1):
            for j, value in enumerate(row):
                if value is None:
                    continue
                if isinstance(value, Decimal):
                    page.write_number(i, j, float(value), amount)
                elif isinstance(value, (int, float)) and not isinstance(value, bool):
                    page.write_number(i, j, value)
                else:
                    page.write_string(i, j, visible(str(value), keep="\n\t")[:32_000])
                widths[j] = max(widths[j], min(len(str(value)), 60))
        for j, width in enumerate(widths):
            page.set_column(j, j, width + 2)
        page.freeze_panes(1, 0)
        if sheet.rows:
            page.autofilter(0, 0, len(sheet.rows), len(sheet.header) - 1)
    book.close()
    return buffer.getvalue()
