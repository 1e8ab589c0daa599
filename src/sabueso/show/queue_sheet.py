"""The queue as a table for spreadsheets."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from sabueso.case.queue import AuditException
from sabueso.report.blocks import Sheet


def queue_sheet(items: Sequence[AuditException]) -> Sheet:
    """Exceptions with marks and reviews, in queue order."""
    header = [
        "place", "id", "table", "kind", "subject", "amount", "marks", "screens", "best standing",
        "status", "reason", "initials", "reviewed at", "signed off", "amount of error", "set aside",
        "evidence SHA-256", "assigned", "matter", "rows",
    ]  # fmt: skip
    rows: list[list[object]] = []
    for item in items:
        review, mark = item.review, item.marks[0]
        rows.append(
            [
                item.place, item.id, item.table, item.kind, item.label,
                None if item.amount is None else Decimal(item.amount), len(item.marks),
                "; ".join(m.screen for m in item.marks), f"{mark.rank:,} of {mark.flagged:,}",
                review.status, review.reason, review.initials, review.at, review.signed_off,
                review.error_amount, "yes" if review.set_aside else "",
                "; ".join(e["sha256"] for e in review.evidence), review.assigned, review.matter,
                item.selector,
            ]
        )  # fmt: skip
    return Sheet("exceptions", header, rows)
