"""Cells of a table of groups by times: more than the others have, and no habit of the group's own."""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

import numpy as np
from numpy.typing import NDArray
from scipy.special import chdtri, ndtr

from sabueso.stats.hypergeometric import upper_tail

FEW = 5
"""Expected batches below which p is exact."""
MEDIAN_SQUARE = float(chdtri(1, 0.5))
"""Median of chi-square with one degree of freedom, 0.4549."""
HABIT = 0.5
"""Part of an even spread from which a cell is a habit."""


@dataclass(frozen=True)
class TestedCells:
    """``p`` is NaN for cells that are not tested: habits of their group, or empty. Shapes (g, c); ``overdispersion``, by
    which the residuals of each column were widened, has shape (c,)."""

    expected: NDArray[np.float64]
    residual: NDArray[np.float64]
    p: NDArray[np.float64]
    overdispersion: NDArray[np.float64]


def habits(counts: NDArray[np.int64], even: int) -> NDArray[np.bool_]:
    """Cells in which a group has at least half of an even spread over ``even`` cells of its own counts.

    Parameters
    ----------
    counts : ndarray of int, shape (g, c)
    even : int
        Cells that an even spread is over: 24 of hours, 7 of weekdays.
    """
    totals = counts.sum(axis=1, keepdims=True)
    return np.asarray(counts * even >= HABIT * np.maximum(totals, 1)) & (counts > 0)


def excess(
    counts: NDArray[np.int64], habit: NDArray[np.bool_], *, typical: bool = False
) -> TestedCells:
    """Test each cell that is no habit against the groups for which it is none either.

    Adjusted residuals (Haberman 1973); p one-sided, exact by the hypergeometric law where fewer than 5
    are expected. Where residuals of all cells spread wider than 1, batches come in clumps: each is
    divided by the root of their mean square, and no p is below that of the widened residual.

    Parameters
    ----------
    counts : ndarray of int, shape (g, c)
    habit : ndarray of bool, shape (g, c)
    typical : bool
        Take how far the residuals of each column lie from their median, by the square of the median over that of the normal law,
        in place of the mean of all: how far most groups are from one another in it, whatever a few of them do.

    References
    ----------
    Haberman, S. J. (1973), Biometrics 29, 205-220.
    """
    totals = counts.sum(axis=1)
    shape = counts.shape
    expected, residual, p = np.zeros(shape), np.full(shape, np.nan), np.full(shape, np.nan)
    for c in range(shape[1]):
        inside = ~habit[:, c] & (totals > 0)
        whole, marked = int(totals[inside].sum()), int(counts[inside, c].sum())
        if not whole or not marked or marked == whole or inside.sum() < 2:
            continue
        share = marked / whole
        own = totals[inside] / whole
        here = totals[inside] * share
        expected[inside, c] = here
        spread = np.sqrt(here * (1 - share) * (1 - own))
        residual[inside, c] = (counts[inside, c] - here) / np.where(spread > 0, spread, np.inf)
    known = np.isfinite(residual)
    over = np.ones(shape[1])
    if known.any():
        if typical:
            inside = known.any(axis=0)
            apart = residual[:, inside] - np.nanmedian(residual[:, inside], axis=0)
            over[inside] = np.nanmedian(np.abs(apart), axis=0) ** 2 / MEDIAN_SQUARE
        else:
            over[:] = np.mean(residual[known] ** 2)
    over = np.maximum(over, 1.0)
    for g, c in zip(*np.nonzero(known & (counts > 0)), strict=True):
        inside = ~habit[:, c] & (totals > 0)
        widened = float(ndtr(-residual[g, c] / sqrt(over[c])))
        if expected[g, c] < FEW:
            whole, marked = int(totals[inside].sum()), int(counts[inside, c].sum())
            exact = upper_tail(int(counts[g, c]), whole, marked, int(totals[g]))
            p[g, c] = exact if over[c] == 1 else max(exact, widened)
        else:
            p[g, c] = widened
    return TestedCells(expected, residual, p, over)
