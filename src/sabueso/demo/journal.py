"""The journal of both years: balanced entries from payments, sales, fuel and payroll."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from sabueso.demo.payments import Payment
from sabueso.demo.world import (
    END,
    INTERFACE,
    NEW_ROUTE_FROM,
    NIGHT_WORKER,
    ROUTES,
    START,
    USERS,
    VESSELS,
    World,
)


@dataclass(frozen=True)
class Line:
    """A line of an entry: minor units on one side, litres where there are any."""

    day: date
    time: str
    account: str
    debit: int
    credit: int
    units: str
    preparer: str
    approver: str
    text: str
    kind: str = ""
    note: str = ""


Entry = list[Line]
ROUND_TRIPS = 4


def make_journal(world: World, payments: list[Payment], payroll: dict[str, int]) -> list[Entry]:
    """Entries in order of day; ``payroll`` is the net pay of each month, in minor units."""
    rng = world.rng("journal")
    entries = [_payment_entry(p, rng) for p in payments if p.cents]
    entries += _sales(world) + _fuel(world) + _nights(world)
    entries += _interface(world) + _customers(world) + _round_trips(world)
    for month, cents in payroll.items():
        day = date(int(month[:4]), int(month[5:]), 28)
        entries.append(
            _pair(day, "09:30", "64010", "46500", cents, "acm", "tqa", f"Nómina {month}")
        )
        entries.append(
            _pair(day, "11:00", "46500", "57200", cents, "acm", "tqa", f"Pago nómina {month}")
        )
    entries.sort(key=lambda entry: (entry[0].day, entry[0].time))
    return entries


def _pair(
    day: date, time: str, debit: str, credit: str, cents: int, preparer: str, approver: str,
    text: str, units: str = "", kind: str = "", note: str = "",
) -> Entry:  # fmt: skip
    common = {"preparer": preparer, "approver": approver, "text": text, "kind": kind, "note": note}
    return [
        Line(day, time, debit, cents, 0, units, **common),
        Line(day, time, credit, 0, cents, "", **common),
    ]


def _clock(rng: np.random.Generator) -> str:
    minutes = int(np.clip(rng.normal(720, 130), 8 * 60, 18 * 60 + 30))
    return f"{minutes // 60:02d}:{minutes % 60:02d}"


def _approver(preparer: str, rng: np.random.Generator) -> str:
    others = [u for u in USERS if u != preparer]
    return others[int(rng.integers(len(others)))]


def _payment_entry(p: Payment, rng: np.random.Generator) -> Entry:
    size = abs(p.cents)
    debit, credit = (p.account, "57200") if p.cents > 0 else ("57200", p.account)
    text = f"{p.text} {p.supplier} {p.invoice}"
    return _pair(p.day, _clock(rng), debit, credit, size, p.user, _approver(p.user, rng), text)


def _days() -> list[date]:
    return [START + timedelta(days=i) for i in range((END - START).days + 1)]


def _season(day: date) -> float:
    return float(1.0 + 0.75 * np.exp(-(((day.timetuple().tm_yday - 215) / 48) ** 2)))


def _sales(world: World) -> list[Entry]:
    """Ticket and cargo takings: a few closings a day for each route."""
    rng = world.rng("sales")
    found = []
    closings = max(1, round(8 * world.scale))
    for day in _days():
        growth = 1.04 if day.year == 2025 else 1.0
        for i, route in enumerate(ROUTES):
            if i == 2 and day < NEW_ROUTE_FROM:
                continue
            passengers = (420, 260, 110)[i] * _season(day) * growth
            for _ in range(closings if i < 2 else max(1, closings // 2)):
                cents = int(passengers / closings * rng.lognormal(np.log(1_450), 0.35))
                who = USERS[int(rng.integers(6))]
                text = f"Cierre de taquilla {route}"
                account = ("70510", "70520", "70530")[i]
                found.append(
                    _pair(day, _clock(rng), "57200", account, cents, who, _approver(who, rng), text)
                )
        cents = int(rng.lognormal(np.log(210_000 * _season(day) * growth), 0.4))
        found.append(
            _pair(day, "18:15", "57200", "70540", cents, "egp", "tqa", "Carga y vehículos")
        )
    return found


def _fuel(world: World) -> list[Entry]:
    """Bunkering every other day. One vessel's price moves 31 % while it sails less (kind 8)."""
    rng = world.rng("fuel")
    found = []
    for v, vessel in enumerate(VESSELS):
        account = f"628{v + 1}0"
        for i, day in enumerate(_days()):
            if (i + v) % 2:
                continue
            litres = (1_500, 1_350, 1_700, 1_250)[v] * _season(day) * rng.uniform(0.9, 1.1)
            price = 0.78 * rng.uniform(0.985, 1.015)
            odd = world.planted and vessel == "Alcatraz" and day.year == 2025
            if odd:
                litres *= 0.94
                price *= 1.31 / 0.94
            elif day.year == 2025:
                price *= 1.02
            whole = round(litres)
            found.append(
                _pair(
                    day, "07:40" if v < 2 else "19:10", account, "57200", round(whole * price * 100),
                    "dfs", "acm", f"Combustible {vessel}", str(whole), "8" if odd else "",
                    "price of fuel up, sailings down" if odd else "",
                )
            )  # fmt: skip
    return found


