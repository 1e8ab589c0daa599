"""Figures of a relation as words."""

from __future__ import annotations

from sabueso.report import numbers as num
from sabueso.report.numbers import MINUS
from sabueso.screens.relation.result import RelationGroup


def r_text(r: float | None) -> str:
    """A correlation with three decimals; never 1 where it is not."""
    if r is None:
        return "–"
    if 0.9995 <= abs(r) < 1:
        return ">0.999" if r > 0 else f"<{MINUS}0.999"
    return f"{r:.3f}".replace("-", MINUS)


def moved_text(dfbetas: float | None) -> str:
    """Errors of the slope that a subject moves it by: two decimals, of less than a tenth two figures."""
    if dfbetas is None or not dfbetas or abs(dfbetas) >= 0.1:
        return num.signed(dfbetas, 2)
    return f"{dfbetas:+.2g}".replace("-", MINUS)


def of_group(g: RelationGroup) -> str:
    """Which subjects are spoken of; empty where it is the whole."""
    if g.chosen is not None:
        return " of those chosen"
    return f" in {num.group_name(g.group)}" if g.group else ""
