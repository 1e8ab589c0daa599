"""Relation of two measures: correlation, two lines, residuals, and who makes or hides it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
from pydantic import Field, field_validator, model_validator

from sabueso.base.errors import UserError
from sabueso.base.plain import ByColumn
from sabueso.population import expressions
from sabueso.population.accounting import Counting
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.asked import asked
from sabueso.screens.finding import Finding, Flags, NotTested
from sabueso.screens.grouping import Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.measured import (
    counts_of_subjects,
    flags_of,
    measured_subjects,
    peer_groups,
    struct_of,
    subject_columns,
)
from sabueso.screens.proposal import Proposal
from sabueso.screens.relation.doubts import relation_cautions
from sabueso.screens.relation.many import relation_of_many
from sabueso.screens.relation.parts import LEAST, PERIODS, Part, part_of
from sabueso.screens.relation.result import Influential, Mover, RelationGroup, Rest
from sabueso.screens.relation.view import RelationView
from sabueso.screens.settings import Settings, listed, listed_once
from sabueso.stats import relation as rel
from sabueso.stats.adjust import Method, adjust

if TYPE_CHECKING:
    from sabueso.stats.description import Description

Floats = np.ndarray


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

    _measures = field_validator("measures", mode="before")(listed)
    _listed = field_validator("per", "by", mode="before")(listed_once)

    @model_validator(mode="after")
    def _apart(self) -> RelationSettings:
        if len(set(self.measures)) < 2:
            raise ValueError("the two measures are the same")
        if self.chosen and self.by:
            raise ValueError("by and chosen both say what is compared with the rest; give one")
        return self


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
        from sabueso.screens.distance.proposed import proposed_measures

        measures = [c.name for c in proposed_measures(population)]
        party = population.table.role("party")
        if len(measures) >= 2:
            named = ",".join(measures[:2])
            yield Suit(
                self.name,
                "yes",
                f"{named} may go together",
                asked(measures=[quoted_name(n) for n in measures[:2]]),
            )
        elif measures and party is not None:
            measured = ["count(*)", f"sum({quoted_name(measures[0])})"]
            options = asked(per=quoted_name(party.name), measures=measured)
            why = f"one measure, {measures[0]}: by {party.name} its sum against the count"
            yield Suit(self.name, "with care", why, options)
        else:
            yield Suit(self.name, "no", f"{num.many(len(measures), 'measure')}: two are needed")

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.relation.proposed import proposed_relations

        yield from proposed_relations(self, population)

    def counts(self, population: Population, settings: RelationSettings) -> list[Counting]:
        return counts_of_subjects(population, settings)

    def run(self, population: Population, settings: RelationSettings) -> Finding[RelationGroup]:
        many = relation_of_many(population, settings)
        not_tested: list[NotTested] = []
        if many is not None:
            subjects, account, parts = many.subjects, many.account, [many.part]
        else:
            subjects, account = measured_subjects(population, settings)
            parts, not_tested = _parts(population, settings, subjects)
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
            tests_made=sum(part.n for part in judged),
            flags_by_chance=settings.alpha if judged and settings.adjust != "bh" else None,
            cautions=relation_cautions(groups, settings, population.table),
            not_tested=not_tested,
            currency=population.table.currency,
            scale=measure.scale if measure else 2,
        )


def _is_judged(part: Part, settings: RelationSettings) -> bool:
    """Whether subjects are flagged off its line: off the peer groups' where there are any."""
    return bool(part.key) if settings.by else part.chosen is None


