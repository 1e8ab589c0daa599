"""What a look at numbers shows: each series, then what is missing, twice, out of order, or otherwise written."""

from __future__ import annotations

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.report.commands import shell
from sabueso.screens.sequence.result import Series
from sabueso.screens.view import MOST_FLAGS, View, and_more, more_flags

MOST_SERIES, MANY_SERIES = 8, 60


class SequenceView(View[Series]):
    """Series with their counts, then the ranges."""

    subjects = ("number", "numbers")
    conforming = "numbers that are missing independently of one another"
    foremost = frozenset({"incomplete_series"})

    def headline(self) -> str:
        return f"numbers of {self.finding.used['of']}{self.by()}"

    def name(self) -> str:
        return f"{self.headline()} of {self.finding.source}".replace(", ", " and ")

    def blocks(self, *, whole: bool = False) -> list[Block]:
        finding = self.finding
        if not finding.groups:
            return [Line("no series is long enough to be looked at")]
        most = MANY_SERIES if whole else MOST_SERIES
        chosen = sorted(finding.groups, key=lambda s: -s.count)[:most]
        by = list(chosen[0].group)
        dated = any(s.out_of_order is not None for s in chosen)
        columns = [
            *(Column(name, "flex") for name in by),
            Column("first", "flex"),
            Column("last", "flex"),
        ]
        columns += [Column("numbers"), Column("missing"), Column("gaps"), Column("twice")]
        columns += [Column("out of order")] if dated else []
        rows: list[list[Cell]] = [
            [
                *("(missing)" if v is None else str(v) for v in s.group.values()),
                s.first,
                s.last,
                num.count(s.numbers),
                num.count(s.missing),
                num.count(s.gaps),
                num.count(s.repeated),
                *(
                    []
                    if not dated
                    else ["–" if s.out_of_order is None else num.count(s.out_of_order)]
                ),
            ]
            for s in chosen
        ]
        total = finding.more.series if finding.more is not None else len(finding.groups)
        return [
            Table(columns, rows, rest=and_more(total - len(chosen), "series")),
            Gap(),
            *self.flagged(),
        ]

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            in_order = any(s.out_of_order is not None for s in finding.groups)
            looked = [each for each in finding.used["find"] if each != "order" or in_order]
            return [Line(f"nothing is found of {', '.join(looked)}")] if looked else []
        columns = [
            Column("number", "wrap"),
            Column("what", "wrap"),
            Column("how many"),
            Column("p"),
        ]
        rows: list[list[Cell]] = [
            [
                finding.flags.named(flag).short(),
                Marked(f"▲ {flag['what']}"),
                num.count(flag["missing"] or flag["rows"] or 1),
                num.p_value(flag["p"]),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        named = self.finding.flags.named(flag).short()
        if flag["missing"]:
            between = f"between {flag['before']} and {flag['after']}"
            return f"{num.many(flag['missing'], 'number')} of the series, {named}, {'is' if flag['missing'] == 1 else 'are'} missing {between}."
        return f"{named} is {flag['what']}."

    def steps(self, where: str | None) -> list[str]:
        flag = next(self.finding.flags.rows(1), None)
        if flag is None:
            return []
        from sabueso.population.expressions import literal, quoted_name

        name = flag["column"]
        name = quoted_name(name) if name.isidentifier() else name
        values = dict.fromkeys((flag["before"], flag["after"]))
        condition = f"{name} in ({', '.join(map(literal, values))})"
        return [f"sabueso dig {self.finding.source} --where {shell(condition)} --rows"]

    def drawing(self, kind: str = "plain") -> Drawing | None:
        from sabueso.screens.sequence.figure import sequence_drawing

        return sequence_drawing(self.finding)
