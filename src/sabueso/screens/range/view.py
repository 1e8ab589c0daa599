"""What declared limits show: each rule, and the rows that break it."""

from __future__ import annotations

import re

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Line, Marked, Table
from sabueso.screens.limits.view import rows_table
from sabueso.screens.range.result import HAS, SIZES, Rules
from sabueso.screens.view import MOST_FLAGS, View


class RangeView(View[Rules]):
    """Rules with the number of rows that break them."""

    subjects = ("row", "rows")

    def headline(self) -> str:
        return "outside what is declared"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        rules: list[list[Cell]] = [
            [rule.rule, Marked(num.count(rule.flagged), "mark" if rule.flagged else "plain")]
            for g in self.finding.groups
            for rule in g.rules
        ]
        table = Table([Column("rule", "wrap"), Column("rows that break it")], rules)
        return [table, Gap(), *self.flagged()]

    def flagged(self) -> list[Block]:
        if not len(self.finding.flags):
            return [Line("no row breaks what was declared")]
        rows: list[tuple[Cells, list[Cell]]] = [
            (flag, [Marked(_told(flag, self.finding.scale))])
            for flag in self.finding.flags.rows(MOST_FLAGS)
        ]
        return [rows_table(self.finding, rows, [Column("breaks", "wrap")])]

    def reason(self, flag: Cells) -> str:
        told = _told(flag, self.finding.scale)
        happened = any(flag.get(name) is not None for name in SIZES)
        return f"{told}." if happened else f"Not what is declared: {told}."


def _told(flag: Cells, scale: int) -> str:
    """The rule that a row breaks; of days, by how many; of limits and readings, by how much; of values, how many are
    others; of what was chosen, how much better another is; of sums, how much is not there; of what is late, after how many days it is."""
    days, by, others, above, below, short, after, over, again, worse, hours = map(flag.get, SIZES)
    rule = str(flag["rule"])
    if flag.get(HAS) is not None:
        column, word, listed = re.split(r" (one of|no other than) ", rule, maxsplit=1)
        return f"{column} is {flag[HAS]}, and {'none of' if word == 'one of' else 'not'} {listed}"
    if others is not None:
        column, _, whose = rule.rpartition(" the same for each ")
        have = "has" if others == 1 else "have"
        return f"{num.many(others, 'other row')} of its {whose} {have} another {column}"
    if by is not None:
        beside = "below the one before it" if by < 0 else "above the one after it"
        column, _, whose = rule.partition(" never falls")
        return f"{column} is {abs(by):,.15g} {beside}{whose.replace(', by ', ' of its ', 1)}"
    if again is not None:
        names, _, _ = rule.partition(" of one row each")
        told = f"{names.removesuffix(' together')} as in {num.many(again, 'row')} before it"
        # Findings of before do not say which.
        file, line = flag.get("first_file"), flag.get("first_line")
        which = "the first" if again > 1 else "that"
        return told if file is None else f"{told}, {which} of {file} line {line}"
    if worse is not None:
        name, _, rest = rule.partition(" the ")
        end, _, _ = rest.partition(" where ")
        beside = "below" if end == "highest" else "above"
        where = f"of {flag['best_file']} line {flag['best_line']}"
        whose = rule.rpartition(", by ")[2]
        return f"{name} is {_size(worse, scale)} {beside} the {end} of its {whose}, {where}"
    if short is not None:
        column, _, whose = rule.partition(" not below 0")
        return f"after it the {column}{whose.replace(', by ', ' of its ', 1)} is {_size(short, scale)} below 0"
    if over is not None:
        first, _, rest = rule.partition(" not before the last ")
        last, _, whose = rest.partition(", by ")
        size = num.many(int(over), "day") if over == int(over) else f"{over * 24:,.3g} hours"
        return f"{first} is {size} before the {last} of another of its {whose}"
    if after is not None and " at least " in rule:
        later, least, earlier = re.split(r" (at least .+? days?) after ", rule, maxsplit=1)
        return f"{later} is {num.many(after, 'day')} after {earlier}, not {least}"
    if after is not None:
        later, within, earlier = re.split(r" (within .+? days?) of ", rule, maxsplit=1)
        return f"{later} is {num.many(after, 'day')} after {earlier}, not {within}"
    if below is not None:
        return rule.replace(" not below ", f" is {_size(below, scale)} below ")
    if above is not None:
        return rule.replace(" not above ", f" is {_size(above, scale)} above ")
    before = num.many(days, "day") if days else _time(hours) if hours else None
    return rule if before is None else rule.replace(" not before ", f" is {before} before ")


def _time(hours: float) -> str:
    """Time by the clock."""
    minutes = hours * 60
    if minutes < 1:
        return "less than a minute"
    if minutes < MOST_MINUTES:
        return num.many(int(minutes), "minute")
    return f"{hours:,.3g} hours" if hours < MOST_HOURS else num.many(int(hours / 24), "day")


MOST_HOURS, MOST_MINUTES = 48, 90
"""Of times by the clock, those that are told in hours, and in minutes."""


def _size(size: float, scale: int) -> str:
    """With the decimals of the measure, where it has no more."""
    return f"{size:,.{scale}f}" if round(size, scale) == size else f"{size:,.15g}"
