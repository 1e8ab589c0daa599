"""The working papers: one self-contained HTML file, one workbook, and data files."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.files import write_whole
from sabueso.case.events import RuleOutcome, Source
from sabueso.case.folder import Case
from sabueso.case.programme import chosen_screens
from sabueso.case.queue import AuditException, queue
from sabueso.case.recording import (
    RecordedFinding,
    RecordedView,
    last_failures,
    latest_findings,
    latest_views,
)
from sabueso.case.sampling import SampleState, samples
from sabueso.case.standing import notes
from sabueso.report import numbers as num
from sabueso.report.blocks import Bar, Block, Cell, Line, Marked, Sheet, Table
from sabueso.report.canvas import drawn
from sabueso.screens import find_screen
from sabueso.screens.finding import Finding
from sabueso.screens.view import View
from sabueso.show.account import reasons_text
from sabueso.show.beside import beside_blocks, flagged_text
from sabueso.show.drill import across_ranked, left_text, measure_text, view_lines
from sabueso.show.drill_figure import drill_drawing
from sabueso.show.export import workbook
from sabueso.show.front import front_of
from sabueso.show.pages import environment, file_name
from sabueso.show.paper_data import (
    FOLDER,
    FORMS,
    DataFile,
    finding_tables,
    view_table,
    write_data,
)
from sabueso.show.queue_sheet import queue_sheet
from sabueso.version import __version__

MOST_EXCEPTIONS = 60
"""Exceptions that the HTML paper lists for one screen; the workbook lists all."""


def write_paper(case: Case, screen: str | None = None, data: str = FORMS[0]) -> list[Path]:
    """Write ``papers/working-paper.html``, ``papers/exceptions.xlsx`` and the files of ``papers/data``,
    of the form ``data``; returns the paths of the first two and of the list of the others.

    With ``screen`` only the part of that screen is written, as a page of its own.

    Raises
    ------
    UserError
        If no run is recorded, or the register was altered.
    """
    findings = latest_findings(case)
    if not findings:
        raise UserError("no run is recorded yet; run the programme with: sabueso screen")
    if screen is not None:
        return [_screen_page(case, chosen_screens(case, [screen])[0].name, findings)]
    count, head = case.register.verify()
    every = queue(case, hashed=True)
    sources = case.sources()
    written, views = notes(case.register), latest_views(case)
    drawn = {state.recorded.screen: state for state in samples(case)}
    made_of = [finding_tables(each) for each in findings]
    made = datetime.now(UTC).strftime("%Y-%m-%d %H:%M UTC")
    html = (
        environment()
        .get_template("paper.html")
        .render(
            case=case.plan.case,
            sources=sources,
            tables=_tables(sources),
            rules=_rules(case),
            table_notes={name: written[name] for name in case.plan.tables if name in written},
            sections=[
                _section(each, every, written, case, own, drawn.get(each.screen))
                for each, own in zip(findings, made_of, strict=True)
            ],
            views=[_view(view, written) for view in views],
            totals=_totals(every, [each for each in findings if each.screen not in drawn]),
            front=front_of(case, every, written, list(drawn.values())),
            people=_people(every),
            failures=last_failures(case),
            events=count,
            head=head,
            made=made,
            version=__version__,
        )
    )
    folder = case.folder / "papers"
    page, book = folder / "working-paper.html", folder / "exceptions.xlsx"
    sheets = _sheets(case, every, sources, findings)
    cells = workbook(sheets)
    tables = [DataFile(sheet.name, sheet) for sheet in sheets]
    tables += [table for own in made_of for table in own]
    tables += map(view_table, views)
    facts = {
        "case": case.plan.case.name, "currency": case.plan.case.currency, "written": made,
        "events": count, "head": head,
    }  # fmt: skip
    with case.locked():
        write_whole(page, html.encode())
        write_whole(book, cells)
        listed, *_ = write_data(folder / FOLDER, data, tables, facts)
    return [page, book, listed]


def _screen_page(case: Case, name: str, findings: list[RecordedFinding]) -> Path:
    """The part of one screen as a page."""
    found = [each for each in findings if each.screen == name]
    if not found:
        raise UserError(f"screen {name!r} has no recorded run; run it with: sabueso screen")
    drawn = {state.recorded.screen: state for state in samples(case)}
    content = _section(
        found[0], queue(case, hashed=True), notes(case.register), case, finding_tables(found[0]),
        drawn.get(name),
    )  # fmt: skip
    path = case.folder / "papers" / f"screen-{file_name(name)}.html"
    with case.locked():
        write_whole(path, _one_section(case, content).encode())
    return path


def finding_page(case: Case, finding: Finding[Any]) -> str:
    """One finding that is not recorded as a page of its own."""
    content = RecordedFinding(f"{finding.test} of {finding.source}", "", 0, "", finding)
    return _one_section(case, _section(content, [], {}, case))


def _one_section(case: Case, section: dict[str, Any]) -> str:
    """A page of one section."""
    return (
        environment()
        .get_template("paper.html")
        .render(
            case=case.plan.case,
            sources=[],
            tables=[],
            rules=[],
            table_notes={},
            sections=[section],
            views=[],
            totals=None,
            front=None,
            people={"prepared": "", "reviewed": ""},
            failures=[],
            events=0,
            head="",
            made=datetime.now(UTC).strftime("%Y-%m-%d %H:%M UTC"),
            version=__version__,
        )
    )


@dataclass
class _TableSums:
    """A table's reconciliation in one row."""

    table: str
    files: int = 0
    read: int = 0
    accepted: int = 0
    quarantined: int = 0
    totals: int = 0
    blank: int = 0
    amount: Decimal | None = None
    stated: int = 0
    agrees: int = 0


