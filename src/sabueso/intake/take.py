"""Take one source file in: read, convert, set aside, write Parquet, and account for every line."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from importlib.metadata import entry_points
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
import sqlglot.expressions as exp

from sabueso.errors import UserError
from sabueso.intake.formats import (
    TOLERATED,
    DateFormat,
    Format,
    NumberFormat,
    TextFormat,
    decide,
    widened,
)
from sabueso.intake.hashing import file_hash
from sabueso.intake.interface import (
    Batch,
    Damaged,
    FileReport,
    Layout,
    Reader,
    TotalsLine,
)
from sabueso.intake.roles import guess_roles, looks_like_code, looks_like_measure
from sabueso.intake.settings import ReadSettings
from sabueso.population import sql
from sabueso.population.engines import Engine, EngineSettings, open_engine
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Part, Role, Table

Progress = Callable[[str, int, int], None]
"""Called with a file's name, the rows read so far, and the bytes read of the whole."""

SIGNED = "amount"
TOTALS = r"(?i)\W*(?:(?:sub|gran|grand)[ -]?)?(?:total(?:es|s)?|sumas?|sum)\b.*"
TOTALS_COLUMNS = 24
CODE_ROLES: tuple[Role, ...] = (
    "id", "account", "party", "document", "preparer", "approver",
)  # fmt: skip
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
    totals_rows: list[tuple[int, str, Decimal]] = field(default_factory=list)
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
    known: list[str] = []
    for point in entry_points(group="sabueso.readers"):
        reader: Reader = point.load()()
        if path.suffix.lower() in reader.suffixes:
            return reader
        known += reader.suffixes
    raise UserError(f"{path}: no reader for {path.suffix or 'a file without suffix'}; "
                    f"expected {', '.join(sorted(known))}")  # fmt: skip


def take_file(
    path: Path,
    output: Path | None,
    settings: ReadSettings,
    prior: Prior,
    engine: Engine,
    *,
    sha256: str | None = None,
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
    sha256 : str, optional
        The file's hash, where it is known.
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
                    reader, path, output, layout, settings, formats, roles, engine, progress
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
        sha256=sha256 or file_hash(path),
        size=path.stat().st_size,
        lines=layout.header_line + counted + tally.continued,
        header_lines=layout.header_line,
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
        notes=[
            f"{name}: read as {f.described()}; nothing in the file contradicts it"
            for name, f in formats.items()
            if isinstance(f, (DateFormat, NumberFormat)) and f.assumed
        ],
        first_date=_iso(tally.first_date),
        last_date=_iso(tally.last_date),
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
    engine: Engine,
    progress: Progress | None,
) -> tuple[_Tally, tuple[Column, ...]]:
    """One pass over the file."""
    tally = _Tally()
    columns = _columns(layout, formats, roles)
    money = [c.name for c in columns if c.type == "number" and c.name != LINE_COLUMN]
    select = _conversion(layout, formats, roles)
    failures: dict[str, tuple[int, int]] = {}
    schema = _schema(columns)
    size = path.stat().st_size
    writer = None
    try:
        if output is not None:
            writer = pq.ParquetWriter(
                output, schema, compression="zstd", store_decimal_as_integer=True
            )
        for batch in _with_progress(reader.batches(path, layout, settings), path, size, progress):
            tally.damaged += batch.damaged
            tally.blank += batch.blank
            tally.continued += batch.continued
            if not len(batch.lines):
                continue
            raw = batch.cells.append_column(LINE_COLUMN, pa.array(batch.lines, pa.int64()))
            raw = raw.append_column("_record", pa.array(range(len(batch.lines)), pa.int64()))
            found = engine.query(select, raw=raw)
            good = _sort_out(found, batch, layout, formats, settings, roles, money, tally, failures)
            if good.num_rows:
                good = good.append_column(FILE_COLUMN, pa.repeat(path.name, good.num_rows))
                tally.accepted += good.num_rows
                for name in money:
                    total = pc.sum(good.column(name).cast(_wide(good.column(name).type))).as_py()
                    tally.sums[name] = tally.sums.get(name, _zero(columns, name)) + (total or 0)
                _note_dates(good, roles, tally)
                _confirm_orders(good, formats, tally)
                if writer is not None:
                    writer.write_table(good.select(schema.names).cast(schema))
    finally:
        if writer is not None:
            writer.close()
    return tally, columns


