"""The medcouple: a robust measure of skewness, and fences that follow it."""

from __future__ import annotations

from fractions import Fraction
from math import ceil, exp, floor

import numpy as np
from numpy.typing import ArrayLike, NDArray

from sabueso.stats.quartiles import Fences

# A threshold of the search and a ratio of two exact integers are equal or differ by at least
# 1/(a + b)²; halving the span of 2 so often leaves at most one ratio in it for sums below 2^40.
_HALVINGS = 90


def medcouple(values: ArrayLike, counts: ArrayLike | None = None) -> float:
    """The median of the kernel h over all pairs around the median, in -1 … 1.

    Parameters
    ----------
    values : array_like of int, shape (n,)
        Distinct amounts in minor units, or any amounts where ``counts`` is not given.
    counts : array_like of int, shape (n,), optional
        How often each value occurs.

    Returns
    -------
    float
        0 for a symmetric sample, positive for one skewed to the right.

    Raises
    ------
    ValueError
        Without values, or if a count is below 1.

    Notes
    -----
    With m the median, h(x, y) = ((x - m) - (m - y)) / (x - y) for x >= m >= y; among the k values equal
    to m the kernel of the i-th and j-th is the sign of k - 1 - i - j (both from 0). The median of an even
    number of kernels is the mean of the middle two. With a = x - m and b = m - y, h >= t if and only if
    b <= a (1 - t)/(1 + t): the pairs at or above a threshold are counted by one search in sorted order,
    and the middle is found by halving, so that n values take O(n log n) and no pair is written down.

    References
    ----------
    Brys, G., Hubert, M. and Struyf, A. (2004), Journal of Computational and Graphical Statistics 13,
    996-1017.

    Examples
    --------
    >>> medcouple([1, 2, 3, 4, 5])
    0.0
    >>> medcouple([1, 2, 3, 10, 100])
    0.75
    """
    x, w = _sorted(values, counts)
    n = int(w.sum())
    upto = np.cumsum(w)
    lower, upper = (int(x[np.searchsorted(upto, rank)]) for rank in ((n + 1) // 2, n // 2 + 1))
    off = 2 * x - (lower + upper)  # doubled, so that a median between two amounts is whole
    above, below, at = off > 0, off < 0, off == 0
    a, wa = off[above], w[above]
    b, wb = -off[below][::-1], w[below][::-1]
    ties = int(w[at].sum())
    kernels = _Kernels(a, wa, b, wb, ties)
    total = kernels.count
    if total == 0:
        return 0.0
    middle = [kernels.select(rank) for rank in {(total + 1) // 2, total // 2 + 1}]
    return float(sum(middle) / len(middle))


def _sorted(
    values: ArrayLike, counts: ArrayLike | None
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    found = np.asarray(values, dtype=np.int64)
    if found.size == 0:
        raise ValueError("the medcouple needs at least one value")
    if counts is None:
        x, w = np.unique(found, return_counts=True)
        return x, w.astype(np.int64)
    weights = np.asarray(counts, dtype=np.int64)
    if weights.shape != found.shape or weights.min() < 1:
        raise ValueError("every value needs a count of at least 1")
    order = np.argsort(found)
    return found[order], weights[order]


class _Kernels:
    """All kernels of a sample, counted and selected without being written down.

    ``a`` and ``b`` are the distances above and below the median, ascending, with their counts;
    ``ties`` values lie on it.
    """

    def __init__(
        self,
        a: NDArray[np.int64],
        wa: NDArray[np.int64],
        b: NDArray[np.int64],
        wb: NDArray[np.int64],
        ties: int,
    ) -> None:
        self._a, self._wa, self._b = a, wa, b
        self._upto = np.concatenate([[0], np.cumsum(wb)])
        na, nb = int(wa.sum()), int(wb.sum())
        self.count = (na + ties) * (nb + ties)
        self._minus = ties * nb + ties * (ties - 1) // 2
        self._zero = ties
        self._plus = na * ties + ties * (ties - 1) // 2

    def select(self, rank: int) -> Fraction:
        """The kernel of that rank, from 1, ascending."""
        # Kernels of pairs off the median are strictly within -1 … 1.
        if rank <= self._minus:
            return Fraction(-1)
        if rank > self.count - self._plus:
            return Fraction(1)
        low, high = -1.0, 1.0
        for _ in range(_HALVINGS):
            middle = (low + high) / 2
            if middle in (low, high):
                break
            if self._below(middle) + self._minus + (self._zero if middle > 0 else 0) >= rank:
                high = middle
            else:
                low = middle
        return self._nearest(low, high)

    def _below(self, t: float) -> int:
        """Pairs off the median with h < t."""
        reach = self._a * ((1 - t) / (1 + t)) if t > -1 else np.full(len(self._a), np.inf)
        within = self._upto[np.searchsorted(self._b, reach, side="right")]
        return int((self._wa * (self._upto[-1] - within)).sum())

    def _nearest(self, low: float, high: float) -> Fraction:
        """The exact kernel between two thresholds that are next to each other."""
        t = (low + high) / 2
        best = Fraction(0) if self._zero else None
        if t > -1 and len(self._a) and len(self._b):
            reach = self._a * ((1 - t) / (1 + t))
            place = np.searchsorted(self._b, reach)
            for step in (-1, 0, 1):
                at = np.clip(place + step, 0, len(self._b) - 1)
                b = self._b[at]
                h = (self._a - b) / (self._a + b)
                i = int(np.argmin(np.abs(h - t)))
                kernel = Fraction(int(self._a[i] - b[i]), int(self._a[i] + b[i]))
                if best is None or abs(kernel - Fraction(t)) < abs(best - Fraction(t)):
                    best = kernel
        return Fraction(t) if best is None else best


def adjusted_fences(
    q1: Fraction,
    median: Fraction,
    q3: Fraction,
    mc: float,
    k: Fraction,
    outer_k: Fraction,
    *,
    far: bool,
) -> Fences:
    """Fences that reach further on the long side of a skewed sample.

    Q1 - k e^(-4 MC) IQR and Q3 + k e^(3 MC) IQR where MC >= 0; -3 and 4 in the exponents where it is
    negative. ``far`` makes the outer fences the flagging ones.

    References
    ----------
    Hubert, M. and Vandervieren, E. (2008), Computational Statistics & Data Analysis 52, 5186-5201.
    """
    iqr = q3 - q1
    left, right = (-4.0, 3.0) if mc >= 0 else (-3.0, 4.0)
    low_by, high_by = (Fraction(exp(power * mc)) for power in (left, right))
    low, high = q1 - k * low_by * iqr, q3 + k * high_by * iqr
    outer_low, outer_high = q1 - outer_k * low_by * iqr, q3 + outer_k * high_by * iqr
    least, greatest = (outer_low, outer_high) if far else (low, high)
    return Fences(
        q1=q1, median=median, q3=q3, low=low, high=high, outer_low=outer_low, outer_high=outer_high,
        least=ceil(least), greatest=floor(greatest),
    )  # fmt: skip
