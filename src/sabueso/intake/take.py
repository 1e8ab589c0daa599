"""Take one source file in: read, convert, set aside, write Parquet, and account for every line."""

from __future__ import annotations

import csv
import lzma
import re
import struct
import zipfile
import zlib
from collections import deque
from collections.abc import Callable, Collection, Generator, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import cache, partial
from importlib.metadata import entry_points
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.errors import ProgramFault, UserError
from sabueso.base.exact import within_digits
from sabueso.intake.formats.convert import SIGNED, Conversion, Converted
from sabueso.intake.formats.dates import DateFormat
from sabueso.intake.formats.deciding import Format
from sabueso.intake.formats.detection import (
    Prior,
    Widen,
    base_of,
    check_columns,
    columns_of,
    detect,
    differing,
    widen_or_not,
)
from sabueso.intake.formats.names import Named, own_names
from sabueso.intake.formats.numbers import MOST_DIGITS, NumberFormat, too_long
from sabueso.intake.interface import (
    Batch,
    Damaged,
    FileReport,
    Layout,
    OtherEncoding,
    Reader,
    TotalsLine,
)
from sabueso.intake.parquet import (
    Written,
    repeated_columns,
    schema_of,
    stored,
    verify,
)
from sabueso.intake.readers.source import plain_suffix
from sabueso.intake.settings import ReadSettings
from sabueso.population.engines import Engine, EngineSettings, open_engine
from sabueso.population.table import LINE_COLUMN, Column, Role, exact_total

Progress = Callable[[str, int, int], None]
"""Called with a file's name, the rows read so far, and the bytes read of the whole."""

MONEY_ROLES: tuple[Role, ...] = ("amount", "debit", "credit")


@dataclass
class _Tally:
    accepted: int = 0
    totals: int = 0
    blank: int = 0
    continued: int = 0
    file_lines: int = 0
    sums: dict[str, Decimal] = field(default_factory=dict)
    quarantined_sums: dict[str, Decimal] = field(default_factory=dict)
    totals_rows: list[tuple[int, str, Decimal, str]] = field(default_factory=list)
    damaged: list[Damaged] = field(default_factory=list)
    confirmed: set[str] = field(default_factory=set)
    currencies: set[str] = field(default_factory=set)
    first_date: Any = None
    last_date: Any = None


def intake_engine() -> Engine:
    """The engine that converts and verifies: in this process, whatever the plan's is."""
    return open_engine(EngineSettings(keep_order=True))


def reader_for(path: Path) -> Reader:
    """The reader for a file's suffix, through the entry-point group ``sabueso.readers``.

    Raises
    ------
    UserError
        If no reader takes it.
    """
    suffix = plain_suffix(path)
    readers: list[Reader] = [point.load()() for point in _reader_points()]
    fitting = [reader for reader in readers if suffix in reader.suffixes]
    for reader in fitting:
        if reader.takes(path):
            return reader
    if fitting:
        raise UserError(f"{path}: no reader takes its content; of {suffix} files those are read that "
                        "are ISO 20022 camt.053 statements or OECD audit files (SAF-T)")  # fmt: skip
    known = sorted({each for reader in readers for each in reader.suffixes})
    raise UserError(f"{path}: no reader for {suffix or 'a file without suffix'}; "
                    f"expected {', '.join(known)}, or one of them packed as .gz or .zip")  # fmt: skip


@cache
def _reader_points() -> tuple[Any, ...]:
    return tuple(entry_points(group="sabueso.readers"))


