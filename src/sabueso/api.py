"""The public functions: what the commands do, for a program that calls them.

Each raises :class:`UserError`, a sentence that names what was expected, where what it is given does
not fit; then nothing is recorded.
"""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from os import PathLike, fspath
from pathlib import Path
from typing import Any, Literal

from sabueso.base.errors import UserError
from sabueso.base.exact import exactly
from sabueso.case.behind import Why
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException
from sabueso.case.recording import Run
from sabueso.case.redoing import Again
from sabueso.case.reviews import Recorded
from sabueso.case.sampling import SampleState
from sabueso.case.sealing import Checked, Sealed
from sabueso.case.taken import TakeReport
from sabueso.population.drill import Drill, Measure, Rows
from sabueso.screens.finding import Finding

__all__ = ["AuditException", "Case", "Finding", "UserError"]

Place = str | PathLike[str]


def open_case(folder: Place, *, verify: bool = False) -> Case:
    """The case in a folder; ``with`` closes it.

    ``verify`` hashes every file of rows that is read, also where its size and time are as recorded.
    """
    return Case.find(fspath(folder), verify=verify)


def new_case(folder: Place, *, name: str | None = None, currency: str | None = None) -> Case:
    """Start a case: its folder and its plan."""
    from sabueso.commands.open_ import new_case as command

    return command(Path(folder), name=name, currency=currency).value


@exactly
def take_in(
    case: Case,
    table: str,
    paths: Sequence[Place] = (),
    *,
    url: str | None = None,
    query: str | None = None,
    check: bool = False,
    replace: bool = False,
    attach: bool = False,
    initials: str = "",
) -> TakeReport:
    """Read files, or the rows of a database's query, into a table, and reconcile them.

    ``check`` reads and keeps nothing; ``replace`` lets a changed file take the place of the one of
    its name; ``attach`` uses Parquet files where they lie.
    """
    from sabueso.commands.intake import intake

    return intake(
        case, table, [fspath(path) for path in paths], url=url, query=query, check=check,
        replace=replace, attach=attach, initials=initials,
    ).value  # fmt: skip


def sample(
    case: Case, table: str, *, name: str = "", initials: str = "", **settings: Any
) -> SampleState:
    """Draw a sample of a table's rows and record it; settings have the names of the options. Its items join
    the queue."""
    from sabueso.commands.sample import sample as command

    return command(case, table, settings, name=name, initials=initials).value


def evaluate(case: Case, name: str) -> SampleState:
    """A sample by its name, with what the reviews of its items say of all that it was drawn of."""
    from sabueso.commands.sample import evaluation

    return evaluation(case, name).value


def try_test(case: Case, test: str, table: str, **settings: Any) -> Finding[Any]:
    """Run a test and record nothing; settings have the names of the options and of the plan's keys."""
    from sabueso.commands.try_ import try_test as command

    return command(case, test, table, settings).value


def screen(case: Case, names: Sequence[str] = (), *, initials: str = "") -> Run:
    """Run the programme, or those of its screens, and record what they find.

    A screen that cannot run is in the run's ``failed`` with its reason; the others are recorded.
    """
    from sabueso.commands.screen import screen as command

    return command(case, names, initials=initials).value


@exactly
def queue(
    case: Case, *, status: str = "all", screen: str | None = None, table: str | None = None
) -> list[AuditException]:
    """The exceptions, the most telling first."""
    from sabueso.commands.queue import queue as command

    return command(case, status=status, screen=screen, table=table).value


@exactly
def dig(
    case: Case,
    what: str,
    *,
    where: str | None = None,
    by: Sequence[str] = (),
    across: str | None = None,
    measures: Sequence[str] = (),
    on: str | None = None,
    measure: Measure = "sum",
    having: str | None = None,
    sort: str | None = None,
    limit: int | None = None,
    rows: bool = False,
) -> Drill | Rows:
    """Groups of a table's rows, or of those behind an exception; or the rows themselves.

    All groups are given, or the first ``limit`` of each level with the others in one.
    """
    from sabueso.commands.dig import RowsAsked
    from sabueso.commands.dig import dig as command
    from sabueso.population.drill import Asked

    asked = Asked(by, across, measures, measure, on, having, sort, limit)
    shown = RowsAsked() if rows else None
    return command(case, what, where=where, asked=asked, rows=shown).value


def redo(case: Case, run: int | None = None) -> Again:
    """A recorded run performed again, the last one by default, and compared in every value and mark."""
    from sabueso.commands.redo import redo as command

    return command(case, run).value


def seal(case: Case, *, initials: str) -> Sealed:
    """Hash every file of the case and every row of its register, and record the seal."""
    from sabueso.commands.seal import seal as command

    return command(case, initials=initials).value


def check_seal(case: Case) -> Checked:
    """What is not as it was sealed, or without a seal as the register has it."""
    from sabueso.commands.seal import check as command

    return command(case).value


@exactly
def why(case: Case, exception: str, columns: Sequence[str] = ()) -> Why:
    """What drives an exception: values of other columns, single rows, its peers."""
    from sabueso.commands.why import why as command

    return command(case, exception, columns).value


@exactly
def review(
    case: Case,
    exceptions: Sequence[str],
    what: str | None = None,
    *,
    reason: str = "",
    initials: str = "",
    error_amount: Decimal | None = None,
    evidence: Sequence[Place] = (),
    set_aside: bool = False,
    assign: str | None = None,
    matter: str | None = None,
) -> list[AuditException]:
    """Record ``cleared``, ``error``, ``referred``, ``sign-off`` or ``reopen`` of exceptions.

    All of them or none; without ``what`` nothing is recorded but who is to review them, and the matter
    they belong to. Returns them as they stand.
    """
    from sabueso.commands.review import ToRecord
    from sabueso.commands.review import review as command

    files = [Path(path) for path in evidence]
    asked = ToRecord(what, reason, error_amount, files, set_aside, assign, matter)
    return command(case, exceptions, asked, initials=initials).value


@exactly
def note(
    case: Case,
    subject: str,
    kind: Literal["observation", "conclusion"],
    text: str,
    *,
    initials: str = "",
    replaces: int | None = None,
) -> Recorded:
    """Record an observation or a conclusion on a screen of the programme, a table, a view or a matter.

    All are kept; ``replaces`` is the event of an earlier one that this stands for.
    """
    from sabueso.commands.review import note as command

    return command(case, subject, kind, text, initials=initials, replaces=replaces).value


@exactly
def paper(case: Case) -> list[Path]:
    """Write the working papers into the case; returns their paths."""
    from sabueso.commands.paper import paper as command

    return command(case).value
