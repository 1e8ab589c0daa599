"""What a look at traits shows: how many entries have each, then the rarest entries with theirs."""

from __future__ import annotations

from decimal import Decimal

from sabueso.base.plain import Cells
from sabueso.population.expressions import equals
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.report.commands import shell
from sabueso.screens.traits.marks import WORDS
from sabueso.screens.traits.result import TraitGroup
from sabueso.screens.view import MOST_FLAGS, View, more_flags

MOST_NAMED, LONGEST = 12, 240


class TraitsView(View[TraitGroup]):
    """Traits, then entries."""

    subjects = ("entry", "entries")

    def headline(self) -> str:
        return f"traits of entries, by {', '.join(self.finding.used['per'])}"

    def name(self) -> str:
        return f"traits of {self.finding.source}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        (g,) = self.finding.groups
        told = f"{num.count(g.entries)} entries of {num.count(g.rows)} rows"
        columns = [Column("trait", "left"), Column("entries"), Column("share"), Column("bits")]
        rows: list[list[Cell]] = [
            [
                WORDS[t.trait], num.count(t.count),
                num.percent(t.count / g.entries if g.entries else 0.0, 2), num.number(t.bits, 1),
            ]
            for t in g.traits
        ]  # fmt: skip
        found: list[Block] = [Line(told), Gap(), Table(columns, rows)]
        if g.sources:
            listed = ", ".join(
                f"{s.source or '(missing)'} {num.count(s.entries)}" for s in g.sources[:MOST_NAMED]
            )
            column = self.finding.used["source"]
            found.append(
                Line(f"what a trait counts is counted within each {column}: {listed}", "muted")
            )
        return [*found, Gap(), *self.flagged()]

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            return [Line("no entry is as rare by its traits as was asked for")]
        columns = [
            Column("entry", "wrap"), Column("amount"), Column("bits"), Column("as rare as"), Column("traits", "wrap"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                _named(flag),
                num.amount(
                    None if flag["amount"] is None else Decimal(flag["amount"]), finding.scale
                ),
                num.number(flag["bits"], 1),
                num.percent(flag["as_rare_as"], 3),
                Marked(f"▲ {', '.join(WORDS[name] for name in flag['traits'])}"),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def asked_for(self) -> str:
        finding = self.finding
        (g,) = finding.groups
        return f"{g.flagged:,} of {num.many(g.entries, *self.subjects)}, {num.many(len(finding.flags), 'exception')}"

    def steps(self, where: str | None) -> list[str]:
        flag = next(self.finding.flags.rows(1), None)
        if flag is None:
            return []
        selects = flag["selects"]
        if len(selects) > LONGEST:
            (name,) = self.finding.used["per"][:1]
            selects = equals(name, flag["keys"][0], self.finding.columns)
        return [f"sabueso dig {self.finding.source} --where {shell(selects)} --rows"]

    def reason(self, flag: Cells) -> str:
        told = ", ".join(
            f"{WORDS[name]} ({num.number(bits, 1)} bits)"
            for name, bits in zip(flag["traits"], flag["each"], strict=True)
        )
        if flag["entries"] > 1:
            more = "" if flag["entries"] <= MOST_NAMED else " …"
            listed = f"{', '.join(flag['keys'][:MOST_NAMED])}{more}"
            return (
                f"{flag['entries']:,} entries ({listed}) are alike: {told[0].lower()}{told[1:]}; "
                f"{num.percent(flag['as_rare_as'], 3)} of all entries are as surprising by their traits, or more."
            )
        return (
            f"{told[0].upper()}{told[1:]}: {num.percent(flag['as_rare_as'], 3)} of all entries are as surprising by their "
            "traits, or more."
        )

    def drawing(self, kind: str = "plain") -> Drawing | None:
        from sabueso.screens.traits.figure import traits_drawing

        return traits_drawing(self.finding)


def _named(flag: Cells) -> str:
    """An entry, or how many there are of whom."""
    first = next(iter(flag["subject"].values()))
    if flag["entries"] == 1:
        return str(first)
    return f"{first}: {flag['entries']:,}, {flag['keys'][0]} …"
