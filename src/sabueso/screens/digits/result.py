"""What a digit test finds: groups with their classes, and two periods side by side."""

from __future__ import annotations

from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from sabueso.base.plain import ADDED, ByColumn, Json


@dataclass(frozen=True, slots=True)
class DigitClass:
    """A class: count, shares of 1, difference in percentage points, band, and its money."""

    digits: str
    count: int
    share: float
    expected: float
    difference: float
    ratio: float
    z: float
    p: float
    p_adjusted: float
    band_low: float
    band_high: float
    amount: Decimal
    amount_share: float | None
    magnitude_share: float
    flagged: bool
    significand_share: float | None = None
    significand_z: float | None = None
    significand_p: float | None = None
    significand_p_adjusted: float | None = None


@dataclass(frozen=True)
class Repeated:
    """An amount that occurs several times, and its share of the rows."""

    amount: Decimal
    count: int
    share: float


@dataclass(frozen=True)
class Behind:
    """A value that stands behind a flagged class: its rows in it, shares, p of the upper tail."""

    digits: str
    value: Any
    count: int
    share_of_class: float
    share_of_population: float
    p: float
    p_adjusted: float
    amount: Decimal | None = field(default=None, metadata=ADDED)


@dataclass(frozen=True)
class DigitGroup:
    """The classes of one group and how far they are from expectation.

    ``conformity`` is the one conclusion from flags, chi-square and the excess of the mean absolute
    deviation over the one by chance; ``mad_range`` is the published reading of the deviation alone.
    ``few_digits`` counts differences that are too small for the test.
    """

    group: ByColumn
    n: int
    chi_square: float
    chi_square_df: int
    chi_square_p: float
    mad: float
    mad_expected: float
    mad_excess: float
    mad_excess_low: float
    mad_excess_high: float
    mad_range: str | None
    conformity: str
    ks: float
    ks_limit: float
    mantissa_l2: float | None
    mantissa_p: float | None
    summation_mad: float | None
    classes: list[DigitClass]
    repeated: list[Repeated] | None = field(default=None, metadata=ADDED)
    repeated_in_class: dict[str, list[Repeated]] | None = field(default=None, metadata=ADDED)
    behind: list[Behind] | None = field(default=None, metadata=ADDED)
    few_digits: int | None = field(default=None, metadata=ADDED)

    @property
    def flagged(self) -> list[DigitClass]:
        return [c for c in self.classes if c.flagged]

    @property
    def largest_difference(self) -> float:
        """The largest difference of a class from its expected share, in percentage points."""
        return max(abs(c.difference) for c in self.classes)

    @property
    def times_chance(self) -> float:
        """The mean absolute deviation as a multiple of the one that chance gives."""
        return self.mad / self.mad_expected


@dataclass(frozen=True)
class ChangedClass:
    """A class in two periods."""

    digits: str
    before: float
    after: float
    difference: float
    z: float
    p: float
    p_adjusted: float
    flagged: bool


@dataclass(frozen=True)
class DigitChange:
    """The classes of the second period against the first."""

    before: Json
    after: Json
    chi_square: float
    chi_square_df: int
    chi_square_p: float
    classes: list[ChangedClass]


@dataclass(frozen=True)
class DigitMore:
    """What a digit test says of all its groups."""

    change: DigitChange | None = field(default=None, metadata=ADDED)
