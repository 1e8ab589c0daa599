"""The staff and their roster: who was aboard, or at work ashore, on which day."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from sabueso.demo.payroll import Pay
from sabueso.demo.world import END, HOLIDAYS, START, VESSELS, World

ABSENT, LEFT = 40, 61  # deck hands: nine months paid without a day of work; paid after leaving
ABSENT_FROM, ABSENT_TO = date(2025, 1, 1), date(2025, 9, 30)
LEAVING = date(2025, 6, 30)
_NAMES = (
    "Abril", "Bruna", "Ciro", "Delia", "Elvio", "Fabia", "Genaro", "Hilda", "Isauro", "Julieta",
    "Kilian", "Leandra", "Mauro", "Nerea", "Octavio", "Petra", "Quirino", "Rocío", "Silvano", "Tecla",
)  # fmt: skip
_SURNAMES = (
    "Albariño", "Bermejal", "Cardosa", "Dunal", "Espigón", "Farola", "Garzal", "Hondanar", "Isleño",
    "Juncal", "Lonjero", "Mareante", "Nasar", "Orillero", "Peñascal", "Quillero", "Ribazo", "Salinar",
)  # fmt: skip


@dataclass(frozen=True)
class Employee:
    """One of the staff. ``left`` is the last day of work, or None."""

    id: str
    name: str
    grade: str
    joined: date
    left: date | None
    bank: str


def make_staff(world: World, pays: list[Pay]) -> list[Employee]:
    """The employees of the payroll, in its order."""
    rng = world.rng("staff")
    first = {pay.employee: pay for pay in reversed(pays)}
    hands = sorted(e for e, pay in first.items() if pay.grade == "marinero")
    found = []
    for employee in sorted(first):
        pay = first[employee]
        found.append(
            Employee(
                id=employee,
                name=f"{rng.choice(_NAMES)} {rng.choice(_SURNAMES)} {rng.choice(_SURNAMES)}",
                grade=pay.grade,
                joined=START - timedelta(days=int(rng.integers(60, 7_000))),
                left=LEAVING if world.planted and employee == hands[LEFT] else None,
                bank=pay.bank,
            )
        )
    return found


def phantoms(staff: list[Employee]) -> tuple[str, str]:
    """Who is paid without a day of work, and who after leaving (kind 3)."""
    hands = [e.id for e in staff if e.grade == "marinero"]
    return hands[ABSENT], hands[LEFT]


def make_roster(world: World, staff: list[Employee]) -> list[tuple[str, date, str]]:
    """Employee, day, vessel: about 235 days a year each, in order of day."""
    rng = world.rng("roster")
    absent = phantoms(staff)[0] if world.planted else ""
    days = [START + timedelta(days=i) for i in range((END - START).days + 1)]
    # A crew has its vessel, and helps out on another now and then.
    homes = rng.integers(len(VESSELS), size=len(staff))
    found = []
    for day in days:
        at_sea = rng.random(len(staff)) < 0.66
        elsewhere = rng.random(len(staff)) < 0.06
        other = rng.integers(len(VESSELS), size=len(staff))
        working = day.weekday() < 5 and (day.month, day.day) not in HOLIDAYS
        ashore = working & (rng.random(len(staff)) < 0.93)
        for i in np.flatnonzero(at_sea | ashore).tolist():
            employee = staff[i]
            yard = employee.grade == "tierra"
            if not (ashore[i] if yard else at_sea[i]):
                continue
            if employee.left is not None and day > employee.left:
                continue
            if employee.id == absent and ABSENT_FROM <= day <= ABSENT_TO:
                continue
            vessel = VESSELS[int(other[i] if elsewhere[i] else homes[i])]
            found.append((employee.id, day, "Astillero" if yard else vessel))
    return found
