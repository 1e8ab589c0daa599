"""A folder of files, proposed as tables and taken in."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Values
from sabueso.case.compound_keys import compound_keys, keep_compound_keys
from sabueso.case.folder import Case
from sabueso.case.linking import keep_links, planned_links
from sabueso.case.proposed_programme import (
    CAPACITY,
    Proposed,
    keep_programme,
    proposed_programme,
)
from sabueso.case.proposing import Proposal, Worked, propose
from sabueso.case.proposing import Proposed as Table
from sabueso.case.sources import source_files
from sabueso.case.taken import TakeReport, Taking
from sabueso.case.taking import take_in
from sabueso.commands.interface import Answer, Data
from sabueso.intake.interface import Ambiguous
from sabueso.population.links import Link, links
from sabueso.report.blocks import Sheet

if TYPE_CHECKING:
    from rich.console import Console

Confirm = Callable[[Proposal], bool]


def intake_folder(
    case: Case,
    paths: Sequence[str],
    *,
    yes: bool = False,
    confirm: Confirm | None = None,
    initials: str = "",
    given: Mapping[str, Any] | None = None,
    progress: Callable[[str, int, int], None] | None = None,
) -> Answer[Worked]:
    """Propose tables for the files of folders, and take them in.

    Parameters
    ----------
    paths : sequence of str
        Folders, looked through with their folders, or files.
    yes : bool
        Take the proposal in without asking.
    confirm : callable, optional
        Asked with the proposal; it is taken in where it says so.

    A plan without screens gets those that suit the tables.

    Raises
    ------
    UserError
        If there is no file that a reader takes.
    """
    proposal = propose(case, paths)
    if not (yes or (confirm is not None and confirm(proposal))):
        return _answer(Worked(proposal))
    taken: list[TakeReport] = []
    refused: list[tuple[str, str]] = []
    # Amounts that state no currency are told in that of others which do: these come first.
    order = sorted(proposal.tables, key=lambda each: not each.says_currency)
    for place, each in enumerate(order):
        if progress is not None:
            progress(each.table, place, len(proposal.tables))
        files = [str(path) for path in each.files]
        try:
            taken.append(
                take_in(
                    case,
                    Taking(
                        each.table, source_files(case, files, each.table), files,
                        initials=initials,
                        given={**(given or {}), **_said_of(each)},
                    ),
                )
            )  # fmt: skip
        except UserError as error:
            how = f"; take it in with --as {each.table}" if isinstance(error, Ambiguous) else ""
            refused.append((each.table, f"{error}{how}"))
    taken.sort(key=lambda report: report.table)
    linked = _linked(case) if taken else []
    kept = planned_links(case)
    screens = _programme(case, progress) if taken else []
    return _answer(Worked(proposal, taken, refused, linked, kept, screens, done=True))


def _said_of(proposed: Table) -> Values:
    """What a proposal says of how the files of its table are read."""
    said = {
        "sheet": proposed.sheet,
        "names": dict(proposed.names),
        "types": dict(proposed.types),
    }
    return {name: value for name, value in said.items() if value}


def _programme(case: Case, progress: Callable[[str, int, int], None] | None) -> list[Proposed]:
    """A first programme, for a plan that has none: with it the next command is ``screen``."""
    if case.plan.screens:
        return []
    names = [name for name in case.plan.tables if case.sources(name)]
    found = proposed_programme(case, names, CAPACITY, progress)
    case.changed()
    return keep_programme(case, found)


def _linked(case: Case) -> list[Link]:
    """Links between the case's tables, those that hold for nearly all rows written to the plan."""
    names = [name for name in case.plan.tables if case.sources(name)]
    with case.populations(*names) as opened:
        populations = [opened(name) for name in names]
        between = links(populations)
        keys = list(compound_keys(populations, between))
    keep_links(case, between)
    return [*keep_compound_keys(case, keys), *between]


def _answer(worked: Worked) -> Answer[Worked]:
    def show(console: Console) -> None:
        from sabueso.show.intake_folder import show_worked

        show_worked(console, worked)

    def data() -> Data:
        content = {
            "proposed": [
                {
                    "table": each.table,
                    "files": [path.name for path in each.files],
                    "columns": list(each.columns),
                    "known": each.known,
                }
                for each in worked.proposal.tables
            ],
            "codes": [
                {"table": each.table, "columns": sorted(each.types)}
                for each in worked.proposal.tables
                if each.types
            ],
            "renamed": [
                {"table": each.table, "names": dict(each.names)}
                for each in worked.proposal.tables
                if each.names
            ],
            "unread": [{"file": path.name, "reason": why} for path, why in worked.proposal.unread],
            "apart": [
                {"table": each.table, "other": each.other, "columns": list(each.beside)}
                for each in worked.proposal.alike
            ],
            "taken": [report.as_json() for report in worked.taken],
            "refused": [{"table": name, "reason": why} for name, why in worked.refused],
            "screens": [each.as_json() for each in worked.screens],
            "links": [
                {
                    **vars(link),
                    "share": link.share,
                    "kept": (link.column, link.other) in worked.kept,
                }
                for link in worked.links
            ],
        }
        rows = [
            [each.table, len(each.files), ", ".join(each.columns)]
            for each in worked.proposal.tables
        ]
        return Data(content, [Sheet("tables", ["table", "files", "columns"], rows)])

    fault = None
    if worked.refused:
        name, why = worked.refused[0]
        fault = UserError(
            f"{len(worked.refused)} of {len(worked.proposal.tables)} tables could not be taken in; "
            f"{name!r}: {why}"
        )
    return Answer(worked, show, data, fault=fault)
