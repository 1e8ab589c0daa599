"""The exceptions in their order."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from sabueso.base.errors import UserError, nearest
from sabueso.case.folder import Case
from sabueso.case.marked import DRAWN
from sabueso.case.queue import AuditException, marked_by, of_table
from sabueso.case.queue import queue as every_exception
from sabueso.case.recording import last_failures
from sabueso.case.selecting import chosen_by
from sabueso.commands.interface import Answer, Data
from sabueso.report import numbers as num
from sabueso.report.blocks import Sheet
from sabueso.screens.subject import KINDS
from sabueso.show.queue_sheet import queue_sheet

if TYPE_CHECKING:
    from rich.console import Console

    from sabueso.case.whose import Behinds, Whose

ALL = "all"
FIGURES = (".png", ".svg")
Sort = Literal["evidence", "amount", "table", "age", "bits"]


def queue(
    case: Case,
    *,
    status: str = ALL,
    screen: str | None = None,
    table: str | None = None,
    where: str | None = None,
    kind: str | None = None,
    sort: Sort = "evidence",
    per: Whose | None = None,
    of: Mapping[Whose, str] | None = None,
    top: int = 20,
) -> Answer[Any]:
    """The exceptions of the case, the most telling first.

    Parameters
    ----------
    status : str
        ``open``, ``cleared``, ``error``, ``referred`` or ``all``.
    screen, table : str, optional
        Only those that a screen of such a name marked, or those of a table.
    where : str, optional
        Only those that meet a condition over the queue's columns.
    kind : str, optional
        Only rows, clusters, entities, classes, cells, lines, ranges, or what was sampled.
    sort : str
        ``evidence``, the queue's own order; ``amount``, the largest first; ``table``; ``age``, the
        longest known first; ``bits``, the most surprising first.
    of : mapping, optional
        Only those with a row of a party, preparer or account, by the role.
    per : str, optional
        Instead of the exceptions those behind them: the parties, preparers or accounts of their rows.
    top : int
        How many are printed; files and the value hold all.

    Raises
    ------
    UserError
        If no run is recorded, or there is no such screen or table.
    """
    if top < 1:
        raise UserError(f"--top {top}: expected at least 1")
    every = every_exception(case)
    failures = last_failures(case)
    if not every and not case.register.events("run"):
        raise UserError("no run is recorded yet; run the programme with: sabueso screen")
    chosen = every
    if status != ALL:
        chosen = [item for item in chosen if item.review.status == status]
    if screen:
        names = [section.name for section in case.plan.screens]
        fitting = [n for n in names if screen.lower() in n.lower()]
        if not fitting:
            raise UserError(f"there is no screen {screen!r}{nearest(screen, names)}")
        marked = marked_by(case, fitting)
        chosen = [item for item in chosen if item.id in marked]
    if table:
        if table not in case.plan.tables:
            raise UserError(f"there is no table {table!r}{nearest(table, case.plan.tables)}")
        own = of_table(case, table)
        chosen = [item for item in chosen if item.id in own]
    if where:
        chosen = chosen_by(chosen, where)

    if kind:
        if kind not in KINDS:
            raise UserError(f"there is no kind {kind!r}{nearest(kind, KINDS)}")
        chosen = [item for item in chosen if item.kind == kind]
    for role, value in (of or {}).items():
        chosen = _of(case, chosen, role, value)
    chosen = _sorted(case, chosen, sort)
    if per is not None:
        if kind is None:  # what was drawn into a sample is evidence against nobody
            chosen = [item for item in chosen if item.kind != DRAWN]
        return _behind(case, chosen, per, top)

    def show(console: Console) -> None:
        from sabueso.show.queue import show_queue

        own = case.currencies({item.table for item in chosen[:top]})
        show_queue(console, every, chosen[:top], own, failures)

    def data(items: list[AuditException]) -> Data:
        return Data([item.as_json() for item in items], [queue_sheet(items)])

    def lines() -> dict[int, str]:
        return {item.place: f"sabueso dig {item.id}" for item in chosen[:top]}

    def drawing(path: Path) -> bytes:
        return _drawn(case, chosen, len(every), path, top)

    return Answer(
        chosen, show, lambda: data(chosen[:top]), lambda: data(chosen),
        files=dict.fromkeys(FIGURES, drawing), lines=lines,
    )  # fmt: skip


def _drawn(case: Case, items: list[AuditException], of: int, path: Path, top: int) -> bytes:
    """The first exceptions as bars of what is at stake, those that are disposed of without colour."""
    from sabueso.report.bars import Bar, bars_drawing
    from sabueso.report.canvas import picture
    from sabueso.report.palette import STONE

    shown = items[:top]
    bars = [
        Bar(
            f"{item.id}  {item.label}", None if item.amount is None else float(item.amount),
            "" if item.review.status == "open" else item.review.status,
            None if item.review.status == "open" else STONE,
        )
        for item in shown
    ]  # fmt: skip
    named = sorted(set(case.currencies({item.table for item in shown}).values()))
    currency = " and ".join(named)
    chosen = f", {len(items):,} of them chosen" if len(items) < of else ""
    title = f"queue · {len(shown):,} of {num.many(of, 'exception')}{chosen}"
    unit = f"at stake, {currency}" if currency else "at stake"
    return picture(bars_drawing(bars, unit, title) if bars else None, path)


def _of(case: Case, items: list[AuditException], role: Whose, value: str) -> list[AuditException]:
    """Those of somebody, or of an account."""
    from sabueso.case.whose import those_of

    if not items:
        return items
    with case.populations(*dict.fromkeys(item.table for item in items)) as opened:
        found = those_of(opened, items, role, value)
    return [item for item in items if item.id in found]


def _sorted(case: Case, items: list[AuditException], sort: Sort) -> list[AuditException]:
    if sort == "amount":
        return sorted(items, key=lambda i: -abs(Decimal(i.amount or 0)))
    if sort == "table":
        return sorted(items, key=lambda i: i.table)
    if sort == "bits":
        return sorted(items, key=lambda i: -i.evidence_bits)
    if sort == "age":
        first = {
            str(row["exception"]): int(row["run"])
            for row in case.register.read(
                "SELECT exception, MIN(run) AS run FROM marks GROUP BY exception"
            )
        }
        return sorted(items, key=lambda i: first.get(i.id, 0))
    return items


def _behind(case: Case, items: list[AuditException], per: Whose, top: int) -> Answer[Behinds]:
    """Who is behind exceptions, in place of these."""
    from sabueso.case.whose import who_is_behind

    tables = dict.fromkeys(item.table for item in items)
    with case.populations(*tables) as opened:
        found = who_is_behind(opened, items, per)

    def show(console: Console) -> None:
        from sabueso.show.queue import show_behind

        show_behind(console, found, top, len(items))

    def data(most: int | None) -> Data:
        rows = [
            {
                "value": b.value, "column": b.column, "exceptions": b.exceptions, "tables": b.tables,
                "families": sorted(b.families), "evidence_bits": round(b.bits, 2), "amount": str(b.amount),
            }
            for b in found.found[:most]
        ]  # fmt: skip
        head = ["value", "column", "exceptions", "tables", "families", "evidence_bits", "amount"]
        listed = [
            [", ".join(v) if isinstance(v, list) else v for v in (row[name] for name in head)]
            for row in rows
        ]
        return Data(rows, [Sheet("behind", head, listed)])

    def drawing(path: Path) -> bytes:
        from sabueso.report.bars import Bar, bars_drawing
        from sabueso.report.canvas import picture

        bars = [
            Bar(str(b.value), b.bits, num.many(len(b.exceptions), "exception"))
            for b in found.found[:top]
        ]
        title = f"queue · each {per} behind {num.many(len(items), 'exception')}"
        return picture(bars_drawing(bars, "bits of evidence", title) if bars else None, path)

    return Answer(
        found, show, lambda: data(top), lambda: data(None), files=dict.fromkeys(FIGURES, drawing)
    )
