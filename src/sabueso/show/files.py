"""Findings and queues as files."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException
from sabueso.screens.interface import Finding
from sabueso.show.export import FIGURES, Sheet, finding_sheet, sheets_as
from sabueso.show.figures import draw


def finding_as(path: Path, finding: Finding, case: Case, kind: str = "plain") -> bytes:
    """A finding as the file that a path's suffix asks for: data, figure, or a page.

    Raises
    ------
    UserError
        If a figure is asked for and there is nothing to draw.
    """
    suffix = path.suffix.lower()
    content = finding.as_json()
    if suffix in FIGURES:
        picture = draw(content, suffix[1:], kind)
        if picture is None:
            raise UserError(f"--out {path}: there is nothing to draw")
        return picture
    if suffix == ".html":
        from sabueso.show.paper import finding_page

        return finding_page(case, content).encode()
    return sheets_as(suffix, [finding_sheet(finding)], content)


def queue_sheet(items: Sequence[AuditException]) -> Sheet:
    """Exceptions with marks and reviews, in queue order."""
    header = [
        "place", "id", "table", "kind", "subject", "amount", "marks", "screens", "best standing",
        "status", "reason", "initials", "reviewed at", "signed off", "amount of error", "set aside",
        "evidence SHA-256", "rows",
    ]  # fmt: skip
    rows: list[list[object]] = []
    for item in items:
        review, mark = item.review, item.marks[0]
        rows.append(
            [
                item.place, item.id, item.table, item.kind, item.label,
                None if item.amount is None else Decimal(item.amount), len(item.marks),
                "; ".join(m.screen for m in item.marks), f"{mark.rank} of {mark.flagged}",
                review.status, review.reason, review.initials, review.at, review.signed_off,
                review.error_amount, "yes" if review.set_aside else "",
                "; ".join(e["sha256"] for e in review.evidence), item.selector,
            ]
        )  # fmt: skip
    return Sheet("exceptions", header, rows)
