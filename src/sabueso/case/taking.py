"""Take files into the case: which are new, where they go, and what the register says of them."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from decimal import Decimal
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from sabueso.base.errors import UserError
from sabueso.base.exact import exactly
from sabueso.base.files import flush_file, sync_folder
from sabueso.base.hashing import Hashes
from sabueso.case.folder import Case, relative
from sabueso.case.judging import Control, controls, judge_files, one_currency
from sabueso.case.plan import TableSection, check_table_name, rules_of, write_table
from sabueso.case.plan_section import section_text
from sabueso.case.quarantine import write_quarantine
from sabueso.case.register import Event, Writer
from sabueso.intake.interface import Assumed, FileReport
from sabueso.intake.readers.audit_export import files_of
from sabueso.intake.rules.judging import RuleReport
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import (
    Prior,
    Progress,
    intake_engine,
    readable,
    reader_for,
    take_file,
)
from sabueso.population.table import Column, Part, Role
from sabueso.screens.rules.declared import AnyRule


@dataclass(frozen=True)
class Known:
    """A file whose content was taken in before."""

    file: str
    sha256: str
    at: str


@dataclass(frozen=True)
class Change:
    """A figure of a table as it was taken in before, and as it is read now."""

    what: str
    before: str
    after: str


@dataclass(frozen=True)
class TakeReport:
    """What an intake did: per file, and in all."""

    table: str
    currency: str
    amount: str | None
    files: list[FileReport]
    known: list[Known]
    kept: bool
    roles: dict[str, str] = field(default_factory=dict)
    controls: list[Control] = field(default_factory=list)
    rules: list[RuleReport] = field(default_factory=list)
    attached: bool = False
    changes: list[Change] = field(default_factory=list)
    plan: str = ""
    """The table's part of the plan as it was found, where nothing was kept."""

    @property
    @exactly
    def assumed(self) -> list[tuple[Assumed, Decimal, int]]:
        """What was assumed, with the money that it touches and in how many files: the most first."""
        found: dict[tuple[str, str], tuple[Assumed, Decimal, int]] = {}
        for report in self.files:
            for each in report.assumed:
                columns = each.columns or ((self.amount,) if self.amount else ())
                money = sum((abs(report.sums.get(c, Decimal(0))) for c in columns), Decimal(0))
                first, before, files = found.get((each, each.key), (each, Decimal(0), 0))
                found[str(each), each.key] = first, before + money, files + 1
            if report is self.files[0]:
                continue
            # What the first file settled for a table is so for all of them.
            for key, (each, before, files) in list(found.items()):
                if each.key.startswith("roles") and each not in report.assumed:
                    money = sum(
                        (abs(report.sums.get(c, Decimal(0))) for c in each.columns), Decimal(0)
                    )
                    found[key] = each, before + money, files + 1
        return sorted(found.values(), key=lambda item: -item[1])

    def total(self, name: str) -> int:
        return sum(getattr(report, name) for report in self.files)

    @property
    @exactly
    def amount_sum(self) -> Decimal | None:
        """Sum of the amounts accepted, exact."""
        if self.amount is None:
            return None
        return sum((r.sums.get(self.amount, Decimal(0)) for r in self.files), Decimal(0))

    @property
    def reconciled(self) -> bool:
        return all(r.reconciled for r in self.files) and all(c.agrees for c in self.controls)

    @property
    def clean(self) -> bool:
        """Nothing quarantined, everything reconciled, every rule kept: what a gate lets pass."""
        kept = all(rule.kept for rule in self.rules)
        return self.reconciled and self.total("quarantined") == 0 and kept

    def as_json(self) -> dict[str, Any]:
        sums = ("lines", "read", "accepted", "quarantined", "totals", "blank", "continued")
        return {
            "table": self.table,
            "currency": self.currency,
            "kept": self.kept,
            "roles": self.roles,
            "amount": self.amount,
            "total": {name: self.total(name) for name in sums}
            | {"amount": None if self.amount_sum is None else format(self.amount_sum, "f")},
            "reconciled": self.reconciled,
            "controls": [control.as_json() for control in self.controls],
            "rules": [rule.as_json() for rule in self.rules],
            "files": [report.as_json() for report in self.files],
            "already_taken": [vars(known) for known in self.known],
            "changes": [vars(change) for change in self.changes],
            "assumed": [
                {"text": str(each), "key": each.key, "amount": format(money, "f"), "files": files}
                for each, money, files in self.assumed
            ],
            "plan": self.plan,
        }


