"""Kinds of rows by whoever recorded them, against the kinds of all others."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
from pydantic import Field, field_validator, model_validator

from sabueso.base.plain import ByColumn, Cells
from sabueso.population.accounting import Counting
from sabueso.population.population import Population, Reason
from sabueso.population.table import Column, Table, money
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.asked import asked
from sabueso.screens.cells import few_others, with_too_few
from sabueso.screens.crosstab.beside import beside, other_rows
from sabueso.screens.crosstab.counts import Counts, counts_of
from sabueso.screens.crosstab.result import CrossCell, CrossGroup
from sabueso.screens.crosstab.view import CrosstabView
from sabueso.screens.finding import Caution, Finding, Flags, NotTested
from sabueso.screens.grouping import Grouping, named_by, without_key
from sabueso.screens.interface import Screen
from sabueso.screens.proposal import Proposal
from sabueso.screens.settings import Settings, listed_once
from sabueso.stats.adjust import Method, adjust
from sabueso.stats.cells import TestedCells, excess

if TYPE_CHECKING:
    from sabueso.stats.description import Description

LEAST_ROWS_OF_ONE, MOST_KEPT = 20, 40
CLUMPED = 1.5
"""Overdispersion from which it is said."""


class CrosstabSettings(Settings):
    """Settings of ``crosstab``."""

    of: list[str] = Field(
        default_factory=list,
        description="columns that tell of what kind a row is (required, but for --beside)",
    )
    by: list[str] = Field(
        default_factory=list,
        description="whose rows are compared with those of the others (default: role preparer)",
    )
    beside: str | None = Field(
        None,
        description="in place of kinds: a table of which each has rows as well; who has far more rows of this one for "
        "as many there",
    )
    beside_by: list[str] = Field(
        default_factory=list, description="whose its rows are (default: the columns of --by)"
    )
    beside_where: str | None = Field(None, description="SQL condition on its rows")
    least: int = Field(3, ge=1, description="rows in a cell below which it is no finding")
    times: Decimal = Field(
        Decimal(2), ge=1, description="how many times what is expected a cell must have at least"
    )
    alpha: float = Field(0.05, gt=0, lt=1, description="adjusted p below which a cell is flagged")
    adjust: Method = Field("holm", description="adjustment of p for the number of cells")

    _listed = field_validator("of", "by", "beside_by", mode="before")(listed_once)

    @model_validator(mode="after")
    def _some(self) -> CrosstabSettings:
        if not self.of and self.beside is None:
            raise ValueError(
                "crosstab needs --of: the columns that tell of what kind a row is; or --beside: a table to compare with"
            )
        if self.of and self.beside is not None:
            raise ValueError(
                "crosstab compares kinds (--of) or tables (--beside), not both at once"
            )
        if self.beside is None and (self.beside_by or self.beside_where):
            raise ValueError("beside-by and beside-where go with --beside")
        return self


class Crosstab(Screen):
    """Cells of groups and kinds."""

    name = "crosstab"
    summary = "kinds of rows that somebody has far more of than all others"
    reference = "Haberman, S. J. (1973), Biometrics 29, 205-220"
    settings = CrosstabSettings
    group = CrossGroup
    view = CrosstabView
    place = 82
    examples = (
        "sabueso try crosstab journal --of cuenta --by preparado",
        "sabueso try crosstab payments --of cuenta --by usuario --times 5",
        "sabueso try crosstab payments --of weekday --by usuario --least 20 --out kinds.csv",
        'sabueso try crosstab payments --where "importe < 0" --by usuario --beside payments',
    )

    def tables(self, settings: Mapping[str, Any]) -> tuple[str, ...]:
        other = settings.get("beside")
        return (str(other),) if other else ()

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        from sabueso.screens.crosstab.proposed import compared_of

        compared = compared_of(population)
        if compared is None:
            yield Suit(self.name, "no", "the table names no preparer: say with --by whose kinds")
        elif not compared.kinds:
            yield Suit(self.name, "no", "no column beside the roles tells kinds: say with --of")
        else:
            kind, whose = compared.kinds[0], compared.whose
            of_preparers = whose.name == population.table.roles.get("preparer")
            yield Suit(
                self.name, "yes", f"{kind.name} by {whose.name}",
                asked(
                    of=kind.expression,
                    by="" if of_preparers else whose.expression,
                ),
            )  # fmt: skip

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.crosstab.proposed import proposed_crosstabs
        from sabueso.screens.crosstab.proposed_beside import proposed_beside

        yield from proposed_crosstabs(self, population)
        yield from proposed_beside(self, population)

    def counts(self, population: Population, settings: CrosstabSettings) -> list[Counting]:
        return [Counting(population.table.role("amount"), _asked(population.table, settings)[2])]

    def run(self, population: Population, settings: CrosstabSettings) -> Finding[CrossGroup]:
        table = population.table
        grouping, _, reasons = _asked(table, settings)
        measure = table.role("amount")
        counts, kept, not_tested, cautions = _compared(population, settings, measure)
        groups, flags, tested = _judged(kept, settings, measure)
        groups.insert(0, _whole(counts, measure))
        return Finding(
            test=self.name,
            table=table.name,
            on=None,
            by=list(settings.by or grouping.labels),
            settings=settings.model_dump(),
            population=population.account(measure, reasons),
            groups=groups,
            flags=Flags("cell", pa.Table.from_pylist(flags) if flags else pa.table({})),
            tests_made=tested,
            flags_by_chance=settings.alpha if settings.adjust != "bh" and tested else None,
            cautions=[*_cautions(kept, len(counts.groups), groups), *cautions],
            not_tested=not_tested,
            currency=table.currency,
            scale=measure.scale if measure is not None else 2,
        )


def _asked(table: Table, settings: CrosstabSettings) -> tuple[Grouping, Grouping, list[Reason]]:
    """Whose rows are counted, by which kinds, and which rows are left out."""
    by = settings.by or [whose(table, "--by")]
    grouping, kinds = Grouping.of(by, table), Grouping.of(settings.of, table)
    both = Grouping((*grouping.labels, *kinds.labels), (*grouping.trees, *kinds.trees))
    return grouping, kinds, [without_key(both)]


def _compared(
    population: Population, settings: CrosstabSettings, measure: Column | None
) -> tuple[Counts, Counts, list[NotTested], list[Caution]]:
    """The rows of all, those of whoever has enough to be compared, who has not, and what is to be said of it."""
    grouping, kinds, reasons = _asked(population.table, settings)
    if settings.beside is not None:
        other = other_rows(population, settings.beside, settings.beside_where)
        theirs = settings.beside_by or settings.by or [whose(other[0].table, "--beside-by")]
        both = beside(population, grouping, reasons, measure, other, theirs)
        return (both.counts, *both.compared(LEAST_ROWS_OF_ONE), both.cautions())
    counts = counts_of(population, grouping, kinds, reasons, measure)
    totals = counts.rows.sum(axis=1)
    kept = counts.only([g for g, n in enumerate(totals) if n >= LEAST_ROWS_OF_ONE])
    words = "row", "rows"
    return counts, kept, with_too_few(counts.groups, totals, totals, LEAST_ROWS_OF_ONE, words), []


def whose(table: Table, option: str) -> str:
    """Who recorded the rows of a table, where nothing else is asked for."""
    return named_by(table, "preparer", f"say with {option} whose kinds to look at")


def _judged(
    counts: Counts, settings: CrosstabSettings, measure: Column | None
) -> tuple[list[CrossGroup], list[Cells], int]:
    """Every group's cells, those flagged, and how many were tested."""
    untested = np.zeros(counts.rows.shape, dtype=bool)
    # The rows of the other table are what those of this one are held against.
    untested[:, 1:] = settings.beside is not None
    result = excess(counts.rows, untested, typical=True)
    if settings.beside is not None:
        result.expected[:, 1] = counts.rows.sum(axis=1) - result.expected[:, 0]
    known = np.isfinite(result.p)
    adjusted = np.full(result.p.shape, np.nan)
    adjusted[known] = adjust(result.p[known], settings.adjust)
    groups, flags = [], []
    for g, key in enumerate(counts.groups):
        cells = [
            _cell(counts, result, adjusted, (g, k), settings, measure)
            for k in map(int, np.flatnonzero(counts.rows[g]))
        ]
        cells.sort(key=lambda c: (not c.flagged, 2.0 if c.p is None else c.p))
        n = int(counts.rows[g].sum())
        flags += [_flag(key, cell, n, settings) for cell in cells if cell.flagged]
        flagged = sum(cell.flagged for cell in cells)
        groups.append(CrossGroup(key, n, cells[:MOST_KEPT], flagged))
    flags.sort(key=lambda flag: (flag["p_adjusted"], -flag["score"]))
    return groups, flags, int(known.sum())


