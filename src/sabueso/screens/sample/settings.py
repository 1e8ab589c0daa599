"""What a sample is drawn by: its method, its size or what that is solved from, and its seed."""

from __future__ import annotations

import re
from decimal import Decimal, InvalidOperation
from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from sabueso.screens.settings import Settings, listed

MOST_STRATA = 20
BY_MONEY = ("money", "strata")
"""Methods whose tolerable error is money, not a share of the items."""


class SampleSettings(Settings):
    """Settings of ``sample``."""

    method: Literal["random", "systematic", "money", "strata"] = Field(
        "random",
        description="every item alike, at equal intervals, in proportion to the amounts, or by strata of them",
    )
    on: str | None = Field(
        None, description="the amounts: a number column (default: role amount, where there is one)"
    )
    size: int | None = Field(None, ge=1, description="items; without it solved from the next three")
    confidence: str = Field("95%", description="of the limits, and for the size")
    tolerable: str | None = Field(
        None,
        description="error that can be tolerated: a share, or of amounts an amount (for a size: 5%)",
    )
    expected: str | None = Field(None, description="error that is expected (for a size: 0)")
    strata: int | None = Field(
        None, ge=2, le=MOST_STRATA, description="strata chosen by the program (default: 4)"
    )
    edges: list[str] = Field(
        default_factory=list, description="strata given: amounts at which each but the first begins"
    )
    take_all: Decimal | None = Field(
        None, description="amount from which on all are taken, in a stratum of their own"
    )
    seed: int | None = Field(
        None,
        ge=0,
        description="what the random numbers are made of (without: chosen at random, and recorded)",
    )

    _listed = field_validator("edges", mode="before")(listed)

    @field_validator("confidence", mode="before")
    @classmethod
    def _confidence(cls, value: Any) -> str:
        if not Decimal("0.5") <= share_of(str(value), "a confidence") < 1:
            raise ValueError("expected a confidence from 50% to below 100%, such as 95%")
        return str(value).strip()

    @field_validator("tolerable", "expected", mode="before")
    @classmethod
    def _error(cls, value: Any) -> Any:
        if value is None:
            return None
        text = str(value).strip()
        if text.endswith("%") or re.fullmatch(r"0?\.\d+|0", text):
            if not 0 <= share_of(text, "a share") < 1:
                raise ValueError("expected a share below 100%, such as 5%")
        elif exact(text, "a share such as 5%, or an amount") < 0:
            raise ValueError("an error that is tolerated or expected is not below 0")
        return text

    @field_validator("edges")
    @classmethod
    def _edges(cls, values: list[str]) -> list[str]:
        amounts = [exact(str(value), "an amount") for value in values]
        if amounts != sorted(set(amounts)):
            raise ValueError("the amounts at which strata begin must rise")
        return [str(value) for value in values]

    @model_validator(mode="after")
    def _fit(self) -> SampleSettings:
        if self.method != "strata" and (self.strata or self.edges or self.take_all is not None):
            raise ValueError("strata, edges and take-all go with method strata alone")
        if self.strata and self.edges:
            raise ValueError("give how many strata, or the amounts at which they begin, not both")
        if self.size is not None and self.expected is not None:
            raise ValueError(
                "an expected error is for a size that is solved: leave size or expected out"
            )
        if self.method not in BY_MONEY:
            for name in ("tolerable", "expected"):
                text = getattr(self, name)
                if text is not None and not is_share(text):
                    raise ValueError(
                        f"{name} is a share of the items with method {self.method}, such as 5%"
                    )
        if self.tolerable is not None and exact(self.tolerable.rstrip("% "), "a share") == 0:
            raise ValueError("a tolerable error is above 0")
        if self.method == "strata" and self.expected is not None:
            raise ValueError("with strata the size comes from the tolerable error alone")
        return self

    @property
    def level(self) -> float:
        """The confidence as a share."""
        return float(share_of(self.confidence, "a confidence"))


def is_share(text: str) -> bool:
    """Whether an error is given as a share of what there is, and not as an amount."""
    return text.endswith("%") or exact(text, "a share") < 1


def exact(text: str, what: str) -> Decimal:
    """A number as typed, with a point.

    Raises
    ------
    ValueError
        If it is none.
    """
    try:
        value = Decimal(text)
    except InvalidOperation:
        raise ValueError(f"expected {what}, written with a point") from None
    if not value.is_finite():
        raise ValueError(f"expected {what}")
    return value


def share_of(text: str, what: str) -> Decimal:
    """5% and 0.05 as a proportion."""
    text = text.strip()
    if text.endswith("%"):
        return exact(text[:-1].strip(), what) / 100
    return exact(text, what)
