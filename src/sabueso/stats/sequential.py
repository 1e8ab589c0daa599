"""The sequential deviate test: up to r outliers, the one method that removes and recomputes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import sqrt


@dataclass(frozen=True)
class Step:
    """One removal: the value furthest from the mean of what was left, its deviate and the limit."""

    value: int
    high: bool
    statistic: float
    limit: float


@dataclass(frozen=True)
class SequentialTest:
    """All steps, and how many of the first of them are outliers."""

    steps: list[Step]
    outliers: int

    def bounds(self) -> tuple[int | None, int | None]:
        """Least and greatest value that is no outlier, on each side; None where none was found.

        Values equal to one that was found are outliers too.
        """
        found = self.steps[: self.outliers]
        lows = [s.value for s in found if not s.high]
        highs = [s.value for s in found if s.high]
        return (max(lows) + 1 if lows else None), (min(highs) - 1 if highs else None)


def sequential_deviates(
    n: int,
    total: int,
    squares: int,
    low: Sequence[int],
    high: Sequence[int],
    most: int,
    alpha: float = 0.05,
) -> SequentialTest:
    """Generalised extreme studentised deviate test.

    Parameters
    ----------
    n, total, squares : int
        Number, Σx and Σx² of integer minor units.
    low, high : sequence of int
        The ``most`` least values ascending, and the ``most`` greatest descending, or all there are.
    most : int
        The most outliers looked for, r.
    alpha : float
        Chance of finding any in a normal sample without outliers.

    Raises
    ------
    ValueError
        If fewer than three values remain at some step, or a list is too short.

    Notes
    -----
    R_i = max |x - mean| / s of the n - i + 1 values left; λ_i = (n - i) t / sqrt((n - i - 1 + t²)(n - i + 1)), t
    the quantile 1 - α/(2(n - i + 1)) of Student's t with n - i - 1 degrees of freedom. The outliers are the
    first i for which R_i > λ_i, i the greatest such. The approximation of λ is good from n = 25 on. Two values
    equally far are removed the greater first. Sums stay whole numbers: nothing drifts with the removals.

    References
    ----------
    Rosner, B. (1983), Technometrics 25, 165-172.
    """
    from scipy.special import stdtrit  # loaded slowly, and by this method of deviates alone

    if most < 1 or n - most < 2:
        raise ValueError(f"{most} outliers cannot be looked for among {n} values")
    if min(len(low), len(high)) < min(most, n):
        raise ValueError(f"the test needs the {most} least and greatest values")
    steps: list[Step] = []
    at_low = at_high = outliers = 0
    for i in range(1, most + 1):
        left = n - i + 1
        spread = left * squares - total * total  # n (n - 1) s²
        if spread == 0:
            break
        below, above = total - left * low[at_low], left * high[at_high] - total
        up = above >= below
        value = high[at_high] if up else low[at_low]
        furthest = max(above, below)
        statistic = sqrt(Fraction(furthest * furthest * (left - 1), left * spread))
        t = float(stdtrit(left - 2, 1 - alpha / (2 * left)))
        limit = (left - 1) * t / sqrt((left - 2 + t * t) * left)
        steps.append(Step(value, up, statistic, limit))
        if statistic > limit:
            outliers = i
        at_high, at_low = (at_high + 1, at_low) if up else (at_high, at_low + 1)
        total, squares = total - value, squares - value * value
    return SequentialTest(steps, outliers)
