"""Payees by recency, frequency and money, and those who came back, were paid once, or before they were known."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from math import ceil
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field, field_validator

from sabueso.base.words import listed
from sabueso.population import sql
from sabueso.population.accounting import Counting
from sabueso.population.nothing import is_nothing
from sabueso.population.population import Population, Reason
from sabueso.population.table import Column, Table, money
from sabueso.population.units import unit_of
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.finding import Caution, Finding, Flags
from sabueso.screens.grouping import UNITS, Grouping, dated, named_by, without_date_or_key
from sabueso.screens.interface import Screen
from sabueso.screens.payees.days import payee_days
from sabueso.screens.payees.numbered import Numbered, numbered
from sabueso.screens.payees.paid_once import subject, with_their_rows
from sabueso.screens.payees.reasons import RETURNED, Beside, Judge, Often, PayeeDays
from sabueso.screens.payees.result import Bands, CrossCell, PayeeGroup
from sabueso.screens.payees.view import PayeesView
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal
from sabueso.screens.settings import Settings, listed_once
from sabueso.stats.adjust import Method
from sabueso.stats.bursts import bursts
from sabueso.stats.frequent import frequent
from sabueso.stats.silence import silences

if TYPE_CHECKING:
    from sabueso.stats.description import Description

QUINTILES = 5
USUAL = 2
"""How many times the share of rows that is large has a size from which that is usual: a donation of 250 that one in five gives."""
LEAST_PAYEES = 20
"""Payees from which most of them are a rule."""


class PayeesSettings(Settings):
    """Settings of ``payees``."""

    on: str | None = Field(None, description="the measure: a number column (default: role amount)")
    per: list[str] = Field(default_factory=list, description="the payees (default: role party)")
    silent: int = Field(90, ge=1, description="days without rows below which nobody was silent")
    least: int = Field(
        2, ge=1, description=f"rows within {RETURNED} days after a silence that make a return"
    )
    created: str | None = Field(
        None, description="when a payee became known, such as supplier.created"
    )
    closed: str | None = Field(None, description="when a payee was closed, such as supplier.closed")
    run_off: int = Field(
        0,
        ge=0,
        description="days after it was closed within which a payee is still paid what it was owed",
    )
    document: str | None = Field(
        None, description="column of the numbers of payees' papers (default: role document)"
    )
    soon: int = Field(30, ge=0, description="days after that date within which a payee is new")
    top: float = Field(0.01, gt=0, lt=1, description="share of rows, or of payees, that is large")
    window: int = Field(10, ge=1, le=90, description="days within which many rows are a burst")
    alpha: float = Field(
        0.05, gt=0, lt=1, description="adjusted p below which a silence or a burst is flagged"
    )
    adjust: Method = Field("holm", description="adjustment of p for the number of payees")

    _listed = field_validator("per", mode="before")(listed_once)


class Payees(Screen):
    """Payees over time."""

    name = "payees"
    summary = (
        "payees back from silence, faster or more often than usual, paid once and much, before being known, or whose "
        "papers are numbered one after another"
    )
    reference = "none: counting; the silence by the binomial law of rows that fall on even days"
    settings = PayeesSettings
    group = PayeeGroup
    view = PayeesView
    same_again = True
    place = 85
    examples = (
        "sabueso try payees payments",
        "sabueso try payees payments --created proveedor.alta --soon 60",
        "sabueso try payees payroll --per empleado --silent 60",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        table = population.table
        party = table.role("party")
        if "amount" not in table.roles:
            yield Suit(self.name, "no", "the table has no amount")
        elif party is None:
            yield Suit(self.name, "no", "the table names no party: say with --per who is paid")
        elif table.dated() is None:
            yield Suit(self.name, "no", "the table has no date")
        else:
            yield Suit(self.name, "yes", f"{party.name} over time")

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.payees.proposed import proposed_payees

        if described is not None and described.n >= LEAST_OF_RULE:
            yield from proposed_payees(population)

    def counts(self, population: Population, settings: PayeesSettings) -> list[Counting]:
        table = population.table
        measure, when = table.measure(settings.on), dated(table, self.name)
        return [Counting(measure, without_date_or_key(measure, when, _paid(table, settings)))]

    def run(self, population: Population, settings: PayeesSettings) -> Finding[PayeeGroup]:
        table = population.table
        measure, grouping = table.measure(settings.on), _paid(table, settings)
        when = dated(table, self.name)
        reasons = without_date_or_key(measure, when, grouping)
        dates = {"created": settings.created, "closed": settings.closed}
        found = payee_days(population, grouping, dates, measure, when, reasons)
        once = int((found.count == 1).sum())
        # Where most are paid once, that says nothing of anybody.
        usual = 2 * once > len(found.keys) > LEAST_PAYEES
        top_row = None if usual else _top_row(population, measure, reasons, settings.top)
        quiet = silences(
            found.starts, found.day, found.rows, least_days=settings.silent, least_before=5
        )
        period = int(found.day.max() - found.day.min()) + 1 if len(found.day) else 0
        full = bursts(found.starts, found.day, found.rows, width=settings.window, period=period)
        top_sum = _top_sum(found, settings.top)
        document = _document(table, settings, grouping)
        papers = None
        if document is not None:
            papers = numbered(population, grouping, document, when, reasons)
        own = {} if papers is None or papers.usual else papers.own
        often = _often(population, settings, found)
        judge = Judge(found, quiet, full, settings, Beside((top_row, top_sum), own, often))
        flags = with_their_rows(population, grouping, measure, reasons, judge.flags(measure.scale))
        account = population.account(measure, reasons)
        bands, cells = _bands(found, measure)
        group = PayeeGroup(
            group={},
            n=len(found.keys),
            rows=int(found.count.sum()),
            bands=bands,
            cells=cells,
            reasons=dict(Counter(reason for flag in flags for reason in flag["reasons"])),
            top_row=None if top_row is None else money(top_row, measure.scale),
            top_sum=None if top_sum is None else money(top_sum, measure.scale),
            tested_for_silence=int(np.isfinite(quiet.p).sum()),
            tested_for_bursts=int(np.isfinite(full.p).sum()),
            tested_for_rows=int(np.isfinite(often.p).sum()),
            asked_for_numbers=0 if papers is None else papers.asked,
            flagged=len(flags),
        )
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=[],
            settings=settings.model_dump(),
            solved={
                "per": list(grouping.labels),
                "document": None if document is None else document.name,
            },
            population=account,
            groups=[group],
            flags=Flags(
                "entity", pa.Table.from_pylist(flags) if flags else pa.table({}), make=subject
            ),
            tests_made=judge.tested,
            subjects=len(found.keys),
            flags_by_chance=settings.alpha if judge.tested and settings.adjust != "bh" else None,
            cautions=_cautions(found, settings, document, papers, once if usual else None),
            not_tested=[],
            currency=unit_of(table, measure),
            scale=measure.scale,
        )


def _paid(table: Table, settings: PayeesSettings) -> Grouping:
    """Those who are paid."""
    per = settings.per or [named_by(table, "party", "say with --per who is paid")]
    return Grouping.of(per, table)


def _document(table: Table, settings: PayeesSettings, grouping: Grouping) -> Column | None:
    """The column of the numbers of payees' papers, unless payees are told by it."""
    column = table.role("document")
    if settings.document is not None:
        column = table.column(settings.document)
    by = {each.name for tree in grouping.trees for each in tree.find_all(exp.Column)}
    return None if column is None or column.name in by else column


