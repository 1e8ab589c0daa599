"""The queue and single exceptions as terminal text."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import TYPE_CHECKING

from rich.console import Console
from rich.table import Table
from rich.text import Text

from sabueso.base.words import listed
from sabueso.case.before import Before
from sabueso.case.marked import DRAWN
from sabueso.case.queue import AuditException
from sabueso.case.recording import Failed
from sabueso.case.standing import Review
from sabueso.report import numbers as num
from sabueso.report.palette import AMBER, PLUM, SEA, STONE
from sabueso.show.console import next_steps, notes, open_table, title

if TYPE_CHECKING:
    from sabueso.case.whose import Behinds

STYLES = {"open": "", "cleared": SEA, "error": AMBER, "referred": PLUM}
_DONE = {
    "reopen": "reopened",
    "sign-off": "signed off",
    "assignment": "assigned to",
    "matter": "matter",
}
MOST_IDS = 4
MARKS = {"open": "○", "cleared": "✓", "error": "×", "referred": "!"}


NARROW = 90
"""Columns of a terminal that leave no room for whose the sign-off is."""


def status_text(review: Review, width: int = NARROW) -> Text:
    """Status with its mark, colour and, where there is room for it, by whom it is signed off."""
    signed = f" · {review.signed_off}" if review.signed_off and width >= NARROW else ""
    return Text(f"{MARKS[review.status]} {review.status}{signed}", style=STYLES[review.status])


def counts_line(every: Sequence[AuditException]) -> str:
    """How many exceptions stand where."""
    by = Counter(item.review.status for item in every)
    parts = [f"{name} {by.get(name, 0):,}" for name in ("open", "cleared", "error", "referred")]
    signed = sum(bool(item.review.signed_off) for item in every)
    drawn = sum(item.kind == DRAWN for item in every)
    of = f"   drawn into samples, not flagged {drawn:,}" if drawn else ""
    return f"exceptions {len(every):,} = " + " + ".join(parts) + f"   signed off {signed:,}{of}"


def show_queue(
    console: Console,
    every: Sequence[AuditException],
    shown: Sequence[AuditException],
    currencies: Mapping[str, str],
    failures: Sequence[tuple[int, Failed]] = (),
) -> None:
    """Print part of the queue; ``every`` is the whole of it, ``currencies`` are those of the tables."""
    named = sorted({currencies[item.table] for item in shown if item.table in currencies})
    several = len(named) > 1
    title(
        console,
        "queue",
        f"{len(shown):,} of {num.many(len(every), 'exception')} shown, {listed(named)}".rstrip(
            ", "
        ),
    )
    table = open_table(
        [
            ("#", "right"), ("id", "left"), ("status", "left"), ("marks", "right"),
            ("amount", "right"), ("subject", "wrap"), ("best standing", "wrap"),
        ]
    )  # fmt: skip
    for item in shown:
        mark = item.marks[0]
        amount = "–" if item.amount is None else num.amount(Decimal(item.amount))
        if several and item.amount is not None:
            amount = f"{amount} {currencies.get(item.table, '')}".rstrip()
        before = item.before if item.review.status == "open" else None
        again = "" if before is None else f"; in {before.period} {before.status}: {before.reason}"
        table.add_row(
            str(item.place), item.id, status_text(item.review, console.width), str(len(item.marks)), amount,
            f"{item.label}{again}", f"{mark.rank:,}/{mark.flagged:,} {mark.screen}",
        )  # fmt: skip
    console.print(table)
    console.print()
    console.print(Text(f" {counts_line(every)}"))
    notes(
        console,
        "not run",
        (
            f"{failed.screen} could not run in run {number}: {failed.reason}; what it marked before, "
            "if anything, is of an earlier run"
            for number, failed in failures
        ),
    )
    waiting = next((item for item in shown if item.review.status == "open"), None)
    if waiting is not None:
        next_steps(
            console,
            [
                f"sabueso dig {waiting.id}",
                f'sabueso review {waiting.id} --cleared --reason "…" --as KL',
            ],
        )


def show_behind(console: Console, found: Behinds, top: int, chosen: int) -> None:
    """Print who is behind exceptions, most evidence first."""
    title(console, f"behind exceptions, by {found.role}", f"{num.many(len(found.found), 'value')}")
    table = open_table(
        [
            (found.role, "left"), ("exceptions", "right"), ("families of tests", "right"), ("bits", "right"),
            ("amounts at stake", "right"), ("which", "wrap"),
        ]
    )  # fmt: skip
    for one in found.found[:top]:
        more = (
            "" if len(one.exceptions) <= MOST_IDS else f" and {len(one.exceptions) - MOST_IDS} more"
        )
        table.add_row(
            f" {one.value}", num.count(len(one.exceptions)), num.count(len(one.families)),
            num.number(one.bits, 1), num.amount(one.amount),
            ", ".join(one.exceptions[:MOST_IDS]) + more,
        )  # fmt: skip
    console.print(table)
    rest = len(found.found) - top
    if rest > 0:
        console.print(Text(f" … and {rest:,} more", style=STONE))
    console.print()
    looked = found.looked_at - found.without
    console.print(
        Text(
            f" exceptions {chosen:,} = of few in the role {found.role} {looked:,} + of many, or of none {found.without:,}"
            + (f" + not looked at {chosen - found.looked_at:,}" if chosen > found.looked_at else "")
        )
    )
    if found.found:
        first = found.found[0]
        next_steps(
            console, [f"sabueso dig {first.exceptions[0]}", f"sabueso why {first.exceptions[0]}"]
        )


def show_listed(console: Console, items: Sequence[AuditException], *, recorded: bool) -> None:
    """Many exceptions, a line each, with what they come to."""
    amounts = [Decimal(item.amount) for item in items if item.amount is not None]
    did = "recorded of" if recorded else "chosen:"
    title(
        console, f"{did} {num.many(len(items), 'exception')}", num.amount(sum(amounts, Decimal(0)))
    )
    table = open_table(
        [
            ("id", "left"),
            ("status", "left"),
            ("amount", "right"),
            ("subject", "flex"),
            ("matter", "flex"),
        ]
    )
    for item in items:
        amount = "–" if item.amount is None else num.amount(Decimal(item.amount))
        table.add_row(
            f" {item.id}", status_text(item.review), amount, item.label, item.review.matter
        )
    console.print(table)
    console.print()


def show_exception(console: Console, item: AuditException) -> None:
    """One exception: why it stands where it stands, and its review."""
    title(console, f"{item.id} · {item.label}", f"{item.table}, {item.kind}")
    table = open_table(
        [
            ("marked by", "flex"), ("standing", "left"), ("score", "right"), ("limit", "right"),
            ("adj. p", "right"), ("amount", "right"),
        ]
    )  # fmt: skip
    for mark in item.marks:
        amount = "–" if mark.amount is None else num.amount(Decimal(mark.amount))
        table.add_row(
            " " + mark.screen,
            f"{mark.rank:,} of {mark.flagged:,}",
            num.number(mark.score, 2),
            num.number(mark.limit, item.subject.limit_places),
            num.p_value(mark.p_adjusted),
            amount,
        )
    console.print(table)
    console.print()
    if item.before is not None:
        console.print(Text(f" {before_text(item.before)}"))
        console.print()
    show_review(console, item.review)


def before_text(before: Before) -> str:
    """What a line was judged to be last time, with the reason."""
    when = before.at[:10]
    return (
        f"last time, in {before.period}: {before.status} by {before.initials} on {when}, {before.reason} "
        f"({before.id})"
    )


def show_review(console: Console, review: Review) -> None:
    """The history of a review, oldest event first."""
    if not review.history:
        console.print(Text(" not reviewed yet", style=STONE))
        return
    grid = Table.grid(padding=(0, 2))
    for _ in range(3):
        grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold")
    for event in review.history:
        what = event.body.get("disposition", _DONE.get(event.kind, event.kind))
        detail = event.body.get("reason", "")
        detail += event.body.get("to", "") + event.body.get("matter", "")
        if event.body.get("error_amount"):
            detail += f" (amount of the error {num.amount(Decimal(event.body['error_amount']))})"
        if event.body.get("selected_by"):
            detail += f" (chosen by {event.body['selected_by']})"
        if event.body.get("set_aside"):
            detail += " (set aside from later statistics)"
        for file in event.body.get("evidence", []):
            detail += f" [evidence {file['file']}, SHA-256 {file['sha256'][:12]}…]"
        grid.add_row(f" {event.at[:16].replace('T', ' ')}", event.initials, what, detail)
    console.print(grid)
