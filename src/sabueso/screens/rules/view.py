"""What the declared rules show: each rule with what breaks it."""

from __future__ import annotations

from sabueso.base.plain import Cells
from sabueso.population.expressions import equals
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Line, Marked, Table
from sabueso.report.commands import shell
from sabueso.screens.range.view import RangeView
from sabueso.screens.view import MOST_FLAGS, more_flags


class RulesView(RangeView):
    """Rules with the number of rows that break them, or of numbers that are missing."""

    @property
    def _of_numbers(self) -> bool:
        return self.finding.flags.kind == "range"

    def headline(self) -> str:
        return "numbers missing" if self._of_numbers else "against the rules of the plan"

    def steps(self, where: str | None) -> list[str]:
        flag = next(self.finding.flags.rows(1), None)
        if not self._of_numbers or flag is None:
            return super().steps(where)
        ends = " or ".join(
            equals(flag["column"], flag[end], self.finding.columns) for end in ("first", "last")
        )
        return [f"sabueso dig {self.finding.source} --where {shell(ends)} --rows"]

    def asked_for(self) -> str:
        if self._of_numbers:
            return num.many(len(self.finding.flags), "gap")
        return super().asked_for()

    def name(self) -> str:
        what = "numbers missing in" if self._of_numbers else "rules of"
        return f"{what} {self.finding.source}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        what = "numbers missing" if self._of_numbers else "rows that break it"
        rules: list[list[Cell]] = [
            [rule.rule, Marked(num.count(rule.flagged), "mark" if rule.flagged else "plain")]
            for g in self.finding.groups
            for rule in g.rules
        ]
        return [Table([Column("rule", "wrap"), Column(what)], rules), Gap(), *self.flagged()]

    def flagged(self) -> list[Block]:
        if not self._of_numbers:
            return super().flagged()
        if not len(self.finding.flags):
            return [Line("no number is missing")]
        rows: list[list[Cell]] = [
            [_numbers(flag), num.count(flag["missing"]), flag["first"], flag["last"]]
            for flag in self.finding.flags.rows(MOST_FLAGS)
        ]
        head = [Column("missing", "left"), Column("how many"), Column("after", "left"), Column("before", "left")]  # fmt: skip
        return [Table(head, rows, rest=more_flags(self.finding.flags), flags=True)]


def _numbers(flag: Cells) -> str:
    return str(next(v for v in flag["subject"].values() if v is not None))
