"""Amounts just under an approval limit: an excess there, who is behind it, and amounts paid in pieces."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
from pydantic import Field, field_validator

from sabueso.base.errors import UserError
from sabueso.population import expressions
from sabueso.population.population import Population
from sabueso.population.table import Column, Table, money
from sabueso.population.units import unit_of
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.finding import Caution, Finding, Flags
from sabueso.screens.grouping import Grouping, named_by
from sabueso.screens.interface import Screen
from sabueso.screens.proposal import Proposal
from sabueso.screens.settings import Settings, listed_once
from sabueso.screens.split.judging import Behind, Bundled, Judge, behind, bundled
from sabueso.screens.split.looking import (
    FROM,
    LEAST_AROUND,
    LEAST_NEAR,
    NEAR,
    WIDEST,
    Around,
    Pieces,
    binned,
    edges_of,
    excess_of,
)
from sabueso.screens.split.result import Band, Bin, SplitGroup
from sabueso.screens.split.view import SplitView
from sabueso.screens.subject import Selected, Subject
from sabueso.stats.adjust import Method
from sabueso.stats.threshold import Below

if TYPE_CHECKING:
    from sabueso.stats.description import Description


class SplitSettings(Settings):
    """Settings of ``split``."""

    limit: str = Field(
        description="the approval limit: a number, a fact of the plan, or SQL that gives each row its own"
    )
    on: str | None = Field(None, description="the measure: a number column (default: role amount)")
    per: list[str] = Field(
        default_factory=list, description="whose amounts may be in pieces (default: role party)"
    )
    by_whom: list[str] = Field(
        default_factory=list,
        description="who may be behind amounts below the limit (default: roles preparer and party)",
    )
    width: Decimal = Field(
        Decimal("0.05"),
        gt=0,
        le=WIDEST,
        description="part of the limit that is just below it",
    )
    within: int = Field(5, ge=0, le=60, description="days within which pieces may belong together")
    piece: Decimal = Field(
        Decimal("0.25"), gt=0, lt=1, description="part of the limit from which an amount is a piece"
    )
    alpha: float = Field(0.01, gt=0, lt=1, description="adjusted p below which somebody is flagged")
    adjust: Method = Field("holm", description="adjustment of p for the number of subjects")
    seed: int = Field(0, ge=0, description="seed of the random orders")

    _listed = field_validator("per", "by_whom", mode="before")(listed_once)

    @field_validator("width", "piece")
    @classmethod
    def _thousandths(cls, value: Decimal) -> Decimal:
        if value * 1000 != int(value * 1000):
            raise ValueError("expected whole thousandths, such as 0.05")
        return value

    @field_validator("limit", mode="before")
    @classmethod
    def _text(cls, value: object) -> object:
        return str(value) if isinstance(value, (int, float, Decimal)) else value


class Split(Screen):
    """Amounts just under a limit."""

    name = "split"
    summary = "amounts just under an approval limit, and amounts in pieces that together pass it"
    reference = (
        "McCrary, J. (2008), Journal of Econometrics 142, 698-714; Kleven, H. J. (2016), Annual Review of "
        "Economics 8, 435-464"
    )
    settings = SplitSettings
    group = SplitGroup
    view = SplitView
    place = 90
    examples = (
        "sabueso try split payments --limit 5000",
        "sabueso try split payments --limit 5000 --by-whom usuario --within 3",
        "sabueso try split payments --limit \"case when cuenta like '622%' then 10000 else 5000 end\" --out limit.png",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        table = population.table
        if "amount" not in table.roles:
            yield Suit(self.name, "no", "the table has no amount")
        elif table.dated() is None or table.role("party") is None:
            yield Suit(
                self.name,
                "with care",
                "no date or no party: amounts in pieces are not looked for",
                ready=False,
            )
        else:
            yield Suit(
                self.name, "with care", "where amounts are approved up to a limit", "--limit 5000"
            )

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.split.proposed import proposed_limits

        if described is not None:

            def flagged(limit: str) -> list[dict[str, Any]]:
                try:
                    return list(self.run(population, SplitSettings(limit=limit)).flags.rows())
                except UserError:  # too many rows are pieces of so small an amount
                    return []

            yield from proposed_limits(population, flagged)

    def run(self, population: Population, settings: SplitSettings) -> Finding[SplitGroup]:
        table = population.table
        measure = table.measure(settings.on)
        around = Around(population, measure, settings.limit)
        limits = around.limits()
        whole = [(limit, n) for limit, n in limits if limit > 0]
        low = 1000 - int(settings.width * 1000)
        found: list[tuple[int, int, np.ndarray, Below | None]] = []
        who: list[Behind] = []
        for limit, n in whole:
            counts = around.counts(limit)
            found.append((limit, n, counts, excess_of(counts, low)))
            for column in self._columns(table, settings):
                rows = around.by_whom(column, limit, low).to_pylist()
                who += behind(rows, expressions.label(column, table), limit)
        whose, expected, labels, unnamed = self._bundles(around, table, settings)
        judge = Judge(
            table=table,
            measure=measure,
            when=table.dated(),
            labels=labels,
            limit_text=settings.limit,
            width=settings.width,
            piece=settings.piece,
            asked=settings.where or "",
            several=len(whole) > 1,
        )
        flags = judge.flags(who, whose, settings.alpha, settings.adjust)
        groups = [
            _described(
                limit, n, counts, below, whose, flags, settings, measure, expected, len(whole)
            )
            for limit, n, counts, below in found
        ]
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=[],
            settings=settings.model_dump(),
            solved={"per": labels},
            population=population.account(measure, around.reasons),
            groups=groups,
            flags=Flags(
                "entity",
                pa.Table.from_pylist(flags) if flags else pa.table({}),
                _rows_of,
                sparse=True,
            ),
            tests_made=judge.tested + sum(below is not None for *_, below in found),
            subjects=judge.tested,
            flags_by_chance=settings.alpha if judge.tested and settings.adjust != "bh" else None,
            cautions=_cautions(groups, judge, table, unnamed),
            not_tested=[],
            currency=unit_of(table, measure),
            scale=measure.scale,
        )

    def _columns(self, table: Table, settings: SplitSettings) -> list[str]:
        if settings.by_whom:
            return settings.by_whom
        columns = [table.role("preparer"), table.role("party")]
        return [expressions.quoted_name(c.name) for c in columns if c is not None]

    def _bundles(
        self, around: Around, table: Table, settings: SplitSettings
    ) -> tuple[list[Bundled], float, list[str], int]:
        """Amounts in pieces, where there are dates and somebody to be of; with how many rows say nothing of
        whose they are."""
        date = table.dated()
        if date is None or (not settings.per and table.role("party") is None):
            if settings.per:
                raise UserError(
                    f"--per needs a date in the role date; table {table.name!r} has none"
                )
            return [], 0.0, [], 0
        per = settings.per or [named_by(table, "party", "say with --per whose amounts they are")]
        grouping = Grouping.of(per, table)
        pieces: Pieces = around.pieces(grouping, date, int(settings.piece * 1000))
        found, expected = bundled(pieces, settings.within, settings.seed, settings.alpha)
        return found, expected, list(grouping.labels), pieces.unnamed


def _described(
    limit: int,
    n: int,
    counts: np.ndarray,
    below: Below | None,
    whose: list[Bundled],
    flags: list[dict[str, Any]],
    settings: SplitSettings,
    measure: Column,
    expected: float,
    limits: int,
) -> SplitGroup:
    figure = money(limit, measure.scale)
    low = 1000 - int(settings.width * 1000)
    bins = None
    if below is not None:
        edges = edges_of(low)
        bins = [
            Bin(figure * int(edge) / 1000, int(count), float(fit), bool(low <= edge < 1000))
            for edge, count, fit in zip(
                edges[:-1], binned(counts, edges), below.fitted, strict=True
            )
        ]
    own = [each for each in whose if each.limit == limit]
    return SplitGroup(
        group={} if limits == 1 else {"limit": str(figure)},
        limit=figure,
        band=Band(figure * low / 1000, figure),
        n=n,
        around=int(counts.sum()),
        count=int(counts[low - FROM : 1000 - FROM].sum()),
        expected=None if below is None else below.expected,
        p=None if below is None else below.p,
        dispersion=None if below is None else below.dispersion,
        bins=bins,
        clusters=sum(len(each.spans) for each in own),
        expected_clusters=expected if limits == 1 else sum(each.expected for each in own),
        flagged=sum(flag["each_below"] == figure for flag in flags),
    )


def _rows_of(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    return Selected(flag["subject"], str(flag["selects"]))


def _cautions(groups: list[SplitGroup], judge: Judge, table: Table, unnamed: int) -> list[Caution]:
    found = []
    few = [g for g in groups if g.expected is None]
    if few:
        text = (
            f"{num.many(len(few), 'limit')} of {len(groups):,} with fewer than {LEAST_AROUND} rows around, or {LEAST_NEAR} "
            f"from {num.percent(NEAR / 1000, 0)} of it up to the band: whether more lie below than around is not judged"
        )
        found.append(Caution("too_few", text, {"limits": len(few)}))
    wide = [g for g in groups if g.dispersion is not None and g.dispersion > 1.5]
    if wide:
        most = max(g.dispersion or 0 for g in wide)
        text = (
            f"the bins around the limit spread {most:.1f} times as wide, in squares, as counts do (prices and round "
            "amounts): p of the excess is widened by that"
        )
        found.append(Caution("overdispersed", text, {"dispersion": most}))
    if judge.prices:
        named = ", ".join(f"{b.column} {num.shown(b.value)}" for b in judge.prices[:4])
        more = f" and {len(judge.prices) - 4} more" if len(judge.prices) > 4 else ""
        text = f"rows below the limit that are nearly all of one amount are a price, and are not flagged: {named}{more}"
        found.append(Caution("repeated_prices", text, {"subjects": len(judge.prices)}))
    if unnamed:
        text = (
            f"{num.many(unnamed, 'row')} large enough for a piece {num.verb(unnamed, 'says', 'say')} nothing of whose "
            f"{num.verb(unnamed, 'it is', 'they are')}, such as n/a: that they are pieces of one amount is not looked for"
        )
        found.append(Caution("states_nothing", text, {"rows": unnamed}))
    if table.dated() is None:
        found.append(
            Caution("no_date", "the rows have no date: amounts in pieces are not looked for", {})
        )
    return found
