"""What must be known of fences before what lies beyond them is read."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from math import erfc, sqrt
from typing import Any, Protocol

from sabueso.screens.cautions import few_percent
from sabueso.screens.fences.result import FenceGroup
from sabueso.screens.finding import Caution, NotTested
from sabueso.screens.limits import table as lim

Z75 = 0.6744897501960817  # the upper quartile of the normal law
DENSITY = 0.31777657  # of the normal law there
LEAST_JUDGED = 50
"""Rows below which the share beyond the fences says nothing of the shape."""
STRONG_SKEW = 0.6


class Tested(Protocol):
    """What is known of a group."""

    @property
    def n(self) -> int: ...
    @property
    def least(self) -> int: ...
    @property
    def greatest(self) -> int: ...


class Asked(Protocol):
    """What the settings of the fences say."""

    @property
    def inner(self) -> Decimal: ...
    @property
    def outer(self) -> Decimal: ...
    @property
    def beyond(self) -> str: ...
    @property
    def fence(self) -> str: ...
    @property
    def scale(self) -> str: ...
    @property
    def side(self) -> str: ...


def normal_share(k: float, n: int) -> float:
    """The share of n normal rows that lie beyond the fences Q1 - k·IQR and Q3 + k·IQR, about.

    A fence varies about z75 (1 + 2k) with the large-sample variance of the quartiles it is made of
    (David, H. A. and Nagaraja, H. N. 2003, Order Statistics): 0.7 % for large n and k = 1.5, 3 % for
    n = 20.

    Examples
    --------
    >>> round(normal_share(1.5, 10**9), 5), round(normal_share(1.5, 20), 2)
    (0.00698, 0.03)
    """
    alone, together = 3 / 16 / DENSITY**2, 1 / 16 / DENSITY**2
    variance = (((1 + k) ** 2 + k**2) * alone - 2 * k * (1 + k) * together) / n
    return erfc(Z75 * (1 + 2 * k) / sqrt(1 + variance) / sqrt(2))


def cautions_of(
    tested: Sequence[Tested],
    described: Sequence[FenceGroup],
    not_tested: Sequence[NotTested],
    asked: Asked,
) -> list[Caution]:
    """Cautions of all groups, each with the number of those that it holds for."""
    bounds = [
        (d.outer_low, d.outer_high) if asked.beyond == "outer" else (d.low, d.high)
        for d in described
    ]
    found = [
        _not_normal(described, asked),
        lim.one_sided(bounds, [(t.least, t.greatest) for t in tested], asked.side),
        _strong_skew(described),
        lim.two_heaps([(t.least, t.greatest) for t in tested], asked.scale),
    ]
    sizes = [t.n for t in tested] + [t.rows for t in not_tested]
    return [c for c in found if c is not None] + lim.size_cautions(sizes, not_tested)


def _not_normal(described: Sequence[FenceGroup], asked: Asked) -> Caution | None:
    """Far more rows beyond the fences than normal data have there."""
    if asked.fence != "plain":
        return None
    k = float(asked.outer if asked.beyond == "outer" else asked.inner)
    sides = 1.0 if asked.side == "both" else 0.5
    many = [
        g
        for g in described
        if g.n >= LEAST_JUDGED and g.flagged > _surely(g.n, sides * normal_share(k, g.n))
    ]
    if not many:
        return None
    rows, beyond = sum(g.n for g in many), sum(g.flagged for g in many)
    normal = 100 * sides * normal_share(k, max(g.n for g in many))
    where = "" if len(described) == 1 else f"in {len(many):,} of {len(described):,} groups "
    advice = (
        "--fence skew-adjusted follows the skewness"
        if asked.scale == "log"
        else "try --scale log, or --fence skew-adjusted"
    )
    return Caution(
        "not_normal",
        f"{where}{100 * beyond / rows:.2g}% of the rows are beyond the fences, where normal data have "
        f"{few_percent(normal)}: the shape alone may put them there; {advice}",
        {"groups": len(many), "share": beyond / rows},
    )


def _surely(n: int, share: float) -> float:
    """More rows than chance puts beyond the fences of normal data, and twice their expected number."""
    return max(2 * n * share, n * share + 4 * sqrt(n * share)) + 2


def _strong_skew(described: Sequence[FenceGroup]) -> Caution | None:
    strong = [g for g in described if abs(g.medcouple or 0) > STRONG_SKEW]
    if not strong:
        return None
    where = "" if len(described) == 1 else f"in {len(strong):,} of {len(described):,} groups "
    most: Any = max(strong, key=lambda g: abs(g.medcouple or 0)).medcouple
    return Caution(
        "strong_skew",
        f"{where}the medcouple is up to {most:.2f}, beyond the 0.6 that the skew-adjusted fences were made "
        "for: they may lie too far out",
        {"groups": len(strong), "medcouple": most},
    )
