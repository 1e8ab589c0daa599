"""What a relation shows: the whole, its parts and the rest side by side, the lines, who is off them."""

from __future__ import annotations

from collections.abc import Iterator
from math import floor, log10

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.screens.relation.doubts import SIGNIFICANT, is_bent, rests_on_one
from sabueso.screens.relation.result import RelationGroup
from sabueso.screens.relation.words import moved_text, of_group, r_text
from sabueso.screens.view import MARKS, MOST_FLAGS, View, more_flags

MOST_GROUPS, MANY_GROUPS = 12, 60
HEAD = (
    "subjects", "n", "r", "95% interval", "p", "rho", "r less one", "r of the rest", "differ, p",
    "flagged",
)  # fmt: skip


class RelationView(View[RelationGroup]):
    """Correlations side by side, then lines and subjects."""

    subjects = ("subject", "subjects")
    conforming = "subjects evenly about one line"
    foremost = frozenset({"one_point", "shared_divisor", "two_trends"})
    places = 4

    def headline(self) -> str:
        x, y = self.finding.used["measures"]
        return f"relation of {x} and {y}{self.by()}"

    def name(self) -> str:
        x, y = self.finding.used["measures"]
        return f"{y} against {x} of {self.finding.source}"

    def figures(self, group: RelationGroup) -> dict[str, float | None]:
        return {"r": group.r}

    def blocks(self, *, whole: bool = False) -> list[Block]:
        groups = self.finding.groups
        if not groups:
            return [Line("no subjects to correlate")]
        most = MANY_GROUPS if whole else MOST_GROUPS
        rows = [self._row(g) for g in groups[:most]]
        # A column that says nothing of any group is left out.
        kept = [i for i in range(len(HEAD)) if i < 2 or any(row[i] != "–" for row in rows)]
        columns = [Column(HEAD[i], "left") if not i else Column(HEAD[i]) for i in kept]
        left = len(groups) - most
        rest = f"… and {num.many(left, 'group')} more" if left > 0 else ""
        table = Table(columns, [[row[i] for i in kept] for row in rows], rest=rest)
        found: list[Block] = [table, Gap()]
        found += [Line(text) for text in self._told(groups[0])]
        if groups[-1].chosen is not None:
            found += [Line(text) for text in self._told(groups[-1])]
        return [*found, Gap(), *self.flagged()]

    def _row(self, g: RelationGroup) -> list[Cell]:
        one = g.most_influential
        interval = "–" if g.r_low is None else f"{r_text(g.r_low)} to {r_text(g.r_high)}"
        judged = bool(g.group) if self.finding.by else g.chosen is None
        return [
            _subjects(g), num.count(g.n), r_text(g.r), interval, num.p_value(g.r_p), r_text(g.rho),
            Marked(
                "–" if one is None else r_text(one.r_without) if one.r_without is not None else "none",
                "mark" if rests_on_one(g) else "plain",
            ),
            "–" if g.rest is None else r_text(g.rest.r),
            num.p_value(g.difference_p),
            num.count(g.flagged) if judged else "–",
        ]  # fmt: skip

    def _told(self, g: RelationGroup) -> Iterator[str]:
        x, y = g.measures
        yield reading(g, flagged=g.flagged)
        if g.slope is not None and g.intercept is not None:
            yield (
                f"least-squares line{of_group(g)}: {y} = {_figure(g.intercept)} + {_figure(g.slope)} × {x} "
                f"(error of the slope {_figure(g.slope_error)}, by HC3 {_figure(g.slope_error_hc3)})"
            )
        if g.slope_theil_sen is not None:
            yield (
                f"line by the median of the slopes of {g.pairs_theil_sen:,} pairs{of_group(g)}: {y} = "
                f"{_figure(g.intercept_theil_sen)} + {_figure(g.slope_theil_sen)} × {x}"
            )
        if g.movers:
            named = "; ".join(
                f"{m.name} (Cook's distance {num.number(m.cook)}, leverage {m.leverage:.2f}, DFBETAS "
                f"{moved_text(m.dfbetas)})"
                for m in g.movers
            )
            more = g.mover_count - len(g.movers)
            yield f"moved by itself alone, the line{of_group(g)}: {named}" + (
                f" and {more:,} more" if more else ""
            )
        if g.slope_movers:
            named = ", ".join(f"{m.name} ({moved_text(m.dfbetas)})" for m in g.slope_movers)
            rest = g.slope_mover_count - len(g.slope_movers)
            verb = "moves" if g.slope_mover_count == 1 else "move"
            yield (
                f"{num.many(g.slope_mover_count, 'subject')} of {g.n:,}{of_group(g)}, each by itself, {verb} the "
                f"slope by more than 2/√n = {_limit(g.dfbetas_limit)} of its error (DFBETAS): {named}"
                + (f" and {rest:,} more" if rest else "")
            )
        if g.r_two_ways is not None:
            products, scores = g.r_two_ways
            yield (
                f"r{of_group(g)} by centred products {products:.12f}, as the mean product of z-scores "
                f"{scores:.12f}"
            )

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            return [Line("no subject is off the line by more than chance would have it")]
        x, y = finding.used["measures"]
        columns = [
            Column("subject", "flex"), Column(x), Column(y), Column("residual"), Column("leverage"),
            Column("Cook"), Column("r without"), Column("adj. p"), Column("", "left"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                finding.flags.named(flag).short(), num.number(flag["values"][x]),
                num.number(flag["values"][y]), num.signed(flag["residual"], 1),
                f"{flag['leverage']:.3f}", num.number(flag["cook"]), r_text(flag["r_without"]),
                num.p_value(flag["p_adjusted"]), Marked(MARKS[flag["direction"]]),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]  # fmt: skip
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        x, y = self.finding.used["measures"]
        side = "above" if flag["direction"] == "high" else "below"
        return (
            f"Its {y} of {num.number(flag['values'][y])} lies {side} the line for a {x} of "
            f"{num.number(flag['values'][x])}, {num.number(abs(flag['residual']), 1)} studentised residuals off "
            f"(adjusted {num.p_text(flag['p_adjusted'])})."
        )

    def drawing(self, kind: str = "scatter") -> Drawing | None:
        from sabueso.screens.relation.figure import relation_drawing

        return relation_drawing(self.finding, kind)


def reading(g: RelationGroup, *, flagged: int = 0) -> str:
    """The relation of one group in words, by what the figures carry."""
    x, y = g.measures
    who = of_group(g).strip()
    head = f"{who}: " if who else ""
    one = g.most_influential
    share = num.percent(g.r * g.r) if g.r is not None else "–"
    if rests_on_one(g) and one is not None:
        left = (
            "a measure does not vary" if one.r_without is None else f"r is {r_text(one.r_without)}"
        )
        return f"{head}r {r_text(g.r)} is the work of one subject, {one.name}: without it {left}"
    if is_bent(g):
        return (
            f"{head}{y} goes with {x} along a curve; the line accounts for {share} of its variance"
        )
    if g.r_p is None or g.r_p >= SIGNIFICANT:
        return f"{head}no relation along a line can be shown with {g.n:,} subjects"
    way = "rises" if (g.r or 0) > 0 else "falls"
    off = f"; {num.many(flagged, 'subject')} off it" if flagged else ""
    return f"{head}{y} {way} with {x} along a line, which accounts for {share} of its variance{off}"


def _subjects(g: RelationGroup) -> str:
    if g.chosen is not None:
        return f"where {g.chosen}"
    return num.group_name(g.group) if g.group else "all"


def _limit(limit: float | None) -> str:
    """2/√n: three decimals, of very many subjects three figures."""
    return num.number(limit, 3) if limit is None or limit >= 0.01 else f"{limit:.3g}"


def _figure(value: float | None) -> str:
    """A coefficient with four figures that count."""
    if value is None:
        return "–"
    places = 3 - floor(log10(abs(value))) if value else 0
    return num.number(value, min(max(places, 0), 12))