def _often(population: Population, settings: PayeesSettings, found: PayeeDays) -> Often:
    """How likely as many rows are as each payee has, where a master says how many payees there are."""
    party = population.table.role("party")
    link = None if party is None or settings.per else population.table.links.get(party.name)
    if link is None:
        return Often(np.full(len(found.keys), np.nan), float("nan"))
    master = population.beside(link.table)
    of = master.account(None).used
    return Often(*frequent(found.count, of), without=max(of - len(found.keys), 0))


def _top_row(
    population: Population, measure: Column, reasons: list[Reason], share: float
) -> int | None:
    """The least size of the largest share of rows: payments may have either sign. Where so many have that size that it is
    a usual one, the least beyond it; None where there is none."""
    base = population.base({UNITS: exp.Abs(this=sql.minor_units(measure))}, reasons)
    size = sql.column(UNITS, "b")
    select = exp.select(exp.alias_(sql.quantiles(size, [f"{1 - share:.6f}"]), "q"))
    found = population.query(select.from_(base.subquery("b"))).to_pylist()[0]["q"]
    if not found or found[0] is None:
        return None
    least = ceil(float(found[0]))
    beyond = exp.GT(this=size.copy(), expression=sql.integer(least))
    as_large = exp.GTE(this=size.copy(), expression=sql.integer(least))
    counted = exp.select(
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.only(sql.count(), as_large), "large"),
        exp.alias_(sql.only(exp.Min(this=size.copy()), beyond), "next"),
    )
    (row,) = population.query(counted.from_(base.copy().subquery("b"))).to_pylist()
    if row["large"] <= max(USUAL * share * row["n"], 1):
        return least
    return None if row["next"] is None else int(row["next"])


