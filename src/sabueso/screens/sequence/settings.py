"""Settings of the test of numbers."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import Field, field_validator, model_validator

from sabueso.screens.sequence.each import INCOMPLETE_PERIODS, LEAST_PERIODS, Each
from sabueso.screens.settings import Settings, listed_once
from sabueso.screens.subject import OCCASION
from sabueso.stats.adjust import Method

_OF_PERIODS = {"least": LEAST_PERIODS, "incomplete": INCOMPLETE_PERIODS, "find": ["gaps"]}
"""What settings of months and quarters are where nothing is said."""
_OF_OCCASIONS = {**_OF_PERIODS, "least": 3}
"""Those of occasions, of which there may be few."""


class SequenceSettings(Settings):
    """Settings of ``sequence``."""

    of: str | None = Field(
        None, description="the column of numbers (default: role document, or id)"
    )
    each: Each | None = Field(
        None,
        description="in place of numbers: months or quarters of which a series has no row, by the role date, or "
        "by the days of --of",
    )
    occasions: list[str] = Field(
        default_factory=list,
        description="in place of numbers: columns that name occasions, such as a school year and a term, of which a "
        "series has no row, in the order of their first days, by the role date, or by the days of --of",
    )
    by: list[str] = Field(
        default_factory=list, description="series apart by columns, such as year or proveedor"
    )
    find: list[str] = Field(
        ["gaps", "repeats", "order", "form"],
        description="what is looked for: gaps, repeats, order, form",
    )
    least: int = Field(
        30,
        ge=3,
        description="numbers of a series below which it is none (of months and quarters: 6, of occasions: 3)",
    )
    incomplete: float = Field(
        0.05,
        ge=0,
        lt=1,
        description="share of missing numbers from which a gap must be unlikely (of months, quarters and occasions: 25%)",
    )
    days: int = Field(7, ge=0, description="days by which a number may lie outside those beside it")
    alpha: float = Field(
        0.05, gt=0, lt=1, description="adjusted p below which a gap of an incomplete series counts"
    )
    adjust: Method = Field("holm", description="adjustment of p for the number of intervals")

    _listed = field_validator("by", "find", "occasions", mode="before")(listed_once)

    @field_validator("find")
    @classmethod
    def _known(cls, value: list[str]) -> list[str]:
        wrong = [each for each in value if each not in ("gaps", "repeats", "order", "form")]
        if wrong or not value:
            raise ValueError("expected gaps, repeats, order or form")
        return value

    @model_validator(mode="before")
    @classmethod
    def _of_periods(cls, given: Any) -> Any:
        """Months, quarters and occasions are looked for where they are missing alone, and a series of them is short."""
        usual = _usual(given) if isinstance(given, dict) else None
        if not usual:
            return given
        name = "each" if given.get("each") else "occasions"
        if given.get("each") and given.get("occasions"):
            raise ValueError("expected each or occasions, not both")
        if given.get("find") not in (None, "gaps", ["gaps"]):
            raise ValueError(f"{name} looks for gaps alone")
        return {**usual, **given, "find": ["gaps"]}

    @property
    def noun(self) -> str:
        """What a series has one after another."""
        return self.each or (OCCASION if self.occasions else "number")

    @classmethod
    def usual(cls, given: Mapping[str, Any]) -> dict[str, Any]:
        """Of months, quarters and occasions theirs."""
        return super().usual(given) | _usual(given)


def _usual(given: Mapping[str, Any]) -> dict[str, Any]:
    if given.get("each"):
        return _OF_PERIODS
    return _OF_OCCASIONS if given.get("occasions") else {}
