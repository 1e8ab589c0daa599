"""Settings of the test of deviates."""

from __future__ import annotations

from decimal import Decimal
from typing import Literal

from pydantic import Field, model_validator

from sabueso.screens.settings import MeasureSettings


class ZScoreSettings(MeasureSettings):
    """Settings of ``zscore``."""

    limit: Decimal | None = Field(
        None, gt=0, description="deviates beyond which a row is flagged (3; modified: 3.5)"
    )
    method: Literal["plain", "modified", "sequential"] = Field(
        "plain",
        description="(x - mean)/s; the median and its absolute deviations; or the sequential deviate "
        "test, which removes and recomputes",
    )
    most: int = Field(10, ge=1, le=1000, description="outliers of a group looked for in sequence")
    alpha: float = Field(0.05, gt=0, lt=1, description="level of the sequential test")
    aim: int | None = Field(
        None, ge=1, description="solve for the limit that flags as many rows as can be reviewed"
    )
    scale: Literal["amount", "log"] = Field(
        "amount",
        description="the measure as it is, or sign(x)·log10(1 + |x|/u), u 1% of the median |x|",
    )
    side: Literal["both", "high", "low"] = Field("both", description="which side is flagged")
    min_group: int = Field(3, ge=2, description="rows below which a group is not tested")

    @model_validator(mode="after")
    def _fitting(self) -> ZScoreSettings:
        if self.method == "sequential" and (self.limit is not None or self.aim is not None):
            raise ValueError("the sequential test has limits of its own; leave limit and aim out")
        if self.method == "sequential" and self.side != "both":
            raise ValueError("the sequential test looks at both sides")
        if self.aim is not None and self.limit is not None:
            raise ValueError("aim solves for the limit; give one of them")
        return self
