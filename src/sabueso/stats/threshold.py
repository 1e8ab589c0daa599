"""How many amounts would lie just below a limit."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import betainc, gammaincc

MOST_STEPS = 60


@dataclass(frozen=True)
class Below:
    """Rows in the band below a limit: ``count``, what the bins around it lead to expect, the variance of
    a count about that (the fit's error and the spread of the bins in it), p of so many or more."""

    count: int
    expected: float
    variance: float
    p: float
    dispersion: float
    fitted: np.ndarray


def excess_below(counts: np.ndarray, band: np.ndarray, degree: int = 2) -> Below:
    """Compare the bins just below a limit with a curve through all others.

    The counts of bins of equal width follow a Poisson law whose log is a polynomial of their place,
    fitted without the band. Bins that spread wider than Poisson (round prices do) widen the law
    to a negative binomial of the same mean.

    Parameters
    ----------
    counts : array of int, shape (n,)
        Rows of each bin from well below to well above the limit.
    band : array of bool, shape (n,)
        The bins just below it.

    Raises
    ------
    ValueError
        If there are too few bins besides the band for the curve.

    References
    ----------
    McCrary, J. (2008). Manipulation of the running variable in the regression discontinuity design.
    Journal of Econometrics 142, 698-714.
    Kleven, H. J. (2016). Bunching. Annual Review of Economics 8, 435-464.
    """
    place = np.linspace(-1.0, 1.0, len(counts))
    design = np.vander(place, degree + 1, increasing=True)
    outside, y = design[~band], counts[~band].astype(np.float64)
    if len(y) < degree + 3:
        raise ValueError("too few bins for a curve")
    mean = np.maximum(y, 0.5)
    fitted = np.zeros(degree + 1)
    for _ in range(MOST_STEPS):
        working = np.log(mean) + (y - mean) / mean
        root = np.sqrt(mean)
        before = fitted
        fitted = np.linalg.lstsq(outside * root[:, None], working * root, rcond=None)[0]
        mean = np.exp(np.clip(outside @ fitted, -30, 30))
        if float(np.abs(fitted - before).max()) < 1e-10:
            break
    pearson = float(((y - mean) ** 2 / mean).sum()) / (len(y) - degree - 1)
    dispersion = max(1.0, pearson)
    inside = design[band]
    expected = np.exp(np.clip(inside @ fitted, -30, 30))
    total = float(expected.sum())
    information = outside.T @ (outside * mean[:, None])
    gradient = expected @ inside
    error = dispersion * float(gradient @ np.linalg.pinv(information) @ gradient)
    variance = dispersion * total + error
    count = int(counts[band].sum())
    return Below(
        count=count,
        expected=total,
        variance=variance,
        p=count_tail(count, total, variance),
        dispersion=dispersion,
        fitted=np.exp(np.clip(design @ fitted, -30, 30)),
    )


def count_tail(count: int, mean: float, variance: float) -> float:
    """P of so many or more: negative binomial of this mean and variance, Poisson where the variance is no
    larger than the mean.

    Examples
    --------
    >>> round(count_tail(3, 1.0, 1.0), 6), count_tail(0, 2.0, 5.0)
    (0.080301, 1.0)
    """
    if count <= 0:
        return 1.0
    if mean <= 0:
        return 0.0
    if variance <= mean * (1 + 1e-9):
        return float(1.0 - gammaincc(count, mean))
    size = mean * mean / (variance - mean)
    share = mean / variance
    return float(betainc(count, size, 1.0 - share))