def _cell(
    counts: Counts,
    result: TestedCells,
    adjusted: np.ndarray,
    at: tuple[int, int],
    settings: CrosstabSettings,
    measure: Column | None,
) -> CrossCell:
    g, k = at
    rows, expected, p = int(counts.rows[at]), float(result.expected[at]), float(adjusted[at])
    known = bool(np.isfinite(p))
    beside = int(counts.rows.sum() - counts.rows[g].sum())
    more = rows >= settings.least and rows >= settings.times * Decimal(expected)
    return CrossCell(
        kind=counts.kinds[k],
        rows=rows,
        amount=_worth(counts.units[at], measure),
        expected=expected,
        others=float(counts.rows[:, k].sum() - rows) / beside if beside else None,
        residual=float(result.residual[at]) if known else None,
        p=float(result.p[at]) if known else None,
        p_adjusted=p if known else None,
        overdispersion=float(result.overdispersion[k]),
        flagged=known and p < settings.alpha and more,
    )


def _whole(counts: Counts, measure: Column | None) -> CrossGroup:
    """All groups together, kind by kind, the commonest first."""
    totals = counts.rows.sum(axis=0)
    units = [None if None in own else sum(own) for own in counts.units.T.tolist()]
    cells = [
        CrossCell(
            kind, int(n), _worth(unit, measure), float(n), None, None, None, None, 1.0, flagged=False,
        )
        for kind, n, unit in zip(counts.kinds, totals, units, strict=True)
    ]  # fmt: skip
    cells.sort(key=lambda cell: -cell.rows)
    return CrossGroup({}, int(totals.sum()), cells, 0)


