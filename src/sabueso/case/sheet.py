"""The queue gone through in a spreadsheet: what a sheet says of each exception, checked and recorded."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.typed import typed_amount
from sabueso.case.exceptions import parse_id
from sabueso.case.folder import Case
from sabueso.case.noting import record_note_of
from sabueso.case.reviews import (
    DISPOSITIONS,
    Desk,
    Disposition,
    Recorded,
    check_initials,
    matter_name,
)
from sabueso.case.standing import Review
from sabueso.intake.readers.books import open_book
from sabueso.intake.readers.choice import readable

QUEUE, NOTES, ROWS = "queue", "notes", "rows"
SIGN_OFF, REOPEN = "sign-off", "reopen"
JUDGEMENTS = (*DISPOSITIONS, SIGN_OFF, REOPEN)
FILLED_IN = ("judgement", "reason", "amount of error", "assign to", "matter")
"""Columns that a reviewer fills in."""
SEEN = "seen"
"""The last event of an exception when the sheet was written."""
NOTE_COLUMNS = ("subject", "observation", "conclusion")
MOST_TOLD = 12


@dataclass(frozen=True)
class Line:
    """What a row of a sheet asks for one exception."""

    row: int
    identity: str
    seen: int
    judgement: str = ""
    reason: str = ""
    error_amount: Decimal | None = None
    assign: str = ""
    matter: str | None = None

    @property
    def asks(self) -> bool:
        return bool(self.judgement or self.assign) or self.matter is not None

    def without(self, review: Review) -> Line:
        """The line less the assignment and the matter that the exception has."""
        return replace(
            self,
            assign="" if self.assign == review.assigned else self.assign,
            matter=None if self.matter == review.matter else self.matter,
        )


@dataclass(frozen=True)
class Sheeted:
    """What a sheet holds: exceptions with something to record, and notes (subject, kind, text)."""

    lines: list[Line]
    notes: list[tuple[str, str, str]]
    rows: int

    def without_what_stands(self, now: Mapping[str, Review]) -> Sheeted:
        """Less what is so already: the sheet was written with who is to review them, and their matters."""
        lines = [line.without(now.get(line.identity, Review())) for line in self.lines]
        return replace(self, lines=[line for line in lines if line.asks])


def last_seen(review: Review) -> int:
    return review.history[-1].seq if review.history else 0


def read_sheet(path: Path) -> Sheeted:
    """What was filled in.

    Raises
    ------
    UserError
        If it is no such workbook; or each row that cannot be what is meant, with its number.
    """
    if not path.is_file():
        raise UserError(f"{path}: there is no such file")
    with readable(path):
        book = open_book(path)
        if QUEUE not in book.names:
            raise UserError(
                f"{path}: it has no sheet {QUEUE!r}; write one with: sabueso review --sheet FILE.xlsx"
            )
        rows = [list(cells) for _, cells in book.rows(QUEUE)]
        noted = [list(cells) for _, cells in book.rows(NOTES)] if NOTES in book.names else []
    header = [str(cell).strip() for cell in rows[0]] if rows else []
    lacking = [name for name in ("id", SEEN, *FILLED_IN) if name not in header]
    if lacking:
        raise UserError(f"{path}, sheet {QUEUE}: it has no column {lacking[0]!r}")
    faults: list[str] = []
    lines: list[Line] = []
    known: dict[str, int] = {}
    for number, cells in enumerate(rows[1:], 2):
        row = dict(zip(header, cells, strict=False))
        if not str(row.get("id") or "").strip():
            if any(str(row.get(name) or "").strip() for name in FILLED_IN):
                faults.append(f"row {number}: it has no id")
            continue
        try:
            line = _line(number, row)
        except UserError as error:
            faults.append(f"row {number}: {error}")
            continue
        if line.identity in known:
            faults.append(f"row {number}: {line.identity} stands in row {known[line.identity]} too")
        known[line.identity] = number
        lines.append(line)
    _refuse(path, faults)
    return Sheeted([line for line in lines if line.asks], _notes(path, noted), len(lines))


def _line(number: int, row: Mapping[str, Any]) -> Line:
    """A row of the sheet.

    Raises
    ------
    UserError
        If what is filled in cannot be recorded.
    """
    judgement = str(row["judgement"] or "").strip().lower()
    reason = str(row["reason"] or "").strip()
    amount = _amount(row["amount of error"])
    if judgement and judgement not in JUDGEMENTS:
        raise UserError(f"there is no judgement {judgement!r}; expected {', '.join(JUDGEMENTS)}")
    if judgement in DISPOSITIONS:
        Disposition(judgement, reason, amount).check()
    elif judgement == REOPEN and not reason:
        raise UserError("reopening needs its reason")
    elif not judgement and (reason or amount is not None):
        raise UserError("a reason or an amount without a judgement")
    assign = str(row["assign to"] or "").strip()
    matter = str(row["matter"] or "").strip()
    seen = row[SEEN]
    if not isinstance(seen, (int, float)):
        raise UserError(f"the column {SEEN} was changed")
    return Line(
        number, parse_id(str(row["id"])), int(seen), judgement, reason, amount,
        check_initials(assign) if assign else "", matter or None,
    )  # fmt: skip


def _amount(cell: Any) -> Decimal | None:
    """An amount as a number or as people type it; None where the cell is empty."""
    if cell is None or (isinstance(cell, str) and not cell.strip()):
        return None
    if isinstance(cell, str):
        return typed_amount(cell, "amount of error")
    try:
        # A spreadsheet holds floats: 5621.54 is the shortest text that gives its number.
        return (
            Decimal(repr(cell)).quantize(Decimal("0.01"))
            if isinstance(cell, float)
            else Decimal(cell)
        )
    except (InvalidOperation, ValueError, TypeError):
        raise UserError(f"amount of error {cell!r} is no amount") from None


def _notes(path: Path, rows: Sequence[Sequence[Any]]) -> list[tuple[str, str, str]]:
    if not rows:
        return []
    header = [str(cell).strip() for cell in rows[0]]
    if any(name not in header for name in NOTE_COLUMNS):
        raise UserError(f"{path}, sheet {NOTES}: expected the columns {', '.join(NOTE_COLUMNS)}")
    found = []
    for cells in rows[1:]:
        row = dict(zip(header, cells, strict=False))
        subject = str(row["subject"] or "").strip()
        found += [
            (subject, kind, text)
            for kind in ("observation", "conclusion")
            if subject and (text := str(row[kind] or "").strip())
        ]
    return found


def record_sheet(
    case: Case, path: Path, sheet: Sheeted, initials: str, *, check: bool = False
) -> list[Recorded]:
    """Record all that a sheet asks for, in one transaction, or nothing.

    Parameters
    ----------
    check : bool
        Find out what could not be recorded, and record nothing.

    Raises
    ------
    UserError
        Each row that cannot be recorded: an id that is unknown, an exception that has changed since the
        sheet was written, a sign-off by the initials that disposed of it.
    """
    who = check_initials(initials)
    done: list[Recorded] = []
    try:
        with case.locked() as writer:
            desk = Desk(case, writer, who)
            ids = [line.identity for line in sheet.lines]
            known = {row["id"] for row in case.register.read("SELECT id FROM exceptions")}
            desk.prepare(ids)
            faults = []
            for line in sheet.lines:
                try:
                    if line.identity not in known:
                        raise UserError(f"there is no exception {line.identity}")
                    done += _recorded(case, desk, line)
                except UserError as error:
                    faults.append(f"row {line.row}: {error}")
            for subject, kind, text in sheet.notes:
                try:
                    done.append(record_note_of(case, writer, (subject, kind, text), who))
                except UserError as error:
                    faults.append(f"sheet {NOTES}: {error}")
            _refuse(path, faults)
            if check:
                raise _Checked
    except _Checked:
        pass
    return done


class _Checked(Exception):
    """Raised to let go of a transaction that was made to see whether it could be."""


def _recorded(case: Case, desk: Desk, line: Line) -> list[Recorded]:
    review = desk.standing(line.identity)
    if last_seen(review) != line.seen:
        last = review.history[-1]
        raise UserError(
            f"{line.identity} has changed since the sheet was written: event {last.seq}, {last.kind} by "
            f"{last.initials or 'a run'}"
        )
    done = []
    if line.judgement in DISPOSITIONS:
        body = Disposition(line.judgement, line.reason, line.error_amount).body()
        done.append(desk.dispose(line.identity, body))
    elif line.judgement == SIGN_OFF:
        done.append(desk.sign_off(line.identity))
    elif line.judgement == REOPEN:
        done.append(desk.reopen(line.identity, line.reason))
    if line.assign:
        done.append(desk.put("assignment", line.identity, {"to": line.assign}))
    if line.matter is not None:
        matter = matter_name(case, line.matter)
        done.append(desk.put("matter", line.identity, {"matter": matter}))
    return done


def _refuse(path: Path, faults: Sequence[str]) -> None:
    if faults:
        more = f" (and {len(faults) - 1:,} more)" if len(faults) > 1 else ""
        told = "; ".join(faults[:MOST_TOLD]) if len(faults) <= MOST_TOLD else faults[0] + more
        raise UserError(f"{path}: nothing was recorded: {told}")
