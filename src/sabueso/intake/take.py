"""Take one source file in: read, convert, set aside, write Parquet, and account for every line."""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import cache
from importlib.metadata import entry_points
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
import sqlglot.expressions as exp

from sabueso.errors import UserError
from sabueso.intake.convert import CODE_ROLES, SIGNED, Conversion, Converted
from sabueso.intake.formats import (
    TOLERATED,
    DateFormat,
    Format,
    NumberFormat,
    TextFormat,
    decide,
    widened,
)
from sabueso.intake.interface import (
    Batch,
    Damaged,
    FileReport,
    Layout,
    Reader,
    TotalsLine,
)
from sabueso.intake.roles import guess_roles, looks_like_code, looks_like_date, looks_like_measure
from sabueso.intake.settings import ReadSettings
from sabueso.intake.source import plain_suffix
from sabueso.population import sql
from sabueso.population.engines import Engine, EngineSettings, open_engine
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Part, Role, Table

Progress = Callable[[str, int, int], None]
"""Called with a file's name, the rows read so far, and the bytes read of the whole."""

MONEY_ROLES: tuple[Role, ...] = ("amount", "debit", "credit")


class _Widen(Exception):
    """A column's texts need another format than the sample told; the file is read again."""

    def __init__(self, column: str, format: Format) -> None:
        super().__init__(column)
        self.column, self.format = column, format


@dataclass(frozen=True)
class Prior:
    """What earlier files of the same table settled: columns, roles."""

    columns: Mapping[str, Column] = field(default_factory=dict)
    roles: Mapping[str, str] = field(default_factory=dict)


@dataclass
class _Tally:
    accepted: int = 0
    totals: int = 0
    blank: int = 0
    continued: int = 0
    sums: dict[str, Decimal] = field(default_factory=dict)
    quarantined_sums: dict[str, Decimal] = field(default_factory=dict)
    totals_rows: list[tuple[int, str, Decimal, str]] = field(default_factory=list)
    damaged: list[Damaged] = field(default_factory=list)
    confirmed: set[str] = field(default_factory=set)
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
    layout = reader.layout(path, settings)
    _check_columns(path, layout, prior)
    formats, roles = _detect(layout, settings, prior)
    try:
        for _ in range(4 * len(layout.header) + 4):
            try:
                tally, columns = _read(
                    reader, path, output, layout, settings, formats, roles, progress
                )
                break
            except _Widen as wider:
                formats[wider.column] = wider.format
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
    if output is not None:
        _verify(path, output, tally, engine)
    for name in tally.confirmed:
        formats[name] = replace(formats[name], assumed=False)  # type: ignore[type-var]
    texts = {name: f.described() for name, f in formats.items()}
    counted = tally.accepted + len(tally.damaged) + tally.totals + tally.blank
    return FileReport(
        file=path.name,
        size=path.stat().st_size,
        lines=layout.header_line + layout.skipped + counted + tally.continued,
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
        + [
            f"{name}: read as {f.described()}; nothing in the file contradicts it"
            for name, f in formats.items()
            if isinstance(f, (DateFormat, NumberFormat)) and f.assumed
        ],
        first_date=_iso(tally.first_date),
        last_date=_iso(tally.last_date),
        unit=reader.unit,
    )


def _check_columns(path: Path, layout: Layout, prior: Prior) -> None:
    """Columns are matched by name; one that the table lacks, or has, is said and refused."""
    if not prior.columns:
        return
    have, want = set(layout.header), {n for n in prior.columns if not n.startswith("_")}
    if SIGNED not in have and prior.roles.get("amount") == SIGNED:
        want.discard(SIGNED)  # made from the debit and credit columns
    missing, surplus = sorted(want - have), sorted(have - want)
    if missing or surplus:
        parts = [f"lacks {', '.join(missing)}"] if missing else []
        parts += [f"adds {', '.join(surplus)}"] if surplus else []
        raise UserError(
            f"{path}, line {layout.header_line}: the header {' and '.join(parts)} against the "
            "columns taken before; take it as another table with --as, or mend the header"
        )


def _detect(
    layout: Layout, settings: ReadSettings, prior: Prior
) -> tuple[dict[str, Format], dict[Role, str]]:
    """Formats and roles by the sample, by what is given, and by what is settled."""
    samples = {
        name: [v.strip() for v in layout.sample.column(name).to_pylist() if v and v.strip()]
        for name in layout.header
    }
    role_of = {column: role for role, column in prior.roles.items()}

    def format_of(name: str, decimal: str | None) -> Format:
        kind = settings.types.get(name)
        known = prior.columns.get(name)
        if kind is None and known is not None:
            kind = {"timestamp": "date", "time": "date"}.get(known.type, known.type)
        code = role_of.get(name) in CODE_ROLES or (name not in role_of and looks_like_code(name))
        if kind is None and code and role_of.get(name) in CODE_ROLES:
            kind = "text"
        return decide(
            samples[name],
            kind=kind,
            decimal=decimal,
            thousands=settings.thousands,
            dates=settings.dates,
            code=code,
            dated=looks_like_date(name),
            tolerated=0.3 if looks_like_measure(name) else TOLERATED,
        )

    formats = {name: format_of(name, settings.decimal) for name in layout.header}
    if settings.decimal is None:
        # A column whose marks are ambiguous follows the columns of the file that are not.
        sure = [
            f.decimal
            for f in formats.values()
            if isinstance(f, NumberFormat) and f.scale and not f.assumed
        ]
        if sure:
            mark = max(set(sure), key=sure.count)
            for name, found in list(formats.items()):
                if isinstance(found, NumberFormat) and found.assumed:
                    formats[name] = format_of(name, mark)
    columns = [formats[name].column(name) for name in layout.header]
    if prior.roles:
        roles = {r: c for r, c in prior.roles.items() if c in layout.header}
        return formats, roles  # type: ignore[return-value]
    distinct = {name: (len(set(values)), len(values)) for name, values in samples.items()}
    guessed = guess_roles(columns, distinct)
    for role in CODE_ROLES:
        if role in guessed:
            formats[guessed[role]] = TextFormat()
    return formats, guessed


