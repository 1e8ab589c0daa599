"""Take Parquet files into the case where they lie: nothing is copied, everything is counted."""

from __future__ import annotations

import os
from collections.abc import Collection, Sequence
from dataclasses import replace
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import sqlglot.expressions as exp

from sabueso.base.currencies import written
from sabueso.base.errors import UserError
from sabueso.base.exact import exactly
from sabueso.base.hashing import file_hash
from sabueso.case.folder import Case
from sabueso.case.judging import ToJudge, currency_assumed, judge_files, one_currency
from sabueso.case.plan import rules_of
from sabueso.case.reading import changed, state
from sabueso.case.taken import Known, Read, TakeReport, Taking
from sabueso.case.taking import TRIES, busy, record, reported
from sabueso.intake.formats.currencies import stated_currency
from sabueso.intake.formats.detection import Prior
from sabueso.intake.formats.roles import guess_roles
from sabueso.intake.interface import FileReport
from sabueso.intake.named_currencies import unsaid_currency
from sabueso.intake.readers.choice import readable, reader_for
from sabueso.intake.readers.columnar import opened_parquet
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import intake_engine
from sabueso.population import sql
from sabueso.population.engines import Engine, QueryError
from sabueso.population.figures import figures
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Part, Table

SCALES = (0, 2, 4, 6)
"""Decimals tried, fewest first, for a column of floating-point numbers."""


@exactly
def attach_files(case: Case, asked: Taking) -> TakeReport:
    """Make Parquet files a table of the case, in place; their hashes and sums go to the register.

    A file whose size has changed is refused from then on. Rows are named by the file, as it lies
    under the folder common to all, and their number in it.

    Raises
    ------
    UserError
        If a file is no Parquet, holds nested columns or floating-point numbers that are no decimals
        of up to six places, or was taken in with other content.
    """
    for path in asked.paths:
        if path.suffix.lower() not in (".parquet", ".pq"):
            raise UserError(
                f"{path}: only Parquet files can be attached; take it in without --attach"
            )
    try:
        base = Path(os.path.commonpath([path.resolve().parent for path in asked.paths]))
    except ValueError:
        raise UserError("files on several drives cannot be attached to one table") from None
    for _ in range(TRIES):
        read = _read_in_place(case, asked, base)
        if not read.reports or _record(case, asked, read, base):
            return reported(case, asked, read, kept=True, attached=True)
    raise busy(asked.table)


def _read_in_place(case: Case, asked: Taking, base: Path) -> Read:
    table = asked.table
    section, seen = state(case, table)
    roles = dict(section.roles) if section else {}
    before = {source.sha256: source for source in case.sources(table)}
    names = {source.file: source for source in before.values()}
    settings = section.read if section else ReadSettings()
    if settings.rates:
        raise UserError(
            f"{case.plan_path}: tables.{table}.read.rates make a column of their own, which attached "
            "files do not allow: take them in without --attach"
        )
    found = Read(seen, section, roles)
    engine = intake_engine()
    try:
        for path in asked.paths:
            digest = file_hash(path)
            name = path.resolve().relative_to(base).as_posix()
            if digest in before or any(r.sha256 == digest for r in found.reports):
                at = before[digest].at if digest in before else "this intake"
                found.known.append(Known(name, digest, at))
                continue
            old = names.get(name)
            if old is not None and not asked.replace_old:
                raise changed(path, table)
            known = Prior(
                roles=found.roles, of_none=section.roles_of_none if section else frozenset()
            )
            with readable(path):
                report = _report(path, name, base, known, case.plan.case.currency, engine)
            found.roles = found.roles or report.roles
            replaces = old.sha256 if old is not None else ""
            found.reports.append(replace(report, sha256=digest, replaces=replaces))
            if asked.progress is not None:
                asked.progress(path.name, report.accepted, path.stat().st_size)
        rules = rules_of(case.plan_path, table, section) if section else []
        if rules and found.reports:
            new = [Part(r.columns, (base / r.file,), base) for r in found.reports]
            wanted = ToJudge(table, rules, found.roles, case.sources(table))
            found.reports, found.judged = judge_files(case, wanted, found.reports, new, engine)
    finally:
        engine.close()
    wanted = ToJudge(table, [], found.roles, case.sources(table))
    found.currency = one_currency(case, wanted, settings, found.reports)
    found.reports = currency_assumed(case, table, found.roles, found.reports)
    return found