def _tables(sources: Sequence[Source]) -> list[_TableSums]:
    """Per table, its lines and the sum of its amounts."""
    found: dict[str, _TableSums] = {}
    for source in sources:
        row = found.setdefault(source.table, _TableSums(source.table))
        row.files += 1
        for name in ("read", "accepted", "quarantined", "totals", "blank"):
            setattr(row, name, getattr(row, name) + source.count(name))
        if source.amount is not None:
            row.amount = (row.amount or Decimal(0)) + source.amount
        row.stated += len(source.stated_totals)
        row.agrees += sum(t.agrees for t in source.stated_totals)
    return list(found.values())


@dataclass(frozen=True)
class _Judged:
    """What a rule of a table caught, at its last intake."""

    table: str
    at: str
    rule: RuleOutcome


def _rules(case: Case) -> list[_Judged]:
    """What each rule of each table caught, as the table's last intake found it."""
    latest = {event.subject: event for event in case.register.events("rules")}
    return [
        _Judged(table, event.at, RuleOutcome.of(rule))
        for table, event in latest.items()
        for rule in event.body["rules"]
    ]


def _totals(every: list[AuditException], findings: list[RecordedFinding]) -> dict[str, Any]:
    status = [item.review.status for item in every]
    return {
        "exceptions": len(every),
        "by_status": {
            name: status.count(name) for name in ("open", "cleared", "error", "referred")
        },
        "signed": sum(bool(item.review.signed_off) for item in every),
        "tests": sum(f.finding.tests_made for f in findings),
        "screens": len(findings),
    }


def _people(every: list[AuditException]) -> dict[str, str]:
    """Initials on the reviews: who disposed, who signed off."""
    prepared = sorted({i.review.initials for i in every if i.review.initials})
    reviewed = sorted({i.review.signed_off for i in every if i.review.signed_off})
    return {"prepared": ", ".join(prepared), "reviewed": ", ".join(reviewed)}


def _section(
    recorded: RecordedFinding,
    every: list[AuditException],
    written: dict[str, Any],
    case: Case,
    data: Sequence[DataFile] = (),
    sample: SampleState | None = None,
) -> dict[str, Any]:
    """One screen as the template needs it; ``data`` are the files that have all of it."""
    finding = recorded.finding
    screen = find_screen(finding.test)
    view = screen.view(finding)
    drawing = view.drawing()
    picture = None if drawing is None else drawn(drawing, "svg")
    marked = [
        (item, mark) for item in every for mark in item.marks if mark.screen == recorded.screen
    ]
    marked.sort(key=lambda pair: pair[1].rank)
    fields = screen.settings.model_fields
    settings = [
        (name, ", ".join(map(str, value)) if isinstance(value, list) else str(value))
        for name, value in finding.used.items()
        if value not in (None, [], "") and name in fields
    ]
    return {
        "screen": recorded.screen,
        "purpose": recorded.purpose,
        "f": finding,
        "summary": screen.summary,
        "reference": screen.reference,
        "settings": settings,
        "left_out": reasons_text(finding.population.left_out),
        "figure": None if picture is None else base64.b64encode(picture).decode(),
        "text": _flagged_text(recorded, view),
        "blocks": _page_blocks([*view.blocks(whole=True), *beside_blocks(view)], flags=not marked),
        "evaluation": [] if sample is None else _page_blocks(sample.evaluated.blocks, flags=True),
        "drawn": sample,
        "marked": marked[:MOST_EXCEPTIONS],
        "more": max(len(marked) - MOST_EXCEPTIONS, 0),
        "notes": written.get(recorded.screen, {}),
        "currency": finding.currency,
        "data": [table.name for table in data],
    }


