"""How surprising marks are, in bits."""

from __future__ import annotations

from math import log2

MOST_BITS, LEAST_P = 40.0, 1e-12


def bits(
    rank: int, flagged: int, p_adjusted: float | None, subjects: int | None, lawful: bool
) -> float:
    """Bits of surprise of a mark: of its adjusted p where the law of that holds, else of its rank among all
    subjects that were looked at.

    Examples
    --------
    >>> bits(1, 9, 0.001953125, 500, True), bits(2, 9, 1e-9, 1023, False)
    (9.0, 9.0)
    """
    if p_adjusted is not None and lawful:
        return min(MOST_BITS, -log2(max(p_adjusted, LEAST_P)))
    whole = subjects if subjects else flagged
    return max(0.0, log2((whole + 1) / rank))
