"""What a table's rows may be declared to be."""

from __future__ import annotations

from decimal import Decimal

from pydantic import Field, field_validator, model_validator

from sabueso.population import sql
from sabueso.population.moments import HOURS
from sabueso.screens.settings import Settings, listed


class RangeSettings(Settings):
    """Settings of ``range``."""

    on: str | None = Field(None, description="the measure: a number column (default: role amount)")
    least: Decimal | None = Field(None, description="the least amount allowed")
    greatest: Decimal | None = Field(None, description="the greatest amount allowed")
    not_above: str | None = Field(
        None,
        description="column, of a linked table too, or expression that the measure must not exceed in its row",
    )
    not_below: str | None = Field(
        None,
        description="column, of a linked table too, or expression that the measure must reach in its row",
    )
    column: str | None = Field(
        None,
        description="column whose values must be among those allowed, of a linked table too",
    )
    allowed: list[str] = Field(default_factory=list, description="the values allowed in it")
    required: list[str] = Field(default_factory=list, description="columns that must hold a value")
    unique: list[str] = Field(
        default_factory=list,
        description="columns that together no two rows have alike: the later rows that do",
    )
    in_order: list[str] = Field(
        default_factory=list,
        description="days or moments, of linked tables too, none of which is before the one named before it",
    )
    most_days: int | None = Field(
        None, ge=0, description="days that each of --in-order is at most after the one before it"
    )
    least_days: int | None = Field(
        None, ge=1, description="days that each of --in-order is at least after the one before it"
    )
    most_days_of: str | None = Field(
        None, description="column that says how many days, of a linked table too, such as terms"
    )
    rising: str | None = Field(
        None, description="column of readings, such as of a meter, that never fall"
    )
    not_overdrawn: str | None = Field(
        None,
        description="column of what comes in and goes out, whose sum up to any row is not below 0, for each --per",
    )
    same: str | None = Field(
        None, description="column that has one value in most rows of what --per names: all others"
    )
    two_people: list[str] = Field(
        default_factory=list,
        description="two columns of people, such as who prepares and who approves, that name two",
    )
    apart: list[str] = Field(
        default_factory=list,
        description="first and last day, or moment, of spans of which no two of one --per overlap",
    )
    weekdays: list[str] = Field(
        default_factory=list,
        description="weekdays, Mon to Sun, on which rows may be dated by the role date",
    )
    hours: list[str] = Field(
        default_factory=list,
        description="hours, 00 to 23, in which rows may be recorded, by the role date or entered",
    )
    lowest: str | None = Field(
        None,
        description="number of which rows that are --chosen have the lowest of what --per names, such as the price of a bid",
    )
    highest: str | None = Field(None, description="the same of the highest, such as of a score")
    chosen: str | None = Field(
        None, description="SQL condition of the rows that were chosen among those of --per"
    )
    per: list[str] = Field(
        default_factory=list,
        description="whose readings they are, or sums, or spans, or what has one value, or is chosen among",
    )

    _lists = field_validator(
        "allowed",
        "required",
        "unique",
        "in_order",
        "two_people",
        "apart",
        "weekdays",
        "hours",
        "per",
        mode="before",
    )(listed)

    @model_validator(mode="after")
    def _some(self) -> RangeSettings:
        bounds = (self.least, self.greatest, self.not_above, self.not_below)
        if bool(self.column) != bool(self.allowed):
            raise ValueError("column and allowed go together")
        if len(self.in_order) == 1:
            raise ValueError("in-order needs two days or more")
        spans = {
            "most-days": self.most_days,
            "least-days": self.least_days,
            "most-days-of": self.most_days_of,
        }
        for name, days in spans.items() if not self.in_order else ():
            if days is not None:
                raise ValueError(f"{name} needs in-order: between which days they lie")
        if (
            self.least_days is not None
            and self.most_days is not None
            and self.least_days > self.most_days
        ):
            raise ValueError("least-days is more than most-days: nothing lies between")
        best = self.lowest or self.highest
        owned = (self.rising, self.same, self.not_overdrawn, best)
        if self.per and not self.apart and all(each is None for each in owned):
            raise ValueError("per goes with rising, not-overdrawn, apart, same, lowest or highest")
        if bool(best) != bool(self.chosen) or (best and not self.per):
            raise ValueError("lowest or highest, chosen and per go together")
        if self.lowest and self.highest:
            raise ValueError(
                "what is chosen is the lowest or the highest of its kind; give one of them"
            )
        if self.two_people and len(set(self.two_people)) != 2:
            raise ValueError("two-people needs two columns")
        if self.apart and (len(self.apart) != 2 or not self.per):
            raise ValueError("apart needs two columns, and per: whose spans they are")
        if self.same is not None and not self.per:
            raise ValueError("same needs per: whose value it is")
        if unknown := [day for day in self.weekdays if day not in sql.WEEKDAYS]:
            raise ValueError(f"weekdays has {unknown[0]!r}; expected {', '.join(sql.WEEKDAYS)}")
        if unknown := [hour for hour in self.hours if hour not in HOURS]:
            raise ValueError(f"hours has {unknown[0]!r}; expected some of 00 to 23")
        lists = self.column, self.required, self.unique, self.in_order, self.weekdays, self.hours
        others = self.rising, self.not_overdrawn, self.same, self.apart, self.two_people, best
        if all(b is None for b in bounds) and not any(lists) and not any(others):
            raise ValueError(
                "nothing is declared; give least, greatest, not-above, not-below, required, unique, in-order, rising, not-overdrawn, "
                "apart, two-people, same, lowest, highest, weekdays, hours, or column and allowed"
            )
        if self.least is not None and self.greatest is not None and self.least > self.greatest:
            raise ValueError("the least amount is above the greatest")
        return self
