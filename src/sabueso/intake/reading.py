"""One file as it is read: what is asked of it, what was found before its rows, what its rows told."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa

from sabueso.base.errors import UserError
from sabueso.intake.formats.convert import SIGNED, Conversion, usual_columns
from sabueso.intake.formats.dates import DateFormat
from sabueso.intake.formats.deciding import Format
from sabueso.intake.formats.detection import (
    Prior,
    base_of,
    check_columns,
    columns_of,
    detect,
)
from sabueso.intake.formats.headings import headings_of
from sabueso.intake.formats.names import Named, beside_sheets, free_period, own_names
from sabueso.intake.formats.sides import clearly, own_minus
from sabueso.intake.formats.year_month import year_and_month
from sabueso.intake.interface import Damaged, Layout, Reader
from sabueso.intake.readers.choice import readable, reader_for
from sabueso.intake.settings import ReadSettings
from sabueso.population.period_names import names_period, period_of
from sabueso.population.table import LINE_COLUMN, Column, Role

SIDE_ROLES: tuple[Role, ...] = ("debit", "credit")


@dataclass
class Tally:
    """What one pass over a file counted and met."""

    accepted: int = 0
    totals: int = 0
    blank: int = 0
    headers: int = 0
    headings: int = 0
    titles: int = 0
    continued: int = 0
    file_lines: int = 0
    sums: dict[str, Decimal] = field(default_factory=dict)
    quarantined_sums: dict[str, Decimal] = field(default_factory=dict)
    totals_rows: list[tuple[int, str, Decimal, str]] = field(default_factory=list)
    damaged: list[Damaged] = field(default_factory=list)
    confirmed: set[str] = field(default_factory=set)
    currencies: set[str] = field(default_factory=set)
    without_currency: int = 0
    """Rows with an amount beside which a column of currencies names none."""
    odd: dict[str, str] = field(default_factory=dict)
    summed: set[int] = field(default_factory=set)
    balances: list[tuple[int, str]] = field(default_factory=list)
    """Lines that state what an account stood at, with their words."""
    balance_sums: dict[str, Decimal] = field(default_factory=dict)
    rows_until_total: int = 0
    until_total: dict[str, Decimal] = field(default_factory=dict)
    balances_until_total: dict[str, Decimal] = field(default_factory=dict)
    """What stood up to the last total, which the next one may not add up again."""
    ranges: dict[str, list[date]] = field(default_factory=dict)
    absent: Counter[tuple[str, str]] = field(default_factory=Counter)
    signed: list[dict[str, str | None]] = field(default_factory=list)
    first_date: Any = None
    last_date: Any = None
    failures: dict[str, tuple[int, int]] = field(default_factory=dict)


@dataclass
class Reading:
    """A file between its first look and its report.

    ``own`` is its layout under its own names, ``layout`` under the table's; ``formats`` and ``roles``
    change while it is read, and each pass has a ``tally`` of its own. ``minus`` are, of a debit and a credit
    column, the sides whose amounts stand with a minus of their own.
    """

    path: Path
    called: str
    settings: ReadSettings
    prior: Prior
    reader: Reader
    own: Layout
    layout: Layout
    named: Named
    formats: dict[str, Format]
    roles: dict[Role, str]
    columns: tuple[Column, ...] = ()
    minus: frozenset[str] = frozenset()
    tally: Tally = field(default_factory=Tally)

    def seen(self) -> dict[str, Format]:
        """The formats of the columns that the first lines have."""
        names = set(self.layout.sample.column_names)
        return {name: each for name, each in self.formats.items() if name in names}

    @classmethod
    def of(
        cls,
        path: Path,
        settings: ReadSettings,
        prior: Prior,
        *,
        assumed: str | None = None,
        months: tuple[str, ...] = (),
    ) -> Reading:
        """Look at the beginning of a file.

        Raises
        ------
        UserError
            If no reader takes it, or its columns contradict the table's.
        """
        reader = reader_for(path)
        with readable(path):
            own = reader.layout(path, settings)
        told = settings.period is not None or bool(settings.months)
        if not told and assumed is None and not months and _lacks_period(own, prior):
            # The columns of the table must be there before they are compared.
            months = _months_by(own)
            assumed = None if months else _period_by(path, own)
        if assumed is not None:
            settings = settings.model_copy(update={"period": assumed})
        with _said_of(path):
            named = _named(reader, own, settings, prior, assumed is not None, months)
        layout = named.layout(path, own)
        check_columns(path, layout, settings, prior)
        settings = settings.model_copy(update=dict(layout.settled))
        with _said_of(path):
            formats, roles = detect(layout, settings, prior)
        if not told and not named.period and not named.months and not prior.columns:
            dated = any(isinstance(found, DateFormat) for found in formats.values())
            months = _months_by(own) if "amount" in roles and not dated else ()
            assumed = _period_by(path, own) if not months and _has_no_date(formats, roles) else None
            if months or assumed is not None:
                return Reading.of(path, settings, prior, assumed=assumed, months=months)
        called = prior.called or path.name
        return cls(path, called, settings, prior, reader, own, layout, named, formats, roles)

    @property
    def untold(self) -> list[str]:
        """Columns of which the sample showed no text."""
        sample = self.layout.sample
        return [
            name
            for name in self.layout.header
            if sample.num_rows and name not in self.settings.types and name not in self.prior.columns
            and not any(text and text.strip() for text in sample.column(name).to_pylist())
        ]  # fmt: skip

    def told(self, texts: Mapping[str, list[str]]) -> Reading:
        """The same with texts of columns that the sample showed nothing of: formats and roles anew."""
        sample = self.layout.sample
        for name, found in texts.items():
            filled = [*found[: sample.num_rows], *[None] * (sample.num_rows - len(found))]
            place = sample.column_names.index(name)
            sample = sample.set_column(place, name, pa.array(filled, pa.string()))
        layout = replace(self.layout, sample=sample)
        with _said_of(self.path):
            formats, roles = detect(layout, self.settings, self.prior)
        return replace(self, layout=layout, formats=formats, roles=roles)

    def in_encoding(self, encoding: str) -> Reading:
        """The same file, looked at in another encoding."""
        settings = self.settings.model_copy(update={"encoding": encoding})
        return Reading.of(self.path, settings, self.prior)

    @property
    def money(self) -> list[str]:
        """Columns that are summed."""
        return [c.name for c in self.columns if c.type == "number" and c.name != LINE_COLUMN]

    @property
    def signed(self) -> Column | None:
        """The column made of a debit and a credit column, where there is such a pair."""
        if SIGNED in self.layout.header:
            return None
        return next((c for c in self.columns if c.name == SIGNED), None)

    def _with_minus(self) -> frozenset[str]:
        """Of a debit and a credit column, the sides whose amounts stand with a minus of their own.

        Raises
        ------
        UserError
            If they clearly do otherwise than in the table's files before.
        """
        if self.signed is None:
            return frozenset()
        if self.settings.minus is not None:
            return frozenset(self.settings.minus)
        sides = {side: self._amounts_of(side) for side in SIDE_ROLES}
        before = self.prior.minus
        for side, values in sides.items():
            if before is not None and clearly(values) and own_minus(values) != (side in before):
                here, there = ("with", "without") if own_minus(values) else ("without", "with")
                raise UserError(
                    f"{self.path}: the amounts of {self.roles[side]!r} stand {here} a minus of their own, and in "
                    f"the table's files before {there} one: take it as another table with --as, or say which "
                    "sides have one: read.minus in case.toml"
                )
        if before is not None:
            return before
        # One debit below nothing is a reversal.
        found = {side for side, values in sides.items() if own_minus(values)}
        return frozenset(found - ({"debit"} if len(sides["debit"]) < 2 else set()))

    def _amounts_of(self, side: Role) -> list[Decimal]:
        """The amounts of a side in the sample but for those of nothing."""
        name = self.roles.get(side, "")
        if name not in self.layout.header:
            return []
        texts = [t.strip() for t in self.layout.sample.column(name).to_pylist() if t and t.strip()]
        return [v for v in self.formats[name].read(pa.array(texts, pa.string())).to_pylist() if v]

    def begin(self) -> Conversion:
        """A new pass: its columns, an empty tally, and how its cells become values."""
        self.tally = Tally()
        self.columns = columns_of(self.layout, self.formats, self.roles, self.settings)
        self.minus = self._with_minus()
        converted, base = None, ""
        if self.settings.rates and "currency" in self.roles and "amount" in self.roles:
            converted = next(c for c in self.columns if c.name == self.roles["amount"])
            base = base_of(converted.name, self.settings)
        return Conversion(
            header=self.layout.header,
            formats=self.formats,
            roles=self.roles,
            signed=self.signed,
            converted=converted,
            base=base,
            rates={self.settings.currency: Decimal(1), **self.settings.rates},
            missing=self.settings.missing,
            minus=self.minus,
            added=self.layout.added,
            usual=None
            if self.settings.balances == "rows"
            else usual_columns(self.layout.sample, self.formats, self.roles),
        )


@contextmanager
def _said_of(path: Path) -> Iterator[None]:
    """What is refused of columns is said of their file."""
    try:
        yield
    except UserError as error:
        said = str(error)
        raise error if str(path) in said else UserError(f"{path}: {said}") from None


def _lacks_period(own: Layout, prior: Prior) -> bool:
    """Whether a file lacks the column of periods that its table has."""
    name = free_period(own.header)
    return name in prior.columns and name not in own.header


def _months_by(own: Layout) -> tuple[str, ...]:
    """The columns of a file that tell the month of its rows."""
    samples = {
        name: [text for text in own.sample.column(name).to_pylist() if text and text.strip()]
        for name in own.header
    }
    return year_and_month(samples) or ()


def _has_no_date(formats: Mapping[str, Format], roles: Mapping[Role, str]) -> bool:
    """Whether there are amounts, and nothing that tells when they were."""
    return "amount" in roles and not any(
        isinstance(found, DateFormat) or names_period(name) for name, found in formats.items()
    )


def _named(
    reader: Reader,
    own: Layout,
    settings: ReadSettings,
    prior: Prior,
    assumed: bool,
    months: tuple[str, ...],
) -> Named:
    """The file's columns under the names that its table has for them."""
    names = own_names(own.header, prior.columns, settings.names)
    named = Named(
        reader,
        names,
        settings.period or "",
        assumed or bool(months),
        fill=tuple(settings.fill),
        months=tuple(settings.months) or tuple(names.get(name, name) for name in months),
    )
    return replace(named, headings=headings_of(named.plain(own), settings.headings))


def _period_by(path: Path, own: Layout) -> str | None:
    """Where the period of rows is told: by the name of their sheet, or of their file."""
    stem = path.name.partition(".")[0]
    if own.sheet and period_of(own.sheet, beside_sheets(path, own)):
        return "sheet name"
    return "file name" if period_of(stem) else None
