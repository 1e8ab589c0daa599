"""What a comparison of periods shows: the lines that moved, and the total that they add up to."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from sabueso.population.expressions import equals
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Sheet, Table
from sabueso.report.commands import shell
from sabueso.screens.periods.judging import in_words, moved, reading_of
from sabueso.screens.periods.result import ComparedLine, Comparison
from sabueso.screens.view import View, and_more

MOST_FLAGGED, MOST_LINES, MANY_LINES = 25, 10, 60
LARGE = 10**6

BY = {"change": "", "moved": ", moved to new lines"}
"""How lines were judged, where that has words of its own."""


class PeriodsView(View[Comparison]):
    """Flagged lines, the largest change first; where none is flagged, the largest changes."""

    subjects = ("line", "lines")

    def headline(self) -> str:
        s = self.finding.used
        by = BY.get(s["flag_by"], f", by {s['flag_by']}")
        return f"{s['current']} against {s['base']}, per {', '.join(s['per'])}{by}"

    def name(self) -> str:
        s = self.finding
        by = BY.get(s.settings["flag_by"], f", by {s.settings['flag_by']}")
        # What holds for every month's files is called so.
        base = s.settings["base"] or s.used["base"]
        if s.settings["mean_of"]:
            base = f"the mean of {s.settings['mean_of']} before"
        if s.settings["seasonal"]:
            base = f"the season of {s.settings['seasonal']} years before"
        return f"{s.source} {s.settings['current']} against {base}{by}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        finding, (group,) = self.finding, self.finding.groups
        by = finding.settings["flag_by"]
        lines = sorted(group.lines, key=lambda line: (not line.flagged, -abs(moved(line, by))))
        shown = [line for line in lines if line.flagged][:MOST_FLAGGED] or lines[:MOST_LINES]
        if whole:
            shown = lines[:MANY_LINES]
        labels = list(shown[0].key) if shown else finding.settings["per"]
        head = [Column(label, "flex") for label in labels]
        more = self._more()
        # A band takes the room of the shift, which the reading beside it tells in words.
        shifts = "low" not in more.values() and any(x.share_shift is not None for x in lines)
        points = ["points"] if shifts else []
        head += map(Column, (_short(group.base), group.current, "change", "%", *points, *more))
        places = finding.scale
        if max((abs(line.current) for line in lines), default=0) >= LARGE and not whole:
            places = 0
        rows: list[Sequence[Cell]] = [
            [
                *("(missing)" if v is None else str(v) for v in line.key.values()),
                *_sums(line, places),
                *([num.signed(line.share_shift)] if shifts else []),
                *(_figure(getattr(line, name), places) for name in more.values()),
                _reading(line, by),
            ]
            for line in shown
        ]
        blank = [""] * (len(labels) - 1)
        rest_of = [""] * (len(points) + len(more) + 1)
        rows.append(["total", *blank, *_sums(group.total, places), *rest_of])
        rest = and_more(len(lines) - len(shown), "line", ", in the total")
        table = Table(
            [*head, Column("", "left")], rows, strong=frozenset([len(rows) - 1]), rest=rest
        )
        parts = group.rate_volume
        if parts is None:
            return [table]
        change, volume, rate, mix = (
            num.amount(v, finding.scale)
            for v in (group.total.change, parts.volume, parts.rate, parts.mix)
        )
        return [
            table,
            Gap(),
            Line(f"of the change {change}: volume {volume}, rate {rate}, mix {mix}"),
        ]

    def _more(self) -> dict[str, str]:
        """Columns of a comparison with quantities, or with the mean of several periods."""
        lines = self.finding.groups[0].lines
        named = {
            "price %": "rate_percent", "volume %": "volume_percent", "deviates": "deviate",
            "expected from": "low", "to": "high",
        }  # fmt: skip
        return {
            head: name
            for head, name in named.items()
            if any(getattr(line, name) is not None for line in lines)
        }

    def flagged(self) -> list[Block]:
        return []  # the lines above say it

    def sheet(self) -> Sheet:
        """Every line with all its figures."""
        lines = self.finding.groups[0].lines
        nested = ("key", "rate_volume", "history")
        names = [n for n in ComparedLine.__dataclass_fields__ if n not in nested]
        header = [*lines[0].key, *names] if lines else []
        rows = [[*x.key.values(), *(getattr(x, name) for name in names)] for x in lines]
        return Sheet("lines", header, rows)

    def steps(self, where: str | None) -> list[str]:
        finding = self.finding
        flag = next(finding.flags.rows(1), None)
        if flag is None:
            return []
        line = finding.flags.named(flag).clients()
        conditions = [equals(key, value, finding.columns) for key, value in line.items()]
        condition = " and ".join([*conditions, *([f"({where})"] if where else [])])
        across = shell(str(finding.used.get("period") or "year"))
        by = shell(str(finding.used.get("opens_by") or finding.settings["per"][-1]))
        return [
            f"sabueso dig {finding.source} --where {shell(condition)} --by {by} --across {across}"
        ]

    def drawing(self, kind: str = "changes") -> Drawing | None:
        from sabueso.screens.periods.figure import periods_drawing

        return periods_drawing(self.finding, kind)


def _sums(line: ComparedLine, places: int) -> list[str]:
    values = (line.base, line.current, line.change)
    shown = [num.amount(round(value, places), places) for value in values]
    return [*shown, num.signed(line.change_percent)]


def _short(base: str) -> str:
    """What a column of the base is called: the headline has the whole of it."""
    for begins, short in (("the mean of ", "mean before"), ("the season of ", "season before")):
        if base.startswith(begins):
            return short
    return base


def _figure(value: float | Decimal | None, places: int) -> str:
    """A figure of a line that not every line has; an edge of its band is an amount."""
    if isinstance(value, Decimal):
        return num.amount(round(value, places), places)
    return num.signed(value)


def _reading(line: ComparedLine, by: str) -> Marked:
    if not line.flagged:
        return Marked(in_words(line), "muted")
    return Marked(f"{'▲' if moved(line, by) > 0 else '▼'} {reading_of(line, by)}")
