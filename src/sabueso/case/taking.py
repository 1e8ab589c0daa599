"""Take files into the case: which are new, where they go, and what the register says of them."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from contextlib import ExitStack, suppress
from dataclasses import dataclass, field, replace
from decimal import Decimal
from pathlib import Path
from typing import Any

from sabueso.case.folder import Case, relative
from sabueso.case.judging import Control, controls, judge_files, one_currency
from sabueso.case.plan import TableSection, check_table_name, rules_of, write_table
from sabueso.case.quarantine import write_quarantine
from sabueso.errors import UserError
from sabueso.intake.checks import RuleReport
from sabueso.intake.hashing import Hashes
from sabueso.intake.interface import FileReport
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import Prior, Progress, intake_engine, reader_for, take_file
from sabueso.population.table import Column, Part


@dataclass(frozen=True)
class Known:
    """A file whose content was taken in before."""

    file: str
    sha256: str
    at: str


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

    def total(self, name: str) -> int:
        return sum(getattr(report, name) for report in self.files)

    @property
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
            files = [path]
        elif any(mark in pattern for mark in "*?["):
            anchor = Path(path.anchor or ".")
            files = sorted(p for p in anchor.glob(str(path.relative_to(anchor))) if p.is_file())
            if not files:
                raise UserError(f"{pattern}: no file matches")
        else:
            raise UserError(f"{pattern}: there is no such file or folder")
        found += [file for file in files if file not in found]
    return found


def _readable(path: Path) -> bool:
    try:
        reader_for(path)
    except UserError:
        return False
    return not path.name.startswith(".")


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

    Raises
    ------
    UserError
        If a file cannot be read, or a file of that name was taken in with other content.
    """
    check_table_name(table)
    section = case.plan.tables.get(table)
    prior = prior_of(case, table, section)
    before = {event.body["sha256"]: event for event in case.sources(table)}
    names = {event.body["file"]: event for event in before.values()}
    reports: list[FileReport] = []
    known: list[Known] = []
    temporary: list[tuple[Path, Path]] = []
    rules = rules_of(case.plan_path, table, section) if section else []
    judged: list[RuleReport] = []
    folder = case.folder / "population" / table
    engine = intake_engine()
    read = (section.read if section else ReadSettings()).model_copy(
        update={"currency": case.plan.case.currency}
    )
    sizes = {event.body["bytes"] for event in before.values()}
    with ExitStack() as stack:
        hashes = hashes or stack.enter_context(Hashes())
        try:
            for path in paths:
                hashes.begin(path)
                # Content met before has a size met before: only then must the hash be known first.
                size = path.stat().st_size
                if size in sizes:
                    digest = hashes.of(path)
                    seen = before.get(digest)
                    if seen is not None or any(r.sha256 == digest for r in reports):
                        at = seen.at if seen is not None else "this intake"
                        known.append(Known(path.name, digest, at))
                        continue
                sizes.add(size)
                old = names.get(path.name)
                if any(r.file == path.name for r in reports) or (
                    old is not None and not replace_old
                ):
                    raise changed(path, table)
                output = None
                if keep or rules:
                    folder.mkdir(parents=True, exist_ok=True)
                    # A name that a later try of the same file has too: what a killed one left is
                    # written over.
                    mark = hashlib.sha256(f"{path.name} {size}".encode()).hexdigest()[:16]
                    output = folder / f".{mark}.part"
                    temporary.append((output, folder / "not yet known"))
                report = take_file(path, output, read, prior, engine, progress=progress)
                replaces = old.body["sha256"] if old is not None else ""
                report = replace(report, sha256=hashes.of(path), replaces=replaces)
                if output is not None:
                    temporary[-1] = output, folder / f"{report.sha256[:16]}.parquet"
                reports.append(report)
                if not prior.columns:
                    columns = {c.name: c for c in report.columns}
                    prior = Prior(columns, dict(prior.roles) or report.roles)
            roles = dict(section.roles) if section and section.roles else dict(prior.roles)
            if rules and reports:
                new = [Part(r.columns, (p,)) for r, (p, _) in zip(reports, temporary, strict=True)]
                reports, judged = judge_files(case, table, rules, roles, reports, new, engine)
            currency = one_currency(case, table, roles, read, reports)
            if keep and reports:
                _keep(
                    case, table, section, reports, judged, temporary, list(named), roles, initials,
                    origin,
                )  # fmt: skip
        finally:
            engine.close()
            for part, _ in temporary:
                part.unlink(missing_ok=True)
            if not keep and rules:
                with suppress(OSError):  # not empty: the table has files already
                    folder.rmdir()
                    folder.parent.rmdir()
    return TakeReport(
        table=table,
        currency=currency,
        amount=roles.get("amount"),
        files=reports,
        known=known,
        kept=keep,
        roles=roles,
        controls=controls(case, table, section, reports, roles.get("amount"), keep),
        rules=judged,
    )


def prior_of(case: Case, table: str, section: TableSection | None) -> Prior:
    columns: dict[str, Column] = {}
    for event in case.sources(table):
        for column in case.part(event).columns:
            columns.setdefault(column.name, column)
    return Prior(columns, dict(section.roles) if section else {})


def _keep(
    case: Case,
    table: str,
    section: TableSection | None,
    reports: list[FileReport],
    judged: list[RuleReport],
    temporary: list[tuple[Path, Path]],
    named: list[str],
    roles: dict[str, str],
    initials: str,
    origin: dict[str, str] | None,
) -> None:
    """Move the files into place, write quarantine and plan, then record: the register is last,
    and what it does not know of is no part of the case."""
    for part, final in temporary:
        part.replace(final)
    places = [
        {
            **(origin or {}),
            "parquet": final.relative_to(case.folder).as_posix(),
            "parquet_sha256": report.parquet_sha256,
        }
        for report, (_, final) in zip(reports, temporary, strict=True)
    ]
    record(case, table, section, reports, places, judged, named, roles, initials)


def record(
    case: Case,
    table: str,
    section: TableSection | None,
    reports: Sequence[FileReport],
    places: Sequence[dict[str, str]],
    judged: Sequence[RuleReport],
    named: Sequence[str],
    roles: dict[str, str],
    initials: str,
) -> None:
    """Write quarantine and plan, then the register: ``places`` say where each file's rows lie."""
    write_quarantine(case.folder / "quarantine" / table, reports, judged)
    prefix = section.prefix if section else _prefix(case, table)
    sources = [relative(Path(name), case.folder) if Path(name).exists() else name for name in named]
    write_table(case.plan_path, table, prefix, sources, roles)
    case.plan_changed()
    with case.register.writing() as writer:
        for report, place in zip(reports, places, strict=True):
            writer.append("source", table, initials, report.as_json() | place)
        if judged:
            writer.append("rules", table, initials, {"rules": [rule.as_json() for rule in judged]})


def changed(path: Path, table: str) -> UserError:
    """What is said of a file whose name is known with other content."""
    return UserError(
        f"{path}: a file of this name was taken into {table!r} with other content; "
        "replace it with --replace, or give the changed file another name"
    )


def _prefix(case: Case, table: str) -> str:
    """Three letters for a table's exception ids, unlike those in use."""
    used = {section.prefix for section in case.plan.tables.values()}
    letters = "".join(c for c in table.upper() if c.isalnum())
    for candidate in (letters[:3], letters[:4], letters[:5], letters[:1] + letters[-2:]):
        if len(candidate) >= 2 and candidate not in used:
            return candidate
    return next(f"{letters[:3]}{n}" for n in range(2, 1000) if f"{letters[:3]}{n}" not in used)
