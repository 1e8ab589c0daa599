"""Both distances of the subjects of one group, on the scale asked for, with their law."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

import numpy as np

from sabueso.screens.limits.scales import MEDIAN_PARTS
from sabueso.stats import distance as dist
from sabueso.stats import distance_law as law
from sabueso.stats.adjust import adjust
from sabueso.stats.mcd import minimum_covariance_determinant

Floats = np.ndarray
MASKING_LEVEL = 0.01
"""Adjusted p below which a subject is far beyond doubt, whatever the level asked for."""


class Asked(Protocol):
    """Settings of a fit."""

    @property
    def measures(self) -> list[str]: ...
    @property
    def fit(self) -> Literal["robust", "classical"]: ...
    @property
    def law(self) -> Literal["beta", "chi-square"]: ...
    @property
    def alpha(self) -> float: ...
    @property
    def share(self) -> float | None: ...
    @property
    def seed(self) -> int: ...


@dataclass(frozen=True)
class Result:
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
    x: Floats
    plain: dist.Location
    mardia: dist.Mardia | None
    dropped: list[str]
    flags_by_robust: bool
    everyone: Floats | None = None
    """The distances that flag of all subjects, where only those that are far and some more are here."""
    fitted_on: int | None = None
    """How many of them the robust fit is of, where it is not all."""

    @property
    def n(self) -> int:
        """How many subjects there are in all."""
        return len(self.rows) if self.everyone is None else len(self.everyone)

    @property
    def used(self) -> Floats:
        """The distances that flag."""
        return self.robust if self.flags_by_robust and self.robust is not None else self.classical


def transformed(values: Floats, rows: np.ndarray, transform: str) -> Floats:
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


def left_out(x: Floats, names: Sequence[str]) -> tuple[list[int], list[str]]:
    """The measures that a fit can be made of, and what is said of the others."""
    dropped = dist.dependent_measures(x)
    notes = [
        f"{names[d.measure]} repeats {', '.join(names[k] for k in d.repeats)}"
        if d.repeats
        else f"{names[d.measure]} is constant"
        for d in dropped
    ]
    without = {d.measure for d in dropped}
    return [j for j in range(len(names)) if j not in without], notes


def without_spread(error: ValueError) -> str:
    """Why there is no robust distance, of what the fit or the algebra behind it says."""
    if isinstance(error, np.linalg.LinAlgError):
        return "singular: of half of the subjects or more one measure follows from the others"
    return f"singular: {error}"


def distances(x: Floats, rows: np.ndarray, settings: Asked) -> Result | str:
    """Both distances of one group, or the reason why it has none."""
    n = len(rows)
    if n < 3:
        return f"too_few: {n} subjects"
    names = settings.measures
    kept, notes = left_out(x, names)
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
            return without_spread(error)
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
        if masked and not normal_core(x[fitted.inside]):
            # Long tails, and no outliers of a population that is otherwise normal.
            masked = 0
    if not robust_fit or tail is None:
        tail, limit = plain_tail, plain_limit
    return Result(
        rows=rows,
        measures=[names[j] for j in kept],
        columns=kept,
        location=location,
        classical=classical,
        robust=robust,
        p=tail,
        limit=limit,
        masked=masked,
        x=x,
        plain=plain,
        mardia=dist.mardia(x) if n > p + 1 else None,
        dropped=notes,
        flags_by_robust=robust_fit,
    )


def normal_core(x: Floats) -> bool:
    """Whether the subjects near the robust centre lie evenly about it, as those of a normal population
    do; their tails are cut off, and tell nothing."""
    return len(x) <= x.shape[1] + 1 or dist.mardia(x).skewness_p >= MASKING_LEVEL