def _read(
    reader: Reader,
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
    columns = _columns(layout, formats, roles)
    money = [c.name for c in columns if c.type == "number" and c.name != LINE_COLUMN]
    signed = next((c for c in columns if c.name == SIGNED and SIGNED not in layout.header), None)
    conversion = Conversion(layout.header, formats, roles, signed)
    repeated = _repeated(layout, formats)
    failures: dict[str, tuple[int, int]] = {}
    schema = _schema(columns, repeated)
    writer = None
    batches = reader.batches(path, layout, settings, repeated)
    try:
        if output is not None:
            writer = pq.ParquetWriter(
                output,
                schema,
                compression="lz4",  # every query unpacks it again; zstd takes half longer for 40 % less
                store_decimal_as_integer=True,
                use_dictionary=[f.name for f in schema if _is_repeated(f)],
                # The least and greatest text of a block serve nobody and cost a third of the time.
                write_statistics=[f.name for f in schema if _is_ordered(f)],
                column_encoding={LINE_COLUMN: "DELTA_BINARY_PACKED"},
            )
        for batch, found in _converted(_with_progress(batches, path, progress), conversion):
            tally.damaged += batch.damaged
            tally.blank += batch.blank
            tally.continued += batch.continued
            tally.totals_rows += [
                (0, name, stated, what)
                for name, (what, stated) in batch.stated.items()
                if name in money
            ]
            if not len(batch.lines):
                continue
            tally.blank += int(found.blank.sum())
            _note_totals(found, layout, money, tally)
            _note_damage(found, batch, layout, formats, settings, roles, money, tally, failures)
            keep = found.good
            good = found.values if keep.all() else found.values.filter(pa.array(keep))
            if good.num_rows:
                tally.accepted += good.num_rows
                for name in money:
                    total = pc.sum(good.column(name).cast(_wide(good.column(name).type))).as_py()
                    tally.sums[name] = tally.sums.get(name, _zero(columns, name)) + (total or 0)
                _note_dates(good, roles, tally)
                _confirm_orders(good, formats, tally)
                if writer is not None:
                    part = f"#{batch.part}" if batch.part else ""
                    writer.write_table(_stored(good, path.name + part, schema))
    finally:
        # Threads that read ahead end before anything else happens to the file.
        batches.close()
        if writer is not None:
            writer.close()
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


def _repeated(layout: Layout, formats: Mapping[str, Format]) -> set[str]:
    """Columns whose sample repeats its texts: they are read and stored by their distinct texts."""
    found = set()
    for name in layout.header:
        texts = layout.sample.column(name)
        # 500 rows of a column of 50,000 texts, as many as still pay, repeat two or three of them.
        few = pc.count_distinct(texts).as_py() <= 0.995 * len(texts)
        if len(texts) and few and formats[name].type != "number":
            found.add(name)
    return found


def _is_repeated(field: pa.Field) -> bool:
    return bool(pa.types.is_dictionary(field.type) or pa.types.is_temporal(field.type))


def _is_ordered(field: pa.Field) -> bool:
    return field.name == FILE_COLUMN or not (
        pa.types.is_dictionary(field.type) or pa.types.is_string(field.type)
    )


def _stored(good: pa.Table, file: str, schema: pa.Schema) -> pa.Table:
    """Values under the file's schema, with the file's name in each row."""
    named = pa.DictionaryArray.from_arrays(
        pa.repeat(pa.scalar(0, pa.int32()), good.num_rows), pa.array([file])
    )
    good = good.append_column(FILE_COLUMN, named)
    arrays = []
    for wanted in schema:
        column = good.column(wanted.name)
        if pa.types.is_dictionary(wanted.type) and not pa.types.is_dictionary(column.type):
            column = column.dictionary_encode()
        arrays.append(column if column.type == wanted.type else column.cast(wanted.type))
    return pa.table(arrays, schema=schema)


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


def _columns(
    layout: Layout, formats: dict[str, Format], roles: dict[Role, str]
) -> tuple[Column, ...]:
    """Columns of the table, the signed amount and the row's place included."""
    columns = [formats[name].column(name) for name in layout.header]
    if _is_pair(roles, layout):
        pair = [formats[roles[role]].column(roles[role]) for role in ("debit", "credit")]
        columns.append(
            Column(SIGNED, "number", max(c.scale for c in pair), max(c.precision for c in pair))
        )
        roles["amount"] = SIGNED
    return (*columns, Column(FILE_COLUMN, "text"), Column(LINE_COLUMN, "number"))


def _is_pair(roles: Mapping[Role, str], layout: Layout) -> bool:
    return (
        "debit" in roles
        and "credit" in roles
        and SIGNED not in layout.header
        and roles.get("amount") in (None, SIGNED)
    )


def _schema(columns: tuple[Column, ...], repeated: set[str]) -> pa.Schema:
    encoded = pa.dictionary(pa.int32(), pa.string())
    kinds = {
        "text": pa.string(),
        "date": pa.date32(),
        "timestamp": pa.timestamp("us"),
        "time": pa.time64("us"),
    }
    fields = []
    for c in columns:
        if c.name == LINE_COLUMN:
            fields.append(pa.field(c.name, pa.int64()))
        elif c.name == FILE_COLUMN or (c.type == "text" and c.name in repeated):
            fields.append(pa.field(c.name, encoded))
        elif c.type == "number":
            fields.append(pa.field(c.name, pa.decimal128(c.precision, c.scale)))
        else:
            fields.append(pa.field(c.name, kinds[c.type]))
    return pa.schema(fields)


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
    formats: dict[str, Format],
    settings: ReadSettings,
    roles: dict[Role, str],
    money: list[str],
    tally: _Tally,
    failures: dict[str, tuple[int, int]],
) -> None:
    """Set aside the rows of a batch that do not fit.

    Raises
    ------
    _Widen
        If a column's texts show that its format was too narrow.
    """
    places = np.flatnonzero((found.bad >= 0) & ~found.totals)
    if not len(places):
        return
    cells = batch.cells.take(pa.array(places))
    bad = found.bad[places]
    _widen_or_not(cells, bad, len(batch.lines), layout, formats, settings, roles, failures)
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
                reason=f"expected {formats[name].described().removesuffix(' (assumed)')}",
                text=_joined(texts.values()),
            )
        )
        for money_name in money:
            if row[money_name] is not None:
                before = tally.quarantined_sums.get(money_name, Decimal(0))
                tally.quarantined_sums[money_name] = before + row[money_name]


