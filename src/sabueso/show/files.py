"""Findings and queues as files."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path

from sabueso.case.files import write_whole
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException
from sabueso.errors import UserError
from sabueso.screens.interface import Finding
from sabueso.show.export import FIGURES, Sheet, finding_sheet, write_sheets
from sabueso.show.figures import draw


def write_finding(path: Path, finding: Finding, case: Case, kind: str = "plain") -> None:
    """Write a finding as the file its suffix asks for: data, figure, or a page.

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
        write_whole(path, picture)
    elif suffix == ".html":
        from sabueso.show.paper import finding_page

        write_whole(path, finding_page(case, content).encode())
    else:
        write_sheets(path, [finding_sheet(finding)], content)


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
