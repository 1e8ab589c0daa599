"""What was set aside or marked, listed beside the population for whoever asks the client about it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from sabueso.base.files import csv_rows, write_whole
from sabueso.intake.interface import FileReport
from sabueso.intake.rules.judging import RuleReport


def write_quarantine(
    folder: Path, reports: Sequence[FileReport], judged: Sequence[RuleReport], made: list[Path]
) -> None:
    """Write the rows that each file lost and the rows that each rule marked; ``made`` gets the files
    that were not there."""
    for report in reports:
        if report.damaged:
            content = _quarantine_csv(report)
            _write(folder, Path(report.file).stem, report.sha256[:8], content, made)
    for rule in judged:
        if rule.left:
            name = re.sub(r"\W+", "-", rule.title).strip("-") or rule.rule
            write_whole(folder / f"marked-{name[:120]}.csv", _marked_csv(rule))


def _write(folder: Path, stem: str, digest: str, content: bytes, made: list[Path]) -> None:
    """A list under the file's name; another list of that name, of another file or of what it was
    before, stays."""
    for name in (f"{stem[:120]}.csv", f"{stem[:120]}-{digest}.csv"):
        path = folder / name
        if not path.exists():
            made.append(path)
            write_whole(path, content)
            return
        if path.read_bytes() == content:
            return
    write_whole(path, content)


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
    return csv_rows([head, *rows], end="\r\n").encode("utf-8-sig")
