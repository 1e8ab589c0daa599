"""What a top share shows: the share, its count and its cut-off together."""

from __future__ import annotations

from typing import Any

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Column
from sabueso.screens.limits.view import LimitView
from sabueso.screens.top.result import TopGroup


class TopView(LimitView[TopGroup]):
    """Groups with the share of their rows that is wanted."""

    subjects = ("row", "rows")

    def headline(self) -> str:
        s = self.finding.used
        ends = {"high": "largest", "low": "smallest", "both": "largest and smallest"}[s["side"]]
        return f"the {ends} {s['aim'] or s['share'] or '1%'}{self.by()}"

    def columns(self) -> dict[str, str]:
        if self.finding.settings["side"] == "both":
            return {"share": "share", "k": "k", "cutoff_low": "low", "cutoff_high": "high"}
        return {"share": "share", "k": "k", "cutoff": "cut-off"}

    def cell(self, name: str, value: Any) -> str:
        if name == "share":
            return num.percent(value, 2)
        return num.count(value) if name == "k" else super().cell(name, value)

    def beside(self) -> tuple[str, ...]:
        return ("cutoff",)

    def strength(self) -> tuple[list[Column], int]:
        return [Column("beyond the cut-off")], 2

    def beyond(self, flag: Cells) -> list[str]:
        return []
