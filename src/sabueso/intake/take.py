"""Take one source file in: read, convert, set aside, write Parquet, and account for every line."""

from __future__ import annotations

import csv
import lzma
import re
import struct
import zipfile
import zlib
from collections import Counter, deque
from collections.abc import Callable, Collection, Generator, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass, field, replace
from datetime import date
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
from sabueso.intake.formats.convert import (
    SIGNED,
    TOTALS_COLUMNS,
    Conversion,
    Converted,
    states_total,
)
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
    Ambiguous,
    Assumed,
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
    headers: int = 0
    continued: int = 0
    file_lines: int = 0
    sums: dict[str, Decimal] = field(default_factory=dict)
    quarantined_sums: dict[str, Decimal] = field(default_factory=dict)
    totals_rows: list[tuple[int, str, Decimal, str]] = field(default_factory=list)
    damaged: list[Damaged] = field(default_factory=list)
    confirmed: set[str] = field(default_factory=set)
    currencies: set[str] = field(default_factory=set)
    odd: dict[str, str] = field(default_factory=dict)
    summed: set[int] = field(default_factory=set)
    ranges: dict[str, list[date]] = field(default_factory=dict)
    absent: Counter[tuple[str, str]] = field(default_factory=Counter)
    credits_signed: bool = False
    signed: list[dict[str, str | None]] = field(default_factory=list)
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
    # What reads any text stands back where another knows the text's form.
    for reader in sorted(fitting, key=lambda each: getattr(each, "reads_any", False)):
        if reader.takes(path):
            return reader
    if fitting:
        raise UserError(f"{path}: no reader takes its content; of {suffix} files those are read that "
                        "are ISO 20022 bank statements (camt.052, .053, .054) or OECD audit files (SAF-T)")  # fmt: skip
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
    called: str = "",
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
    called : str, optional
        What its rows say they are from, where that is not the file's own name.
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
    settings = settings.model_copy(update=dict(layout.settled))
    formats, roles = detect(layout, settings, prior)
    try:
        for _ in range(4 * len(layout.header) + 4):
            try:
                tally, columns = _read(
                    partial(named.batches, path, own, settings),
                    path, called or path.name, output, layout, settings, formats, roles, progress,
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
        _check_told(path, formats, settings, tally)
        _check_mostly_read(path, tally)
    except BaseException:
        if output is not None:
            output.unlink(missing_ok=True)
        raise
    if tally.accepted == 0 and not tally.damaged:
        if output is not None:
            output.unlink(missing_ok=True)
        raise UserError(f"{path}: the file holds a header and no rows")
    counted = tally.accepted + len(tally.damaged) + tally.totals + tally.blank
    headers = layout.header_line + layout.skipped + tally.headers
    lines = headers + counted + tally.continued
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
    texts = _described(formats, columns, roles, settings, added=tally.credits_signed)
    return FileReport(
        file=called or path.name,
        size=path.stat().st_size,
        lines=lines,
        header_lines=headers,
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
        notes=_notes(layout, formats, roles, settings, prior, tally),
        how=_how(layout, formats),
        signed=tally.signed,
        first_date=_iso(tally.first_date),
        last_date=_iso(tally.last_date),
        unit=reader.unit,
        currencies=tuple(sorted(tally.currencies)),
        parquet_sha256=digest,
    )


def _notes(
    layout: Layout,
    formats: Mapping[str, Format],
    roles: Mapping[Role, str],
    settings: ReadSettings,
    prior: Prior,
    tally: _Tally,
) -> list[str]:
    """What is to be said of how a file was read, what was assumed among it."""
    found: list[str] = [*layout.notes, *_differences(layout, settings, prior)]
    if tally.headers:
        again = "once" if tally.headers == 1 else f"{tally.headers:,} times"
        found.append(f"the header stands among the rows {again} more, and is no row")
    for name, f in formats.items():
        if isinstance(f, (DateFormat, NumberFormat)) and f.assumed:
            dated = isinstance(f, DateFormat)
            text = f"{name}: read as {f.described()}; nothing in the file contradicts it{_either(tally, name)}"
            key = "read.dates" if dated else "read.decimal"
            found.append(Assumed(text, key, () if dated else (name,)))
    found += [
        f"{name}: numbers that a program wrote as binary floats are read to 15 digits"
        for name, f in formats.items()
        if isinstance(f, NumberFormat) and "machine" in f.styles
    ]
    found += [
        f"{name}: {text!r} is read as missing, {count:,} time{'s' if count != 1 else ''}"
        for (name, text), count in sorted(tally.absent.items())
    ]
    return found + _assumed_roles(layout, formats, roles, prior, tally)


def _assumed_roles(
    layout: Layout,
    formats: Mapping[str, Format],
    roles: Mapping[Role, str],
    prior: Prior,
    tally: _Tally,
) -> list[Assumed]:
    """What was assumed of the amounts of a table's first file: which they are, and their signs."""
    amount = roles.get("amount")
    if prior.columns or prior.complete or amount is None or "amount" in prior.roles:
        return []
    found: list[Assumed] = []
    if "debit" in roles and "credit" in roles:
        text = f"{amount} is {roles['debit']} less {roles['credit']}"
        if tally.credits_signed:
            text = f"{amount} is {roles['debit']} with {roles['credit']}, which is negative already"
        found.append(Assumed(text, "roles", (roles["debit"], roles["credit"])))
    elif "side" in roles:
        text = f"the sign of {amount} is that of the side in {roles['side']}"
        found.append(Assumed(text, "roles.side", (amount,)))
    given = {*roles.values(), LINE_COLUMN}
    others = [
        name
        for name, f in formats.items()
        if isinstance(f, NumberFormat) and f.scale and name not in given
    ]
    if others:
        text = f"the amounts of the table are those of {amount}, and not {', '.join(others[:4])}"
        found.append(Assumed(text + (" …" if len(others) > 4 else ""), "roles.amount", (amount,)))
    return found


def _how(layout: Layout, formats: Mapping[str, Format]) -> dict[str, Any]:
    """Settings of ``read`` that say what was found, as far as the columns agree."""
    found = dict(layout.found) | {k: v for k, v in layout.settled.items() if k != "types"}
    numbers = [f for f in formats.values() if isinstance(f, NumberFormat)]
    marks = {
        "decimal": {f.decimal for f in numbers if f.scale or f.thousands},
        "thousands": {f.thousands for f in numbers if f.thousands},
        "dates": {f.order for f in formats.values() if isinstance(f, DateFormat) and f.order},
    }
    return found | {name: next(iter(v)) for name, v in marks.items() if len(v) == 1}


MOST_SIGNED = 5


def _note_signed(found: Converted, cells: pa.Table, conversion: Conversion, tally: _Tally) -> None:
    """Keep a few rows whose amount got its sign from another column, of either sign where there are."""
    roles = conversion.roles
    amount = roles.get("amount")
    shown = [roles[role] for role in ("debit", "credit", "side") if role in roles]
    if amount is None or len(tally.signed) >= MOST_SIGNED or not shown:
        return
    if amount in conversion.header:
        shown.insert(0, amount)
    values = found.values.column(amount)
    positive = pc.greater(values, 0).fill_null(False).to_numpy(zero_copy_only=False) & found.good
    negative = pc.less(values, 0).fill_null(False).to_numpy(zero_copy_only=False) & found.good
    places = sorted(
        {*np.flatnonzero(positive)[:3].tolist(), *np.flatnonzero(negative)[:3].tolist()}
    )
    for place in places[: MOST_SIGNED - len(tally.signed)]:
        row: dict[str, str | None] = {
            f"{name} as written": cells.column(name)[place].as_py() for name in shown
        }
        row["line"] = str(found.values.column(LINE_COLUMN)[place].as_py())
        tally.signed.append({**row, amount: format(values[place].as_py(), "f")})


SIGNED_SHARE = 0.95


def _credits_signed(
    layout: Layout, formats: Mapping[str, Format], roles: Mapping[Role, str]
) -> bool:
    """Whether the amounts of the credit column have their minus already."""
    name = roles.get("credit", "")
    if name not in layout.header:
        return False
    texts = [v.strip() for v in layout.sample.column(name).to_pylist() if v and v.strip()]
    values = [v for v in formats[name].read(pa.array(texts, pa.string())).to_pylist() if v]
    return bool(values) and sum(v < 0 for v in values) >= SIGNED_SHARE * len(values)


def _check_told(
    path: Path,
    formats: Mapping[str, Format],
    settings: ReadSettings,
    tally: _Tally,
) -> None:
    """Refuse numbers that may be thousands or decimals, where nothing in the whole file tells; and dates
    that may be of either order of day and month, where somebody is there to be asked."""
    confirmed, odd = tally.confirmed, tally.odd
    for name, found in formats.items():
        if (
            isinstance(found, DateFormat)
            and found.assumed
            and name not in confirmed
            and settings.ask
        ):
            text = _either(tally, name).removeprefix(": ")
            raise Ambiguous(
                f"{path}: the days of column {name!r} may be months, and nothing in the file tells which: {text}",
                [(order, "dates", order) for order in ("day first", "month first")],
            )
        if isinstance(found, NumberFormat) and found.assumed and found.thousands:
            if name in confirmed:
                continue
            text = odd.get(name, f"12{found.thousands}345")
            whole = re.sub(rf"[^0-9({re.escape('-')}]", "", text)
            point = found.thousands
            decimals = re.sub(r"[^0-9.,(-]", "", text).replace(point, ".")
            raise Ambiguous(
                f"{path}: column {name!r} may be read in two ways, {text!r} as {whole} or as "
                f"{decimals}, and nothing in the file tells which; say what its decimal mark is: --decimal "
                f"{found.decimal!r} for {whole}, --decimal {point!r} for {decimals}",
                [(whole, "decimal", found.decimal), (decimals, "decimal", point)],
            )


MOSTLY = 0.5
LEAST_JUDGED = 4


def _check_mostly_read(path: Path, tally: _Tally) -> None:
    """Refuse a file of which more than half would be quarantined: it is not what it was taken for."""
    read = tally.accepted + len(tally.damaged)
    if tally.accepted and len(tally.damaged) <= MOSTLY * read:
        return
    if not tally.damaged or (read < LEAST_JUDGED and tally.accepted):
        return
    first = tally.damaged[0]
    shown = "" if not first.column else f", column {first.column!r}"
    raise UserError(
        f"{path}: {len(tally.damaged):,} of {read:,} lines cannot be read, the first of them line "
        f"{first.line}{shown}: {first.reason}; nothing was taken in. If another line is the header, say so with "
        "--header-line N; a delimiter, an encoding or a column's type is set under read of the table in "
        "case.toml"
    )


def _looked_at(
    reader: Reader, path: Path, settings: ReadSettings, prior: Prior
) -> tuple[Layout, Layout, Named]:
    """A file's own layout, the layout under the table's names, and the reader that gives these."""
    with readable(path):
        own = reader.layout(path, settings)
    named = Named(reader, own_names(own.header, prior.columns), settings.period or "")
    layout = named.layout(path, own)
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
    *,
    added: bool = False,
) -> dict[str, str]:
    """How each column was read, those that were made of others included."""
    texts = {name: f.described() for name, f in formats.items()}
    amount = base_of(roles.get("amount", ""), settings)
    for column in columns:
        if column.name not in texts and not column.is_place:
            pair = "debit with credit, which is negative already" if added else "debit less credit"
            made = pair if column.name == SIGNED else f"{amount} at the plan's rates"
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
    called: str,
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
    added = signed is not None and _credits_signed(layout, formats, roles)
    conversion = Conversion(
        layout.header, formats, roles, signed, converted, base, rates, settings.missing, added
    )
    tally.credits_signed = added
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
            tally.absent += found.absent
            _confirm_marks(batch.cells, formats, tally)
            found = _with_totals_by_sum(found, layout, roles, money, tally)
            _note_totals(found, layout, money, tally)
            _note_damage(found, batch, layout, conversion, settings, money, tally, failures)
            _note_signed(found, batch.cells, conversion, tally)
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
                    written.add(stored(good, called + part, schema))
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


