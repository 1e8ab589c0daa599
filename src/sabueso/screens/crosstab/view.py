"""What a cross table shows: who has far more rows of a kind than all others."""

from __future__ import annotations

from math import inf

from sabueso.base.plain import Cells
from sabueso.population.expressions import equals
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.report.commands import shell
from sabueso.screens.cells import cell_figures
from sabueso.screens.crosstab.result import CrossGroup
from sabueso.screens.finding import Finding
from sabueso.screens.view import MOST_FLAGS, View, more_flags

MOST_TOLD = 6
"""Kinds that are told before the flags."""


class CrosstabView(View[CrossGroup]):
    """Flagged cells; before them how many rows are of each kind."""

    subjects = ("cell", "cells")
    conforming = "groups that have all kinds in one proportion"

    def __init__(self, finding: Finding[CrossGroup]) -> None:
        super().__init__(finding)
        self._other: str | None = finding.settings.get("beside")
        """The table that the rows are held against; None where they are of kinds."""
        self._same = self._other == finding.table
        if self._other is not None:
            self.subjects = "group", "groups"
            self.conforming = "groups that have both in one proportion"

    def headline(self) -> str:
        if self._other is not None:
            other = "its other rows" if self._same else self._other
            return f"{self.finding.source} beside {other}{self.by()}"
        return f"{', '.join(self._kinds())}{self.by()}"

    def _kinds(self) -> list[str]:
        return [text.strip('"') for text in self.finding.settings["of"]]

    def name(self) -> str:
        if self._other is not None:
            return self.headline().replace(",", " and")
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
            times, other = float(finding.settings["times"]), self._other
            what = "a kind" if other is None else finding.source
            held = "" if other is None else f" for {self._theirs()}"
            return [
                Line(
                    f"nobody has {times:g} times as many rows of {what} as is expected{held}, by more than chance"
                )
            ]
        if self._other is not None:
            return [self._beside()]
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

    def _theirs(self) -> str:
        """The rows that those of the table are held against."""
        return "the other rows" if self._same else f"those of {self._other}"

    def _beside(self) -> Table:
        """Who has far more rows of the table for those of the other."""
        finding = self.finding
        other = "the other rows" if self._same else str(self._other)
        columns = [
            Column("who", "flex"), Column("rows"), Column(other), Column("for 100"), Column("the others"),
            Column("expected"), Column("amount"), Column("residual"), Column("adj. p"), Column("", "left"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                num.group_name(flag["group"]),
                num.count(flag["rows"]),
                num.count(flag["of"] - flag["rows"]),
                num.number(_for_100(flag["rows"] / flag["of"]), 1),
                "–" if flag["others"] is None else num.number(_for_100(flag["others"]), 1),
                num.number(flag["expected"], 1),
                *cell_figures(flag, finding.scale),
                Marked("▲ more"),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return Table(columns, rows, rest=more_flags(finding.flags), flags=True)

    def _reason_beside(self, flag: Cells) -> str:
        source, theirs = self.finding.source, flag["of"] - flag["rows"]
        other = num.verb(theirs, "other row", "other rows") if self._same else f"of {self._other}"
        others = ""
        if flag["others"] is not None:
            others = f", and all others {num.number(_for_100(flag['others']), 1)}"
        return (
            f"{num.group_name(flag['group'])} has {num.many(flag['rows'], 'row')} of {source} beside {theirs:,} {other}, "
            f"{num.number(_for_100(flag['rows'] / flag['of']), 1)} for each hundred{others}; "
            f"{num.number(flag['expected'], 1)} would be expected if all had both in one proportion "
            f"(adjusted {num.p_text(flag['p_adjusted'])})."
        )

    def reason(self, flag: Cells) -> str:
        if self._other is not None:
            return self._reason_beside(flag)
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


def _for_100(share: float) -> float:
    """Rows of one table for a hundred of the other, where they are that share of both."""
    return 100 * share / (1 - share) if share < 1 else inf


def _kind_of(flag: Cells) -> Cells:
    return {name: value for name, value in flag["subject"].items() if name not in flag["group"]}


def _named(kind: Cells) -> str:
    return " and ".join(num.named(kind))