def _parts(
    population: Population, settings: RelationSettings, subjects: pa.Table
) -> tuple[list[Part], list[NotTested]]:
    """The whole, then each peer group or the subset chosen, each beside the rest."""
    values = np.column_stack(
        [subjects.column(f"m{j}").to_numpy().astype(np.float64) for j in (0, 1)]
    )
    parts: list[Part] = []
    not_tested: list[NotTested] = []
    ((_, whole),) = peer_groups(subjects, Grouping((), ()))

    def add(key: ByColumn, rows: np.ndarray, chosen: str | None = None) -> None:
        x, y = values[rows, 0], values[rows, 1]
        part = part_of(
            key,
            rows,
            x,
            y,
            chosen=chosen,
            seed=settings.seed,
            steps=settings.steps,
            periods=_are_periods(settings),
        )
        if part is None:
            not_tested.append(NotTested(key, _reason(x, y, settings), len(rows)))
            return
        if key or chosen:
            others = np.setdiff1d(whole, rows, assume_unique=True)
            other = rel.correlation(values[others, 0], values[others, 1])
            part = replace(
                part,
                rest=Rest(len(others), None if other is None else other.r),
                difference_p=None if other is None else rel.difference_p(part.found, other),
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
    population: Population, subjects: pa.Table, parts: Sequence[Part], settings: RelationSettings
) -> tuple[Flags, list[int]]:
    """Subjects off the line of their group, the furthest first."""
    counts = [0 for _ in parts]
    kind = "entity" if settings.per else "row"
    if not parts:
        return Flags(kind, pa.table({})), counts
    off = [part.influence for part in parts if part.influence is not None]
    p = [rel.residual_p(of.residual, part.n) for of, part in zip(off, parts, strict=True)]
    adjusted = adjust(np.concatenate(p), settings.adjust, sum(part.n for part in parts))
    labels = [expressions.label(text, population.table) for text in settings.per]
    tables, start = [], 0
    for place, (part, of, own) in enumerate(zip(parts, off, p, strict=True)):
        mine = adjusted[start : start + len(own)]
        start += len(own)
        inside = np.flatnonzero(mine < settings.alpha)
        counts[place] = len(inside)
        if not len(inside):
            continue
        chosen = subjects.take(pa.array(part.rows[inside]))
        columns = subject_columns(chosen, settings, labels)
        columns |= {f"g{i}": pa.array([v] * len(inside)) for i, v in enumerate(part.key.values())}
        residual = of.residual[inside]
        limit = rel.residual_limit(settings.alpha, part.n)
        columns |= {
            "score": pa.array(np.abs(residual)),
            "limit": pa.array(np.full(len(inside), limit)),
            "direction": pa.array(np.where(residual > 0, "high", "low")),
            "p": pa.array(own[inside]),
            "p_adjusted": pa.array(mine[inside]),
            "residual": pa.array(residual),
            "leverage": pa.array(of.leverage[inside]),
            "cook": pa.array(of.cook[inside]),
            "dfbetas": pa.array(of.dfbetas[inside]),
            "r_without": pa.array(of.without[inside]),
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
    part: Part, settings: RelationSettings, names: dict[int, tuple[ByColumn, str]]
) -> RelationGroup:
    """One group's figures."""
    line, robust, bent, ranks = part.line, part.robust, part.bent, part.ranks
    return RelationGroup(
        group=part.key,
        chosen=part.chosen,
        n=part.n,
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
        limit=rel.residual_limit(settings.alpha, part.n),
        flagged=part.flagged,
        most_influential=_influential(part, names),
        movers=[_mover(part, place, names) for place in part.movers.line],
        mover_count=part.movers.line_count,
        dfbetas_limit=rel.dfbetas_limit(part.n),
        slope_movers=[_mover(part, place, names) for place in part.movers.slope],
        slope_mover_count=part.movers.slope_count,
        rest=part.rest,
        difference_p=part.difference_p,
        changes=part.changes,
        r_two_ways=part.two_ways,
        points=part.points,
        fitted_on=part.fitted_on,
        spread_rho=part.spread.r if part.spread else None,
        spread_p=part.spread.p if part.spread else None,
    )


def _influential(part: Part, names: dict[int, tuple[ByColumn, str]]) -> Influential | None:
    one = part.movers.one
    if one is None or part.influence is None:
        return None
    key, name = names[int(part.rows[one])]
    without = float(part.influence.without[one])
    n = part.n - 1
    known = bool(np.isfinite(without))
    p = rel.correlation_p(without, n) if known and n > 2 else None
    return Influential(key, name, without if known else None, p)


def _mover(part: Part, place: int, names: dict[int, tuple[ByColumn, str]]) -> Mover:
    of = part.influence
    assert of is not None
    cook, dfbetas = float(of.cook[place]), float(of.dfbetas[place])
    return Mover(
        names[int(part.rows[place])][1],
        float(of.leverage[place]),
        cook if np.isfinite(cook) else None,
        dfbetas if np.isfinite(dfbetas) else None,
    )


def _are_periods(settings: RelationSettings) -> bool:
    return len(settings.per) == 1 and settings.per[0].strip().lower() in PERIODS
