"""Relation of two measures: correlation, two lines, residuals, and who makes or hides it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
from pydantic import Field, field_validator, model_validator

from sabueso.base.errors import UserError
from sabueso.base.plain import ByColumn
from sabueso.population import expressions
from sabueso.population.population import Population
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.distance.proposed import proposed_measures
from sabueso.screens.finding import Finding, Flags, NotTested
from sabueso.screens.grouping import Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.measured import (
    flags_of,
    measured_subjects,
    peer_groups,
    struct_of,
    subject_columns,
)
from sabueso.screens.relation.doubts import relation_cautions
from sabueso.screens.relation.result import (
    Changes,
    Influential,
    Mover,
    RelationGroup,
    Rest,
)
from sabueso.screens.relation.view import RelationView
from sabueso.screens.settings import Settings, listed
from sabueso.stats import relation as rel
from sabueso.stats.adjust import Method, adjust

if TYPE_CHECKING:
    from sabueso.stats.description import Description

Floats = np.ndarray
LEAST, MOST_POINTS, MOST_MOVERS = 4, 400, 5
PERIODS = ("year", "quarter", "month", "fiscal_year")


class RelationSettings(Settings):
    """Settings of ``relation``."""

    measures: list[str] = Field(
        min_length=2,
        max_length=2,
        description="two number columns, x and y, or figures per subject such as sum(amount)",
    )
    per: list[str] = Field(
        default_factory=list,
        description="the subjects: columns that name an entity (default: each row)",
    )
    by: list[str] = Field(
        default_factory=list, description="peer groups, each beside the whole and the rest"
    )
    chosen: str | None = Field(
        None, description="SQL condition of a subset, compared with the rest"
    )
    alpha: float = Field(
        0.01, gt=0, lt=0.5, description="adjusted p of a residual below which it is flagged"
    )
    adjust: Method = Field("holm", description="adjustment of p for the number of subjects")
    seed: int = Field(0, ge=0, description="seed of the pairs drawn for the robust line")
    steps: bool = Field(False, description="show the two ways of computing r")

    _listed = field_validator("measures", "per", "by", mode="before")(listed)

    @model_validator(mode="after")
    def _apart(self) -> RelationSettings:
        if len(set(self.measures)) < 2:
            raise ValueError("the two measures are the same")
        if self.chosen and self.by:
            raise ValueError("by and chosen both say what is compared with the rest; give one")
        return self


@dataclass(frozen=True, eq=False)
class _Part:
    """A group's subjects, by their places among all, and what was found of them."""

    key: ByColumn
    rows: np.ndarray
    x: Floats
    y: Floats
    found: rel.Correlation
    line: rel.Fitted | None
    chosen: str | None = None
    rest: Rest | None = None
    difference_p: float | None = None
    flagged: int = 0

    def most_influential(self) -> int | None:
        """The subject without which r changes most; one without which there is no r before any."""
        if self.line is None:
            return None
        change = np.abs(self.found.r - self.line.without)
        return int(np.argmax(np.where(np.isnan(change), np.inf, change)))

    def movers(self) -> np.ndarray:
        """Subjects that move the line by themselves, the strongest first."""
        if self.line is None:
            return np.empty(0, dtype=int)
        cook, n = self.line.cook, len(self.rows)
        beyond = np.flatnonzero((cook > rel.cook_limit(n)) | (self.line.leverage > 0.5))
        return beyond[np.argsort(-cook[beyond], kind="stable")]

    def slope_movers(self) -> np.ndarray:
        """Subjects that move the slope by more than 2/√n of its error, the strongest first (DFBETAS)."""
        if self.line is None:
            return np.empty(0, dtype=int)
        size = np.abs(self.line.dfbetas)
        beyond = np.flatnonzero(size > rel.dfbetas_limit(len(self.rows)))
        return beyond[np.argsort(-size[beyond], kind="stable")]

    def named(self) -> list[int]:
        """Places of the subjects that are told by their names."""
        one = self.most_influential()
        inside = [
            *([] if one is None else [one]),
            *self.movers()[:MOST_MOVERS],
            *self.slope_movers()[:MOST_MOVERS],
        ]
        return self.rows[inside].tolist() if inside else []


