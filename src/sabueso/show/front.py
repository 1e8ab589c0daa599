"""The front of the working papers: what was asked, what came of it, and what was not done."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from sabueso.base.errors import UserError
from sabueso.base.words import listed
from sabueso.case.folder import Case
from sabueso.case.marked import DRAWN
from sabueso.case.noting import WHOLE
from sabueso.case.plan_parts import ScreenSection
from sabueso.case.queue import AuditException
from sabueso.case.register import Event
from sabueso.case.sampling import SampleState
from sabueso.report import numbers as num
from sabueso.screens import find_screen

STATUSES = ("open", "cleared", "error", "referred")


@dataclass(frozen=True)
class Standing:
    """The exceptions of one status: how many, the sum of their amounts by size, and how many are signed
    off."""

    status: str
    exceptions: int
    amount: str
    signed: int


@dataclass(frozen=True)
class Matter:
    """Exceptions that were put together: how many, by status, their errors, and what was noted."""

    name: str
    exceptions: list[str]
    statuses: str
    errors: str
    notes: Mapping[str, list[Event]]


@dataclass(frozen=True)
class Front:
    """What stands first. ``not_done`` are sentences."""

    standings: list[Standing]
    errors: int
    error_text: str
    matters: list[Matter]
    notes: Mapping[str, list[Event]]
    not_done: list[str]
    drawn: int = 0
    samples: Sequence[SampleState] = ()

    @property
    def signed_off(self) -> bool:
        """Whether every exception is disposed of and signed off."""
        return all(s.exceptions == s.signed for s in self.standings) and bool(self.standings)


def front_of(
    case: Case,
    every: Sequence[AuditException],
    written: Mapping[str, Mapping[str, list[Event]]],
    drawn: Sequence[SampleState] = (),
) -> Front:
    """The front of a case's papers."""
    errors = [item.review for item in every if item.review.status == "error"]
    of_tables = case.currencies({item.table for item in every})

    def of(item: AuditException) -> str:
        return of_tables.get(item.table, case.plan.case.currency)

    known = [
        (of(item), item.review.error_amount)
        for item in every
        if item.review.status == "error" and item.review.error_amount is not None
    ]
    standings = [
        Standing(
            status,
            len(own),
            _sums([(of(i), abs(Decimal(i.amount))) for i in own if i.amount is not None])
            or num.amount(Decimal(0)),
            sum(bool(i.review.signed_off) for i in own),
        )
        for status in STATUSES
        if (own := [item for item in every if item.review.status == status])
    ]
    return Front(
        standings=standings,
        errors=len(errors),
        error_text=_error_text(len(errors), known),
        matters=_matters(every, written, of),
        notes=written.get(WHOLE, {}),
        not_done=_not_done(case, every),
        drawn=sum(item.kind == DRAWN for item in every),
        samples=drawn,
    )


def _error_text(errors: int, amounts: Sequence[tuple[str, Decimal]]) -> str:
    """How many errors there are, and what those that state an amount come to, each currency by itself."""
    told = num.many(errors, "exception is an error", "exceptions are errors")
    if not amounts:
        return f"{told}; no amount of an error is stated."
    total = _sums(amounts, named=True)
    which = (
        "their amounts are"
        if len(amounts) == errors
        else f"{len(amounts):,} of them state an amount,"
    )
    return f"{told}; {which} {total} in all."


def _sums(amounts: Sequence[tuple[str, Decimal]], *, named: bool = False) -> str:
    """Amounts added up, each currency by itself; ``named`` also where there is one."""
    sums: dict[str, Decimal] = {}
    for currency, amount in amounts:
        sums[currency] = sums.get(currency, Decimal(0)) + amount
    named = named or len(sums) > 1
    told = [num.amount(a) + (f" {currency}" if named else "") for currency, a in sums.items()]
    return listed(told)


def _matters(
    every: Sequence[AuditException],
    written: Mapping[str, Mapping[str, list[Event]]],
    of: Callable[[AuditException], str],
) -> list[Matter]:
    by_name: dict[str, list[AuditException]] = {}
    for item in every:
        if item.review.matter:
            by_name.setdefault(item.review.matter, []).append(item)
    found = []
    for name, items in by_name.items():
        counts = {s: sum(i.review.status == s for i in items) for s in STATUSES}
        stated = [(of(i), i.review.error_amount) for i in items if i.review.error_amount]
        errors = _sums(stated)
        told = ", ".join(f"{status} {n:,}" for status, n in counts.items() if n)
        found.append(Matter(name, [i.id for i in items], told, errors, written.get(name, {})))
    return found


def _not_done(case: Case, every: Sequence[AuditException]) -> list[str]:
    """What a reader might take for done, and is not."""
    told = []
    waiting = [item for item in every if item.review.status == "open"]
    if waiting:
        told.append(f"{num.many(len(waiting), 'exception is', 'exceptions are')} not disposed of.")
    unsigned = [i for i in every if i.review.status != "open" and not i.review.signed_off]
    if unsigned:
        told.append(
            f"{num.many(len(unsigned), 'disposition is', 'dispositions are')} not signed off."
        )
    assigned: dict[str, int] = {}
    for item in waiting:
        if item.review.assigned:
            assigned[item.review.assigned] = assigned.get(item.review.assigned, 0) + 1
    if assigned:
        told.append(
            "Assigned and open: " + ", ".join(f"{who} {n:,}" for who, n in assigned.items()) + "."
        )
    ran = {item["name"] for event in case.register.events("run") for item in event.body["screens"]}
    never = [section.name for section in case.plan.screens if section.name not in ran]
    if never:
        told.append(f"Screens of the programme that never ran: {', '.join(never)}.")
    made = {v["name"] for event in case.register.events("run") for v in event.body.get("views", ())}
    unmade = [view.name for view in case.plan.views if view.name not in made]
    if unmade:
        told.append(f"Views of the plan that no run has made: {', '.join(unmade)}.")
    screened = {case.plan.base_of(name) for s in case.plan.screens for name in _tables_of(s)}
    tables = list(dict.fromkeys(source.table for source in case.sources()))
    untested = [name for name in tables if name not in screened]
    if untested:
        told.append(f"Tables that no screen is on: {', '.join(untested)}.")
    aside = sum(source.count("quarantined") for source in case.sources())
    if aside:
        told.append(
            f"{num.many(aside, 'line')} of the sources could not be read and are in no screen."
        )
    return told


def _tables_of(section: ScreenSection) -> tuple[str, ...]:
    """The table of a screen, and those that it compares with."""
    try:
        others = find_screen(section.test).tables(section.settings)
    except UserError:  # no such test: it is named among those that could not run
        others = ()
    return (section.table, *others)