MOST_SUSPECTS = 200
LEAST_SUMMED = 2
MOST_WORDED = 100_000
"""Rows of a file up to which every text is looked at for a total's word."""


def _with_totals_by_sum(
    found: Converted, layout: Layout, roles: Mapping[Role, str], money: list[str], tally: _Tally
) -> Converted:
    """The batch with rows taken for totals that say so by what they add up to, whatever words they have.

    A row is looked at that has no date (where the table has one), or hardly a text, or that begins with a
    total's word; it is a total where every figure in it is the sum of the rows before it, or of those
    since the last total.
    """
    named = [name for name in money if name in layout.header]
    good = found.good
    if not named or not good.any():
        return found
    texts = [n for n in layout.header if n not in money and n != roles.get("date")]
    dated = roles.get("date")
    n = found.values.num_rows
    empty = np.zeros(n, dtype=np.int32)
    for name in texts:
        if found.values.column(name).null_count:
            empty += pc.is_null(found.values.column(name)).to_numpy(zero_copy_only=False)
    lean = empty * 2 >= max(len(texts), 1)
    if dated is not None and dated in layout.header:
        lean = pc.is_null(found.values.column(dated)).to_numpy(zero_copy_only=False)
    for name in texts[:TOTALS_COLUMNS]:
        words = found.values.column(name)
        if pa.types.is_dictionary(words.type) or (
            pa.types.is_string(words.type) and tally.accepted + n <= MOST_WORDED
        ):
            lean = lean | states_total(words.combine_chunks())
    suspects = np.flatnonzero((lean & good) | found.totals)[:MOST_SUSPECTS]
    lines = found.values.column(LINE_COLUMN)
    totals = found.totals.copy()
    since = np.flatnonzero(totals)
    for place in suspects.tolist():
        row = {name: found.values.column(name)[place].as_py() for name in named}
        stated = {name: value for name, value in row.items() if value}
        if not stated or len(stated) * 2 < len([v for v in row.values() if v is not None]):
            continue
        before = good & ~totals
        before[place:] = False
        rows = tally.accepted + int(before.sum())
        last = max([p for p in since.tolist() if p < place], default=-1)
        block = before.copy()
        block[: last + 1] = False
        for chosen, carried in ((before, True), (block, last < 0)):
            if rows < LEAST_SUMMED or (chosen is block and int(block.sum()) < LEAST_SUMMED):
                continue
            kept = found.values.select(list(stated)).filter(pa.array(chosen))
            sums = {
                name: exact_total(kept.column(name))
                + (tally.sums.get(name, Decimal(0)) if carried else Decimal(0))
                for name in stated
            }
            if all(sums[name] == value for name, value in stated.items()):
                totals[place] = True
                since = np.append(since, place)
                tally.summed.add(lines[place].as_py())
                break
    return replace(found, totals=totals) if totals.any() else found


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
    heads = [_is_header(row, layout.header) for row in cells.to_pylist()]
    if any(heads):
        tally.headers += sum(heads)
        places = places[~np.array(heads)]
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


