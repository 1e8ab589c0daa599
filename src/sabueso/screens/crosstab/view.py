"""What a cross table shows: who has far more rows of a kind than all others."""

from __future__ import annotations

from sabueso.base.plain import Cells
from sabueso.population.expressions import equals
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.report.commands import shell
from sabueso.screens.cells import cell_figures
from sabueso.screens.crosstab.result import CrossGroup
from sabueso.screens.view import MOST_FLAGS, View, more_flags

MOST_TOLD = 6
"""Kinds that are told before the flags."""


class CrosstabView(View[CrossGroup]):
    """Flagged cells; before them how many rows are of each kind."""

    subjects = ("cell", "cells")
    conforming = "groups that have all kinds in one proportion"

    def headline(self) -> str:
        return f"{', '.join(self._kinds())}{self.by()}"

    def _kinds(self) -> list[str]:
        return [text.strip('"') for text in self.finding.settings["of"]]

    def name(self) -> str:
        return f"{self.headline()} of {self.finding.source}".replace(",", " and")

    def blocks(self, *, whole: bool = False) -> list[Block]:
        everything = self.finding.groups[0]
        if not everything.n:
            return [Line("no rows to look at")]
        shown = everything.cells[:MOST_TOLD]
        told = [f"{num.group_name(c.kind)} {num.percent(c.rows / everything.n, 1)}" for c in shown]
        if rest := len(everything.cells) - len(shown):
            told.append(f"and {rest:,} more")
        return [
            Line(f"{num.many(everything.n, 'row')}: {', '.join(told)}", "muted"),
            Gap(),
            *self.flagged(),
        ]

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            times = float(finding.settings["times"])
            return [
                Line(
                    f"nobody has {times:g} times as many rows of a kind as is expected, by more than chance"
                )
            ]
        columns = [
            Column("who", "flex"), Column("kind", "wrap"), Column("rows"), Column("of"), Column("share"),
            Column("the others"), Column("expected"), Column("amount"), Column("residual"), Column("adj. p"),
            Column("", "left"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                num.group_name(flag["group"]),
                num.group_name(_kind_of(flag)),
                num.count(flag["rows"]),
                num.count(flag["of"]),
                num.percent(flag["rows"] / flag["of"], 1),
                "–" if flag["others"] is None else num.percent(flag["others"], 1),
                num.number(flag["expected"], 1),
                *cell_figures(flag, finding.scale),
                Marked("▲ more"),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        others = (
            ""
            if flag["others"] is None
            else f", and {num.percent(flag['others'], 1)} of those of all others"
        )
        return (
            f"{_named(_kind_of(flag))} are {num.many(flag['rows'], 'row')} of the {flag['of']:,} of "
            f"{num.group_name(flag['group'])}, {num.percent(flag['rows'] / flag['of'], 1)}{others}; "
            f"{num.number(flag['expected'], 1)} would be expected if all had them in one proportion "
            f"(adjusted {num.p_text(flag['p_adjusted'])})."
        )

    def steps(self, where: str | None) -> list[str]:
        flag = next(self.finding.flags.rows(1), None)
        if flag is None:
            return []
        known = self.finding.columns
        parts = [equals(name, value, known) for name, value in flag["subject"].items()]
        condition = " and ".join([*parts, *([f"({where})"] if where else [])])
        return [f"sabueso dig {self.finding.source} --where {shell(condition)} --rows"]

    def drawing(self, kind: str = "plain") -> Drawing | None:
        from sabueso.screens.crosstab.figure import crosstab_drawing

        return crosstab_drawing(self.finding)


def _kind_of(flag: Cells) -> Cells:
    return {name: value for name, value in flag["subject"].items() if name not in flag["group"]}


def _named(kind: Cells) -> str:
    return " and ".join(num.named(kind))
