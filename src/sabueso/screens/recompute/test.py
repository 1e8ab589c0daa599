"""Figures computed again: products, running balances, totals of parts, instalments of a loan."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import TYPE_CHECKING, Any, Literal

from pydantic import Field, field_validator, model_validator

from sabueso.base.errors import UserError
from sabueso.population import expressions
from sabueso.population.population import Population, Reason
from sabueso.population.table import Column
from sabueso.population.units import unit_of
from sabueso.report.blocks import Suit
from sabueso.screens.finding import Caution, Finding, Flags
from sabueso.screens.interface import Screen
from sabueso.screens.proposal import Proposal
from sabueso.screens.recompute.loans import Loan, loan_of, terms_named
from sabueso.screens.recompute.products import balances, products
from sabueso.screens.recompute.result import RecomputeGroup
from sabueso.screens.recompute.totals import Sides, measure_of, totals
from sabueso.screens.recompute.view import RecomputeView
from sabueso.screens.settings import Settings, listed

if TYPE_CHECKING:
    from sabueso.stats.description import Description

AT = {"both": "", "above": "at most ", "below": "at least "}
What = Literal["product", "balance", "totals", "instalments"]
OF_LOANS = (
    "principal",
    "rate",
    "periods",
    "payment",
    "first",
    "per_year",
    "due",
    "grace",
    "balloon",
    "day_count",
)


class RecomputeSettings(Settings):
    """Settings of ``recompute``."""

    what: What = Field(
        "product",
        description="a product of each row, a balance that runs, totals of groups, instalments of a loan",
    )
    on: str | None = Field(
        None, description="the amount as recorded: a number column (default: role amount)"
    )
    expect: str | None = Field(
        None,
        description="what it should be: SQL of a row (default: quantity * price), or a figure of a group",
    )
    equals: str | None = Field(
        None,
        description="of totals, the figure of a group that is recorded (default: the sum of the amount)",
    )
    by: list[str] = Field(default_factory=list, description="of totals, the groups")
    other: str | None = Field(None, description="of totals, the table that has the parts")
    other_on: list[str] = Field(
        default_factory=list,
        description="of totals, the columns of that table that name the groups",
    )
    among: Literal["all", "both"] = Field(
        "all", description="of totals, all groups, or those that both tables have"
    )
    side: Literal["both", "above", "below"] = Field(
        "both",
        description="of totals, what counts: any difference, or only what is above, or below, what it should be",
    )
    balance: str | None = Field(None, description="of a balance, its column")
    per: list[str] = Field(
        default_factory=list, description="of a balance, whose it is, such as account"
    )
    terms: str | None = Field(
        None, description="of instalments, where the terms stand: loan for [facts.loan] of the plan"
    )
    principal: Decimal | None = Field(None, description="what was lent; one term may be missing")
    rate: Decimal | None = Field(None, description="the nominal rate of a year, such as 0.042")
    periods: int | None = Field(None, ge=1, le=1200, description="how many instalments")
    payment: Decimal | None = Field(None, description="the instalment, where it was agreed")
    first: str | None = Field(
        None, description="when the first is due (default: the first payment)"
    )
    per_year: int | None = Field(None, description="instalments a year: 12, 6, 4, 3, 2 or 1 (12)")
    due: Literal["end", "begin"] | None = Field(None, description="of each period (end)")
    grace: int | None = Field(
        None, ge=0, description="instalments of interest alone at the beginning"
    )
    balloon: Decimal | None = Field(None, description="what is left after the last")
    day_count: Literal["30/360", "actual/365", "actual/360"] | None = Field(
        None, description="what part of the yearly rate a period bears (30/360: even parts)"
    )
    tolerance: Decimal | None = Field(
        None, ge=0, description="difference that is none (default: what rounding may make)"
    )

    _listed = field_validator("by", "per", "other_on", mode="before")(listed)

    @model_validator(mode="after")
    def _fit(self) -> RecomputeSettings:
        given = [name for name in OF_LOANS if getattr(self, name) is not None]
        if self.what != "instalments" and (given or self.terms):
            raise ValueError(
                f"{given[0] if given else 'terms'} is of a loan; say what = instalments"
            )
        if self.what == "balance" and not self.balance:
            raise ValueError("a balance needs its column: balance")
        if self.what == "totals" and not (self.by and self.expect):
            raise ValueError("totals need by, the groups, and expect, their figure")
        return self


class Recompute(Screen):
    """Recorded figures beside what they are made of."""

    name = "recompute"
    summary = (
        "amounts that are not quantity times price, the terms of a loan, or the sum of their parts"
    )
    reference = "none: arithmetic; instalments by the law of compound interest"
    settings = RecomputeSettings
    group = RecomputeGroup
    view = RecomputeView
    place = 97
    examples = (
        "sabueso try recompute loan --what instalments --principal 1200000 --rate 0.042 --periods 24",
        "sabueso try recompute loan --what instalments --principal 1200000 --periods 24 --out loan.png",
        'sabueso try recompute journal --what totals --by asiento --equals "sum(debe)" --expect "sum(haber)"',
    )

    def tables(self, settings: Mapping[str, Any]) -> tuple[str, ...]:
        other = settings.get("other")
        return (str(other),) if other else ()

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        from sabueso.screens.recompute.proposed import loans_of

        table = population.table
        named = loans_of(table)
        if table.role("quantity") is not None and table.role("price") is not None:
            yield Suit(self.name, "yes", "quantity and price make the amount")
        elif named:
            options = f"--what instalments --terms {named[0]}"
            yield Suit(self.name, "yes", f"terms of {named[0]} in the plan", options)
        else:
            yield Suit(
                self.name, "no", "no quantity with a price, and no terms of a loan in the plan"
            )

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.recompute.proposed import proposed_recomputations

        yield from proposed_recomputations(population, described)

    def run(self, population: Population, settings: RecomputeSettings) -> Finding[RecomputeGroup]:
        table = population.table
        if settings.what == "totals":
            return self._totals(population, settings)
        measure = table.measure(settings.on)
        if settings.what == "instalments":
            return self._loan(population, settings, measure)
        if settings.what == "balance":
            assert settings.balance is not None
            column = table.number(settings.balance, what="balance")
            found, runs = balances(population, measure, column, settings.per, settings.tolerance)
            of_amount = measure.name == table.roles.get("amount")
            expression = runs.told(column.name, "the amount" if of_amount else measure.name)
        else:
            found = products(population, measure, settings.expect, settings.tolerance)
            expression = settings.expect or "quantity times price"
        group = RecomputeGroup(
            group={},
            what=settings.what,
            expression=expression,
            checked=found.checked,
            not_checked=found.not_checked,
            differing=found.differing,
            difference_total=found.total,
            flagged=found.differing,
        )
        return self._finding(population, settings, measure, found.reasons, group, found.flags)

    def _totals(
        self, population: Population, settings: RecomputeSettings
    ) -> Finding[RecomputeGroup]:
        table = population.table
        equals = settings.equals
        if equals is None:
            equals = f"sum({expressions.quoted_name(table.measure(settings.on).name)})"
        measure = measure_of(equals, table)
        assert settings.expect is not None
        sides = Sides(
            settings.by, equals, settings.expect, settings.other, settings.other_on,
            both=settings.among == "both",
        )  # fmt: skip
        found = totals(population, sides, measure, settings.tolerance, settings.side)
        other = f" of {settings.other}" if settings.other else ""
        group = RecomputeGroup(
            group={},
            what="totals",
            expression=f"{equals} is {AT[settings.side]}{settings.expect}{other}, by {', '.join(settings.by)}"
            + (" that both have" if settings.among == "both" else ""),
            checked=found.checked,
            not_checked=0,
            differing=found.differing,
            difference_total=found.total,
            flagged=found.differing,
        )
        return self._finding(population, settings, measure, found.reasons, group, found.flags)

    def _loan(
        self, population: Population, settings: RecomputeSettings, measure: Column
    ) -> Finding[RecomputeGroup]:
        given = {} if settings.terms is None else terms_named(population.table, settings.terms)
        own = {name: getattr(settings, name) for name in OF_LOANS}
        given |= {name: value for name, value in own.items() if value is not None}
        if not given:
            raise UserError(
                "instalments need terms: --terms NAME of the plan's facts, or --principal, --rate and --periods"
            )
        loan = loan_of(population, measure, given, settings.tolerance)
        group = RecomputeGroup(
            group={},
            what="instalments",
            expression=_told(loan),
            checked=len(loan.schedule),
            not_checked=0,
            differing=loan.differing,
            difference_total=sum((s.difference for s in loan.schedule), Decimal(0)),
            flagged=len(loan.flags),
            solved=loan.solved,
            explained=loan.explained,
            schedule=loan.schedule,
            rounding_left=loan.rounding_left,
        )
        return self._finding(population, settings, measure, loan.reasons, group, loan.flags)

    def _finding(
        self,
        population: Population,
        settings: RecomputeSettings,
        measure: Column | None,
        reasons: list[Reason],
        group: RecomputeGroup,
        flags: Flags,
    ) -> Finding[RecomputeGroup]:
        table = population.table
        return Finding(
            test=self.name,
            table=table.name,
            on=None if measure is None else measure.name,
            by=[],
            settings=settings.model_dump(),
            population=population.account(measure, reasons),
            groups=[group],
            flags=flags,
            tests_made=0,
            subjects=group.checked,
            cautions=_cautions(group, len(flags)),
            not_tested=[],
            currency=unit_of(table, measure),
            scale=measure.scale if measure is not None else 0,
        )


def _told(loan: Loan) -> str:
    """Terms in words."""
    t = loan.terms
    rate = f"{100 * float(t.rate or 0):.4f}".rstrip("0").rstrip(".")
    special = "".join(
        [
            f", {t.grace} of interest alone" if t.grace else "",
            f", {t.balloon:,} left at the end" if t.balloon else "",
            ", due at the beginning" if t.due == "begin" else "",
        ]
    )
    return f"{t.principal:,} at {rate} % a year in {t.periods:,} instalments, {t.per_year} a year, {t.day_count}{special}"


def _cautions(group: RecomputeGroup, kept: int) -> list[Caution]:
    found = []
    if kept < group.flagged:
        text = f"of {group.flagged:,} that differ the {kept:,} that differ most are kept, and no others"
        found.append(Caution("not_all_kept", text, {"differing": group.flagged, "kept": kept}))
    if group.solved is not None and group.solved.sign_changes > 1:
        text = (
            f"what was paid changes its sign {group.solved.sign_changes} times: several rates may explain it, and one of "
            "them is given"
        )
        found.append(Caution("several_rates", text, {"sign_changes": group.solved.sign_changes}))
    return found
