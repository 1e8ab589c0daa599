"""Distance from the centre on several measures together, classical and robust."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import numpy as np
import pyarrow as pa
from pydantic import Field, field_validator

from sabueso.base.plain import ByColumn
from sabueso.population import expressions
from sabueso.population.population import Population
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.distance.proposed import proposed_entities, proposed_measures
from sabueso.screens.distance.result import DistanceGroup, Quantiles
from sabueso.screens.distance.view import DistanceView
from sabueso.screens.finding import Caution, Finding, Flags, NotTested
from sabueso.screens.grouping import Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.limits.scales import MEDIAN_PARTS
from sabueso.screens.measured import (
    flags_of,
    measured_subjects,
    peer_groups,
    struct_of,
    subject_columns,
)
from sabueso.screens.proposal import Proposal
from sabueso.screens.settings import Settings, listed
from sabueso.stats import distance as dist
from sabueso.stats import distance_law as law
from sabueso.stats.adjust import Method, adjust
from sabueso.stats.mcd import minimum_covariance_determinant

Floats = np.ndarray
MASKING_LEVEL = 0.01
FURTHEST = 20
"""Adjusted p below which a subject is far beyond doubt, whatever the level asked for."""

if TYPE_CHECKING:
    from sabueso.stats.description import Description


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
        0.001, gt=0, lt=0.5, description="share of a normal population beyond the limit"
    )
    transform: Literal["none", "log", "rank"] = Field(
        "none",
        description="of each measure within its peer group: none, sign(x)·log10(1 + |x|/u), u a "
        "hundredth of the median |x|, or normal scores",
    )
    share: float | None = Field(
        None, ge=0.5, le=1, description="share of subjects in the robust subset"
    )
    seed: int = Field(0, ge=0, description="seed of the robust fit's random starts")
    adjust: Method = Field("holm", description="adjustment of p for the number of subjects")

    _listed = field_validator("measures", "per", "by", mode="before")(listed)


@dataclass(frozen=True)
class _Result:
    """One group's distances; arrays have one entry a subject of the group."""

    rows: np.ndarray
    measures: list[str]
    columns: list[int]
    location: dist.Location
    classical: Floats
    robust: Floats | None
    p: Floats
    limit: float
    masked: int
    contribution: Floats
    mardia: dist.Mardia | None
    dropped: list[str]


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
    examples = (
        'sabueso try distance payroll --per empleado --measures "avg(salario_base),avg(plus_mar)"',
        "sabueso try distance payroll --measures salario_base,plus_mar --by categoria",
        'sabueso try distance payments --per proveedor --measures "sum(importe),count(*)" --out d2.png',
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        table = population.table
        measures = proposed_measures(population)
        names = ",".join(c.name for c in measures)
        party = table.role("party")
        if len(measures) >= 2:
            per = f"--per {party.name} " if party is not None else ""
            yield Suit(
                self.name, "yes", f"{len(measures)} measures: {names}", f"{per}--measures {names}"
            )
        elif len(measures) == 1 and party is not None:
            options = f'--per {party.name} --measures "sum({names}),count(*)"'
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
        if described is not None:
            yield from proposed_entities(population, proposed_measures(population))

    def run(self, population: Population, settings: DistanceSettings) -> Finding[DistanceGroup]:
        subjects, account = measured_subjects(population, settings)
        values = np.column_stack(
            [
                subjects.column(f"m{j}").to_numpy().astype(np.float64)
                for j in range(len(settings.measures))
            ]
        )
        keys = Grouping.of(settings.by, population.table)
        results: list[tuple[ByColumn, _Result]] = []
        not_tested: list[NotTested] = []
        cautions: list[Caution] = []
        for key, rows in peer_groups(subjects, keys):
            outcome = _distances(_transformed(values, rows, settings.transform), rows, settings)
            if isinstance(outcome, str):
                not_tested.append(NotTested(key, outcome, len(rows)))
            else:
                results.append((key, outcome))
        flags, flagged_by_group = _flags(population, subjects, results, settings)
        cautions += _cautions(results, not_tested, settings)
        measure = population.table.role("amount")
        return Finding(
            test=self.name,
            table=population.table.name,
            on=None,
            by=list(settings.by),
            settings=settings.model_dump(),
            population=account,
            groups=[
                _described(key, r, settings, n)
                for (key, r), n in zip(results, flagged_by_group, strict=True)
            ],
            flags=flags,
            tests_made=sum(len(r.rows) for _, r in results),
            flags_by_chance=settings.alpha * sum(len(r.rows) for _, r in results),
            cautions=cautions,
            not_tested=not_tested,
            currency=population.table.currency,
            scale=measure.scale if measure else 2,
        )


def _transformed(values: Floats, rows: np.ndarray, transform: str) -> Floats:
    """The measures of one peer group on the scale asked for."""
    x = values[rows]
    if transform == "log":
        size = np.abs(x)
        units = [np.median(column[column > 0]) if (column > 0).any() else 1.0 for column in size.T]
        return np.asarray(np.sign(x) * np.log10(1 + size * MEDIAN_PARTS / np.array(units)))
    if transform == "rank":
        return np.column_stack([_normal_scores(column) for column in x.T])
    return x


def _normal_scores(values: Floats) -> Floats:
    """Normal scores by Blom (1958): (rank - 3/8)/(n + 1/4), equal values sharing their mean rank."""
    from scipy.special import ndtri

    _, place, times = np.unique(values, return_inverse=True, return_counts=True)
    ranks = (np.cumsum(times) - (times - 1) / 2)[place]
    return np.asarray(ndtri((ranks - 0.375) / (len(values) + 0.25)))


def _distances(x: Floats, rows: np.ndarray, settings: DistanceSettings) -> _Result | str:
    """Both distances of one group, or the reason why it has none."""
    n = len(rows)
    if n < 3:
        return f"too_few: {n} subjects"
    dropped = dist.dependent_measures(x)
    names = settings.measures
    notes = [
        f"{names[d.measure]} repeats {', '.join(names[k] for k in d.repeats)}"
        if d.repeats
        else f"{names[d.measure]} is constant"
        for d in dropped
    ]
    left_out = {d.measure for d in dropped}
    kept = [j for j in range(len(names)) if j not in left_out]
    if not kept:
        return "singular: " + "; ".join(notes)
    x = x[:, kept]
    p = len(kept)
    robust_fit = settings.fit == "robust"
    if n <= p + 2 or (robust_fit and not law.is_known(n, p)):
        least = law.least_subjects(p) if robust_fit else p + 3
        return f"too_few: {n} subjects for {p} measures, at least {least} are needed"
    plain = dist.classical(x)
    classical = dist.squared_distances(x, plain)
    robust: Floats | None = None
    tail: Floats | None = None
    limit, location = np.nan, plain
    try:
        if law.is_known(n, p):
            fitted = minimum_covariance_determinant(x, share=settings.share, seed=settings.seed)
            robust = dist.squared_distances(x, fitted.location)
            location = fitted.location if robust_fit else plain
            if settings.law == "beta":
                asked = n, p, settings.share, fitted.inside
                tail = law.robust_tail(robust, *asked)
                limit = law.robust_limit(settings.alpha, *asked)
            else:
                tail, limit = law.chi_square_law(robust, p, settings.alpha)
    except ValueError as error:
        if robust_fit:
            return f"singular: {error}"
        robust = None
    if settings.law == "beta":
        plain_tail = dist.beta_tail(classical, n, p)
        plain_limit = dist.beta_limit(settings.alpha, n, p)
    else:
        plain_tail, plain_limit = law.chi_square_law(classical, p, settings.alpha)
    masked = 0
    if tail is not None:
        # Far beyond doubt by the robust distance, and within the classical limit.
        certain = adjust(tail, "holm") < min(settings.alpha, MASKING_LEVEL)
        masked = int((certain & (classical <= plain_limit)).sum())
        if masked and not _normal_core(x[fitted.inside]):
            # Long tails, and no outliers of a population that is otherwise normal.
            masked = 0
    if not robust_fit or tail is None:
        tail, limit = plain_tail, plain_limit
    return _Result(
        rows=rows,
        measures=[names[j] for j in kept],
        columns=kept,
        location=location,
        classical=classical,
        robust=robust,
        p=tail,
        limit=limit,
        masked=masked,
        contribution=x,
        mardia=dist.mardia(x) if n > p + 1 else None,
        dropped=notes,
    )


def _normal_core(x: Floats) -> bool:
    """Whether the subjects near the robust centre lie evenly about it, as those of a normal population
    do; their tails are cut off, and tell nothing."""
    return len(x) <= x.shape[1] + 1 or dist.mardia(x).skewness_p >= MASKING_LEVEL


def _flags(
    population: Population,
    subjects: pa.Table,
    results: Sequence[tuple[ByColumn, _Result]],
    settings: DistanceSettings,
) -> tuple[Flags, list[int]]:
    """Subjects beyond the limit, strongest first, with each measure's share of d²."""
    family = sum(len(r.rows) for _, r in results)
    labels = [expressions.label(text, population.table) for text in settings.per]
    tables, counts = [], []
    all_p = np.concatenate([r.p for _, r in results]) if results else np.empty(0)
    every = adjust(all_p, "bh") if settings.adjust == "bh" else None
    start = 0
    for key, r in results:
        used = r.robust if settings.fit == "robust" and r.robust is not None else r.classical
        inside = np.flatnonzero(used > r.limit)
        counts.append(len(inside))
        if len(inside):
            parts = dist.contributions(r.contribution[inside], r.location)
            percent = 100 * parts / parts.sum(axis=1, keepdims=True)
            chosen = subjects.take(pa.array(r.rows[inside]))
            columns = subject_columns(chosen, settings, labels)
            columns |= {f"g{i}": pa.array([v] * len(inside)) for i, v in enumerate(key.values())}
            columns |= {
                "score": pa.array(used[inside]),
                "limit": pa.array(np.full(len(inside), r.limit)),
                "direction": pa.array(["far"] * len(inside)),
                "p": pa.array(r.p[inside]),
                "classical": pa.array(r.classical[inside]),
                "robust": pa.array(
                    r.robust[inside] if r.robust is not None else [None] * len(inside)
                ),
                "contribution": struct_of(r.measures, percent.T),
                "values": struct_of(
                    settings.measures,
                    [chosen.column(f"m{j}").to_numpy() for j in range(len(settings.measures))],
                ),
            }
            if "amount" in chosen.column_names:
                columns["amount"] = chosen.column("amount")
            if every is not None:
                columns["p_adjusted"] = pa.array(every[start + inside])
            tables.append(pa.table(columns))
        start += len(r.rows)
    if not tables:
        return Flags("entity" if settings.per else "row", pa.table({})), counts
    flags = pa.concat_tables(tables, promote_options="default")
    order = np.lexsort((np.arange(len(flags)), -flags.column("score").to_numpy()))
    flags = flags.take(pa.array(order))
    if every is None:
        adjusted = adjust(flags.column("p").to_numpy(), settings.adjust, family)
        flags = flags.append_column("p_adjusted", pa.array(adjusted))
    return flags_of(population, settings, flags, list(results[0][0])), counts


def _described(
    key: ByColumn, r: _Result, settings: DistanceSettings, flagged: int
) -> DistanceGroup:
    return DistanceGroup(
        group=key,
        n=len(r.rows),
        measures=r.measures,
        fit=settings.fit,
        center=r.location.center.tolist(),
        covariance=r.location.covariance.tolist(),
        limit=r.limit,
        mardia_skewness_p=r.mardia.skewness_p if r.mardia else None,
        mardia_kurtosis_p=r.mardia.kurtosis_p if r.mardia else None,
        dropped=r.dropped,
        flagged=flagged,
        quantiles=_quantiles(r, settings),
    )


def _quantiles(r: _Result, settings: DistanceSettings) -> Quantiles:
    """Ordered d² at up to 200 ranks against chi-square(p), for a figure."""
    used = np.sort(r.robust if settings.fit == "robust" and r.robust is not None else r.classical)
    n = len(used)
    even = np.linspace(0, n - 1, min(n, 200)).round().astype(int)
    # The furthest are all there: they are what the figure is looked at for.
    ranks = np.unique(np.concatenate([even, np.arange(max(n - FURTHEST, 0), n)]))
    expected = [dist.chi_square_limit(float(1 - (k + 0.5) / n), len(r.measures)) for k in ranks]
    return Quantiles(expected, used[ranks].tolist())


def _cautions(
    results: Sequence[tuple[ByColumn, _Result]],
    not_tested: Sequence[NotTested],
    settings: DistanceSettings,
) -> list[Caution]:
    found = []

    def of(key: ByColumn) -> str:
        return "".join(f" in {k} {v}" for k, v in key.items())

    for key, r in results:
        n, p = len(r.rows), len(r.measures)
        if r.dropped:
            found.append(
                Caution("singular", f"left out{of(key)}: {'; '.join(r.dropped)}", {"group": key})
            )
        if n <= 5 * p:
            found.append(
                Caution(
                    "too_few",
                    f"{n} subjects for {p} measures{of(key)}; more than {5 * p} are wanted",
                    {"n": n, "measures": p, "group": key},
                )
            )
        if r.mardia and min(r.mardia.skewness_p, r.mardia.kurtosis_p) < 0.01:
            found.append(
                Caution(
                    "not_normal",
                    f"the measures{of(key)} are not jointly normal (Mardia's skewness p "
                    f"{num.p_value(r.mardia.skewness_p)}, kurtosis p {num.p_value(r.mardia.kurtosis_p)}): "
                    "p ranks and does not prove",
                    {"group": key},
                )
            )
        if r.masked:
            found.append(
                Caution(
                    "masking",
                    f"{r.masked} subject{'s' if r.masked != 1 else ''}{of(key)} far by the robust "
                    "distance, also after adjustment, lie within the classical limit: outliers that "
                    "hide one another",
                    {"masked": r.masked, "group": key},
                )
            )
    singular = [t for t in not_tested if t.reason.startswith("singular")]
    if singular:
        found.append(
            Caution(
                "singular",
                f"{len(singular)} groups have no spread to measure by",
                {"groups": len(singular)},
            )
        )
    return found
