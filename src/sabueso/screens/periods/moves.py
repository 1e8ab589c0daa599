"""What left one line of a party and came to another: amounts that were booked elsewhere."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction

from sabueso.screens.periods.judging import Key
from sabueso.stats.change import Change


@dataclass(frozen=True)
class Move:
    """``amount`` of a line that had nothing before, in minor units, that its group's other lines lost;
    ``source`` the one that lost most; ``percent`` the amount as per cent of what the group had before."""

    amount: Fraction
    source: str
    percent: Fraction


def moves_of(keys: Sequence[Key], lines: Sequence[Change]) -> Mapping[Key, Move]:
    """Moves into new lines, by the first part of the key: at most what the others lost, each new line its
    part of that.

    Examples
    --------
    >>> from sabueso.stats.change import compare
    >>> lines = compare([900, 0, 50], [300, 700, 80])
    >>> moves_of([("S1", "a"), ("S1", "b"), ("S2", "a")], lines)[("S1", "b")]
    Move(amount=Fraction(600, 1), source='a', percent=Fraction(200, 3))
    """
    groups: dict[object, list[tuple[Key, Change]]] = {}
    for key, line in zip(keys, lines, strict=True):
        groups.setdefault(key[0], []).append((key, line))
    found: dict[Key, Move] = {}
    for group in groups.values():
        for sign in (1, -1):
            fresh = [(k, ln) for k, ln in group if not ln.base and ln.current * sign > 0]
            lost = [
                (k, (ln.base - ln.current) * sign)
                for k, ln in group
                if ln.base * sign > 0 and (ln.base - ln.current) * sign > 0
            ]
            if not fresh or not lost:
                continue
            whole = sum(ln.base for _, ln in group if ln.base * sign > 0) * sign
            came = sum(ln.current for _, ln in fresh) * sign
            part = min(Fraction(1), Fraction(sum(n for _, n in lost), came))
            source = max(lost, key=lambda pair: pair[1])[0]
            for key, line in fresh:
                amount = line.current * part
                named = " · ".join(str(each) for each in source[1:])
                found[key] = Move(amount, named, 100 * abs(amount) / whole)
    return found