def _widen_or_not(
    cells: pa.Table,
    bad: np.ndarray,
    rows_read: int,
    layout: Layout,
    formats: dict[str, Format],
    settings: ReadSettings,
    roles: dict[Role, str],
    failures: dict[str, tuple[int, int]],
) -> None:
    """Raise _Widen where the failing texts of a column call for another format."""
    for i in sorted(set(bad.tolist())):
        name = layout.header[i]
        texts = cells.column(name).filter(pa.array(bad == i))
        failing = [v.strip() for v in pc.unique(texts).to_pylist()[:1000]]
        wider = widened(
            formats[name], failing, decimal=settings.decimal, thousands=settings.thousands
        )
        if wider is not None:
            raise _Widen(name, wider)
        count, rows = failures.get(name, (0, 0))
        failures[name] = count + len(texts), rows + rows_read
        count, rows = failures[name]
        declared = name in settings.types or roles.get("amount") == name or _in_pair(roles, name)
        # So many texts that do not fit are no damage: the column is not what the sample showed.
        if not declared and count > 20 and count > 4 * TOLERATED * rows:
            raise _Widen(name, TextFormat())


def _in_pair(roles: Mapping[Role, str], name: str) -> bool:
    return name in (roles.get("debit"), roles.get("credit"), roles.get("date"))


def _joined(cells: Any) -> str:
    return " | ".join("" if c is None else str(c) for c in cells)


def _wide(kind: pa.DataType) -> pa.DataType:
    return pa.decimal128(38, kind.scale)


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


def _verify(path: Path, output: Path, tally: _Tally, engine: Engine) -> None:
    """Read the Parquet file back: the rows and the sums that were counted must be in it."""
    columns = tuple(
        Column(f.name, "number", f.type.scale, f.type.precision)
        for f in pq.read_schema(output)
        if pa.types.is_decimal(f.type)
    )
    attached = (*columns, Column(FILE_COLUMN, "text"))
    engine.attach(Table("written", "", attached, (Part(attached, (output,)),)))
    fields: list[Tree] = [exp.alias_(sql.count(), "n")]
    fields += [exp.alias_(exp.Sum(this=sql.column(c.name)), f"s{i}") for i, c in enumerate(columns)]
    row = engine.query(exp.select(*fields).from_("written")).to_pylist()[0]
    sums = {c.name: row[f"s{i}"] or Decimal(0) for i, c in enumerate(columns)}
    if row["n"] != tally.accepted or any(sums[n] != tally.sums.get(n, 0) for n in sums):
        raise RuntimeError(f"{path}: what was written differs from what was read")


def _iso(value: Any) -> str | None:
    return None if value is None else re.sub("T", " ", value.isoformat())
