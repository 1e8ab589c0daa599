"""What an intake is asked for, what its files hold, and what it did."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from sabueso.base.exact import exactly
from sabueso.base.plain import Json
from sabueso.case.events import Source
from sabueso.case.judging import Control
from sabueso.case.plan_parts import TableSection
from sabueso.intake.interface import Assumed, FileReport
from sabueso.intake.rules.judging import RuleReport
from sabueso.intake.take import Progress


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
                name = each.alike or str(each)
                first, before, files = found.get((name, each.key), (each, Decimal(0), 0))
                found[name, each.key] = _together(first, each), before + money, files + 1
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
    @exactly
    def amount_set_aside(self) -> Decimal:
        """Sum of the amounts that could be read of rows that were set aside, exact."""
        name = self.amount or ""
        return sum((r.quarantined_sums.get(name, Decimal(0)) for r in self.files), Decimal(0))

    @property
    def reconciled(self) -> bool:
        return all(r.reconciled for r in self.files) and all(c.agrees for c in self.controls)

    @property
    def clean(self) -> bool:
        """Nothing quarantined, everything reconciled, every rule kept: what a gate lets pass."""
        kept = all(rule.kept for rule in self.rules)
        return self.reconciled and self.total("quarantined") == 0 and kept

    def as_json(self) -> Json:
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


@dataclass(frozen=True)
class Taking:
    """What an intake is asked for.

    Attributes
    ----------
    paths : sequence of Path
        The source files.
    named : sequence of str
        The paths or patterns as the user gave them, for the plan's ``sources``.
    replace_old : bool
        Whether a changed file takes the place of the one of its name; that one stays in the case,
        superseded.
    origin : dict or None
        Where the file is from, for the register: the database and the query.
    given : mapping
        Settings of ``read`` that are not to be detected; they are kept in the plan.
    ask : bool
        Whether somebody is there to be asked what a file does not tell: it is then no assumption.
    again : mapping or None
        Where the table is read anew, whole: what the register says of each file.
    """

    table: str
    paths: Sequence[Path]
    named: Sequence[str] = ()
    replace_old: bool = False
    origin: dict[str, str] | None = None
    initials: str = ""
    progress: Progress | None = None
    given: Mapping[str, Any] = field(default_factory=dict)
    ask: bool = False
    again: Mapping[Path, Source] | None = None


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


def _together(first: Assumed, other: Assumed) -> Assumed:
    """One assumption for those of several files that differ in their figures: these of the first."""
    if first == other or not first.alike:
        return first
    text = f"{first.alike}, such as {first.figures}" if first.figures else first.alike
    return Assumed(text, first.key, first.columns, first.alike, first.figures)
