"""The figure of a test that has none of its own: what it flagged, the strongest first, by amount or by score."""

from __future__ import annotations

from typing import Any

from sabueso.report import numbers as num
from sabueso.report.bars import Bar, bars_drawing
from sabueso.report.blocks import Drawing
from sabueso.screens.finding import Finding

MOST_BARS = 25


def flags_drawing(finding: Finding[Any], words: str) -> Drawing | None:
    """Bars of the first flags; None where nothing is flagged, or nothing tells them apart."""
    flags = list(finding.flags.rows(MOST_BARS))
    if not flags:
        return None
    by_amount = any(flag.get("amount") not in (None, "") for flag in flags)
    bars = [
        Bar(
            finding.flags.named(flag).short(),
            _number(flag.get("amount") if by_amount else flag.get("score")),
            str(flag.get("direction") or flag.get("reason") or ""),
        )
        for flag in flags
    ]
    if len({bar.value for bar in bars}) == 1 and len(bars) > 1:
        return None  # bars of one length tell nothing that their list does not
    unit = f"amount, {finding.currency}" if finding.currency else finding.on or "amount"
    where = f" where {finding.settings['where']}" if finding.settings.get("where") else ""
    rest = len(finding.flags) - len(bars)
    more = f"; {num.count(rest)} further not drawn" if rest else ""
    title = f"{words}{where}, {num.many(finding.population.used, 'row')}{more}"
    return bars_drawing(bars, unit if by_amount else "score", title)


def _number(value: Any) -> float | None:
    return None if value in (None, "") else float(value)
