"""What the fences show: quartiles, fences, and which of them a row is beyond."""

from __future__ import annotations

from typing import Any

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Column
from sabueso.screens.fences.result import FenceGroup
from sabueso.screens.limits.view import LimitView, effect_blocks


class FencesView(LimitView[FenceGroup]):
    """Groups with their quartiles and fences."""

    judges_by_p = False

    def headline(self) -> str:
        s = self.finding.used
        scale = " on the log scale" if s["scale"] == "log" else ""
        kind = "skew-adjusted " if s["fence"] == "skew-adjusted" else ""
        return f"beyond the {kind}{s['beyond']} fences{scale}{self.by()}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        return [*super().blocks(whole=whole), *effect_blocks(self.finding)]

    def columns(self) -> dict[str, str]:
        named = {"q1": "Q1", "median": "median", "q3": "Q3", "low": "low", "high": "high"}
        if self.finding.settings["fence"] == "skew-adjusted":
            named["medcouple"] = "medcouple"
        return named

    def cell(self, name: str, value: Any) -> str:
        return num.signed(value, 3) if name == "medcouple" else super().cell(name, value)

    def beside(self) -> tuple[str, ...]:
        return "q1", "q3", "low", "high"

    def strength(self) -> tuple[list[Column], int]:
        return [Column("score"), Column("fence", "left")], 1

    def beyond(self, flag: Cells) -> list[str]:
        return [flag["fence"]]