def _is_header(row: Mapping[str, str | None], header: Sequence[str]) -> bool:
    """Whether a row is the header once more, as a report prints it on each page."""
    cells = [" ".join((row[name] or "").split()) for name in header]
    same = sum(cell == name for cell, name in zip(cells, header, strict=True))
    return same * 2 > len(header) and all(
        not cell or name.startswith(cell) for cell, name in zip(cells, header, strict=True)
    )


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


def _confirm_marks(cells: pa.Table, formats: Mapping[str, Format], tally: _Tally) -> None:
    """Texts that tell that assumed thousands are some: two marks in one, or none in a small number."""
    for name, found in formats.items():
        if not (isinstance(found, NumberFormat) and found.assumed and found.thousands):
            continue
        if name in tally.confirmed:
            continue
        texts = pc.unique(cells.column(name).cast(pa.string()))
        mark = re.escape(found.thousands)
        telling = pc.match_substring_regex(
            texts, rf"{mark}[0-9]*{mark}|\A[^0-9.,]*[1-9][0-9]{{0,2}}[^0-9.,]*\z"
        )
        if pc.any(telling).as_py():
            tally.confirmed.add(name)
        elif name not in tally.odd:
            marked = [t for t in texts.to_pylist() if t and found.thousands in t]
            if marked:
                tally.odd[name] = marked[0].strip()