def take_file(
    path: Path,
    output: Path | None,
    settings: ReadSettings,
    prior: Prior,
    engine: Engine,
    *,
    progress: Progress | None = None,
) -> FileReport:
    """Read a file into a Parquet file, or only report on it.

    Parameters
    ----------
    path : Path
        The source file.
    output : Path or None
        The Parquet file to write; None reads and reports, keeping nothing. On an error the file
        is removed.
    settings : ReadSettings
        What is given and not to be detected.
    prior : Prior
        Columns and roles that the table has already.
    engine : Engine
        One that keeps the order of its inputs (:func:`intake_engine`).
    progress : callable, optional
        Told about rows as they are read.

    Raises
    ------
    UserError
        If the file cannot be a table: empty, without rows, or with columns that contradict the
        table's.
    """
    reader = reader_for(path)
    own, layout, named = _looked_at(reader, path, settings, prior)
    formats, roles = detect(layout, settings, prior)
    try:
        for _ in range(4 * len(layout.header) + 4):
            try:
                tally, columns = _read(
                    partial(named.batches, path, own, settings),
                    path, output, layout, settings, formats, roles, progress,
                )  # fmt: skip
                break
            except Widen as wider:
                formats[wider.column] = wider.format
            except OtherEncoding as other:
                settings = settings.model_copy(update={"encoding": other.encoding})
                own, layout, named = _looked_at(reader, path, settings, prior)
                formats, roles = detect(layout, settings, prior)
        else:
            raise UserError(f"{path}: the columns' formats contradict each other from row to row")
    except BaseException:
        if output is not None:
            output.unlink(missing_ok=True)
        raise
    if tally.accepted == 0 and not tally.damaged:
        if output is not None:
            output.unlink(missing_ok=True)
        raise UserError(f"{path}: the file holds a header and no rows")
    counted = tally.accepted + len(tally.damaged) + tally.totals + tally.blank
    lines = layout.header_line + layout.skipped + counted + tally.continued
    if tally.file_lines and tally.file_lines != lines:
        raise ProgramFault(
            f"{path}: {lines:,} {reader.unit} are accounted for, and the file has "
            f"{tally.file_lines:,}; nothing was taken in"
        )
    digest = ""
    if output is not None:
        digest = verify(path, output, tally.accepted, tally.sums, engine)
    for name in tally.confirmed:
        formats[name] = replace(formats[name], assumed=False)  # type: ignore[type-var]
    texts = _described(formats, columns, roles, settings)
    return FileReport(
        file=path.name,
        size=path.stat().st_size,
        lines=lines,
        header_lines=layout.header_line + layout.skipped,
        continued=tally.continued,
        accepted=tally.accepted,
        quarantined=len(tally.damaged),
        totals=tally.totals,
        blank=tally.blank,
        columns=columns,
        detected=layout.described | {f"column {name}": text for name, text in texts.items()},
        roles={str(role): name for role, name in roles.items()},
        sums=tally.sums,
        quarantined_sums=tally.quarantined_sums,
        totals_lines=_totals_lines(tally),
        damaged=sorted(tally.damaged, key=lambda d: d.line),
        notes=list(layout.notes)
        + _differences(layout, settings, prior)
        + [
            f"{name}: read as {f.described()}; nothing in the file contradicts it"
            for name, f in formats.items()
            if isinstance(f, (DateFormat, NumberFormat)) and f.assumed
        ],
        first_date=_iso(tally.first_date),
        last_date=_iso(tally.last_date),
        unit=reader.unit,
        currencies=tuple(sorted(tally.currencies)),
        parquet_sha256=digest,
    )


def _looked_at(
    reader: Reader, path: Path, settings: ReadSettings, prior: Prior
) -> tuple[Layout, Layout, Named]:
    """A file's own layout, the layout under the table's names, and the reader that gives these."""
    with readable(path):
        own = reader.layout(path, settings)
    named = Named(reader, own_names(own.header, prior.columns))
    layout = named.layout(own)
    check_columns(path, layout, settings, prior)
    return own, layout, named


@contextmanager
def readable(path: Path) -> Iterator[None]:
    """What a library says of a damaged or odd file, as one sentence."""
    try:
        yield
    except _UNREADABLE as error:
        raise UserError(f"{path}: cannot be read: {_reason(error)}") from error
    except BaseException as error:
        # Of the spreadsheet library, whose compiled part has faults that are no exceptions like
        # others; it is not loaded for other files.
        kinds = {kind.__name__ for kind in type(error).__mro__}
        if not kinds & {"PanicException", "CalamineError"}:
            raise
        raise UserError(f"{path}: cannot be read, the file is damaged: {_reason(error)}") from error


def _reason(error: BaseException) -> str:
    text = (str(error).strip().splitlines() or ["no reason is known"])[0]
    return f"{text[:1].lower()}{text[1:]}"


_UNREADABLE = (
    pa.ArrowException, EOFError, UnicodeError, RecursionError, MemoryError, OverflowError,
    NotImplementedError, zlib.error, lzma.LZMAError, zipfile.BadZipFile, SyntaxError,
    struct.error, csv.Error,
)  # fmt: skip
"""What the libraries that read files raise of a file, and not of a fault in the call."""