def _interface(world: World) -> list[Entry]:
    """Charges of the bank, posted by an interface at three every night: innocent."""
    rng = world.rng("interface")
    return [
        _pair(
            day, f"03:0{rng.integers(0, 6)}", "62620", "57200", int(rng.lognormal(np.log(1_900), 0.5)),
            INTERFACE, "tqa", "Comisiones bancarias",
        )
        for day in _days()
    ]  # fmt: skip


def _customers(world: World) -> list[Entry]:
    """Cargo on account: invoiced to customers, and collected a month or so later."""
    rng = world.rng("customers")
    found = []
    for month in range(24):
        for _ in range(6):
            day = date(2024 + month // 12, month % 12 + 1, int(rng.integers(3, 25)))
            cents = int(rng.lognormal(np.log(380_000), 0.5))
            who = USERS[int(rng.integers(6))]
            text = "Flete a crédito"
            found.append(
                _pair(day, _clock(rng), "43000", "70540", cents, who, _approver(who, rng), text)
            )
            paid = day + timedelta(days=int(rng.integers(25, 50)))
            if paid <= END:
                found.append(
                    _pair(paid, _clock(rng), "57200", "43000", cents, who, _approver(who, rng), f"Cobro {text}")
                )  # fmt: skip
    return found


def _round_trips(world: World) -> list[Entry]:
    """Kind 14: revenue in the last days of 2024, taken back in the first of 2025."""
    rng = world.rng("round trips")
    found: list[Entry] = []
    if not world.planted:
        return found
    for i in range(ROUND_TRIPS):
        booked = date(2024, 12, 27 + i % 4)
        back = date(2025, 1, 2 + i % 4)
        cents = int(rng.integers(1_800_000, 6_200_000))
        for day, debit, credit, text in (
            (booked, "43000", "70540", "Flete a crédito"),
            (back, "70540", "43000", "Anulación de flete"),
        ):
            found.append(
                _pair(
                    day, _clock(rng), debit, credit, cents, "jsv", "tqa", text, "", "14",
                    "revenue booked before the year's end and taken back after it",
                )
            )  # fmt: skip
    return found


def _nights(world: World) -> list[Entry]:
    """Kind 7: at night and on Sundays, round amounts, a rarely used pair, one preparer."""
    rng = world.rng("nights")
    found: list[Entry] = []
    if not world.planted:
        return found
    for i in range(26):
        day = START + timedelta(days=int(rng.integers(200, 720)))
        if i % 2:
            day -= timedelta(days=(day.weekday() + 1) % 7)
            time = f"{rng.integers(10, 13):02d}:{rng.integers(0, 60):02d}"
        else:
            time = f"{rng.integers(2, 4):02d}:{rng.integers(0, 60):02d}"
        cents = int(rng.integers(4, 20)) * 50_000
        found.append(
            _pair(
                day, time, "55500", "76900", cents, NIGHT_WORKER, NIGHT_WORKER, "Regularización",
                "", "7", "entered at night or on a Sunday",
            )
        )  # fmt: skip
    return found
