"""The queue written as a workbook, and what was filled in recorded."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.case.folder import Case
from sabueso.case.outputs import check_target, write_target
from sabueso.case.queue import AuditException, exceptions_by_id, queue
from sabueso.case.reviews import Recorded
from sabueso.case.selecting import chosen_by
from sabueso.case.sheet import Sheeted, read_sheet, record_sheet
from sabueso.case.standing import matters, notes, reviews
from sabueso.commands.interface import Answer, Data

if TYPE_CHECKING:
    from rich.console import Console

WITH_ROWS, ROWS_EACH = 300, 20
"""Exceptions whose rows stand in the workbook, and how many of each."""


def write_sheet(
    case: Case, path: Path, *, where: str | None = None, force: bool = False
) -> Answer[list[AuditException]]:
    """Write the queue, or those of it that meet a condition, as a workbook to be filled in.

    Raises
    ------
    UserError
        If there are no exceptions, or the file is another's.
    """
    if path.suffix.lower() != ".xlsx":
        raise UserError(f"--sheet {path}: expected a file that ends in .xlsx")
    check_target(case, path, force=force)
    items = queue(case)
    if where is not None:
        items = chosen_by(items, where)
    if not items:
        raise UserError("no exception is in the queue, or meets --where; run sabueso screen first")
    from sabueso.show.review_book import review_book

    plan = case.plan
    subjects = [*(s.name for s in plan.screens), *(v.name for v in plan.views),
                *matters(case.register), *plan.tables]  # fmt: skip
    book = review_book(items, _rows_of(case, items), notes(case.register), subjects)
    write_target(case, path, book)

    def show(console: Console) -> None:
        from sabueso.show.console import next_steps, said

        said(
            console,
            f"written {path}: {len(items):,} exceptions; rows of the first {min(len(items), WITH_ROWS):,}, "
            f"{ROWS_EACH} of each at most",
            " fill in the columns on sand: judgement, reason, amount of error, assign to, matter",
        )
        next_steps(console, [f"sabueso review --from {path} --check --as KL"])

    return Answer(items, show, lambda: Data([item.as_json() for item in items]))


def _rows_of(case: Case, items: Sequence[AuditException]) -> list[tuple[str, str, Cells]]:
    """Rows behind the first exceptions, table by table."""
    from sabueso.population.drill import first_rows

    first = items[:WITH_ROWS]
    found: list[tuple[str, str, Cells]] = []
    tables = list(dict.fromkeys(item.table for item in first))
    with case.populations(*tables) as opened:
        for table in tables:
            for item in (item for item in first if item.table == table):
                population = opened(table, item.selector, with_set_aside=True)
                found += [(item.id, table, row) for row in first_rows(population, ROWS_EACH)]
    return found


def from_sheet(
    case: Case, path: Path, *, initials: str, check: bool = False
) -> Answer[list[AuditException]]:
    """Record what was filled in, all of it or nothing.

    Parameters
    ----------
    check : bool
        Say what would be recorded, and record nothing.

    Raises
    ------
    UserError
        If a row cannot be recorded: its id is unknown, it has changed since the sheet was written, it
        has no reason.
    """
    sheet = read_sheet(path).without_what_stands(reviews(case.register))
    if not sheet.lines and not sheet.notes:
        raise UserError(f"{path}: nothing is filled in")
    done = record_sheet(case, path, sheet, initials, check=check)
    found = exceptions_by_id(case, [line.identity for line in sheet.lines])

    def show(console: Console) -> None:
        from sabueso.show.console import next_steps, said
        from sabueso.show.queue import show_listed

        if found and not check:
            show_listed(console, found, recorded=True)
        said(console, *_told(sheet, done, check=check))
        steps = (
            [f"sabueso review --from {path} --as KL"] if check else ["sabueso queue --status open"]
        )
        next_steps(console, steps)

    content = {
        "recorded": not check,
        "lines": [vars(line) | {"error_amount": None if line.error_amount is None else
                                format(line.error_amount, "f")} for line in sheet.lines],
        "notes": [{"subject": s, "kind": k, "text": t} for s, k, t in sheet.notes],
        "recorded_before": [each.event.subject for each in done if each.again],
    }  # fmt: skip
    return Answer(found, show, lambda: Data(content))


def _told(sheet: Sheeted, done: Sequence[Recorded], *, check: bool) -> list[str]:
    """What is, or would be, recorded."""
    did = "would be recorded" if check else "recorded"
    kinds: dict[str, int] = {}
    for line in sheet.lines:
        for name in (
            line.judgement,
            "assigned" if line.assign else "",
            "matter" if line.matter else "",
        ):
            if name:
                kinds[name] = kinds.get(name, 0) + 1
    told = ", ".join(f"{name} {n:,}" for name, n in kinds.items()) or "no judgement"
    again = sum(each.again for each in done)
    lines = [f" {did} of {len(sheet.lines):,} exceptions of {sheet.rows:,} in the sheet: {told}"]
    if check:
        lines += [
            f" row {line.row}: {line.identity} {line.judgement or '–'}"
            + (f", error {line.error_amount:,}" if line.error_amount is not None else "")
            + (f": {line.reason}" if line.reason else "")
            for line in sheet.lines[:40]
        ]
    if sheet.notes:
        lines.append(f" {did}: {len(sheet.notes):,} notes")
    if again:
        lines.append(f" {again:,} of these were recorded before, and are not recorded again")
    return lines
