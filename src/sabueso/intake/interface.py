"""What a reader of one file format gives, and what a file's intake reports."""

from __future__ import annotations

from collections.abc import Collection, Generator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any, Protocol, Self

import numpy as np
import pyarrow as pa

from sabueso.base.errors import UserError
from sabueso.base.plain import Json
from sabueso.intake.settings import ReadSettings
from sabueso.population.table import Column


@dataclass(frozen=True)
class Damaged:
    """A record that could not be read: where it stands, why, and its text as it was."""

    line: int
    column: str
    value: str
    reason: str
    text: str


@dataclass(frozen=True)
class Batch:
    """Consecutive records of a file as text cells.

    ``cells`` are texts, empty ones missing, a column maybe dictionary-encoded. ``lines`` (n,) are
    the lines on which the n records start. ``blank`` counts empty records not among the cells,
    ``continued`` the further lines of records that span several. ``part`` names the part of the
    file they are from, such as a sheet. ``stated`` are sums of columns that the file states outside
    of its rows, each with what it is called. ``headings`` counts lines that say whose the rows below
    them are, ``titles`` those that say again what stands above the header. ``file_lines`` is how many lines the whole file has,
    where a reader counts them apart from its rows and tells it with its last batch.
    """

    lines: np.ndarray
    cells: pa.Table
    damaged: list[Damaged] = field(default_factory=list)
    blank: int = 0
    continued: int = 0
    part: str = ""
    stated: dict[str, tuple[str, Decimal]] = field(default_factory=dict)
    file_lines: int = 0
    headings: int = 0
    titles: int = 0


class Assumed(str):
    """A note of what nothing in a file decides, or another reading of it could deny.

    ``key`` is the key of the table's part of the plan that says otherwise; ``columns`` are those whose
    money it touches, all of it where none is named. ``alike`` is what files say together of
    which each has ``figures`` of its own.
    """

    key: str
    columns: tuple[str, ...]
    alike: str
    figures: str

    def __new__(
        cls, text: str, key: str, columns: Sequence[str] = (), alike: str = "", figures: str = ""
    ) -> Self:
        made = super().__new__(cls, text)
        made.key, made.columns = key, tuple(columns)
        made.alike, made.figures = alike, figures
        return made


@dataclass(frozen=True)
class Layout:
    """What was detected of a file before its rows are read.

    ``notes`` are said in the report, assumptions among them. ``found`` are settings of ``read`` as the
    reader found them. ``settled`` are settings of ``read`` that the file itself states, or
    one beside it. ``sheet`` is the first sheet taken, and ``sheets`` are all, where it has sheets; ``others`` are those of other columns. ``skipped`` counts lines beside the first ``header_line`` that
    hold no rows: the headers of further sheets. ``added`` are columns that no line has: what stands in them is
    told by the name of the file, or by lines above. ``currency`` is what lines above the header state, or nothing; ``year`` the
    month from which on they say that the rows are, as 2025-01; ``titled`` the only year that stands there.
    ``heading`` is a text that stands alone just above the header, ``heads`` are the words of lines that come again on top of
    each page. ``units`` are columns whose cells are shown
    with currencies, and how many have which.
    """

    header: list[str]
    header_line: int
    described: dict[str, str]
    sample: pa.Table
    notes: tuple[str, ...] = field(default=(), kw_only=True)
    skipped: int = field(default=0, kw_only=True)
    sheet: str = field(default="", kw_only=True)
    settled: Mapping[str, Any] = field(default_factory=dict, kw_only=True)
    found: Mapping[str, Any] = field(default_factory=dict, kw_only=True)
    added: tuple[str, ...] = field(default=(), kw_only=True)
    currency: str = field(default="", kw_only=True)
    year: str = field(default="", kw_only=True)
    titled: str = field(default="", kw_only=True)
    heading: str = field(default="", kw_only=True)
    heads: frozenset[str] = field(default=frozenset(), kw_only=True)
    units: Mapping[str, Mapping[str, int]] = field(default_factory=dict, kw_only=True)
    sheets: tuple[str, ...] = field(default=(), kw_only=True)
    others: tuple[str, ...] = field(default=(), kw_only=True)

    @property
    def on_lines(self) -> list[str]:
        """The columns that lines of the file have."""
        return [name for name in self.header if name not in self.added]


class Reader(Protocol):
    """One file format. Readers stream: memory does not grow with the file.

    ``unit`` is what ``lines`` count: lines, rows, entries.
    """

    suffixes: tuple[str, ...]
    unit: str

    def takes(self, path: Path) -> bool:
        """Whether a file with one of the suffixes is of this format, by its beginning."""

    def layout(self, path: Path, settings: ReadSettings) -> Layout:
        """Look at the beginning of a file."""

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        """All records of a file, in order. ``repeated`` are columns of few distinct texts, which
        a reader may hand on dictionary-encoded."""


