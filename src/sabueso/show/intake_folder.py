"""A folder's proposal, and what became of it, as terminal text."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from sabueso.base.words import listed
from sabueso.case.linking import is_by_chance, is_kept
from sabueso.intake.interface import Assumed
from sabueso.report import numbers as num
from sabueso.report.palette import AMBER, SEA, STONE
from sabueso.show.console import OpenTable, next_steps, notes, open_table, said, title
from sabueso.show.intake import show_assumed, unequal_totals

if TYPE_CHECKING:
    from sabueso.case.proposing import Proposal, Worked
    from sabueso.case.taken import TakeReport

MOST_COLUMNS, MOST_REASONS, LONGEST = 6, 2, 60


def show_proposal(console: Console, proposal: Proposal) -> None:
    """The tables that the files may become."""
    files = len({path for each in proposal.tables for path in each.files})
    title(console, f"{num.many(len(proposal.tables), 'table')} of {num.many(files, 'file')}")
    table = open_table([("table", "left"), ("files", "right"), ("", "left"), ("columns", "flex")])
    for each in proposal.tables:
        shown = ", ".join(each.columns[:MOST_COLUMNS])
        more = len(each.columns) - MOST_COLUMNS
        table.add_row(
            f" {each.table}", num.count(len(each.files)),
            Text("there already" if each.known else "new", style=STONE if each.known else SEA),
            shown + (f" and {more} more" if more > 0 else ""),
        )  # fmt: skip
    console.print(table)
    notes(
        console,
        "not read",
        (f"{path.name}: {why}" for path, why in proposal.unread),
    )
    _show_renamed(console, proposal)
    _show_codes(console, proposal)
    _show_alike(console, proposal)


def _show_renamed(console: Console, proposal: Proposal) -> None:
    """Files that go to one table though they call its columns otherwise: that is assumed."""
    notes(
        console,
        "as one",
        (
            f"{each.table}, whose files have the same columns in the same order under other names: "
            f"{listed([f'{name} is taken for {other}' for name, other in each.names.items()])}; it is kept as read.names under "
            f"tables.{each.table} in case.toml; files of other columns are taken in apart, with --as and another name"
            for each in proposal.tables
            if each.names
        ),
        AMBER,
    )


def _show_codes(console: Console, proposal: Proposal) -> None:
    """Whole numbers that are read as texts, for they tell which row of another file is meant: that is assumed."""
    named: dict[str, list[str]] = {}
    for each in proposal.tables:
        for column in each.types:
            named.setdefault(column, []).append(each.table)
    notes(
        console,
        "as codes",
        (
            f"{column} of {listed(tables)}: whole numbers by which rows of one name those of another; they are read as texts, "
            "which stands as read.types in case.toml"
            for column, tables in named.items()
        ),
        AMBER,
    )


def _show_alike(console: Console, proposal: Proposal) -> None:
    """Tables that may be meant as one: nothing compares the rows of two."""
    notes(
        console,
        "apart",
        (
            f"{each.table} from {each.other}, for not both have {listed(list(each.beside[:MOST_COLUMNS]))}: a table has files "
            f'of the same columns, unless read = {{ columns = "may differ" }} stands under tables.{each.other} in case.toml and '
            f"they are taken in with --as {each.other}"
            for each in proposal.alike
        ),
        AMBER,
    )


def _tables(reports: Sequence[TakeReport]) -> OpenTable:
    """Tables with their files, rows, amounts and roles."""
    table = open_table(
        [
            ("table", "left"), ("files", "right"), ("rows", "right"), ("set aside", "right"),
            ("amounts", "right"), ("roles", "wrap"),
        ]
    )  # fmt: skip
    for report in reports:
        roles = ", ".join(
            role if role == column else f"{role} {column}" for role, column in report.roles.items()
        )
        table.add_row(
            f" {report.table}", num.count(len(report.files)), num.count(report.total("accepted")),
            num.count(report.total("quarantined")), num.amount(report.amount_sum), roles,
            style=AMBER if report.total("quarantined") or not report.reconciled else "",
        )  # fmt: skip
    return table


def show_worked(console: Console, worked: Worked) -> None:
    """The proposal, or the tables taken in with their roles and links."""
    if not worked.done:
        show_proposal(console, worked.proposal)
        console.print()
        console.print(Text(" nothing is taken in yet: the same with --yes takes these tables in"))
        return
    # What was taken in before is no table of this time.
    new = [report for report in worked.taken if report.files]
    title(console, f"{num.many(len(new), 'table')} taken in")
    if new:
        console.print(_tables(new))
    odd = [report for report in worked.taken if not report.reconciled]
    if new and not odd:
        said(console, " what was read is accounted for in every file")
    notes(
        console,
        "does not reconcile",
        (
            f"{each.table}: {'; '.join(unequal_totals(each)) or 'its control figures'}"
            for each in odd
        ),
        AMBER,
    )
    before = [report for report in worked.taken if report.known]
    if before:
        files = sum(len(report.known) for report in before)
        text = f"{num.many(files, 'file')} of {listed([report.table for report in before])}"
        notes(console, "taken in before", [text])
    notes(
        console,
        "set aside",
        (_set_aside(each) for each in worked.taken if each.total("quarantined")),
    )
    for report in worked.taken:
        each_once = dict.fromkeys(
            note for file in report.files for note in file.notes if not isinstance(note, Assumed)
        )
        notes(console, "note", (f"{report.table}: {note}" for note in each_once))
    _show_renamed(console, worked.proposal)
    _show_codes(console, worked.proposal)
    _show_links(console, worked)
    if worked.screens:
        flagged = sum(each.flagged for each in worked.screens)
        verbs = ("suits", "stands") if len(worked.screens) == 1 else ("suit", "stand")
        console.print()
        said(
            console,
            f" {num.many(len(worked.screens), 'screen')} that {verbs[0]} these tables, with {num.many(flagged, 'flag')} in all, "
            f"{verbs[1]} in case.toml now: sabueso survey --propose tells why",
        )
    show_assumed(console, worked.taken)
    notes(console, "not read", (f"{path.name}: {why}" for path, why in worked.proposal.unread))
    _show_alike(console, worked.proposal)
    notes(console, "refused", (f"{name}: {why}" for name, why in worked.refused), AMBER)
    console.print()
    next_steps(
        console,
        _steps(worked),
    )


def _steps(worked: Worked) -> list[str]:
    if not worked.taken:
        return []
    return [
        "sabueso survey",
        "sabueso screen" if worked.screens else "sabueso survey --propose --keep",
    ]


def _set_aside(report: TakeReport) -> str:
    """How many rows of a table were set aside, with how much, and for what reasons most of them."""
    rows = report.total("quarantined")
    aside = report.amount_set_aside
    much = f" with {num.amount(aside)} in {report.amount}" if aside else ""
    damaged = [each for file in report.files for each in file.damaged]
    kinds = Counter((each.column, each.reason) for each in damaged)
    told = []
    examples = {(each.column, each.reason): each.value for each in reversed(damaged) if each.value}
    for (column, reason), many in kinds.most_common(MOST_REASONS):
        value = examples.get((column, reason), "")
        such = f", such as {value[:LONGEST]!r}" if value else ""
        where = f" in {column}" if column else ""
        told.append(f"{many:,}{where}: {reason}{such}")
    more = "" if len(kinds) <= MOST_REASONS else "; others for other reasons"
    return (
        f"{num.many(rows, 'row')} of {report.table}{much}, each with its reason in quarantine/{report.table}/: "
        f"{'; '.join(told)}{more}"
    )


def _show_links(console: Console, worked: Worked) -> None:
    if not worked.links:
        return
    console.print()
    table = open_table(
        [("column", "left"), ("is found in", "left"), ("rows", "right"), ("", "left")]
    )
    for link in worked.links:
        if (link.column, link.other) in worked.kept:
            told = Text("kept", style=STONE)
        elif is_kept(link):
            told = Text("another is kept", style=STONE)
        else:
            why = "by chance" if is_by_chance(link) else "weak"
            told = Text(f"{why}: not kept", style=AMBER)
        table.add_row(f" {link.column}", link.other, num.percent(link.share), told)
    console.print(table)