MOST_ACROSS = 7
"""Values across that a page is wide enough for; the figure and the data files have all."""


def _view(recorded: RecordedView, written: dict[str, Any]) -> dict[str, Any]:
    """A view of the plan as the template needs it."""
    result = recorded.drill
    kept = set(across_ranked(result)[:MOST_ACROSS])
    left = [name for name in result.across_values if name not in kept]
    across = [name for name in result.across_values if name in kept]
    head, lines = view_lines(result, across, left=left)
    drawing = drill_drawing(result)
    picture = None if drawing is None else drawn(drawing, "svg")
    by = f" by {', '.join(result.by)}" if result.by else ""
    return {
        "name": recorded.name,
        "run": recorded.run,
        "what": f"{measure_text(result)}{by}",
        "where": recorded.where,
        "having": result.having or "",
        "table": result.table,
        "population": result.population,
        "left_out": reasons_text(result.population.left_out),
        "by": " / ".join(result.by) or "total",
        "head": head,
        "lines": lines,
        "left": left_text(result, left) if left else "",
        "cautions": result.cautions,
        "notes": written.get(recorded.name, {}),
        "figure": None if picture is None else base64.b64encode(picture).decode(),
    }


def _flagged_text(recorded: RecordedFinding, view: View[Any]) -> str:
    """How much was flagged of how much, and where all of it stands."""
    finding = recorded.finding
    text = flagged_text(view)
    text = text[:1].upper() + text[1:] + ("." if finding.groups else "; nothing could be tested.")
    if recorded.flags_file:
        total = finding.flags.total()
        worth = "" if total is None else f", with {num.amount(total)} in all,"
        text += (
            f" The {recorded.marked:,} strongest became exceptions; all that are flagged{worth} "
            f"stand in runs/{recorded.run:04d}/{recorded.flags_file}."
        )
    return text


def _page_blocks(blocks: Sequence[Block], *, flags: bool) -> list[dict[str, Any]]:
    """Blocks for the template; those of flags only where no exception stands for them."""
    found: list[dict[str, Any]] = []
    for block in blocks:
        if isinstance(block, Line):
            found.append({"text": _sentence(block.text), "tone": block.tone})
        elif isinstance(block, Table) and (flags or not block.flags):
            kept = [i for i, column in enumerate(block.columns) if column.kind != "bar"]
            head = [(block.columns[i].name, block.columns[i].kind == "right") for i in kept]
            rows = [
                {"strong": place in block.strong, "cells": [_page_cell(row[i]) for i in kept]}
                for place, row in enumerate(block.rows)
            ]
            found.append({"head": head, "rows": rows, "rest": _sentence(block.rest)})
    return found


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:] + "." if text else ""


def _page_cell(cell: Cell) -> tuple[str, str]:
    """Text and tone of a cell."""
    if isinstance(cell, Marked):
        return cell.text, cell.tone
    return ("", "plain") if isinstance(cell, Bar) else (cell, "plain")


def _sheets(
    case: Case,
    every: list[AuditException],
    sources: Sequence[Source],
    findings: list[RecordedFinding],
) -> list[Sheet]:
    reviews = [
        [item.id, event.seq, event.at, event.initials, event.kind, event.body.get("disposition", ""),
         event.body.get("reason", ""),
         Decimal(event.body["error_amount"]) if event.body.get("error_amount") else None, event.hash]
        for item in every
        for event in item.review.history
    ]  # fmt: skip
    counted = ("lines", "read", "accepted", "quarantined", "totals", "blank")
    files = [
        [s.table, s.file, s.sha256, s.at, *(s.count(name) for name in counted), s.amount]
        for s in sources
    ]
    screens = [
        [each.screen, f.test, f.table, each.run, f.population.rows, f.population.used,
         f.tests_made, len(f.flags), "; ".join(c.code for c in f.cautions)]
        for each in findings
        for f in (each.finding,)
    ]  # fmt: skip
    rules = [
        [j.table, r.title, r.then, r.rows, r.set_aside, r.left, r.missing, r.amount, j.at]
        for j in _rules(case)
        for r in (j.rule,)
    ]
    return [
        queue_sheet(every),
        Sheet("reviews", ["id", "event", "at", "initials", "kind", "disposition", "reason",
                          "amount of error", "hash"], reviews),
        Sheet("screens", ["screen", "test", "table", "run", "rows", "used", "tested", "flagged",
                          "cautions"], screens),
        Sheet("sources", ["table", "file", "SHA-256", "taken in", "lines", "read", "accepted",
                          "quarantined", "totals", "blank", "sum of amounts"], files),
        Sheet("rules", ["table", "rule", "then", "rows", "set aside", "left", "numbers missing",
                        "amount", "judged at"], rules),
    ]  # fmt: skip
