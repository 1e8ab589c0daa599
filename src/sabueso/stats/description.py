"""Description of one measure from its distinct values and their counts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise
from math import ceil, floor, log10, sqrt

import numpy as np
from numpy.typing import NDArray
from scipy.special import stdtrit

from sabueso.stats.moments import moments, shape
from sabueso.stats.quartiles import between

PERCENTILES = (1, 5, 10, 25, 50, 75, 90, 95, 99)
HUBER_K = 1.345  # 95 % efficient where the amounts are normal
TRIMMED = 0.05

Integers = NDArray[np.int64]


@dataclass(frozen=True)
class Description:
    """Figures of n amounts, in units of the amount.

    ``percentiles`` are by linear interpolation at (n - 1)p (type 7 of Hyndman & Fan 1996), ``trimmed``
    the mean without the lowest and highest 5 %, ``skewness`` and ``kurtosis`` the bias-adjusted G1
    and G2 with their standard errors, ``huber`` Huber's M-estimate with k 1.345 on the scale of the
    median absolute deviation. A figure that n or the spread does not allow is None.
    """

    n: int
    total: Fraction
    distinct: int
    negative: int
    zero: int
    least: Fraction
    greatest: Fraction
    percentiles: dict[int, Fraction]
    mean: float
    standard_error: float | None
    interval: tuple[float, float] | None
    trimmed: float
    variance: float | None
    sd: float | None
    iqr: Fraction
    skewness: float | None
    skewness_error: float | None
    kurtosis: float | None
    kurtosis_error: float | None
    huber: float | None

    @property
    def median(self) -> Fraction:
        return self.percentiles[50]


def describe(values: Integers, counts: Integers, scale: int = 0) -> Description:
    """Describe amounts given by their distinct values in ascending order.

    Parameters
    ----------
    values : array of int64, shape (d,)
        Distinct amounts in minor units, ascending.
    counts : array of int64, shape (d,)
        How often each occurs, at least once.
    scale : int
        Decimals of the amount.

    Raises
    ------
    ValueError
        If there is no amount, or the values do not ascend.

    References
    ----------
    Hyndman, R. J. and Fan, Y. (1996), The American Statistician 50, 361-365; Joanes, D. N. and Gill,
    C. A. (1998), The Statistician 47, 183-189; Huber, P. J. (1981), Robust Statistics.
    """
    if not len(values) or (np.diff(values) <= 0).any() or (counts < 1).any():
        raise ValueError("a description needs distinct ascending values, each with a count")
    unit = 10**scale
    n = int(counts.sum())
    weights, exact = counts.astype(object), values.astype(object)
    total = int((exact * weights).sum())
    squares = int((exact * exact * weights).sum())
    m = moments(n, total, squares, scale)
    upto = np.cumsum(counts)

    def at(position: Fraction) -> Fraction:
        low, high = (
            int(values[np.searchsorted(upto, rank)]) for rank in (floor(position), ceil(position))
        )
        return between(position, low, high) / unit

    percentiles = {p: at((n - 1) * Fraction(p, 100) + 1) for p in PERCENTILES}
    error = interval = skewness = kurtosis = None
    skewness_error = kurtosis_error = None
    if m.sd is not None:
        error = m.sd / sqrt(n)
        reach = float(stdtrit(n - 1, 0.975)) * error
        interval = (m.mean - reach, m.mean + reach)
    if m.sd:
        z = (values / unit - m.mean) / m.sd
        form = shape(n, float((counts * z**3).sum()), float((counts * z**4).sum()))
        skewness, kurtosis = form.skewness, form.kurtosis
        skewness_error, kurtosis_error = shape_errors(n)
    return Description(
        n=n,
        total=Fraction(total, unit),
        distinct=len(values),
        negative=int(counts[values < 0].sum()),
        zero=int(counts[values == 0].sum()),
        least=Fraction(int(values[0]), unit),
        greatest=Fraction(int(values[-1]), unit),
        percentiles=percentiles,
        mean=m.mean,
        standard_error=error,
        interval=interval,
        trimmed=_trimmed(values, counts, n) / unit,
        variance=None if m.sd is None else m.sd**2,
        sd=m.sd,
        iqr=percentiles[75] - percentiles[25],
        skewness=skewness,
        skewness_error=skewness_error,
        kurtosis=kurtosis,
        kurtosis_error=kurtosis_error,
        huber=_huber(values / unit, counts, float(percentiles[50])),
    )


def shape_errors(n: int) -> tuple[float | None, float | None]:
    """Standard errors of G1 and G2 for n normal amounts; None where n is too small.

    Examples
    --------
    >>> skewness, kurtosis = shape_errors(100)
    >>> round(skewness, 4), round(kurtosis, 4)
    (0.2414, 0.4783)
    """
    if n < 3:
        return None, None
    skewness = sqrt(6 * n * (n - 1) / ((n - 2) * (n + 1) * (n + 3)))
    if n < 4:
        return skewness, None
    return skewness, 2 * skewness * sqrt((n * n - 1) / ((n - 3) * (n + 5)))


def _trimmed(values: Integers, counts: Integers, n: int) -> float:
    """Mean of what is left when floor(0.05 n) amounts are cut at each end."""
    cut = int(TRIMMED * n)
    upto = np.cumsum(counts)
    kept = np.minimum(upto, n - cut) - np.maximum(upto - counts, cut)
    kept = np.maximum(kept, 0).astype(object)
    return int((values.astype(object) * kept).sum()) / int(kept.sum())


def _huber(x: NDArray[np.float64], counts: Integers, median: float) -> float | None:
    """Solve Σ ψ((x - μ)/s) = 0 by reweighting, s = MAD/0.6745; None where half are one value."""
    off = np.abs(x - median)
    order = np.argsort(off)
    upto = np.cumsum(counts[order])
    n = int(upto[-1])
    # The median of the deviations, as of any amounts.
    low, high = (float(off[order][np.searchsorted(upto, r)]) for r in ((n + 1) // 2, n // 2 + 1))
    mad = (low + high) / 2
    if mad == 0:
        return None
    reach = HUBER_K * mad / 0.6744897501960817
    centre = median
    for _ in range(200):
        weights = counts * (reach / np.maximum(np.abs(x - centre), reach))
        moved = float((weights * x).sum() / weights.sum())
        if abs(moved - centre) <= 1e-12 * max(abs(moved), reach):
            return moved
        centre = moved
    return centre


@dataclass(frozen=True)
class Bins:
    """Bins: ``edges`` (b + 1,), ``counts`` (b,); the last bin holds its upper edge. ``below`` and ``above``
    lie beyond edges that were given."""

    edges: list[Fraction]
    counts: list[int]
    below: int = 0
    above: int = 0


def bins_between(values: Integers, counts: Integers, scale: int, edges: Sequence[Fraction]) -> Bins:
    """Counts between given edges, each bin with its lower one, the last with its upper one too.

    Raises
    ------
    ValueError
        If there are fewer than two edges, or they do not rise.

    Examples
    --------
    >>> bins_between(np.array([1, 5, 9, 12]), np.array([1, 2, 3, 4]), 0, [Fraction(5), Fraction(9)])
    Bins(edges=[Fraction(5, 1), Fraction(9, 1)], counts=[5], below=1, above=4)
    """
    if len(edges) < 2 or any(b <= a for a, b in pairwise(edges)):
        raise ValueError("bins need two edges or more that rise")
    unit = 10**scale
    # What is at an edge begins its bin: the first whole unit at it or above; the last edge is inside.
    starts = [ceil(edge * unit) for edge in edges[:-1]] + [floor(edges[-1] * unit) + 1]
    upto = np.concatenate([[0], np.cumsum(counts)])
    at = [int(upto[int(np.searchsorted(values, start))]) for start in starts]
    found = [b - a for a, b in pairwise(at)]
    return Bins(list(edges), found, at[0], int(upto[-1]) - at[-1])


MOST_BINS = 10_000


def bins(
    values: Integers,
    counts: Integers,
    scale: int = 0,
    number: int | None = None,
    *,
    within: int = 60,
) -> Bins:
    """Counts in equal bins: exactly a given number from the least to the greatest, or by Freedman and
    Diaconis' width 2·IQR·n^(-1/3).

    That width is rounded up to 1, 2 or 5 times a power of ten, and the first edge to a multiple of it;
    at most ``within`` bins cover the middle 98 % of the amounts. The counts add to n.

    References
    ----------
    Freedman, D. and Diaconis, P. (1981), Zeitschrift für Wahrscheinlichkeitstheorie 57, 453-476.
    """
    unit = 10**scale
    least, span, n = int(values[0]), int(values[-1] - values[0]), int(counts.sum())
    if number is not None:
        # Whole numbers without limit: an amount on an edge is in the bin that begins there.
        width = Fraction(span or number, number)
        place = (values.astype(object) - least) * width.denominator // width.numerator
        place = np.minimum(place.astype(np.int64), number - 1)
        found = np.bincount(place, weights=counts, minlength=number).astype(np.int64)
        edges = [(least + i * width) / unit for i in range(number + 1)]
        return Bins(edges, found.tolist())
    upto = np.cumsum(counts)
    shares = (0.01, 0.25, 0.75, 0.99)
    low, q1, q3, high = (int(values[np.searchsorted(upto, ceil(n * q))]) for q in shares)
    wanted = max(2 * (q3 - q1) / n ** (1 / 3), (high - low) / within, span / MOST_BINS)
    step = _round_width(max(wanted, 1))
    first = least // step * step
    place = (values - first) // step
    found = np.bincount(place, weights=counts, minlength=1).astype(np.int64)
    edges = [Fraction(first + i * step, unit) for i in range(len(found) + 1)]
    return Bins(edges, found.tolist())


def middle_bins(counts: list[int], most: int = 24) -> tuple[int, int]:
    """The first and the last of the bins that hold the middle 98 % of the rows, at most ``most``."""
    left, first, last = sum(counts) * 0.02, 0, len(counts) - 1
    while last > first:
        smaller = first if counts[first] < counts[last] else last
        if counts[smaller] > left and last - first < most:
            break
        left -= counts[smaller]
        first, last = (first + 1, last) if smaller == first else (first, last - 1)
    return first, last


def _round_width(wanted: float) -> int:
    power = 10 ** floor(log10(wanted))
    return int(next(step * power for step in (1, 2, 5, 10) if step * power >= wanted * (1 - 1e-9)))


@dataclass(frozen=True)
class Stem:
    """Stem-and-leaf: ``rows`` of (stem, leaves), ``leaf`` the unit of one leaf, ``each`` how many
    amounts one leaf stands for, ``below`` and ``above`` how many lie beyond the rows."""

    leaf: Fraction
    each: int
    rows: list[tuple[int, str]]
    below: int = 0
    above: int = 0


def stem_and_leaf(values: Integers, counts: Integers, scale: int = 0, width: int = 60) -> Stem:
    """At most some 20 stems between the 1st and 99th percentile; leaves beyond ``width`` stand for
    several amounts each.

    References
    ----------
    Tukey, J. W. (1977), Exploratory Data Analysis, chapter 1.
    """
    n = int(counts.sum())
    upto = np.cumsum(counts)
    low, high = (int(values[np.searchsorted(upto, max(ceil(n * q), 1))]) for q in (0.01, 0.99))
    leaf = 1
    while (high - low) / (10 * leaf) > 20:
        leaf *= 10
    inside = (values >= low) & (values <= high)
    # Towards minus infinity, so that each stem covers ten leaves on either side of 0.
    cells = np.floor_divide(values[inside], leaf)
    stems, leaves = np.floor_divide(cells, 10), cells % 10
    most = max(
        (int(counts[inside][stems == s].sum()) for s in np.unique(stems).tolist()), default=0
    )
    each = max(1, ceil(most / width))
    rows = []
    for s in range(int(stems.min()), int(stems.max()) + 1):
        here = stems == s
        per_leaf = np.bincount(leaves[here], weights=counts[inside][here], minlength=10)
        rows.append((s, "".join(str(d) * round(c / each) for d, c in enumerate(per_leaf))))
    below, above = (int(counts[far].sum()) for far in (values < low, values > high))
    return Stem(Fraction(leaf, 10**scale), each, rows, below, above)
