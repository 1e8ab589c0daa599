"""Which lines of two periods are flagged: by their change, or by the part of it that price or volume made."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from fractions import Fraction
from math import ceil, floor, sqrt
from typing import Any, Literal, Protocol

from sabueso.report import numbers as num
from sabueso.screens.finding import Caution
from sabueso.screens.periods.result import ComparedLine
from sabueso.stats.change import Change, RateVolume

Key = tuple[Any, ...]


class Limits(Protocol):
    """Settings that say what is flagged; a limit that is None is off."""

    @property
    def amount_limit(self) -> Decimal | None: ...
    @property
    def percent_limit(self) -> Decimal | None: ...
    @property
    def share_limit(self) -> Decimal | None: ...
    @property
    def deviate_limit(self) -> float | None: ...
    @property
    def tolerance(self) -> Decimal | None: ...
    @property
    def flag_by(self) -> Literal["change", "rate", "volume", "moved"]: ...
    @property
    def leave_out(self) -> list[Literal["new", "ceased"]]: ...


@dataclass(frozen=True)
class Side:
    """Sums of one period by line: minor units, quantities, and all days of the table with rows."""

    amounts: dict[Key, int]
    quantities: dict[Key, Fraction]
    days: frozenset[date]


def mean_side(sides: Sequence[Side]) -> tuple[Side, dict[Key, float]]:
    """The mean of some periods as one of them, in whole minor units, and by line its standard deviation
    over the periods (n - 1). A line that a period lacks was 0 in it."""
    keys = {key for side in sides for key in side.amounts}
    many = len(sides)
    amounts: dict[Key, int] = {}
    quantities: dict[Key, Fraction] = {}
    spread: dict[Key, float] = {}
    for key in keys:
        values = [side.amounts.get(key, 0) for side in sides]
        total = sum(values)
        amounts[key] = round(Fraction(total, many))
        squares = many * sum(v * v for v in values) - total * total
        spread[key] = sqrt(squares / (many * (many - 1)))
        quantities[key] = (
            sum((s.quantities.get(key, Fraction(0)) for s in sides), Fraction(0)) / many
        )
    return Side(amounts, quantities, sides[0].days), spread


def deviate_of(change: int, spread: float | None) -> float | None:
    """A change in standard deviations of the periods before; None where they do not differ."""
    return change / spread if spread else None


def rate_percent(part: RateVolume | None, line: Change) -> Fraction | None:
    """By how many per cent the price per item changed; None where there was none."""
    if part is None:
        return None
    at_old_price = line.base + part.volume
    return Fraction(100) * part.rate / abs(at_old_price) if at_old_price else None


def volume_percent(part: RateVolume | None, line: Change) -> Fraction | None:
    """By how many per cent the quantity changed."""
    if part is None or not line.base:
        return None
    return Fraction(100) * part.volume / abs(line.base)


class Judge:
    """The limits of a comparison."""

    def __init__(self, settings: Limits, scale: int) -> None:
        self._settings = settings
        self._unit = 10**scale

    def flags(self, line: Change, part: RateVolume | None, deviate: float | None) -> bool:
        """Every limit of the change, or of its part, passed; or that of the shift of its share. A base
        of 0 has no per cent: such a line is judged by its amount alone."""
        s = self._settings
        if line.reading in s.leave_out:
            return False
        if s.flag_by == "change":
            amount, percent = Fraction(line.change), line.percent
        elif part is None:
            return False
        elif s.flag_by == "rate":
            amount, percent = part.rate, rate_percent(part, line)
        else:
            amount, percent = part.volume, volume_percent(part, line)
        shift = line.share_shift
        by_share = (
            s.share_limit is not None
            and shift is not None
            and abs(100 * shift) >= Fraction(s.share_limit)
        )
        if s.tolerance is not None:
            # Of an expectation of nothing there is no per cent: anything lies outside.
            outside = percent is None or abs(percent) > Fraction(s.tolerance)
            return (amount != 0 and outside) or by_share
        limits = (s.amount_limit, s.percent_limit, s.deviate_limit)
        passed = (
            s.amount_limit is None or abs(amount) >= Fraction(s.amount_limit) * self._unit,
            s.percent_limit is None or percent is None or abs(percent) >= Fraction(s.percent_limit),
            s.deviate_limit is None or deviate is None or abs(deviate) >= s.deviate_limit,
        )
        return (amount != 0 and any(x is not None for x in limits) and all(passed)) or by_share

    def flags_too(
        self, paced: Change, part: RateVolume | None, line: Change, deviate: float | None
    ) -> bool:
        """Whether a line that is flagged is so at the pace of the periods' days as well, the same way."""
        if paced is line:
            return True
        if self._settings.flag_by == "change" and paced.change * line.change <= 0:
            return False
        return self.flags(paced, part, deviate)

    def flags_move(self, amount: Fraction, percent: Fraction) -> bool:
        """The same limits for what came from another line; the per cent is of what its group had."""
        s = self._settings
        return (
            s.amount_limit is None or abs(amount) >= Fraction(s.amount_limit) * self._unit
        ) and (s.percent_limit is None or percent >= Fraction(s.percent_limit))

    def band(self, line: Change) -> tuple[int, int] | None:
        """The amounts that a tolerance allows, in minor units; None where there is none."""
        tolerance = self._settings.tolerance
        if tolerance is None or self._settings.flag_by != "change":
            return None
        away = abs(line.base) * Fraction(tolerance) / 100
        return ceil(line.base - away), floor(line.base + away)

    def cautions(
        self, lines: Sequence[Change], parts: Sequence[RateVolume | None], base: str
    ) -> list[Caution]:
        """Lines that are not judged."""
        s, found = self._settings, []
        left = [line for line in lines if line.reading in s.leave_out]
        if left:
            which = " and ".join(s.leave_out)
            text = (
                f"{num.many(len(left), 'line')} ({which}) of {len(lines):,} "
                f"{'is' if len(left) == 1 else 'are'} not judged, as was asked"
            )
            found.append(Caution("left_out_lines", text, {"lines": len(left)}))
        if s.flag_by in ("rate", "volume"):
            without = sum(
                part is None and line.change != 0 for part, line in zip(parts, lines, strict=True)
            )
            if without:
                text = (
                    f"{num.many(without, 'line')} of {len(lines):,} had no quantity in {base}: there is "
                    f"no price to start from, and no {s.flag_by} to judge"
                )
                found.append(Caution("no_price", text, {"lines": without}))
        return found


def moved(line: ComparedLine, by: str) -> Decimal:
    """What is judged of a line: its change, or a part of it."""
    part = line.rate_volume
    if by == "moved":
        return line.moved or 0 * line.change
    if by == "change" or part is None:
        return line.change
    return part.rate if by == "rate" else part.volume


def in_words(line: ComparedLine) -> str:
    """The reading of a line. Below 0 in both periods it is its size that went up or down: the value of a credit
    that grows goes down."""
    if line.base < 0 and line.current < 0:
        return line.reading.replace("value ", "size ", 1)
    return line.reading


def reading_of(line: ComparedLine, by: str) -> str:
    """A line in words: of its price or volume where that is judged."""
    told: Mapping[str, float | None] = {"rate": line.rate_percent, "volume": line.volume_percent}
    if by == "moved" and line.moved_from is not None:
        return f"moved from {line.moved_from}"
    if by not in told:
        return in_words(line)
    other = "volume" if by == "rate" else "rate"
    return ", ".join(
        f"{name} {'up' if told[name] > 0 else 'down'} {num.number(abs(told[name]), 1)}%"  # type: ignore[operator, arg-type]
        for name in (by, other)
        if told[name]
    ) or in_words(line)