def _described(
    formats: Mapping[str, Format],
    columns: Sequence[Column],
    roles: Mapping[Role, str],
    settings: ReadSettings,
) -> dict[str, str]:
    """How each column was read, those that were made of others included."""
    texts = {name: f.described() for name, f in formats.items()}
    amount = base_of(roles.get("amount", ""), settings)
    for column in columns:
        if column.name not in texts and not column.is_place:
            made = "debit less credit" if column.name == SIGNED else f"{amount} at the plan's rates"
            texts[column.name] = made
    if "side" in roles and amount in texts:
        texts[amount] += f", sign by {roles['side']}"
    return texts


def _differences(layout: Layout, settings: ReadSettings, prior: Prior) -> list[str]:
    lacking, adding = differing(layout, settings, prior)
    notes = [f"lacks {', '.join(lacking)} of the table: missing there"] if lacking else []
    return notes + ([f"adds {', '.join(adding)} to the table"] if adding else [])


def _read(
    batches_of: Callable[[Collection[str]], Generator[Batch]],
    path: Path,
    output: Path | None,
    layout: Layout,
    settings: ReadSettings,
    formats: dict[str, Format],
    roles: dict[Role, str],
    progress: Progress | None,
) -> tuple[_Tally, tuple[Column, ...]]:
    """One pass over the file."""
    tally = _Tally()
    columns = columns_of(layout, formats, roles, settings)
    money = [c.name for c in columns if c.type == "number" and c.name != LINE_COLUMN]
    signed = next((c for c in columns if c.name == SIGNED and SIGNED not in layout.header), None)
    converted, base = None, ""
    if settings.rates and "currency" in roles and "amount" in roles:
        converted = next(c for c in columns if c.name == roles["amount"])
        base = base_of(converted.name, settings)
    rates = {settings.currency: Decimal(1), **settings.rates}
    conversion = Conversion(layout.header, formats, roles, signed, converted, base, rates)
    repeated = repeated_columns(layout, formats)
    failures: dict[str, tuple[int, int]] = {}
    schema = schema_of(columns, repeated)
    with ExitStack() as stack:
        written = None if output is None else stack.enter_context(Written(output, schema))
        # Threads that read ahead end before anything else happens to the file.
        batches = stack.enter_context(closing(batches_of(repeated)))
        stack.enter_context(readable(path))
        for batch, found in _converted(_with_progress(batches, path, progress), conversion):
            tally.damaged += batch.damaged
            tally.blank += batch.blank
            tally.continued += batch.continued
            tally.file_lines = max(tally.file_lines, batch.file_lines)
            tally.totals_rows += [
                (0, name, stated, what)
                for name, (what, stated) in batch.stated.items()
                if name in money
            ]
            if not len(batch.lines):
                continue
            tally.blank += int(found.blank.sum())
            _note_totals(found, layout, money, tally)
            _note_damage(found, batch, layout, conversion, settings, money, tally, failures)
            keep = found.good
            good = found.values if keep.all() else found.values.filter(pa.array(keep))
            if good.num_rows:
                tally.accepted += good.num_rows
                for name in money:
                    total = exact_total(good.column(name))
                    total += tally.sums.get(name, _zero(columns, name))
                    tally.sums[name] = within_digits(total, f"{path}: the sum of {name!r}")
                _note_dates(good, roles, tally)
                tally.currencies |= currencies_of(good, roles, settings)
                _confirm_orders(good, formats, tally)
                if written is not None:
                    part = f"#{batch.part}" if batch.part else ""
                    written.add(stored(good, path.name + part, schema))
    return tally, columns


def _converted(
    batches: Iterator[Batch], conversion: Conversion
) -> Iterator[tuple[Batch, Converted]]:
    """Batches with their values, in order; one is converted while another is written."""
    waiting: deque[tuple[Batch, Future[Converted]]] = deque()
    with ThreadPoolExecutor(1) as pool:
        for batch in batches:
            waiting.append((batch, pool.submit(conversion.convert, batch)))
            if len(waiting) > 1:
                done, found = waiting.popleft()
                yield done, found.result()
        for done, found in waiting:
            yield done, found.result()


def _with_progress(
    batches: Iterator[Batch], path: Path, progress: Progress | None
) -> Iterator[Batch]:
    size = path.stat().st_size
    done = rows = 0
    for batch in batches:
        yield batch
        rows += len(batch.lines)
        done = min(size, done + (16 << 20))
        if progress is not None:
            progress(path.name, rows, done)


