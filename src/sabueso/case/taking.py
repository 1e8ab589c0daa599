"""Take files into the case: which are new, where they go, and what the register says of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from sabueso.base.errors import UserError
from sabueso.base.exact import exactly
from sabueso.base.files import flush_file, sync_folder
from sabueso.base.hashing import Hashes
from sabueso.base.plain import Json, Values
from sabueso.case.folder import Case
from sabueso.case.judging import controls
from sabueso.case.layout import relative
from sabueso.case.plan_section import section_text
from sabueso.case.plan_writing import write_currency, write_table
from sabueso.case.quarantine import write_quarantine
from sabueso.case.reading import read_files, rules_declared, state
from sabueso.case.register import Writer
from sabueso.case.taken import Read, TakeReport, Taking
from sabueso.intake.interface import FileReport
from sabueso.intake.settings import ReadSettings

TRIES = 8
"""How often files are read anew because another command changed the table meanwhile."""


@exactly
def take_in(
    case: Case, asked: Taking, *, keep: bool = True, hashes: Hashes | None = None
) -> TakeReport:
    """Read files into a table, all of them or none.

    Parameters
    ----------
    keep : bool
        If false, read and report only.
    hashes : Hashes, optional
        Where the hash of a file was begun before.

    Raises
    ------
    UserError
        If a file cannot be read, or a file of that name was taken in with other content.
    """
    asked = replace(asked, given=_checked(asked.given))
    with ExitStack() as stack:
        hashes = hashes or stack.enter_context(Hashes())
        shop = None
        if keep or rules_declared(case, asked.table):
            shop = stack.enter_context(case.workshop())
        if not keep:
            read = read_files(case, asked, shop, hashes)
            return reported(case, asked, read, kept=False)
        for _ in range(TRIES):
            read = read_files(case, asked, shop, hashes)
            if not read.reports or keep_files(case, asked, read):
                return reported(case, asked, read, kept=True)
    raise busy(asked.table)


def _checked(given: Mapping[str, Any]) -> Values:
    """Settings of ``read`` as they are kept.

    Raises
    ------
    UserError
        If one is none.
    """
    try:
        known = ReadSettings(**given)
    except ValidationError as error:
        first = error.errors()[0]
        name = "-".join(map(str, first["loc"])) or "read"
        message = first["msg"].removeprefix("Value error, ")
        raise UserError(f"--{name} {given.get(name)!r}: {message}") from None
    return {name: getattr(known, name) for name in given}


def busy(table: str) -> UserError:
    """What is said where a table never stays as it is for as long as its files are read."""
    return UserError(
        f"other commands changed table {table!r} each of the {TRIES} times that its files were read; "
        "nothing was taken in, try again when they are done"
    )


def reported(
    case: Case, asked: Taking, read: Read, *, kept: bool, attached: bool = False
) -> TakeReport:
    """What an intake did, as it is shown."""
    amount = read.roles.get("amount")
    if not any(column.name == amount for r in read.reports for column in r.columns):
        amount = None  # of the plan's making: it is no column of the files
    return TakeReport(
        table=asked.table,
        currency=read.currency,
        amount=amount,
        files=read.reports,
        known=read.known,
        kept=kept,
        roles=read.roles,
        controls=controls(case, asked.table, read.section, read.reports, amount, kept),
        rules=read.judged,
        attached=attached,
        plan="" if kept or not read.reports else _section(case, asked, read),
    )


def _section(case: Case, asked: Taking, read: Read) -> str:
    """The table's part of the plan for what was read and not kept."""
    first = read.reports[0].how
    how = {k: v for k, v in first.items() if all(r.how.get(k) == v for r in read.reports)}
    prefix = read.section.prefix if read.section else case.plan.free_prefix(asked.table)
    return section_text(
        asked.table, prefix, _sources(case, asked), {**how, **asked.given}, read.roles
    )


def _sources(case: Case, asked: Taking) -> list[str]:
    """The files of an intake as the plan names them."""
    return [
        relative(Path(name), case.folder) if Path(name).exists() else name for name in asked.named
    ]


def keep_files(case: Case, asked: Taking, read: Read) -> bool:
    """Move the files into place and record them; False where the table has changed meanwhile.

    The register is last, and what it does not know of is no part of the case.
    """
    for output in read.outputs:
        flush_file(output)
    made: list[Path] = []
    writer = None
    try:
        with case.locked() as writer:
            if state(case, asked.table)[1] != read.seen:
                return False
            folder = case.folder / "population" / asked.table
            folder.mkdir(parents=True, exist_ok=True)
            places = []
            for report, output in zip(read.reports, read.outputs, strict=True):
                final = _free(folder, report.sha256[:16], ".parquet")
                made.append(final)
                output.replace(final)
                stat = final.stat()
                places.append(
                    {
                        **_origin(asked, report),
                        "parquet": final.relative_to(case.folder).as_posix(),
                        "parquet_sha256": report.parquet_sha256,
                        "parquet_bytes": stat.st_size,
                        "parquet_mtime_ns": stat.st_mtime_ns,
                    }
                )
            sync_folder(folder)
            record(case, asked, read, writer, places, made)
    except BaseException:
        if writer is None or not writer.committed:
            for path in made:
                path.unlink(missing_ok=True)
        raise
    return True


def _origin(asked: Taking, report: FileReport) -> dict[str, str]:
    """Where a file's rows are from: as asked, or as they were when it was taken in before."""
    if asked.again is None:
        return asked.origin or {}
    return next(s.origin for s in asked.again.values() if s.sha256 == report.sha256)


def _free(folder: Path, stem: str, suffix: str) -> Path:
    """A file of that name which is not there yet: the same content may have been taken before, read
    otherwise."""
    names = (f"{stem}{suffix}", *(f"{stem}-{n}{suffix}" for n in range(2, 10_000)))
    return next(folder / name for name in names if not (folder / name).exists())


def record(
    case: Case,
    asked: Taking,
    read: Read,
    writer: Writer,
    places: Sequence[Json],
    made: list[Path],
) -> None:
    """Write quarantine and plan, and tell the register, all under the case's lock.

    ``places`` say where each file's rows lie; ``made`` gets the files written beside them.
    """
    table = asked.table
    write_quarantine(case.folder / "quarantine" / table, read.reports, read.judged, made)
    prefix = read.section.prefix if read.section else case.plan.free_prefix(table)
    write_table(case.plan_path, table, prefix, _sources(case, asked), read.roles, asked.given)
    # A column of several currencies tells which each amount is in, and not which the case is.
    named = {each for report in read.reports for each in report.currencies}
    stated = read.currency if "currency" not in read.roles or len(named) == 1 else ""
    said = case.plan.case
    unsaid = bool(stated) and not said.says_currency and any(r.currencies for r in read.reports)
    if (unsaid or stated not in ("", said.currency)) and _is_first_money(case, table):
        write_currency(case.plan_path, read.currency, table)
    for report, place in zip(read.reports, places, strict=True):
        writer.append("source", table, asked.initials, report.as_json() | place)
    if read.judged:
        body = {"rules": [rule.as_json() for rule in read.judged]}
        writer.append("rules", table, asked.initials, body)


def _is_first_money(case: Case, table: str) -> bool:
    """Whether no other table has amounts: what the first ones state is the case's currency."""
    others = (name for name in case.plan.tables if name != table)
    return not any("amount" in case.plan.tables[n].roles and case.sources(n) for n in others)
