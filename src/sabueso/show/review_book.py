"""The queue as a workbook that a reviewer fills in, with the rows of the first exceptions beside it."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from sabueso.base.plain import Cells
from sabueso.base.visible import visible
from sabueso.case.queue import AuditException
from sabueso.case.register import Event
from sabueso.case.sheet import FILLED_IN, JUDGEMENTS, NOTES, QUEUE, ROWS, SEEN, last_seen
from sabueso.report.palette import INK, SAND, SEA

HEAD = ("place", "id", "table", "kind", "subject", "amount", "marked by", "status", "because")
WIDTHS = {
    "subject": 44,
    "marked by": 44,
    "because": 40,
    "reason": 48,
    "amount": 15,
    "matter": 24,
    "id": 13,
}


def review_book(
    items: Sequence[AuditException],
    rows: Sequence[tuple[str, str, Cells]],
    written: Mapping[str, Mapping[str, list[Event]]],
    subjects: Sequence[str],
) -> bytes:
    """The workbook.

    Parameters
    ----------
    items : sequence of AuditException
        In queue order.
    rows : sequence of (id, table, row)
        Rows behind exceptions.
    written : mapping
        Notes by subject and kind.
    subjects : sequence of str
        What can be noted on.
    """
    import xlsxwriter

    buffer = io.BytesIO()
    book = xlsxwriter.Workbook(
        buffer, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False}
    )
    formats = {
        "head": book.add_format({"bold": True, "font_color": INK, "bottom": 1, "text_wrap": True}),
        "fill": book.add_format({"bold": True, "font_color": SEA, "bottom": 1, "bg_color": SAND}),
        "amount": book.add_format({"num_format": "#,##0.00", "valign": "top"}),
        "free": book.add_format({"bg_color": "#FBF8F1", "text_wrap": True, "valign": "top"}),
        "free amount": book.add_format({"bg_color": "#FBF8F1", "num_format": "#,##0.00"}),
        "plain": book.add_format({"text_wrap": True, "valign": "top"}),
    }
    _queue(book.add_worksheet(QUEUE), items, formats)
    _rows(book.add_worksheet(ROWS), rows, formats)
    _notes(book.add_worksheet(NOTES), written, subjects, formats)
    book.close()
    return buffer.getvalue()


def _queue(page: Any, items: Sequence[AuditException], formats: Mapping[str, Any]) -> None:
    header = [*HEAD, *FILLED_IN, SEEN]
    first = len(HEAD)
    for j, name in enumerate(header):
        page.write_string(0, j, name, formats["fill" if name in FILLED_IN else "head"])
        page.set_column(j, j, WIDTHS.get(name, 12))
    for i, item in enumerate(items, 1):
        review = item.review
        amount = None if item.amount is None else Decimal(item.amount)
        status = review.status + (f", signed off {review.signed_off}" if review.signed_off else "")
        marks = "\n".join(f"{m.rank} of {m.flagged:,}: {m.screen}" for m in item.marks)
        cells = [
            item.place,
            item.id,
            item.table,
            item.kind,
            item.label,
            amount,
            marks,
            status,
            review.reason,
        ]
        for j, value in enumerate(cells):
            _write(page, i, j, value, formats)
        for j, name in enumerate(FILLED_IN, first):
            have = {"assign to": review.assigned, "matter": review.matter}.get(name, "")
            style = formats["free amount" if name == "amount of error" else "free"]
            if have:
                page.write_string(i, j, visible(have), style)
            else:
                page.write_blank(i, j, None, style)
        page.write_number(i, len(header) - 1, last_seen(review))
    last = max(len(items), 1)
    page.data_validation(
        1, first, last, first,
        {"validate": "list", "source": list(JUDGEMENTS), "ignore_blank": True,
         "error_title": "judgement", "error_message": "One of: " + ", ".join(JUDGEMENTS)},
    )  # fmt: skip
    page.set_column(len(header) - 1, len(header) - 1, 6, None, {"hidden": True})
    page.freeze_panes(1, 2)
    page.autofilter(0, 0, last, len(header) - 1)


def _rows(page: Any, rows: Sequence[tuple[str, str, Cells]], formats: Mapping[str, Any]) -> None:
    """Rows of several tables, one under another; each table's columns stand over its own."""
    page.freeze_panes(0, 1)
    page.set_column(0, 0, 13)
    page.set_column(1, 30, 16)
    at, table = 0, ""
    for identity, name, row in rows:
        if name != table:
            at += 1 if table else 0
            for j, column in enumerate(("id", *row)):
                page.write_string(at, j, visible(f"{column}"), formats["head"])
            table, at = name, at + 1
        for j, value in enumerate((identity, *row.values())):
            _write(page, at, j, value, formats)
        at += 1


def _notes(
    page: Any,
    written: Mapping[str, Mapping[str, list[Event]]],
    subjects: Sequence[str],
    formats: Mapping[str, Any],
) -> None:
    header = ("subject", "noted so far", "observation", "conclusion")
    for j, name in enumerate(header):
        page.write_string(0, j, name, formats["fill" if j > 1 else "head"])
        page.set_column(j, j, 40)
    for i, subject in enumerate(subjects, 1):
        said = [
            f"{kind}: {event.body['text']} ({event.initials}, {event.at[:10]})"
            for kind, events in written.get(subject, {}).items()
            for event in events
        ]
        page.write_string(i, 0, visible(subject), formats["plain"])
        page.write_string(i, 1, visible("\n".join(said), keep="\n"), formats["plain"])
        page.write_blank(i, 2, None, formats["free"])
        page.write_blank(i, 3, None, formats["free"])
    page.freeze_panes(1, 1)


def _write(page: Any, i: int, j: int, value: Any, formats: Mapping[str, Any]) -> None:
    if value is None:
        return
    if isinstance(value, Decimal):
        page.write_number(i, j, float(value), formats["amount"])
    elif isinstance(value, (int, float)) and not isinstance(value, bool):
        page.write_number(i, j, value, formats["plain"])
    else:
        page.write_string(i, j, visible(str(value), keep="\n")[:32_000], formats["plain"])
