"""Settings of the test of leading digits."""

from __future__ import annotations

from decimal import Decimal
from typing import Literal

from pydantic import Field, field_validator, model_validator

from sabueso.screens.settings import MeasureSettings, listed
from sabueso.stats.digit_law import DigitTest


class DigitsSettings(MeasureSettings):
    """Settings of ``digits``."""

    digits: DigitTest = Field("first", description="which digits are counted")
    of: Literal["amounts", "differences"] = Field(
        "amounts",
        description="the amounts, or the differences between sorted distinct amounts (second order)",
    )
    sign: Literal["absolute", "positive", "negative", "each"] = Field(
        "absolute", description="amounts of both signs, of one, or each sign as a group of its own"
    )
    at_least: Decimal | None = Field(
        None, gt=0, description="amounts nearer to zero than this are left out"
    )
    compare: list[str] = Field(
        default_factory=list, description="two periods whose digits are compared, as 2024,2025"
    )
    side: Literal["both", "high", "low"] = Field(
        "both", description="classes that are flagged: too frequent (high), too rare (low), or both"
    )
    z_limit: Decimal | None = Field(
        None, gt=0, description="a flagged class must also pass this |z| (for example 1.96)"
    )
    alpha: float = Field(
        0.05, gt=0, lt=1, description="a flagged class has an adjusted p below this"
    )
    tolerance: float | None = Field(
        None, gt=0, description="band of ± this per cent of the expected share, not the default"
    )
    by_whom: str | None = Field(
        None, description="column whose values may be behind a flagged class: preparer, supplier"
    )
    min_group: int = Field(50, ge=1, description="rows below which a group is not tested")

    _periods = field_validator("compare", mode="before")(listed)

    @model_validator(mode="after")
    def _fitting(self) -> DigitsSettings:
        if self.compare and len(self.compare) != 2:
            raise ValueError("compare needs two periods, such as 2024,2025")
        if self.compare and (self.by or self.of == "differences" or self.sign == "each"):
            raise ValueError(
                "compare goes with amounts of one population: leave by, of and sign each out"
            )
        if self.of == "differences" and self.by_whom:
            raise ValueError("nobody enters a difference: by-whom goes with amounts")
        if self.of == "differences" and self.digits == "last-two":
            raise ValueError("the second-order test is one of leading digits")
        return self