def _worth(units: int | None, measure: Column | None) -> Decimal | None:
    """An amount; None where there is no measure, or it is of another table."""
    return None if measure is None or units is None else money(int(units), measure.scale)


def _flag(key: ByColumn, cell: CrossCell, n: int, settings: CrosstabSettings) -> Cells:
    # Of two tables the rows are those of this one: the other is no column of it.
    kind = cell.kind if settings.beside is None else {}
    return {
        "subject": {**key, **kind},
        "group": dict(key),
        "score": cell.residual,
        "limit": None,
        "direction": "high",
        "p": cell.p,
        "p_adjusted": cell.p_adjusted,
        "amount": cell.amount,
        "rows": cell.rows,
        "of": n,
        "expected": cell.expected,
        "others": cell.others,
    }


def _cautions(kept: Counts, whole: int, groups: Sequence[CrossGroup]) -> list[Caution]:
    found = few_others(len(kept.groups), whole)
    cells = [cell for group in groups for cell in group.cells]
    worst = max(cells, key=lambda cell: cell.overdispersion, default=None)
    if worst is not None and worst.overdispersion > CLUMPED:
        kind = num.group_name(worst.kind)
        found.append(
            Caution(
                "overdispersed",
                f"the shares of {kind} vary between most groups {worst.overdispersion:.1f} times as much, in variance, "
                "as those of independent rows would: each p is widened by how much those of its kind do",
                {"overdispersion": worst.overdispersion},
            )
        )
    return found
