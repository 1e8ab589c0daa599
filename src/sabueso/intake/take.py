"""Take one source file in: read, convert, set aside, write Parquet, and account for every line."""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, closing, contextmanager
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.errors import ProgramFault, UserError
from sabueso.base.exact import exactly, within_digits
from sabueso.intake.damage import note_damage, tell_more
from sabueso.intake.doubts import check_mostly_read, check_told, confirm_marks, confirm_orders
from sabueso.intake.formats.called import worded
from sabueso.intake.formats.convert import SIGNED, Conversion, Converted
from sabueso.intake.formats.currencies import stated_currency
from sabueso.intake.formats.detection import Prior, Told, Widen
from sabueso.intake.formats.header_words import RUNNING
from sabueso.intake.interface import Batch, FileReport, OtherEncoding
from sabueso.intake.named_currencies import named_currencies, unsaid_currency
from sabueso.intake.parquet import Written, repeated_columns, schema_of, stored, verify
from sabueso.intake.readers.choice import readable
from sabueso.intake.readers.source import CHUNK
from sabueso.intake.reading import Reading
from sabueso.intake.settings import ReadSettings
from sabueso.intake.told import described, how_read, note_signed, notes_of
from sabueso.intake.totals import note_balances, note_totals, totals_lines, with_totals_by_sum
from sabueso.population.engines import Engine, EngineSettings, open_engine
from sabueso.population.table import exact_total

Progress = Callable[[str, int, int], None]
"""Called with a file's name, the rows read so far, and the bytes read of the whole."""


def intake_engine() -> Engine:
    """The engine that converts and verifies: in this process, whatever the plan's is."""
    return open_engine(EngineSettings(keep_order=True))


_idle: list[Engine] = []


@contextmanager
def lent_engine(*, alone: bool) -> Iterator[Engine]:
    """An engine for the files of one table; unless it is to be ``alone``, one that this process has used before: to open
    one takes longer than to read back a small file."""
    engine = intake_engine() if alone or not _idle else _idle.pop()
    try:
        yield engine
    except BaseException:  # whatever state it is in
        engine.close()
        raise
    if alone:
        engine.close()
    else:
        _idle.append(engine)


@exactly
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
    reading = Reading.of(path, settings, prior)
    try:
        reading, digest = _read_whole(reading, output, progress)
        check_told(reading)
        check_mostly_read(path, reading.tally, reading.reader.unit)
        if reading.tally.accepted == 0 and not reading.tally.damaged:
            raise UserError(f"{path}: the file holds a header and no rows")
    except BaseException:
        if output is not None:
            output.unlink(missing_ok=True)
        raise
    lines, headers = _lines(reading)
    if output is not None:
        verify(path, output, reading.tally.accepted, reading.tally.sums, engine)
    for name in reading.tally.confirmed:
        reading.formats[name] = replace(reading.formats[name], assumed=False)  # type: ignore[type-var]
    return replace(_report(reading), lines=lines, header_lines=headers, parquet_sha256=digest)


def _read_whole(
    reading: Reading, output: Path | None, progress: Progress | None
) -> tuple[Reading, str]:
    """Passes over a file until its formats fit all of it; and the SHA-256 of what was written."""
    for _ in range(5 * len(reading.layout.header) + 4):
        try:
            return reading, _pass(reading, output, progress)
        except Widen as wider:
            reading.formats[wider.column] = wider.format
        except Told as late:
            reading = reading.told(late.texts)
        except OtherEncoding as other:
            reading = reading.in_encoding(other.encoding)
    raise UserError(f"{reading.path}: the columns' formats contradict each other from row to row")


def _lines(reading: Reading) -> tuple[int, int]:
    """The lines of a file and those of its headers.

    Raises
    ------
    ProgramFault
        If the reader counted others than were accounted for.
    """
    tally, layout = reading.tally, reading.layout
    headers = layout.header_line + layout.skipped + tally.headers + tally.headings + tally.titles
    counted = tally.accepted + len(tally.damaged) + tally.totals + tally.blank
    lines = headers + counted + tally.continued
    if tally.file_lines and tally.file_lines != lines:
        raise ProgramFault(
            f"{reading.path}: {lines:,} {reading.reader.unit} are accounted for, and the file has "
            f"{tally.file_lines:,}; nothing was taken in"
        )
    return lines, headers


def _report(reading: Reading) -> FileReport:
    """A file's report, but for what is counted of its lines and its Parquet."""
    tally = reading.tally
    texts = {f"column {name}": text for name, text in described(reading).items()}
    return FileReport(
        file=reading.called,
        size=reading.path.stat().st_size,
        lines=0,
        header_lines=0,
        continued=tally.continued,
        accepted=tally.accepted,
        quarantined=len(tally.damaged),
        totals=tally.totals,
        blank=tally.blank,
        columns=reading.columns,
        detected=reading.layout.described | texts,
        roles={str(role): name for role, name in reading.roles.items()},
        sums=tally.sums,
        quarantined_sums=tally.quarantined_sums,
        totals_lines=totals_lines(tally),
        damaged=sorted(tally.damaged, key=lambda d: d.line),
        notes=[
            *notes_of(reading),
            *_of_another_currency(reading),
            *unsaid_currency(reading.tally.without_currency, reading.settings.currency),
        ],
        minus=None if reading.signed is None else tuple(sorted(reading.minus)),
        how=how_read(reading),
        signed=tally.signed,
        first_date=_iso(tally.first_date),
        last_date=_iso(tally.last_date),
        unit=reading.reader.unit,
        currencies=_currencies(reading),
    )


