"""What a look at numbers shows: each series, then what is missing, twice, out of order, or otherwise written."""

from __future__ import annotations

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.report.commands import shell
from sabueso.screens.sequence.result import Series
from sabueso.screens.view import MOST_FLAGS, View, more_flags

MOST_SERIES, MANY_SERIES = 8, 60


class SequenceView(View[Series]):
    """Series with their counts, then the ranges."""

    foremost = frozenset({"incomplete_series"})

    @property
    def subjects(self) -> tuple[str, str]:  # type: ignore[override]
        """A number, or a month."""
        noun = self.each or "number"
        return noun, f"{noun}s"

    @property
    def each(self) -> str:
        """Month, quarter or occasion, where these are looked for in place of numbers."""
        settings = self.finding.settings
        return str(settings.get("each") or ("occasion" if settings.get("occasions") else ""))

    @property
    def conforming(self) -> str:  # type: ignore[override]
        """Presence by chance alone."""
        return f"{self.subjects[1]} that are missing independently of one another"

    def headline(self) -> str:
        if self.finding.settings.get("occasions"):
            return f"occasions of {self.finding.used['of']} without a row{self.by()}"
        if self.each:
            return f"{self.each}s without a row{self.by()}"
        return f"numbers of {self.finding.used['of']}{self.by()}"

    def name(self) -> str:
        return f"{self.headline()} of {self.finding.source}".replace(", ", " and ")

    def blocks(self, *, whole: bool = False) -> list[Block]:
        finding = self.finding
        if not finding.groups:
            return [Line("no series is long enough to be looked at")]
        most = MANY_SERIES if whole else MOST_SERIES
        # Of many that all have as many, those are shown that lack some.
        chosen = sorted(finding.groups, key=lambda s: (self.each and -s.missing, -s.count))[:most]
        by = list(chosen[0].group)
        dated = any(s.out_of_order is not None for s in chosen)
        columns = [
            *(Column(name, "flex") for name in by),
            Column("first", "flex"),
            Column("last", "flex"),
        ]
        several = "twice" if not self.each else "several rows"
        columns += [Column(self.subjects[1]), Column("missing"), Column("gaps"), Column(several)]
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
            Table(columns, rows, rest=_more(total - len(chosen))),
            Gap(),
            *self.flagged(),
        ]

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags) and self.each:
            return [Line(f"no {self.each} between the first and the last of a series is named")]
        if not len(finding.flags):
            in_order = any(s.out_of_order is not None for s in finding.groups)
            looked = [each for each in finding.used["find"] if each != "order" or in_order]
            return [Line(f"nothing is found of {', '.join(looked)}")] if looked else []
        columns = [
            Column(self.subjects[0], "wrap"),
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
            if self.each:
                one = flag["missing"] == 1
                return f"{num.many(flag['missing'], self.each)} of the series, {named}, {'has' if one else 'have'} no row, though those before and after {'it' if one else 'them'} have."
            return f"{num.many(flag['missing'], 'number')} of the series, {named}, {'is' if flag['missing'] == 1 else 'are'} missing {between}."
        return f"{named} is {flag['what']}."

    def steps(self, where: str | None) -> list[str]:
        flag = next(self.finding.flags.rows(1), None)
        if flag is None:
            return []
        from sabueso.population.expressions import equals, literal, quoted_name

        name = flag["column"]
        name = quoted_name(name) if name.isidentifier() and not self.each else name
        values = dict.fromkeys((flag["before"], flag["after"]))
        known = self.finding.columns
        groups = (equals(n, v, known) for n, v in flag["group"].items())
        condition = " and ".join([f"{name} in ({', '.join(map(literal, values))})", *groups])
        return [f"sabueso dig {self.finding.source} --where {shell(condition)} --rows"]

    def drawing(self, kind: str = "plain") -> Drawing | None:
        from sabueso.screens.sequence.figure import sequence_drawing

        return sequence_drawing(self.finding)


def _more(rest: int) -> str:
    return f"… and {rest:,} more series" if rest > 0 else ""