def _record(case: Case, asked: Taking, read: Read, base: Path) -> bool:
    """Record files where they lie; False where the table has changed meanwhile."""
    with case.locked() as writer:
        if state(case, asked.table)[1] != read.seen:
            return False
        places = []
        for report in read.reports:
            file = base / report.file
            places.append(
                {
                    "parquet": file.as_posix(),
                    "base": base.as_posix(),
                    "parquet_sha256": report.sha256,
                    "parquet_mtime_ns": file.stat().st_mtime_ns,
                }
            )
        record(case, asked, read, writer, places, [])
    return True


def _report(
    path: Path, name: str, base: Path, known: Prior, own: str, engine: Engine
) -> FileReport:
    """Count and sum a file where it lies."""
    reader_for(path).layout(path, ReadSettings())  # a sentence where it cannot be read, or is empty
    columns, notes = _columns(path, base, engine)
    roles = dict(known.roles) or _roles(path, columns, known.of_none)
    whole = (*columns, Column(FILE_COLUMN, "text"), Column(LINE_COLUMN, "number"))
    numbers = [c for c in columns if c.type == "number"]
    try:
        engine.attach(Table("_attached", "", whole, (Part(whole, (path,), base),)))
        asked = _figures(numbers, roles)
        row = figures(asked, lambda select: select.from_("_attached"), engine.query)
        unsaid = _without_currency(roles, engine)
        currencies = _currencies(roles, own, unsaid, engine)
    except QueryError as error:
        raise UserError(f"{path}: cannot be attached: {error}") from None
    return FileReport(
        file=name,
        size=path.stat().st_size,
        lines=row["n"],
        header_lines=0,
        continued=0,
        accepted=row["n"],
        quarantined=0,
        totals=0,
        blank=0,
        columns=whole,
        detected={"form": "Parquet, in place"} | {f"column {c.name}": _shown(c) for c in columns},
        roles=roles,
        sums={c.name: row[f"s{i}"] or Decimal(0) for i, c in enumerate(numbers)},
        quarantined_sums={},
        totals_lines=[],
        damaged=[],
        notes=[*notes, *unsaid_currency(unsaid, own)],
        first_date=row.get("first"),
        last_date=row.get("last"),
        unit="rows",
        currencies=tuple(sorted(currencies)),
    )


def _roles(path: Path, columns: Sequence[Column], of_none: Collection[str]) -> dict[str, str]:
    """Roles guessed of the first rows.

    Raises
    ------
    UserError
        If the amounts are two columns, which only a copy makes one of.
    """
    sample = next(pq.ParquetFile(path).iter_batches(500))
    distinct = {}
    for column in columns:
        values = [v for v in sample.column(column.name).to_pylist() if v is not None]
        distinct[column.name] = (len(set(values)), len(values))
    guessed = guess_roles(columns, distinct).items()
    roles = {str(role): column for role, column in guessed if role not in of_none}
    if "debit" in roles and "amount" not in roles:
        raise UserError(
            f"{path}: amounts stand in a debit and a credit column, which become one only in a "
            "copy: take it in without --attach"
        )
    return roles


def _figures(numbers: Sequence[Column], roles: dict[str, str]) -> list[Tree]:
    """Rows, sums, first and last date."""
    fields: list[Tree] = [exp.alias_(sql.count(), "n")]
    fields += [exp.alias_(exp.Sum(this=sql.column(c.name)), f"s{i}") for i, c in enumerate(numbers)]
    date = roles.get("date")
    if date is not None:
        for figure, which in ((exp.Min, "first"), (exp.Max, "last")):
            fields.append(exp.alias_(sql.cast(figure(this=sql.column(date)), "VARCHAR"), which))
    return fields


def _currencies(roles: dict[str, str], own: str, unsaid: int, engine: Engine) -> list[str]:
    """The currencies stated; of ``unsaid`` amounts beside which none is, the case's is meant."""
    if "currency" not in roles:
        stated = stated_currency(roles.get("amount", ""), {}, own)
        return [] if stated is None else [stated]
    name = roles["currency"]
    listed = exp.select(sql.column(name)).distinct().from_("_attached")
    found = [text for text in engine.query(listed).column(name).to_pylist() if text]
    found += [own] if unsaid else []
    return list(dict.fromkeys(map(written, found)))


