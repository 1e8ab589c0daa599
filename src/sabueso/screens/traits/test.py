"""Entries by the traits that made-up ones have, the most surprising together first."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal

import pyarrow as pa
from pydantic import Field, field_validator

from sabueso.base.errors import UserError
from sabueso.population import expressions
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.asked import asked
from sabueso.screens.finding import Caution, Finding, Flags
from sabueso.screens.grouping import Grouping, without_key
from sabueso.screens.interface import Screen
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of
from sabueso.screens.settings import Settings, listed_once
from sabueso.screens.subject import Selected, Subject, own_key
from sabueso.screens.traits.entries import Entries, Pattern, bits_of
from sabueso.screens.traits.flagging import Bits, chosen_of, flags_of, rarity_of
from sabueso.screens.traits.marks import WORDS, Marks, check_left_out
from sabueso.screens.traits.people import preparer_of
from sabueso.screens.traits.result import SourceTraits, Trait, TraitGroup
from sabueso.screens.traits.view import TraitsView

if TYPE_CHECKING:
    from sabueso.stats.description import Description

LEAST_ENTRIES = 200


class TraitsSettings(Settings):
    """Settings of ``traits``."""

    per: list[str] = Field(
        default_factory=list,
        description="what tells an entry: its number (default: role id, or document)",
    )
    share: float = Field(
        0.001,
        gt=0,
        lt=1,
        description="entries as rare as this share of all are flagged, what one preparer made with their traits "
        "counted once",
    )
    least: int = Field(
        2,
        ge=1,
        description="traits of an entry below which it is not flagged, unless it is taken back after the period",
    )
    rare: float = Field(
        0.001,
        gt=0,
        lt=0.2,
        description="share of rows, or of entries, below which an account or a pair is rare",
    )
    late: int = Field(10, ge=0, description="days from its date after which a row is entered late")
    words: list[str] = Field(
        default_factory=list, description="words that a text may hold, or a list of the plan"
    )
    holidays: list[str] = Field(default_factory=list, description="days, or a list of the plan")
    limit: str | None = Field(
        None, description="an approval limit: a number, a fact of the plan, or SQL"
    )
    period: Literal["year", "quarter", "month"] = Field(
        "year", description="across the end of which an amount may be taken back"
    )
    back_within: int = Field(10, ge=1, le=60, description="days within which it is taken back")
    leave_out: list[str] = Field(default_factory=list, description="traits that do not count")
    source: str | None = Field(
        None,
        description="column of where entries come from: how rare a trait is counts within each",
    )

    _listed = field_validator("per", "words", "holidays", "leave_out", mode="before")(listed_once)


class Traits(Screen):
    """Entries by bits of surprise."""

    name = "traits"
    summary = "entries with traits that made-up ones have: hours, round amounts, rare accounts, taken back"
    reference = (
        "International Standard on Auditing 240, application material on journal entries; bits of surprise: "
        "Shannon, C. E. (1948), Bell System Technical Journal 27, 379-423"
    )
    settings = TraitsSettings
    group = TraitGroup
    view = TraitsView
    place = 88
    examples = (
        "sabueso try traits journal --per asiento",
        'sabueso try traits journal --per asiento --words "regularización,varios" --limit 5000',
        "sabueso try traits journal --per asiento --leave-out round_amount --share 0.01 --out traits.png",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        table = population.table
        told = [
            r for r in ("account", "preparer", "approver", "entered") if table.role(r) is not None
        ]
        if "amount" not in table.roles or table.dated() is None or len(told) < 2:
            yield Suit(self.name, "no", "too little tells how an entry was made")
            return
        key = _key_of(table)
        yield Suit(
            self.name,
            "yes",
            f"{', '.join(told)} tell of entries",
            "" if key is None else asked(per=quoted_name(key.name)),
        )

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        table = population.table
        if (
            described is None
            or described.n < LEAST_ROWS
            or is_budget(table)
            or table.dated() is None
        ):
            return
        if _key_of(table) is None or not {"account", "approver"} & set(table.roles):
            return
        preparer = preparer_of(population)
        told = ["accounts"] if "account" in table.roles else ["approvers"]
        if preparer is not None:
            told.append("preparers" if "preparer" in table.roles else preparer.name)
        elif not {"account", "debit", "credit"} <= set(table.roles):
            return
        yield Proposal(
            f"traits of {table.name}",
            settings_of(),
            "Entries that were made as made-up ones are.",
            f"{', '.join(told)} and dates are there",
        )

    def run(self, population: Population, settings: TraitsSettings) -> Finding[TraitGroup]:
        table = population.table
        check_left_out(settings.leave_out)
        key = settings.per or _default(table)
        grouping = Grouping.of(key, table)
        reasons = [without_key(grouping)]
        preparer = preparer_of(population)
        marks = Marks(population, settings, reasons, preparer)
        marks.make()
        measure = table.role("amount")
        source = None if settings.source is None else table.column(settings.source)
        entries = Entries(population, grouping, marks, measure, source, preparer)
        with entries.ready(settings.rare):
            patterns = entries.patterns()
            whole = sum(p.count for p in patterns)
            counts, total = _counted(patterns, entries.names)
            of_sources = {
                source: _counted(own, entries.names) for source, own in _by_source(patterns).items()
            }
            bits = {
                source: {name: bits_of(n, size) for name, n in own.items()}
                for source, (own, size) in of_sources.items()
            }
            rarity = rarity_of(patterns, bits)
            chosen = chosen_of(entries, rarity, bits, settings)
            flags = flags_of(entries, chosen, bits, rarity, measure)
            rows = entries.rows()
        group = TraitGroup(
            group={},
            entries=whole,
            rows=rows,
            traits=[
                Trait(n, counts[n], bits_of(counts[n], total))
                for n in sorted(counts, key=counts.__getitem__)
            ],
            sources=[] if source is None else _sources(of_sources, bits),
            not_looked_for=dict(sorted(marks.cannot.items())),
            limit=min((s.score for s in chosen), default=None),
            flagged=sum(flag["entries"] for flag in flags),
        )
        return Finding(
            test=self.name,
            table=table.name,
            on=None,
            by=[],
            settings=settings.model_dump(),
            solved={"per": list(grouping.labels)},
            population=population.account(measure, reasons),
            groups=[group],
            flags=Flags(
                "entity",
                pa.Table.from_pylist(flags) if flags else pa.table({}),
                _rows_of,
                sparse=True,
            ),
            tests_made=0,
            subjects=whole,
            cautions=_cautions(group),
            not_tested=[],
            currency=table.currency,
            scale=measure.scale if measure is not None else 2,
        )


def _key_of(table: Table) -> Column | None:
    return table.role("id") or table.role("document")


def _default(table: Table) -> list[str]:
    column = _key_of(table)
    if column is None:
        raise UserError(
            f"traits needs what tells an entry: table {table.name!r} names no id and no document; say it with --per"
        )
    return [expressions.quoted_name(column.name)]


def _counted(patterns: Sequence[Pattern], names: Sequence[str]) -> tuple[dict[str, int], int]:
    """How many entries have each trait, and how many there are."""
    counts = {n: sum(p.count for p in patterns if n in p.traits) for n in names}
    return counts, sum(p.count for p in patterns)


def _by_source(patterns: Sequence[Pattern]) -> dict[str | None, list[Pattern]]:
    found: dict[str | None, list[Pattern]] = {}
    for pattern in patterns:
        found.setdefault(pattern.source, []).append(pattern)
    return found


def _sources(
    of_sources: Mapping[str | None, tuple[dict[str, int], int]], bits: Bits
) -> list[SourceTraits]:
    """The entries of each source, the most first, with what traits count there."""
    found = []
    for source, own in bits.items():
        counts, whole = of_sources[source]
        traits = [Trait(n, counts[n], own[n]) for n in sorted(counts, key=counts.__getitem__)]
        found.append(SourceTraits(source, whole, traits))
    return sorted(found, key=lambda s: (-s.entries, str(s.source)))


class _Alike(Selected):
    """Entries of one preparer with the same traits, or one entry, by a condition that the flag has."""

    def label(self) -> str:
        key = own_key("traits", self.named)
        if key not in self.named:
            return super().label()
        told = ", ".join(WORDS.get(name, name) for name in str(self.named[key]).split(", "))
        return " · ".join([*num.named(self.clients()), told])

    def clients(self) -> dict[str, Any]:
        key = own_key("traits", self.named)
        return {name: value for name, value in self.named.items() if name != key}


def _rows_of(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    return _Alike(flag["subject"], f"({flag['selects']})")


def _cautions(group: TraitGroup) -> list[Caution]:
    found = []
    if group.entries < LEAST_ENTRIES:
        text = f"{num.many(group.entries, 'entry', 'entries')}: of so few none is rare by much"
        found.append(Caution("too_few", text, {"entries": group.entries}))
    missing = [name for name in WORDS if name in group.not_looked_for]
    if missing:
        told = "; ".join(f"{WORDS[name]} ({group.not_looked_for[name]})" for name in missing)
        found.append(
            Caution("traits_not_told", f"not looked for: {told}", {"traits": len(missing)})
        )
    return found
