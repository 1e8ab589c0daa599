"""Change between two periods: horizontal, vertical, and split into rate, volume and mix. Exact."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Literal

Reading = Literal[
    "new",
    "ceased",
    "sign changed",
    "no activity",
    "unchanged",
    "value up",
    "value down",
    "value up, share up",
    "value up, share down",
    "value up, share level",
    "value down, share down",
    "value down, share up",
    "value down, share level",
]


@dataclass(frozen=True)
class Change:
    """One line compared: amounts in minor units, shares as fractions of 1.

    ``percent`` is None where the base is 0; ``part`` (of the total's change), the shares and
    their shift are None where the total they refer to is 0.
    """

    base: int
    current: int
    percent: Fraction | None
    part: Fraction | None
    base_share: Fraction | None
    current_share: Fraction | None
    reading: Reading

    @property
    def change(self) -> int:
        return self.current - self.base

    @property
    def share_shift(self) -> Fraction | None:
        if self.base_share is None or self.current_share is None:
            return None
        return self.current_share - self.base_share


def compare(base: Sequence[int], current: Sequence[int]) -> list[Change]:
    """Compare lines between two periods.

    Parameters
    ----------
    base, current : sequences of int, one entry a line
        Amounts in minor units; a line that a period lacks is 0 there.

    Returns
    -------
    list of Change
        Per-cent change is on |base|, so that its sign is that of the change.

    Raises
    ------
    ValueError
        If the two sequences differ in length.

    Examples
    --------
    >>> one, two = compare([10_000, 0], [12_500, 700])
    >>> one.change, float(one.percent), two.percent is None
    (2500, 25.0, True)
    """
    if len(base) != len(current):
        raise ValueError("both periods need an amount for every line")
    base_total, current_total = sum(base), sum(current)
    moved = current_total - base_total
    lines = []
    for before, now in zip(base, current, strict=True):
        old_share = Fraction(before, base_total) if base_total else None
        new_share = Fraction(now, current_total) if current_total else None
        lines.append(
            Change(
                base=before,
                current=now,
                percent=Fraction(100 * (now - before), abs(before)) if before else None,
                part=Fraction(now - before, moved) if moved else None,
                base_share=old_share,
                current_share=new_share,
                reading=_reading(before, now, old_share, new_share),
            )
        )
    return lines


def _reading(
    before: int, now: int, old_share: Fraction | None, new_share: Fraction | None
) -> Reading:
    if not before or not now:
        return "new" if now else "ceased" if before else "no activity"
    if (before < 0) != (now < 0):
        return "sign changed"
    if before == now:
        return "unchanged"
    # "Up" is further from zero: a credit balance that grows has gone up.
    shift = None if old_share is None or new_share is None else abs(new_share) - abs(old_share)
    if shift is None:  # of a total of 0 there is no share, and nothing is said of it
        return "value up" if abs(now) > abs(before) else "value down"
    if abs(now) > abs(before):
        if not shift:
            return "value up, share level"
        return "value up, share up" if shift > 0 else "value up, share down"
    if not shift:
        return "value down, share level"
    return "value down, share down" if shift < 0 else "value down, share up"


@dataclass(frozen=True)
class RateVolume:
    """Parts of a change; ``volume + rate + mix`` is the change, to the last unit."""

    volume: Fraction
    rate: Fraction
    mix: Fraction


def rate_and_volume(
    base: Sequence[int],
    current: Sequence[int],
    base_quantity: Sequence[Fraction],
    current_quantity: Sequence[Fraction],
) -> tuple[list[RateVolume | None], RateVolume | None]:
    """Split changes of amounts into what quantity and what price did.

    Parameters
    ----------
    base, current : sequences of int
        Amounts in minor units, one a line.
    base_quantity, current_quantity : sequences of Fraction
        Quantities of the same lines.

    Returns
    -------
    (lines, total)
        Per line, volume (q1 - q0)·p0 and rate (p1 - p0)·q1, with mix 0. For the total, volume
        (Q1 - Q0)·P0 at the mean base price P0, mix Σ(q1 - q0)·p0 less that volume, and rate.
        None where a base quantity of 0 leaves no price to start from; the total is None where
        any line with an amount is.

    Examples
    --------
    >>> from fractions import Fraction
    >>> _, total = rate_and_volume([1000], [1800], [Fraction(10)], [Fraction(12)])
    >>> [int(part) for part in (total.volume, total.rate, total.mix)]
    [200, 600, 0]
    """
    lines: list[RateVolume | None] = []
    whole = True
    for p, c, q0, q1 in zip(base, current, base_quantity, current_quantity, strict=True):
        if q0 == 0:
            lines.append(None)
            whole = whole and p == c == 0
            continue
        volume = (q1 - q0) * Fraction(p) / q0
        lines.append(RateVolume(volume, Fraction(c - p) - volume, Fraction(0)))
    start, end = sum(base_quantity, Fraction(0)), sum(current_quantity, Fraction(0))
    if not whole or start == 0:
        return lines, None
    by_line = sum((line.volume for line in lines if line), Fraction(0))
    volume = (end - start) * Fraction(sum(base)) / start
    moved = Fraction(sum(current) - sum(base))
    return lines, RateVolume(volume, moved - by_line, by_line - volume)