def _without_currency(roles: dict[str, str], engine: Engine) -> int:
    """Rows beside whose amount a column of currencies names none."""
    if "currency" not in roles:
        return 0
    unsaid: Tree = sql.is_missing(sql.column(roles["currency"]))
    if "amount" in roles:
        something = exp.NEQ(this=sql.column(roles["amount"]), expression=sql.integer(0))
        unsaid = exp.and_(unsaid, something)
    counted = exp.select(exp.alias_(sql.only(sql.count(), unsaid), "n")).from_("_attached")
    return int(engine.query(counted).to_pylist()[0]["n"])


def _columns(path: Path, base: Path, engine: Engine) -> tuple[tuple[Column, ...], list[str]]:
    """The file's columns as they are read, and what is to be said of them."""
    found, notes = [], []
    with opened_parquet(path) as file:
        schema = file.schema_arrow
    _check_names(path, schema.names)
    for field in schema:
        kind = field.type
        if pa.types.is_dictionary(kind):
            kind = kind.value_type
        if pa.types.is_floating(kind):
            scale = _decimals(path, field.name, base, engine)
            notes.append(
                f"{field.name}: floating-point numbers, all of them decimals of {scale} places"
            )
            found.append(Column(field.name, "number", scale))
        elif pa.types.is_decimal(kind):
            wide = 18 if kind.precision <= 18 else 38
            found.append(Column(field.name, "number", max(kind.scale, 0), wide))
        elif pa.types.is_integer(kind):
            found.append(Column(field.name, "number", 0, 38 if kind.bit_width == 64 else 18))
        elif pa.types.is_date(kind):
            found.append(Column(field.name, "date"))
        elif pa.types.is_timestamp(kind):
            found.append(Column(field.name, "timestamp"))
        elif pa.types.is_time(kind):
            found.append(Column(field.name, "time"))
        elif pa.types.is_nested(kind) or pa.types.is_binary(kind):
            raise UserError(f"{path}: column {field.name!r} holds {kind}, which no test reads")
        else:
            found.append(Column(field.name, "text"))
    return tuple(found), notes


_TAKEN = ("filename", "file_row_number", "_metadata", FILE_COLUMN, LINE_COLUMN)
"""Names under which engines, or this program, tell where a row lies."""


def _check_names(path: Path, names: list[str]) -> None:
    """Columns are read where they lie, under their own names: each must be one, and its own."""
    known: dict[str, str] = {}
    for place, name in enumerate(names, 1):
        folded = name.lower()
        if not name.strip():
            what = f"column {place} has no name"
        elif folded in _TAKEN:
            what = f"column {name!r} has a name that tells where a row lies"
        elif folded in known:
            what = f"columns {known[folded]!r} and {name!r} differ in upper and lower case alone"
        else:
            known[folded] = name
            continue
        raise UserError(
            f"{path}: {what}, which attached files do not allow: take it in without --attach"
        )


def _decimals(path: Path, name: str, base: Path, engine: Engine) -> int:
    """The decimals that hold every float of a column: none is further from one than floats are."""
    plain = Column(name, "text")
    engine.attach(Table("_attached", "", (plain,), (Part((plain,), (path,), base),)))
    value = sql.cast(sql.column(name), "DOUBLE")
    fields: list[Tree] = [exp.alias_(exp.Max(this=exp.Abs(this=value.copy())), "most")]
    for scale in SCALES:
        units = exp.Mul(this=value.copy(), expression=sql.integer(10**scale))
        gap = exp.Sub(this=units, expression=exp.Round(this=exp.paren(units.copy())))
        fields.append(exp.alias_(exp.Max(this=exp.Abs(this=exp.paren(gap))), f"gap{scale}"))
    try:
        row = engine.query(exp.select(*fields).from_("_attached")).to_pylist()[0]
    except QueryError as error:
        raise UserError(f"{path}: column {name!r} cannot be read: {error}") from None
    for scale in SCALES:
        gap, units = row[f"gap{scale}"], (row["most"] or 0) * 10**scale
        # A decimal's nearest float is within half a unit of its last place, 2^-53 of its size.
        if units < 10**15 and (gap or 0) <= max(units, 1) * 2**-51:
            return scale
    raise UserError(
        f"{path}: column {name!r} holds floating-point numbers that are no decimals of up to "
        f"{SCALES[-1]} places: take it in without --attach"
    )


def _shown(column: Column) -> str:
    places = f" of {column.scale} decimals" if column.scale else ""
    return column.type + places