@dataclass(frozen=True)
class TotalsLine:
    """A totals line of the source, and what the rows above it add up to; line 0 where the file
    states it elsewhere, as ``what``.

    ``agrees`` is true where the figure stated equals the sum of the accepted rows, or of these
    and the quarantined rows whose amount could be read.
    """

    line: int
    column: str
    stated: Decimal
    accepted: Decimal
    quarantined: Decimal
    what: str = ""

    @property
    def agrees(self) -> bool:
        return self.stated in (self.accepted, self.accepted + self.quarantined)


class Ambiguous(UserError):
    """What a file does not tell, with the readings that there are: (what it would be, the setting of
    ``read`` that says so, its value)."""

    def __init__(self, sentence: str, readings: Sequence[tuple[str, str, str]]) -> None:
        super().__init__(sentence)
        self.readings = list(readings)


class OtherEncoding(Exception):
    """A file that begins in one encoding goes on in another; it is read again, in that one."""

    def __init__(self, encoding: str) -> None:
        super().__init__(encoding)
        self.encoding = encoding


@dataclass(frozen=True)
class FileReport:
    """The reconciliation of one file: ``read = accepted + quarantined + totals + blank``.

    ``lines`` is the physical lines: those read, the header and what precedes it, and the
    continuation lines of records that span several.
    """

    file: str
    size: int
    lines: int
    header_lines: int
    continued: int
    accepted: int
    quarantined: int
    totals: int
    blank: int
    columns: tuple[Column, ...]
    detected: dict[str, str]
    roles: dict[str, str]
    sums: dict[str, Decimal]
    quarantined_sums: dict[str, Decimal]
    totals_lines: list[TotalsLine]
    damaged: list[Damaged]
    notes: list[str]
    first_date: str | None = None
    last_date: str | None = None
    sha256: str = ""
    unit: str = "lines"
    replaces: str = ""
    currencies: tuple[str, ...] = ()
    parquet_sha256: str = ""
    minus: tuple[str, ...] | None = None
    """The sides whose amounts had a minus of their own; None where one column has the amounts."""
    how: Mapping[str, Any] = field(default_factory=dict)
    signed: list[dict[str, str | None]] = field(default_factory=list)
    """A few rows whose amount got its sign from elsewhere: the texts, and the amount."""

    @property
    def assumed(self) -> list[Assumed]:
        """What was assumed of the file."""
        return [note for note in self.notes if isinstance(note, Assumed)]

    @property
    def read(self) -> int:
        return self.lines - self.header_lines - self.continued

    @property
    def reconciled(self) -> bool:
        """Every line accounted for, and every totals line equal to the rows."""
        counted = self.accepted + self.quarantined + self.totals + self.blank
        return counted == self.read and all(t.agrees for t in self.totals_lines)

    def as_json(self) -> Json:
        """The report as JSON can hold it."""
        return {
            "file": self.file,
            "sha256": self.sha256,
            "replaces": self.replaces,
            "currencies": list(self.currencies),
            "bytes": self.size,
            "unit": self.unit,
            "lines": self.lines,
            "header_lines": self.header_lines,
            "continued": self.continued,
            "read": self.read,
            "accepted": self.accepted,
            "quarantined": self.quarantined,
            "totals": self.totals,
            "blank": self.blank,
            "reconciled": self.reconciled,
            "columns": [
                {"name": c.name, "type": c.type, "scale": c.scale, "precision": c.precision}
                for c in self.columns
            ],
            "detected": self.detected,
            "roles": self.roles,
            **({} if self.minus is None else {"minus": list(self.minus)}),
            "sums": {k: format(v, "f") for k, v in self.sums.items()},
            "quarantined_sums": {k: format(v, "f") for k, v in self.quarantined_sums.items()},
            "totals_lines": [
                {
                    "line": t.line,
                    "what": t.what,
                    "column": t.column,
                    "stated": format(t.stated, "f"),
                    "accepted": format(t.accepted, "f"),
                    "quarantined": format(t.quarantined, "f"),
                    "agrees": t.agrees,
                }
                for t in self.totals_lines
            ],
            "notes": self.notes,
            "assumptions": [
                {"text": str(a), "key": a.key, "columns": list(a.columns)} for a in self.assumed
            ],
            "signed_rows": self.signed,
            "first_date": self.first_date,
            "last_date": self.last_date,
        }
