"""What must be known of a limit by deviates before it is read."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import Protocol

import numpy as np

from sabueso.report import numbers as num
from sabueso.screens.cautions import few_percent
from sabueso.screens.finding import Caution, NotTested
from sabueso.screens.limits import table as lim
from sabueso.screens.zscore.deviates import Tested
from sabueso.screens.zscore.probability import beyond_p
from sabueso.screens.zscore.result import DeviateResult
from sabueso.screens.zscore.sequential import GOOD_FROM
from sabueso.stats.moments import greatest_deviate, shape


class Asked(Protocol):
    """What the settings of a test by deviates say about its limits."""

    @property
    def method(self) -> str: ...
    @property
    def scale(self) -> str: ...
    @property
    def side(self) -> str: ...


def shape_words(skewness: float | None, kurtosis: float | None) -> str:
    """Skewness and excess kurtosis to a tenth; the latter is left out where it is not known.

    Examples
    --------
    >>> shape_words(65.5, 7814.4), shape_words(-1e-17, -0.31), shape_words(None, None)
    ('skewness 65.5, excess kurtosis 7,814.4', 'skewness 0.0, excess kurtosis −0.3', 'skewness 0.0')
    """
    of_tails = "" if kurtosis is None else f", excess kurtosis {num.number(round(kurtosis, 1), 1)}"
    return f"skewness {num.number(round(skewness or 0, 1), 1)}{of_tails}"


def cautions_of(
    tested: Sequence[Tested],
    described: Sequence[DeviateResult],
    not_tested: Sequence[NotTested],
    asked: Asked,
    limit: Fraction,
) -> list[Caution]:
    """Cautions of all groups, each with the number of those that it holds for."""
    sizes = [t.group.n for t in tested] + [t.rows for t in not_tested]
    bounds = [(d.low, d.high) for d in described]
    ends = [(t.group.least, t.group.greatest) for t in tested]
    found = [
        _few(tested) if asked.method == "sequential" else None,
        _unreachable(tested, limit) if asked.method == "plain" else None,
        _not_normal(tested, described, asked, limit),
        lim.one_sided(bounds, ends, asked.side),
        lim.two_heaps(ends, asked.scale),
        _no_law(tested) if asked.method == "modified" else None,
    ]
    return [c for c in found if c is not None] + lim.size_cautions(sizes, not_tested)


def _few(tested: Sequence[Tested]) -> Caution | None:
    few = [t.group.n for t in tested if t.group.n < GOOD_FROM]
    if not few:
        return None
    return Caution(
        "too_few",
        f"{len(few):,} of {len(tested):,} groups {num.verb(len(few))} fewer than {GOOD_FROM} rows, where the limits of the "
        "sequential test are rough",
        {"groups": len(few), "smallest_n": min(few)},
    )


def _unreachable(tested: Sequence[Tested], limit: Fraction) -> Caution | None:
    short = [t.group.n for t in tested if greatest_deviate(t.group.n) <= float(limit)]
    if not short:
        return None
    largest = max(short)
    return Caution(
        "limit_unreachable",
        f"{len(short):,} of {len(tested):,} groups {num.verb(len(short), 'is', 'are')} too small for any row to pass {float(limit):g}: with "
        f"n = {largest} the largest possible |z| is {greatest_deviate(largest):.2f}",
        {"groups": len(short), "largest_n": largest},
    )


def _not_normal(
    tested: Sequence[Tested], described: Sequence[DeviateResult], asked: Asked, limit: Fraction
) -> Caution | None:
    """Skewed or heavy-tailed groups, and the share of rows that lie beyond the limit for it."""
    skewed = [
        (t, d)
        for t, d in zip(tested, described, strict=True)
        if abs(d.skewness or 0) > 1 or (d.kurtosis or 0) > 3
    ]
    if not skewed:
        return None
    t, _ = max(skewed, key=lambda pair: pair[0].group.n)
    form = shape(t.group.n, t.group.cubes, t.group.fourths)
    where = (
        ""
        if len(tested) == 1
        else f"in {len(skewed):,} of {len(tested):,} groups; the largest has "
    )
    share = ""
    if asked.method != "sequential":
        rows, beyond = (
            sum(v) for v in ((t.group.n for t, _ in skewed), (d.flagged for _, d in skewed))
        )
        n = np.array([t.group.n for t, _ in skewed], dtype=np.float64)
        normal = 100 * float(np.average(beyond_p(n, asked.method, asked.side, limit), weights=n))
        share = (
            f"; {100 * beyond / rows:.2g}% of their rows are beyond the limit, where normal data have "
            f"{few_percent(normal)}: the shape alone may put them there, and p ranks and does not prove"
        )
    advice = (
        "try fences with --fence skew-adjusted"
        if asked.scale == "log"
        else "try --scale log, or fences"
    )
    what = "logarithms of the amounts" if asked.scale == "log" else "amounts"
    return Caution(
        "not_normal",
        f"the {what} are not normal: {where}{shape_words(form.skewness, form.kurtosis)}{share}; {advice}",
        {"groups": len(skewed), "skewness": form.skewness, "kurtosis": form.kurtosis},
    )


def _no_law(tested: Sequence[Tested]) -> Caution | None:
    without = [t for t in tested if not t.group.middle_normal]
    if not without:
        return None
    which = "the group" if len(tested) == 1 else f"{len(without):,} of {len(tested):,} groups"
    return Caution(
        "no_p",
        f"modified deviates have no exact law, and the middle of {which} is not normal, or too small to "
        "tell: they rank, and have no p",
        {"groups": len(without)},
    )