def _top_sum(found: PayeeDays, share: float) -> int | None:
    if not found.keys:
        return None
    ordered = sorted(map(abs, found.total), reverse=True)
    return ordered[max(ceil(share * len(ordered)), 1) - 1]


def _bands(found: PayeeDays, measure: Column) -> tuple[Bands, list[CrossCell]]:
    """Quintiles of recency, rows and sums; equal values stay in one band."""
    if not found.keys:
        return Bands([], [], []), []
    recency = int(found.last.max()) - found.last
    r, r_edges = _quintiles(recency)
    f, f_edges = _quintiles(found.count)
    sums = np.array([float(t) for t in found.total])
    m, m_edges = _quintiles(sums)
    cells: dict[tuple[int, int, int], list[int]] = {}
    for g, key in enumerate(zip(r.tolist(), f.tolist(), m.tolist(), strict=True)):
        cell = cells.setdefault(key, [0, 0])
        cell[0] += 1
        cell[1] += found.total[g]
    bands = Bands(
        [int(e) for e in r_edges],
        [int(e) for e in f_edges],
        [money(int(e), measure.scale) for e in m_edges],
    )
    return bands, [
        CrossCell(a, b, c, count, money(total, measure.scale))
        for (a, b, c), (count, total) in sorted(cells.items())
    ]


def _quintiles(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The band, from 1, of each value, and the least value of each band."""
    cuts = np.quantile(values, [k / QUINTILES for k in range(1, QUINTILES)], method="higher")
    edges = np.unique(np.concatenate([[values.min()], cuts]))
    return np.searchsorted(edges, values, side="right"), edges


def _cautions(
    found: PayeeDays,
    settings: PayeesSettings,
    document: Column | None,
    papers: Numbered | None,
    once: int | None,
) -> list[Caution]:
    cautions = []
    if once is not None:
        text = (
            f"{once:,} of {len(found.keys):,} payees have one row: to be paid once is the rule here, and no reason to "
            "look at one"
        )
        figures = {"payees": once, "asked": len(found.keys)}
        cautions.append(Caution("usually_once", text, figures))
    if papers is not None and papers.usual and document is not None:
        text = (
            f"the numbers in {document.name} follow one another for {len(papers.own):,} of {papers.asked:,} payees "
            "with as many: that is the rule here, and no reason to look at one"
        )
        figures = {"payees": len(papers.own), "asked": papers.asked}
        cautions.append(Caution("usual_numbers", text, figures))
    if settings.created:
        without = sum(each is None for each in found.created)
        if without:
            text = (
                f"{num.many(without, 'payee')} of {len(found.keys):,} have no date in {settings.created}: whether "
                "they are new is not known"
            )
            cautions.append(Caution("no_date_known", text, {"payees": without}))
    nobody = [
        str(value) for key in found.keys for value in key.values()
        if isinstance(value, str) and is_nothing(value)
    ]  # fmt: skip
    if nobody:
        text = (
            f"{listed(list(map(repr, nobody[:3])))}{' …' if len(nobody) > 3 else ''}, taken for "
            f"{num.verb(len(nobody), 'a payee, states', 'payees, state')} nothing: the rows may be of several"
        )
        cautions.append(Caution("states_nothing", text, {"payees": len(nobody)}))
    return cautions
