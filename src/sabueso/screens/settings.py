"""Settings of a test: the one source of its options, its plan keys and its messages."""

from __future__ import annotations

import re
from collections.abc import Mapping
from decimal import Decimal
from fractions import Fraction
from typing import Any, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from sabueso.base.errors import UserError, nearest
from sabueso.base.exact import DIGITS
from sabueso.base.plain import Values
from sabueso.population.expressions import split_list
from sabueso.stats.adjust import Method

LEAST_LEVEL = 1e-15
"""Of a level, below which limits are none that a float holds."""


class Settings(BaseModel):
    """What every test can be told. A field's name is its plan key and, dashed, its option."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    where: str | None = Field(None, description="SQL condition that rows must meet to be used")

    @classmethod
    def from_plan(cls, values: Values, place: str) -> Self:
        """Validate plan keys or options.

        Raises
        ------
        UserError
            One sentence that names the place, the key and what was expected.
        """
        try:
            found = cls(**values)
        except ValidationError as error:
            first = error.errors()[0]
            key = str(first["loc"][0]) if first["loc"] else ""
            if first["type"] == "extra_forbidden":
                raise UserError(
                    f"{place}: there is no setting {key!r}{nearest(key, cls.model_fields)}"
                ) from None
            option = key.replace("_", "-")
            if first["type"] == "missing":
                raise UserError(f"{place}: the setting {option!r} is required") from None
            message = first["msg"].removeprefix("Value error, ")
            message = message[:1].lower() + message[1:]
            given = "" if not key else f"{option} = {first['input']!r}: "
            raise UserError(f"{place}: {given}{message}") from None
        for name, value in found:
            if not isinstance(value, (int, float, Decimal)):
                continue
            # Figures are worked out with them as floats, too; no amount has more figures than this.
            if not -(10**DIGITS) < value < 10**DIGITS:
                raise UserError(
                    f"{place}: {name.replace('_', '-')} = {values[name]}: expected a number of at most {DIGITS} figures"
                )
            if name == "alpha" and value < LEAST_LEVEL:
                raise UserError(
                    f"{place}: alpha = {values[name]}: expected a level of {LEAST_LEVEL} at least"
                )
        return found

    @classmethod
    def usual(cls, given: Mapping[str, Any]) -> dict[str, Any]:
        """What settings are where nothing is said of them, beside those given."""
        return {
            name: field.get_default(call_default_factory=True, validated_data={})
            for name, field in cls.model_fields.items()
        }

    def as_plan(self) -> Values:
        """The settings that differ from their defaults, as plan values."""
        values = self.model_dump()
        usual = self.usual(values)
        stated = {name: value for name, value in values.items() if value != usual[name]}
        return {k: format(v, "f") if isinstance(v, Decimal) else v for k, v in stated.items()}


def listed(value: Any) -> Any:
    """``"a, b"`` as ["a", "b"]; lists pass."""
    return split_list(value) if isinstance(value, str) else value


def listed_once(value: Any) -> Any:
    """The same for names of columns, of which none is wanted twice."""
    found = listed(value)
    named = isinstance(found, list) and all(isinstance(each, str) for each in found)
    return list(dict.fromkeys(found)) if named else found


class MeasureSettings(Settings):
    """Settings of a test on one measure, maybe by groups."""

    on: str | None = Field(None, description="the measure: a number column (default: role amount)")
    by: list[str] = Field(
        default_factory=list, description="groups: columns, year, quarter, month, weekday or SQL"
    )
    adjust: Method = Field("holm", description="adjustment of p for the number of tests")

    _listed = field_validator("by", mode="before")(listed_once)


def proportion(text: str) -> Fraction:
    """2% and 0.02 as a proportion.

    Raises
    ------
    ValueError
        If it is no such text.

    Examples
    --------
    >>> proportion("2%"), proportion(".5")
    (Fraction(1, 50), Fraction(1, 2))
    """
    match = re.fullmatch(r"(\d+(?:\.\d+)?|\.\d+)\s*(%?)", text.strip())
    if match is None:
        raise ValueError("expected a share such as 2%")
    return Fraction(match[1]) / (100 if match[2] else 1)
