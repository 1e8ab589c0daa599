"""What was set aside or marked, listed beside the population for whoever asks the client about it."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from sabueso.case.files import safe_cell, write_whole
from sabueso.intake.checks import RuleReport
from sabueso.intake.interface import FileReport


def write_quarantine(
    folder: Path, reports: Sequence[FileReport], judged: Sequence[RuleReport]
) -> None:
    """Write the rows that each file lost and the rows that each rule marked."""
    for report in reports:
        if report.damaged:
            write_whole(folder / f"{Path(report.file).stem}.csv", _quarantine_csv(report))
    for rule in judged:
        if rule.left:
            name = re.sub(r"\W+", "-", rule.title).strip("-") or rule.rule
            write_whole(folder / f"marked-{name}.csv", _marked_csv(rule))


def _quarantine_csv(report: FileReport) -> bytes:
    head = ("file", "line", "column", "value", "reason", "record")
    rows = ((report.file, d.line, d.column, d.value, d.reason, d.text) for d in report.damaged)
    return _csv(head, rows)


def _marked_csv(rule: RuleReport) -> bytes:
    """Rows that stay in the table and break a rule, the first of them where there are many."""
    columns = " | ".join(rule.columns)
    rows = ((b.file, b.line, columns, b.value, rule.title) for b in rule.listed)
    return _csv(("file", "line", "column", "value", "rule"), rows)


def _csv(head: Sequence[str], rows: Iterable[Sequence[Any]]) -> bytes:
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\r\n")
    writer.writerow(head)
    for row in rows:
        writer.writerow([safe_cell(cell) for cell in row])
    return text.getvalue().encode("utf-8-sig")