def _with_progress(
    batches: Iterator[Batch], path: Path, size: int, progress: Progress | None
) -> Iterator[Batch]:
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


def _schema(columns: tuple[Column, ...]) -> pa.Schema:
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
        elif c.type == "number":
            fields.append(pa.field(c.name, pa.decimal128(c.precision, c.scale)))
        else:
            fields.append(pa.field(c.name, kinds[c.type]))
    return pa.schema(fields)


def _conversion(layout: Layout, formats: dict[str, Format], roles: dict[Role, str]) -> exp.Select:
    """SELECT the values of a batch, the first column that does not fit, and totals lines."""
    inner: list[Tree] = [sql.column(LINE_COLUMN), sql.column("_record")]
    trimmed: dict[str, Tree] = {}
    for i, name in enumerate(layout.header):
        text = exp.Nullif(this=exp.Trim(this=sql.column(name)), expression=sql.text(""))
        inner.append(exp.alias_(text, f"t{i}", quoted=True))
        trimmed[name] = sql.column(f"t{i}")
        if isinstance(formats[name], TextFormat):
            inner.append(sql.column(name))
    texts = exp.select(*inner).from_("raw")
    values: list[Tree] = [sql.column(LINE_COLUMN), sql.column("_record")]
    bad = exp.Case()
    some_can_fail = False
    codes = {roles.get(role) for role in CODE_ROLES}
    middle: list[Tree] = [sql.column(LINE_COLUMN), sql.column("_record")]
    for i, name in enumerate(layout.header):
        middle.append(sql.column(f"t{i}"))
        if isinstance(formats[name], TextFormat):
            # Texts stay as they are, blanks apart; identifiers are trimmed, or links break.
            kept = (
                trimmed[name]
                if name in codes
                else exp.Case().when(
                    exp.Not(this=exp.Is(this=trimmed[name], expression=exp.null())),
                    sql.column(name),
                )
            )
            middle.append(exp.alias_(kept, f"v{i}", quoted=True))
            continue
        middle.append(exp.alias_(formats[name].value(trimmed[name]), f"v{i}", quoted=True))
    converted = exp.select(*middle).from_(texts.subquery("x"))
    for i, name in enumerate(layout.header):
        values.append(exp.alias_(sql.column(f"v{i}"), name, quoted=True))
        if not isinstance(formats[name], TextFormat):
            unread = exp.and_(
                exp.Is(this=sql.column(f"v{i}"), expression=exp.null()),
                exp.Not(this=exp.Is(this=sql.column(f"t{i}"), expression=exp.null())),
            )
            bad = bad.when(unread, sql.integer(i), copy=False)
            some_can_fail = True
    if _is_pair(roles, layout):
        # The pair is known by now: debit less credit, missing where both are.
        at = {name: i for i, name in enumerate(layout.header)}
        debit, credit = (sql.column(f"v{at[roles[role]]}") for role in ("debit", "credit"))
        neither = exp.and_(
            exp.Is(this=debit, expression=exp.null()), exp.Is(this=credit, expression=exp.null())
        )
        zero = sql.integer(0)
        signed = exp.Sub(
            this=exp.Coalesce(this=debit.copy(), expressions=[zero]),
            expression=exp.Coalesce(this=credit.copy(), expressions=[zero.copy()]),
        )
        column = next(c for c in _columns(layout, formats, dict(roles)) if c.name == SIGNED)
        values.append(
            exp.alias_(
                sql.cast(
                    exp.Case().when(exp.Not(this=exp.paren(neither)), signed),
                    f"DECIMAL({column.precision},{column.scale})",
                ),
                SIGNED,
                quoted=True,
            )
        )
    values.append(
        exp.alias_(bad.else_(sql.integer(-1)) if some_can_fail else sql.integer(-1), "_bad")
    )
    values.append(exp.alias_(_is_totals(layout, formats, roles), "_totals"))
    return exp.select(*values).from_(converted.subquery("y"))


