"""The programme: screens run together, and what they flag recorded as exceptions."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from decimal import Decimal

from sabueso.base.errors import UserError, nearest
from sabueso.base.exact import exactly
from sabueso.base.plain import Cells
from sabueso.case.exceptions import exception_id
from sabueso.case.folder import Case
from sabueso.case.performing import Performed, perform
from sabueso.case.plan_parts import ScreenSection
from sabueso.case.recording import (
    Run,
    ScreenRun,
    next_number,
    run_body,
    write_run,
)
from sabueso.case.register import Writer, marks_hash
from sabueso.case.standing import reviews


def chosen_screens(case: Case, names: Sequence[str]) -> list[ScreenSection]:
    """Screens of the programme by name, or by the beginning of a name; all where none is given.

    Raises
    ------
    UserError
        If a name fits none, or several, or the programme is empty but for samples that were drawn.
    """
    every = case.plan.screens
    if not every:
        raise UserError(
            f"{case.plan_path} has no screens; add one with: sabueso try TEST TABLE … --keep NAME"
        )
    chosen = []
    for name in names:
        exact = [s for s in every if s.name == name]
        found = exact or [s for s in every if s.name.lower().startswith(name.lower())]
        if len(found) != 1:
            several = ", ".join(repr(s.name) for s in found)
            hint = f"; it may be {several}" if found else nearest(name, [s.name for s in every])
            raise UserError(f"there is no one screen {name!r} in the programme{hint}")
        chosen += found
    if chosen:
        return chosen
    drawn = drawn_in(case)
    waiting = [section for section in every if section.name not in drawn]
    if not waiting:
        raise UserError(
            f"{case.plan_path} has no screens but samples, which are drawn already; add one with: "
            "sabueso try TEST TABLE … --keep NAME"
        )
    return waiting


def drawn_in(case: Case) -> dict[str, int]:
    """Samples that were drawn, by name, with the run that did: they stay as they are."""
    return {
        item["name"]: int(event.subject)
        for event in case.register.events("run")
        for item in event.body["screens"]
        if item.get("drawn")
    }


@exactly
def run_programme(
    case: Case,
    names: Sequence[str] = (),
    *,
    initials: str = "",
    progress: Callable[[str, int, int], None] | None = None,
) -> Run:
    """Run screens of the programme and record findings, exceptions and marks as one run.

    A screen that cannot run is named in the run with its reason, and the others are recorded.

    Raises
    ------
    UserError
        If there is no such screen, or none of those asked for can run; then nothing is recorded.
    """
    screens = chosen_screens(case, names)
    drawn = drawn_in(case) if names else {}
    for section in screens:
        if number := drawn.get(section.name):
            raise UserError(
                f"{section.name!r} was drawn in run {number}, and is not drawn again; draw another with: "
                f"sabueso sample {section.table}"
            )
    done = perform(case, screens, progress)
    if not done.found:
        first = done.failed[0]
        raise UserError(f"screen {first.screen!r}: {first.reason}")
    return _record(case, done, initials)


def _record(case: Case, performed: Performed, initials: str) -> Run:
    """Record findings with their exceptions and marks, all in one transaction."""
    found, inputs = performed.found, performed.inputs
    at = datetime.now(UTC).isoformat(timespec="seconds")
    base = case.plan.base_of
    prefixes = {name: section.prefix for name, section in case.plan.tables.items()}
    with case.locked() as writer:
        number = next_number(case, writer)
        keys = ((base(item.section.table), s["key"]) for item in found for s in item.subjects)
        named = _Named(writer, keys)
        marks: list[Cells] = []
        screens = []
        for position, item in enumerate(found, 1):
            section, flags = item.section, item.finding.flags
            before = len(named.fresh)
            own: list[Cells] = []
            kinds: list[str] = []
            for rank, subject in enumerate(item.subjects, 1):
                # What an exception is, it was when it first became one: a row that is drawn into a
                # sample may have been flagged before.
                identity, kind = named.identity(
                    prefixes[base(section.table)],
                    base(section.table),
                    subject["key"],
                    subject["kind"],
                    number,
                )
                place = {"run": number, "screen": section.name, "exception": identity}
                own.append(place | {"rank": rank, "flagged": len(flags), **subject})
                kinds.append(kind)
            of = {"table_name": base(section.table)}
            screens.append(
                ScreenRun(
                    screen=section.name,
                    test=section.test,
                    table=base(section.table),
                    purpose=section.purpose,
                    finding=item.finding,
                    exceptions=[mark["exception"] for mark in own],
                    new=len(named.fresh) - before,
                    flags_file=f"flags-{position:02d}.parquet" if len(flags) > len(own) else "",
                    marks_sha256=marks_hash(
                        mark | of | {"kind": kind} for mark, kind in zip(own, kinds, strict=True)
                    ),
                )
            )
            marks += [{k: v for k, v in mark.items() if k not in ("key", "kind")} for mark in own]
        done = Run(number, at, screens, performed.failed, performed.views)
        body = run_body(done, inputs)
        folder = write_run(case, done, inputs, marks, body)
        try:
            writer.add_exceptions(named.fresh)
            writer.add_marks(marks)
            writer.append("run", str(number), initials, body)
            reopened = _reopen_changed(case, writer, number, marks)
        except BaseException:
            shutil.rmtree(folder, ignore_errors=True)
            raise
    return replace(done, reopened=reopened)


def _reopen_changed(
    case: Case, writer: Writer, number: int, marks: Sequence[Cells]
) -> list[tuple[str, str]]:
    """Reopen what was cleared or called an error while another amount was at stake; ids and reasons."""
    now = reviews(case.register)
    limit = case.plan.case.material_change
    reopened: dict[str, str] = {}
    for mark in marks:
        identity, screen = mark["exception"], mark["screen"]
        review = now.get(identity)
        if review is None or review.status not in ("cleared", "error"):
            continue
        if review.at_stake.get(screen) is None or mark["amount"] is None:
            continue
        before, amount = Decimal(review.at_stake[screen]), Decimal(mark["amount"])
        if identity not in reopened and abs(amount - before) * 100 > limit * abs(before):
            # The program judges nothing: it says what changed, and leaves the judgement open.
            reopened[identity] = (
                f"the amount of {screen!r} was {before:,} when it was reviewed, and is {amount:,} in run "
                f"{number}"
            )
            writer.append("reopen", identity, "", {"reason": reopened[identity], "run": number})
    return list(reopened.items())


class _Named:
    """Ids of subjects: those that they have, and new ones for those that have none."""

    def __init__(self, writer: Writer, keys: Iterable[tuple[str, str]]) -> None:
        self._writer = writer
        self._taken = writer.identities(dict.fromkeys(keys))
        self._holders = {identity: pair for pair, (identity, _) in self._taken.items()}
        self.fresh: list[Cells] = []

    def identity(self, prefix: str, table: str, key: str, kind: str, run: int) -> tuple[str, str]:
        """The id of a subject, and its kind."""
        pair = table, key
        if pair not in self._taken:
            identity = exception_id(prefix, table, key, self._holder)
            self._taken[pair] = identity, kind
            self._holders[identity] = pair
            self.fresh.append(
                {
                    "id": identity, "table_name": table, "kind": kind, "key": key,
                    "first_run": run,
                }
            )  # fmt: skip
        return self._taken[pair]

    def _holder(self, identity: str) -> tuple[str, str] | None:
        return self._holders.get(identity) or self._writer.holder(identity)