def _note_totals(found: Converted, layout: Layout, money: list[str], tally: _Tally) -> None:
    """Count the totals lines of a batch and keep the figures they state."""
    if not found.totals.any():
        return
    tally.totals += int(found.totals.sum())
    stated = [name for name in money if name in layout.header]
    chosen = found.values.filter(pa.array(found.totals)).select([*stated, LINE_COLUMN])
    for row in chosen.to_pylist():
        for name in stated:
            if row[name] is not None:
                tally.totals_rows.append((row[LINE_COLUMN], name, row[name], ""))


def _note_damage(
    found: Converted,
    batch: Batch,
    layout: Layout,
    conversion: Conversion,
    settings: ReadSettings,
    money: list[str],
    tally: _Tally,
    failures: dict[str, tuple[int, int]],
) -> None:
    """Set aside the rows of a batch that do not fit.

    Raises
    ------
    Widen
        If a column's texts show that its format was too narrow.
    """
    places = np.flatnonzero((found.bad >= 0) & ~found.totals)
    if not len(places):
        return
    cells = batch.cells.take(pa.array(places))
    bad = found.bad[places]
    formats, roles = dict(conversion.formats), dict(conversion.roles)
    widen_or_not(cells, bad, len(batch.lines), layout, formats, settings, roles, failures)
    chosen = found.values.select([*money, LINE_COLUMN]).take(pa.array(places))
    for position, row, texts in zip(
        bad.tolist(), chosen.to_pylist(), cells.to_pylist(), strict=True
    ):
        name = layout.header[position]
        tally.damaged.append(
            Damaged(
                line=row[LINE_COLUMN],
                column=name,
                value=texts[name],
                reason=_why_not(conversion, name, texts[name]),
                text=_joined(texts.values()),
            )
        )
        for money_name in money:
            if row[money_name] is not None:
                before = tally.quarantined_sums.get(money_name, Decimal(0))
                tally.quarantined_sums[money_name] = before + row[money_name]


def _why_not(conversion: Conversion, name: str, text: str) -> str:
    if isinstance(conversion.formats[name], NumberFormat) and too_long(text):
        return f"more than {MOST_DIGITS} digits, which cannot be kept exact"
    return f"expected {conversion.expected(name)}"


def _joined(cells: Any) -> str:
    return " | ".join("" if c is None else str(c) for c in cells)


def _zero(columns: tuple[Column, ...], name: str) -> Decimal:
    scale = next(c.scale for c in columns if c.name == name)
    return Decimal(0).scaleb(-scale)


def _note_dates(good: pa.Table, roles: Mapping[Role, str], tally: _Tally) -> None:
    name = roles.get("date")
    if name is None:
        return
    both = pc.min_max(good.column(name)).as_py()
    if both["min"] is not None:
        tally.first_date = min(filter(None, (tally.first_date, both["min"])))
        tally.last_date = max(filter(None, (tally.last_date, both["max"])))


def _confirm_orders(good: pa.Table, formats: Mapping[str, Format], tally: _Tally) -> None:
    """A day above 12 anywhere in the file settles an order of day and month that was assumed."""
    for name, found in formats.items():
        if isinstance(found, DateFormat) and found.assumed and name not in tally.confirmed:
            latest = pc.max(pc.day(good.column(name))).as_py()
            if latest is not None and latest > 12:
                tally.confirmed.add(name)


def _totals_lines(tally: _Tally) -> list[TotalsLine]:
    return [
        TotalsLine(
            line=line,
            column=name,
            stated=stated,
            accepted=tally.sums.get(name, Decimal(0)),
            quarantined=tally.quarantined_sums.get(name, Decimal(0)),
            what=what,
        )
        for line, name, stated, what in tally.totals_rows
    ]


def currencies_of(rows: pa.Table, roles: Mapping[Role, str], settings: ReadSettings) -> set[str]:
    """Currencies of rows; where none is stated, the case's is meant."""
    name = roles.get("currency")
    if name is None or name not in rows.column_names:
        return set()
    found = pc.unique(rows.column(name).cast(pa.string())).to_pylist()
    return {text or settings.currency for text in found}


def _iso(value: Any) -> str | None:
    return None if value is None else re.sub("T", " ", value.isoformat())