def _is_totals(layout: Layout, formats: dict[str, Format], roles: dict[Role, str]) -> Tree:
    """A line without a date (or with half its cells empty) whose first word is a total's."""
    # A totals line says so in its first columns; very wide files are not searched further.
    at = {name: f"t{i}" for i, name in enumerate(layout.header[:TOTALS_COLUMNS])}
    if (named := roles.get("date")) in layout.header:
        at[named] = f"t{layout.header.index(named)}"
    empties = [exp.Is(this=sql.column(t), expression=exp.null()) for t in at.values()]
    date = roles.get("date")
    if date in at:
        lean: Tree = exp.Is(this=sql.column(at[date]), expression=exp.null())
        lean = exp.or_(lean, sql.matches(sql.column(at[date]), TOTALS))
    else:
        total: Tree = sql.integer(0)
        for empty in empties:
            one = exp.Case().when(empty, sql.integer(1)).else_(sql.integer(0))
            total = exp.Add(this=total, expression=exp.paren(one))
        lean = exp.GTE(this=exp.paren(total), expression=sql.integer((len(at) + 1) // 2))
    words = [
        sql.matches(sql.column(at[name]), TOTALS)
        for name in at
        if isinstance(formats[name], TextFormat) or name == date
    ]
    if not words:
        return exp.false()
    some = exp.Coalesce(this=exp.or_(*words), expressions=[exp.false()])
    return exp.Case().when(lean, some).else_(exp.false())


def _sort_out(
    found: pa.Table,
    batch: Batch,
    layout: Layout,
    formats: dict[str, Format],
    settings: ReadSettings,
    roles: dict[Role, str],
    money: list[str],
    tally: _Tally,
    failures: dict[str, tuple[int, int]],
) -> pa.Table:
    """The good rows of a batch; totals lines and unreadable rows go to the tally.

    Raises
    ------
    _Widen
        If a column's texts show that its format was too narrow.
    """
    totals = found.column("_totals")
    bad = pc.and_(pc.not_equal(found.column("_bad"), -1), pc.invert(totals))
    if pc.any(totals).as_py():
        chosen = found.filter(totals)
        tally.totals += chosen.num_rows
        for row in chosen.to_pylist():
            for name in money:
                if name in layout.header and row.get(name) is not None:
                    tally.totals_rows.append((row[LINE_COLUMN], name, row[name]))
    if pc.any(bad).as_py():
        chosen = found.filter(bad)
        cells = batch.cells.take(chosen.column("_record"))
        _widen_or_not(cells, chosen, batch, layout, formats, settings, roles, failures)
        for row, texts in zip(chosen.to_pylist(), cells.to_pylist(), strict=True):
            name = layout.header[row["_bad"]]
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
                if row.get(money_name) is not None:
                    before = tally.quarantined_sums.get(money_name, Decimal(0))
                    tally.quarantined_sums[money_name] = before + row[money_name]
    good = found.filter(pc.invert(pc.or_(totals, bad))) if tally.totals or tally.damaged else found
    return good.drop_columns(["_record", "_bad", "_totals"])


def _widen_or_not(
    cells: pa.Table,
    chosen: pa.Table,
    batch: Batch,
    layout: Layout,
    formats: dict[str, Format],
    settings: ReadSettings,
    roles: dict[Role, str],
    failures: dict[str, tuple[int, int]],
) -> None:
    """Raise _Widen where the failing texts of a column call for another format."""
    for i in sorted(set(chosen.column("_bad").to_pylist())):
        name = layout.header[i]
        texts = cells.filter(pc.equal(chosen.column("_bad"), i)).column(name)
        failing = [v.strip() for v in pc.unique(texts).to_pylist()[:1000]]
        wider = widened(
            formats[name], failing, decimal=settings.decimal, thousands=settings.thousands
        )
        if wider is not None:
            raise _Widen(name, wider)
        count, rows = failures.get(name, (0, 0))
        failures[name] = count + len(texts), rows + len(batch.lines)
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
        )
        for line, name, stated in tally.totals_rows
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