def source_files(case: Case, given: Sequence[str], table: str) -> list[Path]:
    """The files that paths, folders and patterns name; the plan's sources where none is given.

    Raises
    ------
    UserError
        If a path names nothing, or there is nothing to read.
    """
    patterns = list(given)
    base = Path.cwd()
    if not patterns:
        section = case.plan.tables.get(table)
        patterns = section.sources if section else []
        base = case.folder
        if not patterns:
            raise UserError(f"name the files to take in: sabueso intake PATH --as {table}")
    found: list[Path] = []
    for pattern in patterns:
        path = base / pattern
        if path.is_dir():
            files = sorted(p for p in path.iterdir() if p.is_file() and _readable(p))
            if not files:
                raise UserError(f"{pattern}: the folder holds no file that a reader takes")
        elif path.is_file():
            files = _described(path)
        elif any(mark in pattern for mark in "*?["):
            anchor = Path(path.anchor or ".")
            files = sorted(p for p in anchor.glob(str(path.relative_to(anchor))) if p.is_file())
            if not files:
                raise UserError(f"{pattern}: no file matches")
        else:
            raise UserError(f"{pattern}: there is no such file or folder")
        found += [file for file in files if file not in found]
    for file in found:
        try:
            str(file).encode()
        except UnicodeEncodeError:
            raise UserError(
                f"{file}: the file's name is not UTF-8 text, and could not be recorded; take in a copy "
                "under another name"
            ) from None
    return found


def _described(path: Path) -> list[Path]:
    """A file, or the one that an index of files describes.

    Raises
    ------
    UserError
        If it describes several, which are tables of their own.
    """
    named = files_of(path)
    if named is not None and len(named) > 1:
        names = ", ".join(each.name for each in named)
        raise UserError(
            f"{path}: describes {len(named)} tables: {names}; name one of them, or take all in with sabueso "
            f"intake {path.parent}"
        )
    return named or [path]


def _readable(path: Path) -> bool:
    try:
        reader_for(path)
    except UserError:
        return False
    return not path.name.startswith(".")


@dataclass(frozen=True)
class Taking:
    """What an intake was asked for."""

    table: str
    paths: Sequence[Path]
    named: Sequence[str] = ()
    replace_old: bool = False
    origin: dict[str, str] | None = None
    initials: str = ""
    progress: Progress | None = None
    given: Mapping[str, Any] = field(default_factory=dict)
    ask: bool = False
    again: Mapping[Path, Event] | None = None
    """Where the table is read anew, whole: what the register says of each file."""


@dataclass
class Read:
    """What the files of an intake hold, and what the case was when they were read.

    ``outputs`` are the unfinished Parquet files, one a report; none of files that are attached.
    """

    seen: Hashable
    section: TableSection | None
    roles: dict[str, str]
    currency: str = ""
    reports: list[FileReport] = field(default_factory=list)
    known: list[Known] = field(default_factory=list)
    judged: list[RuleReport] = field(default_factory=list)
    outputs: list[Path] = field(default_factory=list)


TRIES = 8
"""How often files are read anew because another command changed the table meanwhile."""


