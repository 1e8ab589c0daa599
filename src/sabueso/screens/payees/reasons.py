"""Why a payee is looked at: silence, burst, once and large, new and large, before or after its time, numbers in a row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from math import log2
from typing import Any, Protocol

import numpy as np

from sabueso.base.plain import ByColumn, Cells
from sabueso.population.table import money
from sabueso.screens.payees.numbered import OwnSeries
from sabueso.stats.adjust import Method, adjust
from sabueso.stats.bursts import Bursts
from sabueso.stats.silence import Silences

RETURNED = 60
"""Days after a silence within which rows show that somebody came back."""


class Asked(Protocol):
    """What the settings say about reasons."""

    @property
    def least(self) -> int: ...
    @property
    def soon(self) -> int: ...
    @property
    def run_off(self) -> int: ...
    @property
    def window(self) -> int: ...
    @property
    def alpha(self) -> float: ...
    @property
    def adjust(self) -> Method: ...


@dataclass(frozen=True)
class PayeeDays:
    """Sums of each payee, and its days with rows one after another. Shapes (g,) and (n,)."""

    keys: list[ByColumn]
    starts: np.ndarray
    day: np.ndarray
    rows: np.ndarray
    units: np.ndarray
    count: np.ndarray
    total: list[int]
    first: np.ndarray
    last: np.ndarray
    created: list[date | None]
    closed: list[date | None]


@dataclass(frozen=True)
class Often:
    """The chance of as many rows as each payee has, shape (g,), NaN where that is not asked; and how many they have on
    average."""

    p: np.ndarray
    mean: float
    without: int = 0


@dataclass(frozen=True)
class Beside:
    """What payees are held against beside their own days.

    Parameters
    ----------
    large : (int or None, int or None)
        Sizes, in minor units, from which a row and a payee's sum count as large.
    own : mapping
        Of payees whose papers' numbers follow one another, by the values of their keys, which numbers.
    often : Often
        The chance of each payee's number of rows.
    """

    large: tuple[int | None, int | None]
    own: Mapping[tuple[Any, ...], OwnSeries]
    often: Often


class Judge:
    """The reasons of each payee."""

    def __init__(
        self,
        found: PayeeDays,
        quiet: Silences,
        full: Bursts,
        asked: Asked,
        beside: Beside,
    ) -> None:
        self._own, self._often = beside.own, beside.often
        self._found, self._quiet, self._full, self._asked = found, quiet, full, asked
        self._large_row, self._large_sum = beside.large
        self._ends = [*found.starts[1:].tolist(), len(found.day)]
        # All questions are asked of every payee: they are one family.
        asked_of = np.concatenate([quiet.p, full.p, self._often.p])
        tested = np.flatnonzero(np.isfinite(asked_of))
        every = np.full(len(asked_of), np.nan)
        # Those without rows were asked too whether they have many.
        self.tested = len(tested) + (self._often.without if np.isfinite(self._often.p).any() else 0)
        every[tested] = adjust(asked_of[tested], asked.adjust, self.tested)
        self._of_silence, self._of_burst, self._of_number = np.split(every, 3)

    def flags(self, scale: int) -> list[Cells]:
        """Payees with a reason, those of least probability first, then by what was paid."""
        flags = [flag for g in range(len(self._found.keys)) if (flag := self._flag(g, scale))]
        flags.sort(
            key=lambda f: (
                f["p_adjusted"] if f["p_adjusted"] is not None else 1.0,
                -abs(f["amount"]),
            )
        )
        return flags

    def _flag(self, g: int, scale: int) -> Cells | None:
        found, quiet, full = self._found, self._quiet, self._full
        silent, quick = self._came_back(g), bool(self._of_burst[g] < self._asked.alpha)
        reasons = ["revived"] if silent else []
        if quick:
            reasons.append("all_at_once" if full.alone[g] else "faster")
        many = bool(self._of_number[g] < self._asked.alpha)
        reasons += ["often"] if many else []
        reasons += self._others(g)
        if not reasons:
            return None
        chances = [(quiet.p[g], self._of_silence[g])] if silent else []
        chances += [(full.p[g], self._of_burst[g])] if quick else []
        chances += [(self._often.p[g], self._of_number[g])] if many else []
        p, p_adjusted = min(chances, key=lambda pair: pair[1]) if chances else (None, None)
        created, closed = found.created[g], found.closed[g]
        series = self._series(g)
        return {
            "subject": dict(found.keys[g]),
            "score": None if p is None else -log2(max(p, 1e-300)),
            "limit": None,
            "direction": reasons[0],
            "p": None if p is None else float(p),
            "p_adjusted": None if p_adjusted is None else float(p_adjusted),
            "amount": money(self._amount(g, reasons), scale),
            "total": money(found.total[g], scale),
            "reason": ", ".join(reasons),
            "reasons": reasons,
            "days_silent": int(quiet.days[g]) if silent else None,
            "returned": str(_day(found.day[quiet.at[g]])) if silent else None,
            "burst": str(_day(full.first[g])) if quick else None,
            "burst_rows": int(full.count[g]) if quick else None,
            "burst_expected": float(full.expected[g]) if quick else None,
            "rows": int(found.count[g]),
            "rows_usual": self._often.mean if many else None,
            "first": str(_day(found.first[g])),
            "last": str(_day(found.last[g])),
            "created": None if created is None else str(created),
            "closed": None if closed is None else str(closed),
            "rows_before_created": self._rows(g, "before_created", reasons),
            "rows_after_closed": self._rows(g, "after_closed", reasons),
            "numbers": None if series is None else series.numbers,
            "numbers_span": None if series is None else series.span,
            "number_first": None if series is None else series.first,
            "number_last": None if series is None else series.last,
        }

    def _series(self, g: int) -> OwnSeries | None:
        return self._own.get(tuple(self._found.keys[g].values()))

    def _came_back(self, g: int) -> bool:
        """Whether a silence is improbable, and rows enough followed it."""
        if not self._of_silence[g] < self._asked.alpha:
            return False
        found = self._found
        after = slice(int(self._quiet.at[g]), self._ends[g])
        near = found.day[after] <= found.day[after.start] + RETURNED
        return int(found.rows[after][near].sum()) >= self._asked.least

    def _others(self, g: int) -> list[str]:
        """Reasons that need no probability."""
        found, size = self._found, abs(self._found.total[g])
        first, last = _day(found.first[g]), _day(found.last[g])
        created, closed = found.created[g], found.closed[g]
        much = size >= (self._large_sum or 0)
        reasons = []
        if found.count[g] == 1 and self._large_row is not None and size >= self._large_row:
            reasons.append("once_and_large")
        if created is not None and first < created:
            reasons.append("before_created")
        elif created is not None and (first - created).days <= self._asked.soon and much:
            reasons.append("new_and_large")
        if closed is not None and (last - closed).days > self._asked.run_off:
            reasons.append("after_closed")
        if self._series(g) is not None:
            reasons.append("numbered_on")
        return reasons

    def _outside(self, g: int, reason: str) -> np.ndarray:
        """Which of a payee's days lie before it was known, or after it was closed and what it was owed was paid."""
        found = self._found
        days = found.day[int(found.starts[g]) : self._ends[g]]
        created, closed = found.created[g], found.closed[g]
        if reason == "before_created" and created is not None:
            return np.asarray(days < _number(created))
        if reason == "after_closed" and closed is not None:
            return np.asarray(days > _number(closed) + self._asked.run_off)
        return np.zeros(len(days), dtype=bool)

    def _rows(self, g: int, reason: str, reasons: Sequence[str]) -> int | None:
        if reason not in reasons:
            return None
        here = slice(int(self._found.starts[g]), self._ends[g])
        return int(self._found.rows[here][self._outside(g, reason)].sum())

    def _amount(self, g: int, reasons: Sequence[str]) -> int:
        """What was paid since the silence, else in the burst, else after the payee was closed, or before it was known,
        else in all; in minor units."""
        found = self._found
        here = slice(int(found.starts[g]), self._ends[g])
        if "revived" in reasons:
            return int(sum(found.units[self._quiet.at[g] : self._ends[g]]))
        if not {"faster", "all_at_once"}.isdisjoint(reasons):
            begin = self._full.first[g]
            inside = (found.day[here] >= begin) & (found.day[here] < begin + self._asked.window)
            return int(sum(found.units[here][inside]))
        for reason in ("after_closed", "before_created"):
            if reason in reasons:
                return int(sum(found.units[here][self._outside(g, reason)]))
        return found.total[g]


def _day(number: int) -> date:
    return date(1970, 1, 1) + timedelta(days=int(number))


def _number(day: date) -> int:
    return (day - date(1970, 1, 1)).days
