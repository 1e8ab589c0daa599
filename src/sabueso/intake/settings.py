"""What the plan may settle about reading a table's files. Kept apart: it needs no reader."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Literal, Self

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from sabueso.base.currencies import written

_MONTH = r"(?:19|20)[0-9]{2}(?:-(?:0[1-9]|1[0-2]))?"


class ReadSettings(BaseModel):
    """``read`` of a table in the plan: what is set here is not detected."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    encoding: str | None = Field(None, description="such as utf-8, latin-1, cp1252")
    delimiter: str | None = Field(None, description="one character, or up to three")
    quote: Literal['"', "'"] | None = Field(
        None, description="the mark before and after a field: \" or '"
    )
    escape: Literal["backslash", "none"] | None = Field(
        None, description='"backslash" where one stands before a quote within quotes; or "none"'
    )
    decimal: str | None = Field(None, description="decimal mark: . or ,")
    thousands: str | None = Field(None, description="thousands mark: . , ' or a space; none: empty")
    dates: str | None = Field(None, description="day first, month first or year first")
    sheet: str | None = Field(None, description="the sheet of a spreadsheet")
    records: str | None = Field(None, description="the element of an XML file that is a row")
    header: int | str | None = Field(
        None, description='the line of the header, or "none" where the file has none'
    )
    period: str | None = Field(
        None, description='"file name" or "sheet name": where the period of the rows stands'
    )
    year: str | None = Field(
        None,
        description="of days without a year, the month that they begin with, such as 2025-01",
    )
    months: list[str] = Field(
        default_factory=list,
        description="of rows without a date, the columns of their year and of their month",
    )
    headings: str | None = Field(
        None,
        description='the column in which headings stand above the rows they are of, or "none"',
    )
    balances: str | None = Field(
        None,
        description='"rows": lines that state a balance, such as Opening balance, are rows like all others',
    )
    fill: list[str] = Field(
        default_factory=list,
        description="columns printed on the first line of each group alone: the lines below get their text",
    )
    missing: list[str] = Field(
        default_factory=list,
        description="texts that stand for a missing number or date, beside the usual",
    )
    columns: str | None = Field(
        None, description='"may differ": a file may lack columns of the table, or add some'
    )
    names: dict[str, str] = Field(
        default_factory=dict,
        description="COLUMN of a file = the column of the table that it is, where a later file calls it otherwise",
    )
    minus: list[Literal["debit", "credit"]] | None = Field(
        None,
        description="of a debit and a credit column, those whose amounts stand with a minus of their own; none: []",
    )
    rates: dict[str, Decimal] = Field(
        default_factory=dict, description="CURRENCY = what one unit is in the case's currency"
    )
    currency: str = Field("EUR", exclude=True, description="the case's, which the case sets")
    says_currency: bool = Field(
        False, exclude=True, description="whether somebody, or earlier amounts, said the case's"
    )
    ask: bool = Field(
        False, exclude=True, description="whether there is somebody to be asked, which no plan says"
    )
    types: dict[str, str] = Field(default_factory=dict, description="column = text, number or date")

    @field_validator("delimiter")
    @classmethod
    def _few_characters(cls, value: str | None) -> str | None:
        if value is not None and not (0 < len(value) <= 3 and not set(value) & set("\r\n\"'\\\0")):
            raise ValueError(
                "a delimiter is one to three characters, and no quote, backslash or end of line"
            )
        return value

    @field_validator("header", mode="before")
    @classmethod
    def _line(cls, value: object) -> object:
        if isinstance(value, str) and value.strip().isdigit():
            value = int(value)
        if value in (None, "none") or (isinstance(value, int) and value >= 1):
            return value
        raise ValueError('expected a line, 1 or more, or "none"')

    @field_validator("balances")
    @classmethod
    def _rows(cls, value: str | None) -> str | None:
        if value not in (None, "rows"):
            raise ValueError('expected "rows"')
        return value

    @field_validator("year", mode="before")
    @classmethod
    def _begins(cls, value: object) -> object:
        text = str(value) if isinstance(value, int) else value
        if text is None or (isinstance(text, str) and re.fullmatch(_MONTH, text)):
            return text if text is None or "-" in text else f"{text}-01"
        raise ValueError("expected a year, or a month of one, such as 2025 or 2024-07")

    @field_validator("decimal")
    @classmethod
    def _mark(cls, value: str | None) -> str | None:
        if value not in (None, ".", ","):
            raise ValueError('a decimal mark is "." or ","')
        return value

    @field_validator("dates")
    @classmethod
    def _order(cls, value: str | None) -> str | None:
        if value not in (None, "day first", "month first", "year first"):
            raise ValueError('expected "day first", "month first" or "year first"')
        return value

    @field_validator("period")
    @classmethod
    def _place(cls, value: str | None) -> str | None:
        if value not in (None, "file name", "sheet name"):
            raise ValueError('expected "file name" or "sheet name"')
        return value

    @field_validator("months")
    @classmethod
    def _two(cls, value: list[str]) -> list[str]:
        if len(value) not in (0, 2):
            raise ValueError("expected two columns, that of the year and that of the month")
        return value

    @model_validator(mode="after")
    def _one_period(self) -> Self:
        if self.period and self.months:
            raise ValueError(
                "period and months both say what the period of the rows is: one of them does"
            )
        return self

    @field_validator("columns")
    @classmethod
    def _may_differ(cls, value: str | None) -> str | None:
        if value not in (None, "may differ"):
            raise ValueError('expected "may differ"')
        return value

    @field_validator("rates")
    @classmethod
    def _positive(cls, value: dict[str, Decimal]) -> dict[str, Decimal]:
        for name, rate in value.items():
            if rate <= 0:
                raise ValueError(f"the rate of {name} must be above zero")
        return {written(name): rate for name, rate in value.items()}

    @field_validator("encoding")
    @classmethod
    def _known(cls, value: str | None) -> str | None:
        import codecs

        if value is None:
            return None
        try:
            " ".encode(value)  # a codec may be none of text, such as base64
            return codecs.lookup(value).name
        except (LookupError, ValueError):  # of a codec that fails, and of a name with a NUL
            raise ValueError("unknown encoding") from None

    @field_validator("types")
    @classmethod
    def _types(cls, value: dict[str, str]) -> dict[str, str]:
        for kind in value.values():
            if kind not in ("text", "number", "date"):
                raise ValueError('a type is "text", "number" or "date"')
        return value
