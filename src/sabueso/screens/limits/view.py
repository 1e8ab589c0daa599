"""What the tests that set limits show alike: groups with their limits, rows beyond them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any, TypeVar

from sabueso.base.plain import Cells
from sabueso.base.words import listed
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.screens.finding import Finding
from sabueso.screens.limits.result import LimitGroup
from sabueso.screens.view import MARKS, MOST_FLAGS, View, and_more, cell_text, more_flags

MOST_GROUPS, MOST_PRINTED, MOST_CONTEXT = 10, 60, 3
G = TypeVar("G", bound=LimitGroup)


def _median(group: Any) -> float | None:
    """The median of a group's amounts, on their own scale."""
    amounts = getattr(group, "with_flags", None)
    return None if amounts is None else float(amounts.median)


class LimitView(View[G]):
    """Groups with most flagged rows first, then the rows."""

    def columns(self) -> dict[str, str]:
        """Figures of a group, and what they are called."""
        raise NotImplementedError

    def called(self) -> dict[str, str]:
        """The same, where it is said which are figures of logarithms: the mean of these is another than that of amounts."""
        if self.finding.used.get("scale") != "log":
            return self.columns()
        return {
            name: text if name in ("low", "high") else f"{text} (log)"
            for name, text in self.columns().items()
        }

    def cell(self, name: str, value: Any) -> str:
        """A figure of a group as text."""
        return num.number(None if value is None else float(value), self.finding.scale)

    def beside(self) -> tuple[str, ...]:
        """Names of the figures that are compared with and without the rows set aside."""
        return ()

    def figures(self, group: G) -> dict[str, float | None]:
        values = {name: getattr(group, name) for name in self.beside()}
        return {name: None if v is None else float(v) for name, v in values.items()}

    def blocks(self, *, whole: bool = False) -> list[Block]:
        return [*self.limits(whole=whole), *self.flagged()]

    def is_told_by_peers(self, columns: Collection[str]) -> bool:
        return set(self.finding.by) <= set(columns)

    def reason(self, flag: Cells) -> str:
        """The limit that a row is beyond, and the median of those that it was held against."""
        of = flag.get("group") or {}
        group = next((g for g in self.finding.groups if g.group == of), None)
        above = flag.get("direction") == "high"
        limit = getattr(group, "high" if above else "low", None)
        value, median = flag.get("amount"), _median(group)
        if group is None or limit is None or value is None or not of:
            return ""
        scale = self.finding.scale
        whose = "" if median is None else f", whose median is {num.number(median, scale)}"
        named = listed([f"{name} {num.shown(each)}".replace('"', "") for name, each in of.items()])
        return (
            f"{num.amount(value, scale)} is {'above' if above else 'below'} {num.number(float(limit), scale)}, the limit of the "
            f"{num.many(group.n, 'row')} of {named}{whose}."
        )

    def limits(self, *, whole: bool = False) -> list[Block]:
        """The groups and their limits."""
        finding, named = self.finding, self.called()
        if not finding.groups:
            return []
        head = [Column("group", "flex"), Column("n")] if finding.by else [Column(" n")]
        head += [Column(name) for name in (*named.values(), "flagged")]
        ranked = sorted(finding.groups, key=lambda g: -g.flagged)
        shown = ranked[: MOST_PRINTED if whole else MOST_GROUPS]
        rows = [
            [
                *([num.group_name(g.group)] if finding.by else []),
                num.count(g.n),
                *(self.cell(name, getattr(g, name)) for name in named),
                num.count(g.flagged),
            ]
            for g in shown
        ]
        return [Table(head, rows, rest=and_more(len(ranked) - len(shown), "group"))]

    def strength(self) -> tuple[list[Column], int]:
        """Columns that say how far a flagged row is beyond its limit, and the score's decimals."""
        return [Column("score"), Column("adj. p")], 1

    def beyond(self, flag: Cells) -> list[str]:
        """What stands beside the score of a flagged row."""
        return [num.p_value(flag.get("p_adjusted"))]

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            return [Gap(), Line("nothing is beyond the limits")]
        columns, places = self.strength()
        rows: list[tuple[Cells, list[Cell]]] = [
            (
                flag,
                [
                    num.number(flag["score"], places),
                    *self.beyond(flag),
                    Marked(MARKS.get(flag["direction"], "◆ far")),
                ],
            )
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Gap(), rows_table(self.finding, rows, [*columns, Column("", "left")])]

    def drawing(self, kind: str = "plain") -> Drawing | None:
        from sabueso.screens.limits.figure import limits_drawing

        return limits_drawing(self.finding, kind)


def rows_table(
    finding: Any, flags: Sequence[tuple[Cells, list[Cell]]], columns: Sequence[Column]
) -> Table:
    """Flagged rows: what names them, what helps to recognise them, their amount, and ``columns``."""
    context = list(flags[0][0].get("context") or {})[:MOST_CONTEXT]
    head = [
        Column("row", "left"),
        *(Column(name, "flex") for name in context),
        Column(finding.heading),
    ]
    rows = [
        [
            finding.flags.named(flag).short(),
            *(cell_text(flag["context"][name]) for name in context),
            num.amount(flag["amount"], finding.scale),
            *more,
        ]
        for flag, more in flags
    ]
    return Table([*head, *columns], rows, rest=more_flags(finding.flags), flags=True)


def effect_blocks(finding: Finding[Any]) -> list[Block]:
    """What the flagged rows do to the group that has most of them."""
    touched = [g for g in finding.groups if g.flagged and g.without_flags]
    if not touched:
        return []
    g = max(touched, key=lambda item: item.flagged)
    before, after = g.with_flags, g.without_flags
    assert after is not None
    scale = finding.scale
    where = f" in {num.group_name(g.group)}" if finding.by else ""
    text = (
        f"without the {g.flagged:,} flagged{where}: mean {num.number(before.mean, scale)} → "
        f"{num.number(after.mean, scale)}, median {num.number(before.median, scale)} → "
        f"{num.number(after.median, scale)}, s {num.number(before.sd, scale)} → "
        f"{num.number(after.sd, scale)}"
    )
    return [Gap(), Line(text)]