def _currencies(reading: Reading) -> tuple[str, ...]:
    """The currencies of the rows: as a column names them, else as the amounts state it of themselves."""
    named = reading.tally.currencies
    if named or reading.settings.rates or "currency" in reading.roles:
        return tuple(sorted(named))
    amount = reading.roles.get("amount", "")
    sides = [reading.roles[r] for r in ("debit", "credit") if r in reading.roles]
    names = sides if amount == SIGNED and sides else [amount]
    # What an account stands at after each row is in the currency of the rows.
    carried = [name for name in reading.layout.header if not RUNNING.isdisjoint(worded(name))]
    own = reading.settings.currency
    for each in (names, carried):
        stated = {stated_currency(name, reading.formats, own) for name in each}
        if found := tuple(sorted(filter(None, stated))):
            return found
    return tuple(filter(None, [reading.layout.currency]))


def _of_another_currency(reading: Reading) -> list[str]:
    """What is said where the amounts state a currency that is not the case's."""
    if "currency" in reading.roles:
        return []
    own, said = reading.settings.currency, reading.settings.says_currency
    by = "the lines above them state" if reading.layout.currency else "they state themselves"
    another = f", and not in {own} as the case is" if said else ""
    return [
        f"the amounts are in {stated}, as {by}{another}"
        for stated in _currencies(reading)
        if stated != own
    ]


def _pass(reading: Reading, output: Path | None, progress: Progress | None) -> str:
    """One pass over the file; returns the SHA-256 of what was written, where anything was to be.

    Raises
    ------
    Widen, Told, OtherEncoding
        If the file has to be read once more, otherwise.
    """
    path = reading.path
    conversion, untold = reading.begin(), reading.untold
    repeated = repeated_columns(reading.layout, reading.formats)
    schema = schema_of(reading.columns, repeated)
    with ExitStack() as stack:
        written = None if output is None else stack.enter_context(Written(output, schema))
        # Threads that read ahead end before anything else happens to the file.
        given = reading.named.batches(path, reading.own, reading.settings, repeated)
        batches = stack.enter_context(closing(given))
        stack.enter_context(readable(path))
        for batch, found in _converted(_with_progress(batches, path, progress), conversion):
            _note_batch(batch, reading)
            if not len(batch.lines):
                continue
            tell_more(batch, untold)
            good = _sorted_out(batch, found, reading, conversion)
            if good.num_rows:
                _note_good(good, reading)
                if written is not None:
                    part = f"#{batch.part}" if batch.part else ""
                    written.add(stored(good, reading.called + part, schema))
    return written.sha256 if written is not None else ""


def _note_batch(batch: Batch, reading: Reading) -> None:
    """What a reader tells of a batch beside its rows."""
    tally, money = reading.tally, reading.money
    tally.damaged += batch.damaged
    tally.blank += batch.blank
    tally.headings += batch.headings
    tally.titles += batch.titles
    tally.continued += batch.continued
    tally.file_lines = max(tally.file_lines, batch.file_lines)
    tally.totals_rows += [
        (0, name, stated, what) for name, (what, stated) in batch.stated.items() if name in money
    ]


def _sorted_out(
    batch: Batch, found: Converted, reading: Reading, conversion: Conversion
) -> pa.Table:
    """The rows of a batch that are the table's; blank ones, totals and damaged ones are counted."""
    reading.tally.blank += int(found.blank.sum())
    reading.tally.absent += found.absent
    confirm_marks(batch.cells, reading.formats, reading.tally)
    found = with_totals_by_sum(batch, found, reading)
    note_totals(found, batch, reading)
    note_balances(found, batch, reading)
    note_damage(found, batch, reading, conversion)
    note_signed(found, batch.cells, reading)
    keep = found.good
    return found.values if keep.all() else found.values.filter(pa.array(keep))


def _note_good(good: pa.Table, reading: Reading) -> None:
    """Count and sum the rows that are kept."""
    tally = reading.tally
    tally.accepted += good.num_rows
    scales = {c.name: c.scale for c in reading.columns}
    for name in reading.money:
        total = exact_total(good.column(name))
        total += tally.sums.get(name, Decimal(0).scaleb(-scales[name]))
        tally.sums[name] = within_digits(total, f"{reading.path}: the sum of {name!r}")
    dated = reading.roles.get("date")
    if dated is not None:
        both = pc.min_max(good.column(dated)).as_py()
        if both["min"] is not None:
            tally.first_date = min(filter(None, (tally.first_date, both["min"])))
            tally.last_date = max(filter(None, (tally.last_date, both["max"])))
    named, unsaid = named_currencies(good, reading.roles)
    tally.without_currency += unsaid
    tally.currencies |= named | ({reading.settings.currency} if unsaid else set())
    confirm_orders(good, reading.formats, tally)


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
        done = min(size, done + CHUNK)
        if progress is not None:
            progress(path.name, rows, done)


def _iso(value: Any) -> str | None:
    return None if value is None else re.sub("T", " ", value.isoformat())
