"""Keys of a table that another lacks, or has: exact, normalised, or nearly equal names."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal

import pyarrow as pa
from pydantic import Field, field_validator, model_validator

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import Cells
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population, Reason
from sabueso.population.table import Table
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.asked import asked
from sabueso.screens.finding import Caution, Finding, Flags, Make
from sabueso.screens.interface import Screen
from sabueso.screens.match.during import days_of, undated, without_day
from sabueso.screens.match.flagging import cluster_of, flags_of, in_periods, together
from sabueso.screens.match.keys import Keys, keys_of, missing_key, says_nothing
from sabueso.screens.match.pairing import beyond_of, pairs_of
from sabueso.screens.match.result import Compared, MatchGroup
from sabueso.screens.match.three_way import Sides, Tolerance, compare
from sabueso.screens.match.view import MatchView
from sabueso.screens.proposal import Proposal
from sabueso.screens.settings import Settings, listed, proportion

if TYPE_CHECKING:
    from sabueso.stats.description import Description


class MatchSettings(Settings):
    """Settings of ``match``."""

    other: str = Field(description="the table that keys are looked for in; this one for its own")
    on: list[str] = Field(min_length=1, description="columns of the table that make the key")
    other_on: list[str] = Field(
        default_factory=list, description="columns of the other table (default: the same)"
    )
    find: Literal["absent", "present"] = Field(
        "absent", description="keys that the other table lacks, or that it has"
    )
    keys: Literal["exact", "normalised", "alike"] = Field(
        "exact",
        description="compare as they are; without case, accents, blanks, marks and zeros before numbers; or names "
        "that are nearly equal",
    )
    when: Literal["day", "month", "quarter", "year"] | None = Field(
        None, description="in the same day, month, quarter or year of the role date on both sides"
    )
    during: list[str] = Field(
        default_factory=list,
        description="columns of the other table, of a first and a last day: the role date of a row lies between them; "
        "without a last day a span has no end; or of one day, after which it lies",
    )
    threshold: float = Field(
        90, ge=50, le=100, description="similarity from which names are alike, of 100"
    )
    other_where: str | None = Field(
        None, description="SQL condition on the rows of the other table"
    )
    receipts: str | None = Field(
        None,
        description="a table of receipts: invoices are compared with their orders (other) and receipts, in "
        "quantity and price",
    )
    receipts_on: list[str] = Field(
        default_factory=list, description="columns of the receipts (default: those of the orders)"
    )
    quantity_tolerance: str = Field(
        "0%", description="share by which more may be invoiced than ordered or received"
    )
    price_tolerance: str = Field(
        "0%", description="share by which the price may be above the order's"
    )

    _listed = field_validator("on", "other_on", "during", "receipts_on", mode="before")(listed)

    @field_validator("quantity_tolerance", "price_tolerance", mode="before")
    @classmethod
    def _share(cls, value: Any) -> str:
        if not 0 <= proportion(str(value)) <= 10:
            raise ValueError("expected a share such as 2%")
        return str(value).strip()

    @model_validator(mode="after")
    def _fit(self) -> MatchSettings:
        if self.other_on and len(self.other_on) != len(self.on):
            raise ValueError("on and other-on name as many columns")
        if self.keys == "alike" and len(self.on) != 1:
            raise ValueError("alike compares one column, of names")
        if self.receipts_on and len(self.receipts_on) != len(self.on):
            raise ValueError("on and receipts-on name as many columns")
        if self.receipts is not None and (self.keys != "exact" or self.when is not None):
            raise ValueError(
                "orders and receipts are compared by the keys as they are, at any time"
            )
        if len(self.during) > 2:
            raise ValueError(
                "during names two columns, of the first and of the last day, or one, after whose day it is"
            )
        if self.during and (self.when or self.keys == "alike" or self.receipts is not None):
            raise ValueError("during goes with none of when, receipts and keys alike")
        given = self.receipts_on or {self.quantity_tolerance, self.price_tolerance} != {"0%"}
        if self.receipts is None and given:
            raise ValueError("receipts-on and the tolerances go with receipts alone")
        return self


class Match(Screen):
    """Keys among those of another table."""

    name = "match"
    summary = "keys that another table lacks, or has: exact, normalised, or nearly equal names"
    reference = "none: comparison; names by the normalised indel similarity of their sorted words"
    settings = MatchSettings
    group = MatchGroup
    view = MatchView
    place = 90
    examples = (
        "sabueso try match payroll --other roster --on empleado --when month",
        "sabueso try match suppliers --other staff --on cuenta_bancaria --find present --keys normalised",
        "sabueso try match suppliers --other suppliers --on nombre --find present --keys alike",
        "sabueso try match invoices --other orders --receipts receipts --on pedido",
        "sabueso try match payroll --other staff --on empleado --during alta,baja",
    )

    def tables(self, settings: Mapping[str, Any]) -> tuple[str, ...]:
        named = (settings.get("other"), settings.get("receipts"))
        return tuple(str(name) for name in named if name)

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        party = population.table.role("party")
        link = None if party is None else population.table.links.get(party.name)
        if party is None or link is None:
            yield Suit(
                self.name,
                "with care",
                "no party is linked: say what to look for, and where",
                ready=False,
            )
        else:
            options = asked(
                other=link.table.name, on=quoted_name(party.name), other_on=quoted_name(link.key)
            )
            yield Suit(self.name, "yes", f"{party.name} among {link.table.name}", options)

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.match.proposed import proposed_matches

        yield from proposed_matches(population)

    def run(self, population: Population, settings: MatchSettings) -> Finding[MatchGroup]:
        table = population.table
        other = population.rows_of(settings.other, settings.other_where, to="to look in")
        other_on = settings.other_on or settings.on
        spans = [quoted_name(c.name) for c in days_of(other.table, settings.during, other_on)]
        when = "day" if spans else settings.when
        # Of a table that is looked up in itself, by the same columns, the keys are their own others.
        own = (
            other.table.name == table.name
            and other_on == settings.on
            and not settings.other_where
            and not spans
        )
        if own and settings.find == "absent":
            raise UserError(
                f"every key of {table.name!r} is among its own: with --find present those are found that "
                "several rows have"
            )
        reasons = _without_key(settings, settings.on, table)
        reasons += without_day(table) if spans else undated(table) if when else []
        left = right = keys_of(population, settings.on, when, reasons)
        if not own:
            theirs = _without_key(settings, other_on, other.table)
            theirs += undated(other.table) if settings.when else []
            right = keys_of(other, [*other_on, *spans], settings.when, theirs)
        pairs = pairs_of(left, right, settings)
        for i, partners in pairs.items():
            left.matched.add(i)
            right.matched.update(k for k, _ in partners)
        compared = None
        beyond = beyond_of(left, right, settings)
        if settings.receipts is None:
            names = [c.name for c in table.columns]
            flags = flags_of(left, right, pairs, settings, names, beyond)
        else:
            flags, compared = _three_way(population, other, settings, reasons)
        make: Make | None = cluster_of if own else None
        if when is not None and not own:
            flags, make = together(flags, left.labels[-1]), in_periods
        amount = table.role("amount")
        group = MatchGroup(
            group={},
            n=len(left.keys),
            method=settings.keys,
            find=settings.find,
            left=left.side(table.name),
            right=right.side(settings.other),
            flagged=len(flags),
            three_way=compared,
        )
        kind = "cluster" if own else "entity"
        return Finding(
            test=self.name,
            table=table.name,
            on=None,
            by=[],
            settings=settings.model_dump(),
            population=population.account(amount, reasons),
            groups=[group],
            flags=Flags(
                kind,
                pa.Table.from_pylist(flags) if flags else pa.table({}),
                make=make,
            ),
            tests_made=0,
            subjects=len(left.keys),
            cautions=_cautions(left, right, settings, beyond),
            not_tested=[],
            currency=table.currency,
            scale=amount.scale if amount is not None else 2,
        )


def _without_key(settings: MatchSettings, on: Sequence[str], table: Table) -> list[Reason]:
    """Why rows have no key to be compared. What stands for nothing, such as n/a, is absent among the keys of
    the other table like any other, but present in none."""
    found = [missing_key(on, table)]
    return found if settings.find == "absent" else [*found, says_nothing(on, table)]


def _three_way(
    population: Population, orders: Population, settings: MatchSettings, reasons: list[Reason]
) -> tuple[list[Cells], Compared]:
    """Invoices beside their orders and receipts."""
    name = str(settings.receipts)
    if name not in population.tables:
        raise UserError(f"there is no table {name!r} of receipts{nearest(name, population.tables)}")
    receipts = Population(population.engine, population.tables[name], tables=population.tables)
    other_on = settings.other_on or settings.on
    sides = Sides(
        population, orders, receipts, settings.on, other_on, settings.receipts_on or other_on
    )
    tolerance = Tolerance(
        proportion(settings.quantity_tolerance), proportion(settings.price_tolerance)
    )
    return compare(sides, tolerance, reasons)


def _cautions(
    left: Keys, right: Keys, settings: MatchSettings, beyond: frozenset[int]
) -> list[Caution]:
    found = []
    if beyond:
        text = (
            f"{num.many(len(beyond), 'key is', 'keys are')} of a {settings.when} before the first row of "
            f"{settings.other}, or after its last: they are absent, and none is named for it"
        )
        found.append(Caution("beyond_its_rows", text, {"keys": len(beyond)}))
    if not right.keys:
        found.append(
            Caution(
                "nothing_there", f"no row of {settings.other} has such a key: all are absent", {}
            )
        )
    if settings.keys == "alike":
        text = (
            f"names from a similarity of {num.number(settings.threshold, 0)} of 100 are called alike: two firms of "
            "one family name are that too"
        )
        found.append(Caution("alike", text, {"threshold": settings.threshold}))
    if settings.find == "absent" and left.keys and len(left.matched) * 2 < len(left.keys):
        text = (
            f"{len(left.keys) - len(left.matched):,} of {len(left.keys):,} keys are absent: either the tables are not of "
            "the same, or the keys are written otherwise (--keys normalised)"
        )
        found.append(Caution("mostly_absent", text, {"absent": len(left.keys) - len(left.matched)}))
    return found
