"""The files of an intake read and judged, before anything is kept."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.base.hashing import Hashes
from sabueso.case.events import Source
from sabueso.case.folder import Case
from sabueso.case.judging import ToJudge, currency_assumed, judge_files, one_currency
from sabueso.case.plan import check_table_name, rules_of
from sabueso.case.plan_parts import TableSection
from sabueso.case.taken import Known, Read, Taking
from sabueso.intake.formats.detection import Prior
from sabueso.intake.interface import FileReport
from sabueso.intake.readers.choice import readable
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import lent_engine, take_file
from sabueso.population.engines import Engine
from sabueso.population.table import Column, Part, Role
from sabueso.screens.rules.declared import AnyRule


def state(case: Case, table: str) -> tuple[TableSection | None, Hashable]:
    """The table's part of the plan, and what tells whether anything that files are read and judged
    by has changed since."""
    check_table_name(table, case.plan.tables)
    section = case.plan.tables.get(table)
    others = (
        {str(rule.get("among", "")).partition(".")[0] for rule in section.rules} if section else ()
    )
    events = tuple(s.event.seq for name in sorted({table, *others}) for s in case.sources(name))
    settings = None if section is None else section.model_dump_json()
    return section, (events, settings, case.plan.case.currency)


def rules_declared(case: Case, table: str) -> list[AnyRule]:
    section = case.plan.tables.get(table)
    return rules_of(case.plan_path, table, section) if section else []


def read_files(case: Case, asked: Taking, shop: Path | None, hashes: Hashes) -> Read:
    """Read the files that are new, into ``shop`` where that is given."""
    section, seen = state(case, asked.table)
    taken = [] if asked.again is not None else case.sources(asked.table)
    prior = _prior(case, taken, section, complete=asked.again is not None)
    _check_signs(case, asked.table, section, taken)
    settings = (section.read if section else ReadSettings()).model_copy(
        update={
            **asked.given,
            "currency": case.plan.case.currency,
            "says_currency": case.plan.case.says_currency,
            "ask": asked.ask,
        }
    )
    found = Read(seen, section, {})
    rules = rules_declared(case, asked.table)
    with lent_engine(alone=bool(rules)) as engine:
        files = _Files(asked, settings, prior, shop, hashes, engine, taken, found)
        for path in asked.paths:
            files.read(path)
        found.roles = dict(files.prior.roles)
        if rules and found.reports:
            new = [Part(r.columns, (p,)) for r, p in zip(found.reports, found.outputs, strict=True)]
            wanted = ToJudge(asked.table, rules, found.roles, taken)
            found.reports, found.judged = judge_files(case, wanted, found.reports, new, engine)
        found.currency = one_currency(
            case, ToJudge(asked.table, rules, found.roles, taken), settings, found.reports
        )
        found.reports = currency_assumed(case, asked.table, found.roles, found.reports)
    return found


@dataclass
class _Files:
    """Files read one after another; the first settles the columns of a table that has none."""

    asked: Taking
    settings: ReadSettings
    prior: Prior
    shop: Path | None
    hashes: Hashes
    engine: Engine
    taken: Sequence[Source]
    found: Read
    sizes: set[int] = field(init=False)
    known: dict[str, Source] = field(init=False)
    names: dict[str, Source] = field(init=False)

    def __post_init__(self) -> None:
        self.sizes = {source.size for source in self.taken}
        self.known = {source.sha256: source for source in self.taken}
        self.names = {source.file: source for source in self.taken}

    def read(self, path: Path) -> None:
        """Read a file, unless its content is known.

        Raises
        ------
        UserError
            If it cannot be read, changes meanwhile, or has the name of another.
        """
        self.hashes.begin(path)
        stat = path.stat()
        if self._is_known(path, stat.st_size):
            return
        self.sizes.add(stat.st_size)
        again = None if self.asked.again is None else self.asked.again[path]
        name = path.name if again is None else again.file
        old = self.names.get(path.name)
        twice = any(report.file == name for report in self.found.reports)
        if twice or (old is not None and not self.asked.replace_old):
            raise changed(path, self.asked.table)
        report = self._taken(path, name)
        now = path.stat()
        if (now.st_size, now.st_mtime_ns) != (stat.st_size, stat.st_mtime_ns):
            raise UserError(f"{path}: the file changed while it was read; nothing was taken in")
        replaces = old.sha256 if old is not None else ""
        self.found.reports.append(replace(report, replaces=replaces))

    def _is_known(self, path: Path, size: int) -> bool:
        """Whether content was met before. Only of a size met before must the hash be known first."""
        if size not in self.sizes:
            return False
        digest = self.hashes.of(path)
        source = self.known.get(digest)
        if source is None and all(r.sha256 != digest for r in self.found.reports):
            return False
        at = source.at if source is not None else "this intake"
        self.found.known.append(Known(path.name, digest, at))
        return True

    def _taken(self, path: Path, name: str) -> FileReport:
        output = None
        if self.shop is not None:
            output = self.shop / f"{len(self.found.outputs)}.parquet"
        with readable(path):
            report = take_file(
                path, output, self.settings, replace(self.prior, called=name), self.engine,
                progress=self.asked.progress,
            )  # fmt: skip
        made = {r: c for r, c in self.prior.roles.items() if c in self.prior.derived}
        report = replace(report, sha256=self.hashes.of(path), roles={**report.roles, **made})
        if output is not None:
            self.found.outputs.append(output)
        if not self.prior.columns:
            columns = {c.name: c for c in report.columns}
            minus = None if report.minus is None else frozenset(report.minus)
            self.prior = replace(self.prior, columns=columns, roles=report.roles, minus=minus)
        return report


SIGNING: tuple[Role, ...] = ("amount", "debit", "credit", "side", "currency")
"""Roles by which amounts get their sign and value as a file is read."""


def _check_signs(
    case: Case, table: str, section: TableSection | None, taken: Sequence[Source]
) -> None:
    """Refuse files that would be read by other roles than those that are there.

    Raises
    ------
    UserError
        If the plan's roles that make the amounts are not those that the last file was read by.
    """
    read = [source for source in taken if not source.base]
    if not read or section is None:
        return
    last = read[-1]
    made = {f"roles.{role}": (last.roles.get(role), section.roles.get(role)) for role in SIGNING}
    if last.minus is not None and section.read.minus is not None:
        made["read.minus"] = str(sorted(last.minus)), str(sorted(section.read.minus))
    for key, (was, now) in made.items():
        if was != now:
            raise UserError(
                f"{case.plan_path}: tables.{table}.{key} is {now or 'none'}, and the files of the "
                f"table were read with {was or 'none'}: read them anew, with sabueso intake --as {table} "
                "--again, or the amounts would not be of one making"
            )


def _prior(
    case: Case, taken: Sequence[Source], section: TableSection | None, *, complete: bool
) -> Prior:
    columns: dict[str, Column] = {}
    for source in taken:
        for column in source.columns:
            columns.setdefault(column.name, column)
    minus = next((s.minus for s in reversed(taken) if s.minus is not None), None)
    if section is None:
        return Prior(columns, minus=minus)
    return Prior(
        columns, dict(section.roles), frozenset(section.columns), complete, section.roles_of_none,
        minus=minus,
    )  # fmt: skip


def changed(path: Path, table: str) -> UserError:
    """What is said of a file whose name is known with other content."""
    return UserError(
        f"{path}: a file of this name was taken into {table!r} with other content; "
        "replace it with --replace, or give the changed file another name"
    )