def _either(tally: _Tally, name: str) -> str:
    """Where the dates of a column lie by either order of day and month."""
    if name not in tally.ranges:
        return ""
    low, high, other_low, other_high = tally.ranges[name]
    return (
        f": {low:%Y-%m} to {high:%Y-%m}, by the other order of day and month {other_low:%Y-%m} to "
        f"{other_high:%Y-%m}"
    )


def _note_either(good: pa.Table, name: str, tally: _Tally) -> None:
    days = [d for d in pc.unique(good.column(name).cast(pa.date32())).to_pylist() if d is not None]
    if not days:
        return
    swapped = [d.replace(month=d.day, day=d.month) for d in days if d.day <= 12]
    ends = [min(days), max(days), *([min(swapped), max(swapped)] if swapped else [])]
    if len(ends) == 4:
        known = tally.ranges.get(name, ends)
        tally.ranges[name] = [
            min(known[0], ends[0]), max(known[1], ends[1]), min(known[2], ends[2]), max(known[3], ends[3])
        ]  # fmt: skip


def _confirm_orders(good: pa.Table, formats: Mapping[str, Format], tally: _Tally) -> None:
    """A day above 12 anywhere in the file settles an order of day and month that was assumed."""
    for name, found in formats.items():
        if isinstance(found, DateFormat) and found.assumed and name not in tally.confirmed:
            latest = pc.max(pc.day(good.column(name))).as_py()
            if latest is not None and latest > 12:
                tally.confirmed.add(name)
                tally.ranges.pop(name, None)
            else:
                _note_either(good, name, tally)


def _totals_lines(tally: _Tally) -> list[TotalsLine]:
    return [
        TotalsLine(
            line=line,
            column=name,
            stated=stated,
            # A total of a block, or of the rows so far, is that of the rows above it.
            accepted=stated if line in tally.summed else tally.sums.get(name, Decimal(0)),
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
