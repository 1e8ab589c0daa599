"""An exception of a change: the two periods that it lies between."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException
from sabueso.case.recording import latest_findings
from sabueso.population.calendar import Span
from sabueso.population.expressions import quoted_name
from sabueso.population.table import Table
from sabueso.screens.finding import Finding
from sabueso.screens.subject import Line, Subject


@dataclass(frozen=True)
class Change:
    """A line in two periods, as a user types it: its rows whatever their period, and by period, the
    earlier first, its name and its days."""

    line: str
    periods: tuple[tuple[str, str], tuple[str, str]]

    @property
    def condition(self) -> str:
        """The rows of both periods."""
        (_, first), (_, second) = self.periods
        return f"{self.line} and ({first} or {second})"

    @property
    def sides(self) -> tuple[str, str]:
        """The rows of each."""
        (_, first), (_, second) = self.periods
        return f"{self.line} and {first}", f"{self.line} and {second}"

    @property
    def period(self) -> str:
        """Which of the two a row of them is in."""
        (base, first), (current, _) = self.periods
        return f"case when {first} then '{base}' else '{current}' end"


def finding_of(case: Case, item: AuditException) -> Finding[Any]:
    """The foremost of :func:`findings_of`."""
    return findings_of(case, item)[0]


def findings_of(case: Case, item: AuditException) -> list[Finding[Any]]:
    """The findings that marked an exception, as its marks stand; first of all one that compares two periods
    of the books, since a budget has no rows to look behind.

    Raises
    ------
    UserError
        If the programme has its screens no longer.
    """
    marked = {mark.screen for mark in item.marks}
    newest = {f.screen: f.finding for f in latest_findings(case, marked)}
    found = [newest[mark.screen] for mark in item.marks if mark.screen in newest]
    if not found:
        raise UserError(
            f"{item.id} was marked by {item.marks[0].screen!r}, which the programme has no longer"
        )
    return sorted(found, key=lambda finding: bool(finding.settings.get("against")))


def line_of(finding: Finding[Any], subject: Line) -> Line:
    """A line with the condition that its test was run under: its key alone does not have it."""
    asked = finding.settings.get("where")
    return Line(subject.named, asked=f"({asked})" if asked else "")


def both_periods(finding: Finding[Any], subject: Subject, table: Table) -> Change | None:
    """The rows of a line in both of its periods; None where it is no change within the books."""
    base, current = finding.used.get("base"), finding.used.get("current")
    labels = [finding.used.get(f"{side}_rows") for side in ("base", "current")]
    date = table.role("date")
    if not isinstance(subject, Line) or finding.used.get("against") or finding.used.get("mean_of"):
        return None
    if not base or not current or (date is None and None in labels):
        return None
    if date is None or None not in labels:
        named = ((str(base), f"({labels[0]})"), (str(current), f"({labels[1]})"))
        return Change(line_of(finding, subject).every_period(table), named)
    day = quoted_name(date.name)
    first, second = (
        (str(name), f"({Span.of(str(name), table.fiscal_year_starts).condition(day)})")
        for name in (base, current)
    )
    return Change(line_of(finding, subject).every_period(table), (first, second))
