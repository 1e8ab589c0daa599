"""Distance from the centre on several measures together, classical and robust."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import pyarrow as pa
from pydantic import Field, field_validator, model_validator

from sabueso.base.plain import ByColumn, Values
from sabueso.population.accounting import Counting
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.asked import asked
from sabueso.screens.distance.described import described
from sabueso.screens.distance.doubts import cautions_of
from sabueso.screens.distance.fitted import Result, distances, transformed
from sabueso.screens.distance.flagging import aimed, flagged_of
from sabueso.screens.distance.many import distances_of_many
from sabueso.screens.distance.result import DistanceGroup
from sabueso.screens.distance.view import DistanceView
from sabueso.screens.finding import Finding, NotTested
from sabueso.screens.grouping import Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.measured import counts_of_subjects, measured_subjects, peer_groups
from sabueso.screens.proposal import Proposal
from sabueso.screens.settings import Settings, listed_once
from sabueso.stats.adjust import Method

if TYPE_CHECKING:
    from sabueso.stats.description import Description


ALPHA = 0.001
MOST_TOLD = 8
"""Measures that are named, and asked for, of a table that has more."""


class DistanceSettings(Settings):
    """Settings of ``distance``."""

    measures: list[str] = Field(
        min_length=1,
        description="number columns, or figures per subject such as sum(amount), count(*)",
    )
    per: list[str] = Field(
        default_factory=list,
        description="the subjects: columns that name an entity (default: each row)",
    )
    by: list[str] = Field(
        default_factory=list, description="peer groups, each with a centre of its own"
    )
    fit: Literal["robust", "classical"] = Field("robust", description="the distance that flags")
    law: Literal["beta", "chi-square"] = Field(
        "beta",
        description="the exact law (of the robust distance the calibrated one), or chi-square",
    )
    alpha: float = Field(
        ALPHA, gt=0, lt=0.5, description="share of a normal population beyond the limit"
    )
    transform: Literal["none", "log", "rank"] = Field(
        "none",
        description="of each measure within its peer group: none, sign(x)·log10(1 + |x|/u), u a "
        "hundredth of the median |x|, or normal scores",
    )
    aim: int | None = Field(
        None,
        ge=1,
        description="solve for the limit that flags no more than this many, in place of alpha",
    )
    share: float | None = Field(
        None, ge=0.5, le=1, description="share of subjects in the robust subset"
    )
    seed: int = Field(0, ge=0, description="seed of the robust fit's random starts")
    adjust: Method = Field("holm", description="adjustment of p for the number of subjects")

    @model_validator(mode="after")
    def _one_limit(self) -> DistanceSettings:
        if self.aim is not None and "alpha" in self.model_fields_set and self.alpha != ALPHA:
            raise ValueError("aim solves for the limit; leave alpha out")
        return self

    _measures = field_validator("measures", mode="before")(listed_once)
    _listed = field_validator("per", "by", mode="before")(listed_once)


class Distance(Screen):
    """Mahalanobis distance of rows or entities."""

    name = "distance"
    summary = "rows or entities unusual on several measures together"
    reference = (
        "Mahalanobis, P. C. (1936), Proceedings of the National Institute of Sciences of India 2, "
        "49-55; Rousseeuw, P. J. and Van Driessen, K. (1999), Technometrics 41, 212-223"
    )
    settings = DistanceSettings
    group = DistanceGroup
    view = DistanceView
    place = 60
    figures = ("quantiles", "scatter", "distances", "matrix")
    examples = (
        'sabueso try distance payroll --per empleado --measures "avg(salario_base),avg(plus_mar)"',
        "sabueso try distance payroll --measures salario_base,plus_mar --by categoria",
        'sabueso try distance payments --per proveedor --measures "sum(importe),count(*)" --out d2.png',
        'sabueso try distance payroll --per empleado --measures "sum(salario_base),sum(plus_mar)" --by categoria '
        "--aim 10 --figure scatter --out pay.png",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        from sabueso.screens.distance.proposed import proposed_measures

        table = population.table
        measures = proposed_measures(population)
        names = ",".join(c.name for c in measures[:MOST_TOLD])
        if len(measures) > MOST_TOLD:
            names += f" and {len(measures) - MOST_TOLD:,} more"
        party = table.role("party")
        if len(measures) >= 2:
            yield Suit(
                self.name,
                "yes",
                f"{len(measures)} measures: {names}",
                asked(
                    per="" if party is None else quoted_name(party.name),
                    measures=[quoted_name(c.name) for c in measures[:MOST_TOLD]],
                ),
            )
        elif len(measures) == 1 and party is not None:
            measured = [f"sum({quoted_name(names)})", "count(*)"]
            options = asked(per=quoted_name(party.name), measures=measured)
            yield Suit(
                self.name,
                "with care",
                f"one measure, {names}: by {party.name} its sum and count",
                options,
            )
        else:
            yield Suit(
                self.name,
                "no",
                f"{num.many(len(measures), 'measure')} of a kind that can be measured together: too few",
            )

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.distance.proposed import proposed_entities, proposed_measures
        from sabueso.screens.distance.proposed_rows import proposed_rows

        measures = proposed_measures(population)
        if described is not None:
            yield from proposed_entities(population, measures)
        yield from proposed_rows(population, measures)

    def tuned(self, population: Population, settings: Mapping[str, Any], capacity: int) -> Values:
        from sabueso.screens.distance.proposed_rows import tuned_level

        return tuned_level(self, population, settings, capacity)

    def counts(self, population: Population, settings: DistanceSettings) -> list[Counting]:
        return counts_of_subjects(population, settings)

    def run(self, population: Population, settings: DistanceSettings) -> Finding[DistanceGroup]:
        results: list[tuple[ByColumn, Result]] = []
        not_tested: list[NotTested] = []
        solved: Values = {}
        many = distances_of_many(population, settings)
        if many is not None:
            subjects, account = many.subjects, many.account
            if isinstance(many.result, str):
                not_tested.append(NotTested({}, many.result, account.used))
            else:
                results.append(({}, many.result))
            if many.level is not None:
                solved = {"alpha": many.level}
        else:
            subjects, account = measured_subjects(population, settings)
            results, not_tested = _by_group(population, subjects, settings)
            if settings.aim is not None and results:
                results, level = aimed(results, settings.aim)
                solved = {"alpha": level}
        flags, flagged_by_group = flagged_of(population, subjects, results, settings)
        every = sum(r.n for _, r in results)
        measure = population.table.role("amount")
        return Finding(
            test=self.name,
            table=population.table.name,
            on=None,
            by=list(settings.by),
            settings=settings.model_dump(),
            population=account,
            solved=solved,
            groups=[
                described(key, r, settings.fit, n, r.n / every)
                for (key, r), n in zip(results, flagged_by_group, strict=True)
            ],
            flags=flags,
            tests_made=every,
            flags_by_chance=solved.get("alpha", settings.alpha) * every,
            cautions=cautions_of(results, not_tested),
            not_tested=not_tested,
            currency=population.table.currency,
            scale=measure.scale if measure else 2,
        )


def _by_group(
    population: Population, subjects: pa.Table, settings: DistanceSettings
) -> tuple[list[tuple[ByColumn, Result]], list[NotTested]]:
    """The distances of each peer group, and groups that have none with the reason."""
    values = np.column_stack(
        [
            subjects.column(f"m{j}").to_numpy().astype(np.float64)
            for j in range(len(settings.measures))
        ]
    )
    results: list[tuple[ByColumn, Result]] = []
    not_tested: list[NotTested] = []
    for key, rows in peer_groups(subjects, Grouping.of(settings.by, population.table)):
        outcome = distances(transformed(values, rows, settings.transform), rows, settings)
        if isinstance(outcome, str):
            not_tested.append(NotTested(key, outcome, len(rows)))
        else:
            results.append((key, outcome))
    return results, not_tested
