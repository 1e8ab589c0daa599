"""An exception of a change: the two periods that it lies between."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException
from sabueso.case.recording import latest_findings
from sabueso.population.calendar import Span
from sabueso.population.expressions import equals, quoted_name
from sabueso.screens.finding import Finding
from sabueso.screens.subject import Line


@dataclass(frozen=True)
class Change:
    """The rows of both periods of a line, and which of the two each is in, as a user types them."""

    condition: str
    period: str


def finding_of(case: Case, item: AuditException) -> Finding[Any]:
    """The finding that marked an exception; of several, one that compares two periods of the books,
    since a budget has no rows to look behind.

    Raises
    ------
    UserError
        If the programme has its screens no longer.
    """
    newest = {f.screen: f.finding for f in latest_findings(case)}
    found = [newest[mark.screen] for mark in item.marks if mark.screen in newest]
    if not found:
        raise UserError(
            f"{item.id} was marked by {item.marks[0].screen!r}, which the programme has no longer"
        )
    return next((f for f in found if not f.settings.get("against")), found[0])


def both_periods(case: Case, item: AuditException) -> Change | None:
    """The rows of a line in both of its periods; None where it is no change within the books."""
    subject = item.subject
    if not isinstance(subject, Line):
        return None
    try:
        finding = finding_of(case, item)
    except UserError:
        return None  # its screen has gone: the rows of its own period are left
    base, current = finding.used.get("base"), finding.used.get("current")
    table = case.table(item.table)
    date = table.role("date")
    if finding.used.get("against") or not base or not current or date is None:
        return None
    day = quoted_name(date.name)
    spans = [Span.of(str(name), table.fiscal_year_starts) for name in (base, current)]
    names = [column.name for column in table.columns]
    keys = [equals(name, value, names) for name, value in subject.clients().items()]
    first, second = (f"({span.condition(day)})" for span in spans)
    asked = finding.settings.get("where")
    conditions = [*keys, f"({first} or {second})", *([f"({asked})"] if asked else [])]
    period = f"case when {first} then '{base}' else '{current}' end"
    return Change(" and ".join(conditions), period)
