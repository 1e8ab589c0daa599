"""What was found of a group of subjects, whether they came into memory or stayed in the engine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from sabueso.base.plain import ByColumn
from sabueso.screens.relation.result import Changes, Rest
from sabueso.stats import relation as rel

Floats = np.ndarray
LEAST, MOST_POINTS, MOST_MOVERS, SPREAD_LEAST = 4, 400, 5, 20
PERIODS = ("year", "quarter", "month", "fiscal_year")


@dataclass(frozen=True)
class Line:
    """The least-squares line of y on x."""

    slope: float
    intercept: float
    slope_error: float
    slope_error_hc3: float


@dataclass(frozen=True)
class Movers:
    """Places, among the subjects at hand, of those that move r or the line: the one without which r changes
    most, those beyond the limit of Cook's distance or of a leverage of a half, and those beyond that of
    DFBETAS, the strongest first, with the counts of all such."""

    one: int | None = None
    line: Sequence[int] = ()
    line_count: int = 0
    slope: Sequence[int] = ()
    slope_count: int = 0

    def places(self) -> list[int]:
        return [*([] if self.one is None else [self.one]), *self.line, *self.slope]


@dataclass(frozen=True, eq=False)
class Part:
    """A group of ``n`` subjects. ``rows`` are the places of those at hand among all that are, ``x``, ``y``
    and ``influence`` theirs; of rows by the million only those that are named are at hand.
    ``fitted_on`` says of how many rows the robust line is where not of all."""

    key: ByColumn
    n: int
    rows: np.ndarray
    x: Floats
    y: Floats
    found: rel.Correlation
    ranks: rel.Correlation | None
    line: Line | None
    influence: rel.Influence | None
    robust: tuple[float, float, int] | None
    bent: tuple[float, float] | None
    movers: Movers
    points: list[list[float]]
    two_ways: list[float] | None = None
    changes: Changes | None = None
    chosen: str | None = None
    rest: Rest | None = None
    difference_p: float | None = None
    flagged: int = 0
    fitted_on: int | None = None
    spread: rel.Correlation | None = None
    """Rank correlation of the size of the residuals with x; None of few."""

    def named(self) -> list[int]:
        """Places of the subjects that are told by their names."""
        return [int(self.rows[place]) for place in self.movers.places()]


def part_of(
    key: ByColumn,
    rows: np.ndarray,
    x: Floats,
    y: Floats,
    *,
    chosen: str | None,
    seed: int,
    steps: bool,
    periods: bool,
) -> Part | None:
    """A group all of whose subjects are at hand; None where they have no correlation."""
    found = rel.correlation(x, y) if len(rows) >= LEAST else None
    if found is None:
        return None
    fitted = rel.fit(x, y)
    line = None
    if fitted is not None:
        errors = fitted.slope_error, fitted.slope_error_hc3
        line = Line(fitted.slope, fitted.intercept, *errors)
    return Part(
        key=key,
        n=len(rows),
        rows=rows,
        x=x,
        y=y,
        found=found,
        ranks=rel.rank_correlation(x, y),
        line=line,
        influence=fitted,
        robust=rel.theil_sen(x, y, seed),
        bent=rel.bend(x, y),
        movers=_movers(fitted, found.r, len(rows)) if fitted else Movers(),
        points=even_points(x, y),
        two_ways=list(rel.two_ways(x, y)) if steps else None,
        changes=_changes(x, y) if periods else None,
        chosen=chosen,
        spread=spread_of(x, y, line),
    )


def spread_of(x: Floats, y: Floats, line: Line | None) -> rel.Correlation | None:
    """Whether residuals are larger where x is; None of few."""
    if line is None or len(x) < SPREAD_LEAST:
        return None
    return rel.rank_correlation(x, np.abs(y - (line.intercept + line.slope * x)))


def _movers(of: rel.Influence, r: float, n: int) -> Movers:
    change = np.abs(r - of.without)
    line = np.flatnonzero((of.cook > rel.cook_limit(n)) | (of.leverage > 0.5))
    size = np.abs(of.dfbetas)
    slope = np.flatnonzero(size > rel.dfbetas_limit(n))
    return Movers(
        # One without which there is no r before any other.
        one=int(np.argmax(np.where(np.isnan(change), np.inf, change))),
        line=line[np.argsort(-of.cook[line], kind="stable")][:MOST_MOVERS].tolist(),
        line_count=len(line),
        slope=slope[np.argsort(-size[slope], kind="stable")][:MOST_MOVERS].tolist(),
        slope_count=len(slope),
    )


def even_points(x: Floats, y: Floats) -> list[list[float]]:
    """An even choice of subjects by their measures, for a figure."""
    n = len(x)
    even = np.unique(np.linspace(0, n - 1, min(n, MOST_POINTS)).round().astype(int))
    shown = np.lexsort((y, x))[even]
    return [[float(a), float(b)] for a, b in zip(x[shown], y[shown], strict=True)]


def _changes(x: Floats, y: Floats) -> Changes | None:
    """r of the changes from one subject to the next, in their order."""
    found = rel.correlation(np.diff(x), np.diff(y))
    n = len(x) - 1
    return Changes(n, found.r if found else None, found.p if found else None)