@exactly
def take_in(
    case: Case,
    table: str,
    paths: Sequence[Path],
    *,
    named: Sequence[str] = (),
    keep: bool = True,
    replace_old: bool = False,
    origin: dict[str, str] | None = None,
    initials: str = "",
    progress: Progress | None = None,
    hashes: Hashes | None = None,
    given: Mapping[str, Any] | None = None,
    ask: bool = False,
) -> TakeReport:
    """Read files into a table, all of them or none.

    Parameters
    ----------
    paths : sequence of Path
        The source files.
    named : sequence of str
        The paths or patterns as the user gave them, for the plan's ``sources``.
    keep : bool
        If false, read and report only.
    replace_old : bool
        Whether a changed file takes the place of the one of its name; that one stays in the case,
        superseded.
    origin : dict, optional
        Where the file is from, for the register: the database and the query.
    hashes : Hashes, optional
        Where the hash of a file was begun before.
    given : mapping, optional
        Settings of ``read`` that are not to be detected; they are kept in the plan.
    ask : bool
        Whether somebody is there to be asked what a file does not tell: it is then no assumption.

    Raises
    ------
    UserError
        If a file cannot be read, or a file of that name was taken in with other content.
    """
    asked = Taking(
        table, paths, named, replace_old, origin, initials, progress, _checked(given or {}), ask
    )
    with ExitStack() as stack:
        hashes = hashes or stack.enter_context(Hashes())
        shop = None
        if keep or _rules(case, table):
            shop = stack.enter_context(case.workshop())
        if not keep:
            read = read_files(case, asked, shop, hashes)
            return reported(case, asked, read, kept=False)
        for _ in range(TRIES):
            read = read_files(case, asked, shop, hashes)
            if not read.reports or keep_files(case, asked, read):
                return reported(case, asked, read, kept=True)
    raise busy(table)


def _checked(given: Mapping[str, Any]) -> dict[str, Any]:
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


def state(case: Case, table: str) -> tuple[TableSection | None, Hashable]:
    """The table's part of the plan, and what tells whether anything that files are read and judged
    by has changed since."""
    check_table_name(table, case.plan.tables)
    section = case.plan.tables.get(table)
    others = (
        {str(rule.get("among", "")).partition(".")[0] for rule in section.rules} if section else ()
    )
    events = tuple(e.seq for name in sorted({table, *others}) for e in case.sources(name))
    settings = None if section is None else section.model_dump_json()
    return section, (events, settings, case.plan.case.currency)


def _rules(case: Case, table: str) -> list[AnyRule]:
    section = case.plan.tables.get(table)
    return rules_of(case.plan_path, table, section) if section else []


def read_files(case: Case, asked: Taking, shop: Path | None, hashes: Hashes) -> Read:
    """Read the files that are new, into ``shop`` where that is given."""
    table = asked.table
    section, seen = state(case, table)
    taken = [] if asked.again is not None else case.sources(table)
    prior = prior_of(case, taken, section, complete=asked.again is not None)
    _check_signs(case, table, section, taken)
    before = {event.body["sha256"]: event for event in taken}
    names = {event.body["file"]: event for event in before.values()}
    rules = _rules(case, table)
    settings = (section.read if section else ReadSettings()).model_copy(
        update={**asked.given, "currency": case.plan.case.currency, "ask": asked.ask}
    )
    sizes = {event.body["bytes"] for event in before.values()}
    found = Read(seen, section, {})
    engine = intake_engine()
    try:
        for path in asked.paths:
            hashes.begin(path)
            # Content met before has a size met before: only then must the hash be known first.
            stat = path.stat()
            if stat.st_size in sizes:
                digest = hashes.of(path)
                again = before.get(digest)
                if again is not None or any(r.sha256 == digest for r in found.reports):
                    at = again.at if again is not None else "this intake"
                    found.known.append(Known(path.name, digest, at))
                    continue
            sizes.add(stat.st_size)
            name = path.name if asked.again is None else asked.again[path].body["file"]
            old = names.get(path.name)
            if any(r.file == name for r in found.reports) or (
                old is not None and not asked.replace_old
            ):
                raise changed(path, table)
            output = None if shop is None else shop / f"{len(found.outputs)}.parquet"
            with readable(path):
                report = take_file(
                    path, output, settings, prior, engine, called=name, progress=asked.progress
                )
            replaces = old.body["sha256"] if old is not None else ""
            made = {r: c for r, c in prior.roles.items() if c in prior.derived}
            report = replace(
                report, sha256=hashes.of(path), replaces=replaces, roles={**report.roles, **made}
            )
            now = path.stat()
            if (now.st_size, now.st_mtime_ns) != (stat.st_size, stat.st_mtime_ns):
                raise UserError(f"{path}: the file changed while it was read; nothing was taken in")
            found.reports.append(report)
            if output is not None:
                found.outputs.append(output)
            if not prior.columns:
                columns = {c.name: c for c in report.columns}
                prior = replace(prior, columns=columns, roles=report.roles)
        found.roles = dict(prior.roles)
        if rules and found.reports:
            new = [Part(r.columns, (p,)) for r, p in zip(found.reports, found.outputs, strict=True)]
            found.reports, found.judged = judge_files(
                case, table, rules, found.roles, found.reports, new, engine, taken
            )
        found.currency = one_currency(case, table, found.roles, settings, found.reports, taken)
    finally:
        engine.close()
    return found