class Relation(Screen):
    """Two measures of rows or entities."""

    name = "relation"
    summary = "whether two measures go together, and rows or entities off their line"
    reference = (
        "Cook, R. D. and Weisberg, S. (1982), Residuals and Influence in Regression; Sen, P. K. (1968), "
        "Journal of the American Statistical Association 63, 1379-1389"
    )
    settings = RelationSettings
    group = RelationGroup
    view = RelationView
    place = 65
    figures = ("scatter", "residuals")
    examples = (
        'sabueso try relation payments --per proveedor --measures "count(*),sum(importe)"',
        "sabueso try relation payroll --measures salario_base,plus_mar --by categoria",
        "sabueso try relation traffic --measures pasajeros,ingresos --chosen \"ruta = 'Isla Albarda'\" --steps",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        measures = [c.name for c in proposed_measures(population)]
        party = population.table.role("party")
        if len(measures) >= 2:
            named = ",".join(measures[:2])
            yield Suit(self.name, "yes", f"{named} may go together", f"--measures {named}")
        elif measures and party is not None:
            options = f'--per {party.name} --measures "count(*),sum({measures[0]})"'
            why = f"one measure, {measures[0]}: by {party.name} its sum against the count"
            yield Suit(self.name, "with care", why, options)
        else:
            yield Suit(self.name, "no", f"{num.many(len(measures), 'measure')}: two are needed")

    def run(self, population: Population, settings: RelationSettings) -> Finding[RelationGroup]:
        subjects, account = measured_subjects(population, settings)
        values = np.column_stack(
            [subjects.column(f"m{j}").to_numpy().astype(np.float64) for j in (0, 1)]
        )
        parts, not_tested = _parts(population, settings, subjects, values)
        judged = [part for part in parts if part.line is not None and _is_judged(part, settings)]
        flags, counts = _flags(population, subjects, judged, settings)
        parts = [
            replace(part, flagged=counts[judged.index(part)]) if part in judged else part
            for part in parts
        ]
        names = _named(population, settings, subjects, [p for part in parts for p in part.named()])
        groups = [_described(part, settings, names) for part in parts]
        measure = population.table.role("amount")
        return Finding(
            test=self.name,
            table=population.table.name,
            on=None,
            by=list(settings.by),
            settings=settings.model_dump(),
            population=account,
            groups=groups,
            flags=flags,
            tests_made=sum(len(part.rows) for part in judged),
            flags_by_chance=settings.alpha if judged and settings.adjust != "bh" else None,
            cautions=relation_cautions(groups, settings, population.table),
            not_tested=not_tested,
            currency=population.table.currency,
            scale=measure.scale if measure else 2,
        )


def _is_judged(part: _Part, settings: RelationSettings) -> bool:
    """Whether subjects are flagged off its line: off the peer groups' where there are any."""
    return bool(part.key) if settings.by else part.chosen is None


def _parts(
    population: Population, settings: RelationSettings, subjects: pa.Table, values: Floats
) -> tuple[list[_Part], list[NotTested]]:
    """The whole, then each peer group or the subset chosen, each beside the rest."""
    parts: list[_Part] = []
    not_tested: list[NotTested] = []
    ((_, whole),) = peer_groups(subjects, Grouping((), ()))

    def add(key: ByColumn, rows: np.ndarray, chosen: str | None = None) -> None:
        x, y = values[rows, 0], values[rows, 1]
        found = rel.correlation(x, y) if len(rows) >= LEAST else None
        if found is None:
            not_tested.append(NotTested(key, _reason(x, y, settings), len(rows)))
            return
        part = _Part(key, rows, x, y, found, rel.fit(x, y), chosen)
        if key or chosen:
            others = np.setdiff1d(whole, rows, assume_unique=True)
            other = rel.correlation(values[others, 0], values[others, 1])
            part = replace(
                part,
                rest=Rest(len(others), None if other is None else other.r),
                difference_p=None if other is None else rel.difference_p(found, other),
            )
        parts.append(part)

    add({}, whole)
    if settings.by:
        for key, rows in peer_groups(subjects, Grouping.of(settings.by, population.table)):
            add(key, rows)
    if settings.chosen:
        rows = whole[_chosen(population, settings, subjects)[whole]]
        if len(rows) < LEAST:
            raise UserError(
                f"--chosen {settings.chosen!r}: {num.many(len(rows), 'subject')} of "
                f"{len(whole):,}; at least {LEAST} are needed"
            )
        add({}, rows, settings.chosen)
    return parts, not_tested


def _reason(x: Floats, y: Floats, settings: RelationSettings) -> str:
    """Why subjects have no correlation."""
    if len(x) < LEAST:
        return f"too_few: {num.many(len(x), 'subject')}; at least {LEAST} are needed"
    still = [name for name, v in zip(settings.measures, (x, y), strict=True) if (v == v[0]).all()]
    return f"singular: {' and '.join(still)} {'do' if len(still) > 1 else 'does'} not vary"


def _chosen(population: Population, settings: RelationSettings, subjects: pa.Table) -> np.ndarray:
    """Which subjects a condition chooses: of entities those that have such a row."""
    where = " and ".join(f"({each})" for each in (population.where, settings.chosen) if each)
    plain = settings.model_copy(update={"by": []})
    found, _ = measured_subjects(replace(population, where=where), plain)
    own = [f"k{i}" for i in range(len(settings.per))]

    def keys(table: pa.Table) -> list[tuple[Any, ...]]:
        columns = [table.column(name).to_pylist() for name in own or (FILE_COLUMN, LINE_COLUMN)]
        return list(zip(*columns, strict=True))

    wanted = set(keys(found))
    return np.array([key in wanted for key in keys(subjects)], dtype=bool)


def _flags(
    population: Population, subjects: pa.Table, parts: Sequence[_Part], settings: RelationSettings
) -> tuple[Flags, list[int]]:
    """Subjects off the line of their group, the furthest first."""
    counts = [0 for _ in parts]
    kind = "entity" if settings.per else "row"
    if not parts:
        return Flags(kind, pa.table({})), counts
    lines = [part.line for part in parts if part.line is not None]
    p = [rel.residual_p(line.residual, len(line.residual)) for line in lines]
    adjusted = adjust(np.concatenate(p), settings.adjust)
    labels = [expressions.label(text, population.table) for text in settings.per]
    tables, start = [], 0
    for place, (part, line, own) in enumerate(zip(parts, lines, p, strict=True)):
        n = len(part.rows)
        mine = adjusted[start : start + n]
        start += n
        inside = np.flatnonzero(mine < settings.alpha)
        counts[place] = len(inside)
        if not len(inside):
            continue
        chosen = subjects.take(pa.array(part.rows[inside]))
        columns = subject_columns(chosen, settings, labels)
        columns |= {f"g{i}": pa.array([v] * len(inside)) for i, v in enumerate(part.key.values())}
        residual = line.residual[inside]
        columns |= {
            "score": pa.array(np.abs(residual)),
            "limit": pa.array(np.full(len(inside), rel.residual_limit(settings.alpha, n))),
            "direction": pa.array(np.where(residual > 0, "high", "low")),
            "p": pa.array(own[inside]),
            "p_adjusted": pa.array(mine[inside]),
            "residual": pa.array(residual),
            "leverage": pa.array(line.leverage[inside]),
            "cook": pa.array(line.cook[inside]),
            "dfbetas": pa.array(line.dfbetas[inside]),
            "r_without": pa.array(line.without[inside]),
            "values": struct_of(settings.measures, [part.x[inside], part.y[inside]]),
        }
        if "amount" in chosen.column_names:
            columns["amount"] = chosen.column("amount")
        tables.append(pa.table(columns))
    if not tables:
        return Flags(kind, pa.table({})), counts
    flags = pa.concat_tables(tables, promote_options="default")
    order = np.lexsort((np.arange(len(flags)), -flags.column("score").to_numpy()))
    groups = list(parts[0].key)
    return flags_of(population, settings, flags.take(pa.array(order)), groups), counts


def _named(
    population: Population, settings: RelationSettings, subjects: pa.Table, places: Sequence[int]
) -> dict[int, tuple[ByColumn, str]]:
    """Keys and names of some subjects by their places."""
    wanted = list(dict.fromkeys(places))
    if not wanted:
        return {}
    chosen = subjects.take(pa.array(wanted))
    labels = [expressions.label(text, population.table) for text in settings.per]
    found = flags_of(population, settings, pa.table(subject_columns(chosen, settings, labels)), [])
    return {
        place: (dict(flag["subject"]), found.named(flag).short())
        for place, flag in zip(wanted, found.rows(), strict=True)
    }


def _described(
    part: _Part, settings: RelationSettings, names: dict[int, tuple[ByColumn, str]]
) -> RelationGroup:
    """One group's figures."""
    x, y, line, n = part.x, part.y, part.line, len(part.rows)
    robust, ranks = rel.theil_sen(x, y, settings.seed), rel.rank_correlation(x, y)
    bent, movers, slope = rel.bend(x, y), part.movers(), part.slope_movers()
    even = np.unique(np.linspace(0, n - 1, min(n, MOST_POINTS)).round().astype(int))
    shown = np.lexsort((y, x))[even]
    return RelationGroup(
        group=part.key,
        chosen=part.chosen,
        n=n,
        measures=list(settings.measures),
        r=part.found.r,
        r_p=part.found.p,
        r_low=part.found.low,
        r_high=part.found.high,
        rho=ranks.r if ranks else None,
        rho_p=ranks.p if ranks else None,
        slope=line.slope if line else None,
        slope_error=line.slope_error if line else None,
        slope_error_hc3=line.slope_error_hc3 if line else None,
        intercept=line.intercept if line else None,
        slope_theil_sen=robust[0] if robust else None,
        intercept_theil_sen=robust[1] if robust else None,
        pairs_theil_sen=robust[2] if robust else 0,
        bend_p=bent[0] if bent else None,
        bend_share=bent[1] if bent else None,
        limit=rel.residual_limit(settings.alpha, n),
        flagged=part.flagged,
        most_influential=_influential(part, names),
        movers=[_mover(part, place, names) for place in movers[:MOST_MOVERS]],
        mover_count=len(movers),
        dfbetas_limit=rel.dfbetas_limit(n),
        slope_movers=[_mover(part, place, names) for place in slope[:MOST_MOVERS]],
        slope_mover_count=len(slope),
        rest=part.rest,
        difference_p=part.difference_p,
        changes=_changes(x, y) if _are_periods(settings) else None,
        r_two_ways=list(rel.two_ways(x, y)) if settings.steps else None,
        points=np.column_stack([x[shown], y[shown]]).tolist(),
    )


def _influential(part: _Part, names: dict[int, tuple[ByColumn, str]]) -> Influential | None:
    one = part.most_influential()
    if one is None or part.line is None:
        return None
    key, name = names[int(part.rows[one])]
    without = float(part.line.without[one])
    n = len(part.rows) - 1
    known = bool(np.isfinite(without))
    p = rel.correlation_p(without, n) if known and n > 2 else None
    return Influential(key, name, without if known else None, p)


def _mover(part: _Part, place: int, names: dict[int, tuple[ByColumn, str]]) -> Mover:
    assert part.line is not None
    cook, dfbetas = float(part.line.cook[place]), float(part.line.dfbetas[place])
    return Mover(
        names[int(part.rows[place])][1],
        float(part.line.leverage[place]),
        cook if np.isfinite(cook) else None,
        dfbetas if np.isfinite(dfbetas) else None,
    )


def _are_periods(settings: RelationSettings) -> bool:
    return len(settings.per) == 1 and settings.per[0].strip().lower() in PERIODS


def _changes(x: Floats, y: Floats) -> Changes | None:
    """r of the changes from one subject to the next, in their order."""
    found = rel.correlation(np.diff(x), np.diff(y))
    n = len(x) - 1
    return Changes(n, found.r if found else None, found.p if found else None)
