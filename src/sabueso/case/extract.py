"""What a database query gives, kept as a source file of the case before it is taken in."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.csv
import sqlalchemy as sa

from sabueso.base.errors import UserError
from sabueso.base.files import flush_file, sync_folder
from sabueso.base.hashing import file_hash
from sabueso.case.folder import Case
from sabueso.case.plan import check_table_name
from sabueso.intake.readers.cells import column_names, text_of

FETCHED = 50_000  # rows at a time: memory does not grow with the result


@dataclass(frozen=True)
class Extract:
    """The file a query's rows were written to, and where they are from, without any password."""

    path: Path
    database: str
    query: str


def extract(case: Case, table: str, url: str, query: str) -> Extract:
    """Run a query and write its rows to ``sources/TABLE/`` as delimited text.

    The same rows give the same file, so that an extract repeated without news is recognised.

    Raises
    ------
    UserError
        If the address cannot be used, the database cannot be reached, or the query fails, gives
        no rows or no result.
    """
    try:
        address = sa.make_url(url)
        shown = address.render_as_string(hide_password=True)
        if address.get_backend_name() == "sqlite" and not Path(address.database or "").is_file():
            raise UserError(f"--from {shown}: there is no such database file")
        engine = sa.create_engine(address)
    except (sa.exc.ArgumentError, sa.exc.NoSuchModuleError, ImportError) as error:
        reason = _first_line(error)
        raise UserError(
            f"--from {_without_password(url)!r} is no database address: {reason}; expected such as "
            "sqlite:///ledger.db or postgresql+psycopg://user@host/name"
        ) from None
    check_table_name(table, case.plan.tables)
    folder = case.folder / "sources" / table
    try:
        with case.workshop() as shop:
            part = shop / "query.csv"
            with engine.connect().execution_options(stream_results=True) as connection:
                _write(connection.execute(sa.text(query)), part, shown)
            flush_file(part)
            # The same rows have the same name, whoever of several commands is the last.
            final = folder / f"query-{file_hash(part)[:12]}.csv"
            folder.mkdir(parents=True, exist_ok=True)
            part.replace(final)
            sync_folder(folder)
    except sa.exc.SQLAlchemyError as error:
        reason = _first_line(getattr(error, "orig", None) or error)
        raise UserError(f"--query on {shown}: {reason}") from None
    finally:
        engine.dispose()
    return Extract(final, shown, query)


def _write(result: sa.CursorResult[Any], part: Path, shown: str) -> None:
    if not result.returns_rows:
        raise UserError(f"--query on {shown}: the statement gives no rows; expected a SELECT")
    names = column_names(list(result.keys()))
    schema = pa.schema([(name, pa.string()) for name in names])
    rows = 0
    with pyarrow.csv.CSVWriter(part, schema) as writer:
        for batch in result.partitions(FETCHED):
            rows += len(batch)
            columns = zip(*batch, strict=True)
            arrays = [pa.array(map(text_of, column), pa.string()) for column in columns]
            writer.write_table(pa.table(arrays, schema=schema))
    if not rows:
        raise UserError(f"--query on {shown}: the query gives no rows")


def _first_line(error: Any) -> str:
    lines = str(error).strip().splitlines()
    return lines[0] if lines else type(error).__name__


def _without_password(url: str) -> str:
    head, at, tail = url.rpartition("@")
    return f"{head.rpartition(':')[0]}:***@{tail}" if at and ":" in head.partition("//")[2] else url