SIGNING: tuple[Role, ...] = ("amount", "debit", "credit", "side", "currency")
"""Roles by which amounts get their sign and value as a file is read."""


def _check_signs(
    case: Case, table: str, section: TableSection | None, taken: Sequence[Event]
) -> None:
    """Refuse files that would be read by other roles than those that are there.

    Raises
    ------
    UserError
        If the plan's roles that make the amounts are not those that the last file was read by.
    """
    read = [event.body for event in taken if not event.body.get("base")]
    if not read or section is None:
        return
    for role in SIGNING:
        was, now = read[-1]["roles"].get(role), section.roles.get(role)
        if was != now:
            raise UserError(
                f"{case.plan_path}: tables.{table}.roles.{role} is {now or 'none'}, and the files of the "
                f"table were read with {was or 'none'}: read them anew, with sabueso intake --as {table} "
                "--again, or the amounts would not be of one making"
            )


def prior_of(
    case: Case, taken: Sequence[Event], section: TableSection | None, *, complete: bool
) -> Prior:
    columns: dict[str, Column] = {}
    for event in taken:
        for column in case.part(event).columns:
            columns.setdefault(column.name, column)
    if section is None:
        return Prior(columns)
    return Prior(columns, dict(section.roles), frozenset(section.columns), complete)


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


ORIGIN = ("database", "query")
"""What an event says of a file that is not the client's own."""


def _origin(asked: Taking, report: FileReport) -> dict[str, str]:
    """Where a file's rows are from: as asked, or as they were when it was taken in before."""
    if asked.again is None:
        return asked.origin or {}
    body = next(e.body for e in asked.again.values() if e.body["sha256"] == report.sha256)
    return {key: body[key] for key in ORIGIN if key in body}


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
    places: Sequence[dict[str, Any]],
    made: list[Path],
) -> None:
    """Write quarantine and plan, and tell the register, all under the case's lock.

    ``places`` say where each file's rows lie; ``made`` gets the files written beside them.
    """
    table = asked.table
    write_quarantine(case.folder / "quarantine" / table, read.reports, read.judged, made)
    prefix = read.section.prefix if read.section else case.plan.free_prefix(table)
    write_table(case.plan_path, table, prefix, _sources(case, asked), read.roles, asked.given)
    for report, place in zip(read.reports, places, strict=True):
        writer.append("source", table, asked.initials, report.as_json() | place)
    if read.judged:
        body = {"rules": [rule.as_json() for rule in read.judged]}
        writer.append("rules", table, asked.initials, body)


def changed(path: Path, table: str) -> UserError:
    """What is said of a file whose name is known with other content."""
    return UserError(
        f"{path}: a file of this name was taken into {table!r} with other content; "
        "replace it with --replace, or give the changed file another name"
    )
