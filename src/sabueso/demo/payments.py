"""Two years of payments to suppliers, ordinary ones first, then what is planted among them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, timedelta
from itertools import pairwise

import numpy as np

from sabueso.demo.world import (
    APPROVAL_LIMIT,
    END,
    INVENTOR,
    NEW_ROUTE_FROM,
    SPLITTER,
    TENDER_AWARDED,
    USERS,
    World,
    payment_days,
)

HARBOUR_PRICES = (9_480, 11_240, 18_760, 23_600, 31_025, 46_850)


@dataclass(frozen=True)
class Payment:
    """A payment; ``cents`` is the amount in minor units, ``kind`` the planted kind or empty."""

    day: date
    invoice: str
    supplier: str
    account: str
    cents: int
    user: str
    text: str
    kind: str = ""
    note: str = ""
    id: str = ""


_TEXTS = {
    "621": "Amarre y estancia", "622": "Reparación y repuestos", "623": "Honorarios",
    "624": "Portes", "625": "Prima de seguro", "627": "Campaña", "628": "Suministro",
    "629": "Servicio mensual",
}  # fmt: skip


def make_payments(world: World, more: list[Payment]) -> list[Payment]:
    """All payments in order of day, numbered; ``more`` are those that belong to other records."""
    found = _ordinary(world)
    found += _harbour(world) + _agency(world) + _new_route(world)
    found += _planted(world)
    found += _paid_twice(world, found)
    found += _twins(world) + _families(world) + _lease(world) + more
    found.sort(key=lambda p: (p.day, p.supplier, p.invoice, p.cents))
    return _numbered(world, found)


def _numbered(world: World, payments: list[Payment]) -> list[Payment]:
    """Numbers in order of day: three are missing, and two are there twice for different payees (kind 16)."""
    rng = world.rng("numbers")
    n = len(payments)
    plain = [
        i for i in range(n // 5, n - 2)
        if not payments[i].kind and not payments[i - 1].kind
        and payments[i].supplier != payments[i - 1].supplier
        and f"{payments[i].day:%Y-%m}" != "2025-07"
    ]  # fmt: skip
    gap, *again = (
        sorted(rng.choice(plain, size=3, replace=False).tolist()) if world.planted else [-1]
    )
    numbered, number = [], 0
    for i, payment in enumerate(payments):
        number += 4 if i == gap else 0 if i in again else 1
        numbered.append(replace(payment, id=f"P-{number:06d}"))
        if i in again:
            numbered[-1] = replace(
                numbered[-1], kind="16", note="number used twice, for two payees"
            )
    return numbered


def missing_numbers(payments: list[Payment]) -> tuple[str, str]:
    """The first and the last of the numbers that no payment has."""
    numbers = sorted({int(p.id[2:]) for p in payments})
    before = next(a for a, b in pairwise(numbers) if b - a > 1)
    after = numbers[numbers.index(before) + 1]
    return f"P-{before + 1:06d}", f"P-{after - 1:06d}"


def _ordinary(world: World) -> list[Payment]:
    rng = world.rng("payments")
    n = world.rows(32_900)
    days, load = payment_days()
    at = rng.choice(len(days), size=n, p=load)
    active = [s for s in world.suppliers if s.id not in world.special.values()]
    weights = np.array([s.weight for s in active])
    who = rng.choice(len(active), size=n, p=weights / weights.sum())
    # Quantity times price: the price is the supplier's, the quantity is heavy-tailed.
    price = np.exp(np.array([s.level for s in active])[who] + rng.normal(0, 0.25, n))
    quantity = np.exp(rng.normal(0.55, 1.05, n))
    cents = np.maximum(np.round(price * quantity * 100), 1).astype(np.int64)
    # What passes the approval limit by little is as frequent as ever: nobody avoids it here.
    kinds = rng.random(n)
    cents = np.where(
        kinds < 0.018, -np.round(cents * rng.uniform(0.1, 1, n)).astype(np.int64), cents
    )
    cents = np.where(kinds > 0.995, 0, cents)
    users = rng.choice(len(USERS), size=n, p=_user_loads())
    numbers = rng.integers(1, 99_999, n)
    return [
        Payment(
            day=days[at[i]],
            invoice=f"F{days[at[i]].year % 100}/{numbers[i]:05d}",
            supplier=active[who[i]].id,
            account=active[who[i]].account,
            cents=int(cents[i]),
            user=USERS[users[i]],
            text=_text(active[who[i]].account, int(cents[i])),
        )
        for i in range(n)
    ]


def _user_loads() -> np.ndarray:
    loads = np.array([9, 8, 7, 7, 6, 5, 5, 5, 4], dtype=float)
    return loads / loads.sum()


def _text(account: str, cents: int) -> str:
    if cents < 0:
        return "Abono de proveedor"
    if cents == 0:
        return "Anulado"
    return _TEXTS[account[:3]]


def _harbour(world: World) -> list[Payment]:
    """Harbour dues by a price list: innocent, and no population for leading digits."""
    rng = world.rng("harbour")
    days, load = payment_days()
    n = world.rows(1_500)
    at = rng.choice(len(days), size=n, p=load)
    price = rng.choice(HARBOUR_PRICES, size=n, p=(0.25, 0.22, 0.2, 0.15, 0.1, 0.08))
    supplier = world.supplier("harbour")
    users = rng.choice(USERS, size=n)
    return [
        Payment(
            days[a],
            f"TP{days[a]:%y%m}-{i:05d}",
            supplier.id,
            "62910",
            int(c),
            str(u),
            "Tasa de atraque",
        )
        for i, (a, c, u) in enumerate(zip(at, price, users, strict=True))
    ]


def _agency(world: World) -> list[Payment]:
    """Agency commission: from 2025 most of it goes to another account (kind 9)."""
    rng = world.rng("agency")
    supplier = world.supplier("agency").id
    found = []
    for month in range(24):
        day = date(2024 + month // 12, month % 12 + 1, 12)
        for part in range(3):
            cents = int(rng.lognormal(np.log(640_000), 0.25))
            hidden = world.planted and month >= 12 and part > 0
            found.append(
                Payment(
                    day + timedelta(days=part),
                    f"C{month + 1:02d}-{part + 1}",
                    supplier,
                    "62950" if hidden else "62320",
                    cents,
                    "egp",
                    "Servicios de agencia" if hidden else "Comisión de agencia",
                    "9" if hidden else "",
                    "commission booked as sundry expense" if hidden else "",
                )
            )
    return found


def _new_route(world: World) -> list[Payment]:
    """Berths of the route opened in March 2025: no prior period, and nothing wrong."""
    rng = world.rng("new route")
    days = [d for d in payment_days()[0] if d >= NEW_ROUTE_FROM]
    at = rng.choice(len(days), size=world.rows(240))
    supplier = world.supplier("new route").id
    return [
        Payment(
            days[a], f"LC-{1_000 + 11 * i + i * i % 7}", supplier, "62130", int(rng.lognormal(np.log(31_000), 0.9)),
            str(rng.choice(USERS)), "Amarre Los Carrizos",
        )
        for i, a in enumerate(at)
    ]  # fmt: skip


def _twins(world: World) -> list[Payment]:
    """Kind 13: one supplier entered twice; both are paid."""
    rng = world.rng("twins")
    days = payment_days()[0]
    found = []
    for part in (1, 2):
        supplier = world.supplier(f"twin {part}")
        for place in sorted(rng.choice(len(days), size=13, replace=False).tolist()):
            day = days[place]
            found.append(
                Payment(
                    day, f"SN{part}-{day:%y%j}", supplier.id, supplier.account,
                    int(rng.lognormal(np.log(52_000), 0.6)), str(rng.choice(USERS)), "Servicio mensual",
                )
            )  # fmt: skip
    return found


def _families(world: World) -> list[Payment]:
    """Two suppliers of one family name, each with an account of its own: innocent."""
    rng = world.rng("families")
    days = payment_days()[0]
    return [
        Payment(
            days[place], f"HB{part}-{days[place]:%y%j}", world.supplier(f"family {part}").id, "62410",
            int(rng.lognormal(np.log(44_000), 0.7)), str(rng.choice(USERS)), "Portes",
        )
        for part in (1, 2)
        for place in sorted(rng.choice(len(days), size=16, replace=False).tolist())
    ]  # fmt: skip


def _lease(world: World) -> list[Payment]:
    """Twelve equal instalments of a lease: innocent, and no payment made again."""
    days = payment_days()[0]
    supplier = world.supplier("lessor")
    return [
        Payment(
            next(d for d in days if d >= date(2025, month, 3)), f"ARR-2025-{month:02d}", supplier.id,
            supplier.account, 318_000, "acm", "Arrendamiento de oficinas", "innocent",
            "twelve equal instalments of a lease",
        )
        for month in range(1, 13)
    ]  # fmt: skip


def _planted(world: World) -> list[Payment]:
    if not world.planted:
        return [p for p in _revived(world) if not p.kind] + [
            p for p in _singles(world) if p.kind == "innocent"
        ]
    return _splits(world) + _invented(world) + _revived(world) + _tender(world) + _singles(world)


def _splits(world: World) -> list[Payment]:
    """Kind 1: invoices split to stay just under the approval limit."""
    rng = world.rng("splits")
    days = [d for d in payment_days()[0] if d >= date(2024, 6, 1)]
    found = []
    for part in (1, 2, 3):
        supplier = world.supplier(f"split {part}")
        for i in range(world.rows(104)):
            cents = APPROVAL_LIMIT * 100 - int(rng.integers(1, 20_000))
            day = days[int(rng.integers(len(days)))]
            found.append(
                Payment(
                    day, f"{part}F{day:%y%m}/{i:03d}", supplier.id, "62250", cents, SPLITTER,
                    "Material de varada", "1", "split under the approval limit",
                )
            )  # fmt: skip
    return found


def _invented(world: World) -> list[Payment]:
    """Kind 2: invented, round-ish amounts that begin with 6 and 7."""
    rng = world.rng("invented")
    days, load = payment_days()
    n = world.rows(620)
    at = rng.choice(len(days), size=n, p=load)
    lead = rng.integers(600, 800, n)
    size = rng.choice((100, 1_000), size=n)
    supplier = world.supplier("invented").id
    return [
        Payment(
            days[a], f"SV-{i:04d}", supplier, "62950", int(round(v, -1)) * int(s),
            INVENTOR, "Servicios varios", "2", "invented amount",
        )
        for i, (a, v, s) in enumerate(zip(at, lead, size, strict=True))
    ]  # fmt: skip


def _revived(world: World) -> list[Payment]:
    """Kind 6: 400 days of silence, then eleven payments."""
    rng = world.rng("revived")
    supplier = world.supplier("revived")
    first = [date(2024, 1, 15) + timedelta(days=9 * i) for i in range(5)]
    again = first[-1] + timedelta(days=400)
    days = [(d, "") for d in first] + [(again + timedelta(days=6 * i), "6") for i in range(11)]
    return [
        Payment(
            d, f"RV{i:03d}", supplier.id, supplier.account, int(rng.integers(180_000, 320_000)),
            "blr", "Servicio mensual", kind, "dormant supplier revived" if kind else "",
        )
        for i, (d, kind) in enumerate(days)
    ]  # fmt: skip


def _tender(world: World) -> list[Payment]:
    """Kind 10: a burst in the eight days before the yard tender was awarded."""
    rng = world.rng("tender")
    supplier = world.supplier("tender")
    return [
        Payment(
            TENDER_AWARDED - timedelta(days=int(rng.integers(1, 9))), f"AS{i:03d}", supplier.id,
            "62250", int(rng.lognormal(np.log(95_000), 0.4)), "dfs", "Anticipo de materiales",
            "10", "burst before the award",
        )
        for i in range(14)
    ]  # fmt: skip


def _singles(world: World) -> list[Payment]:
    """Kind 12, mistyped by a factor of 100, and the large payments that are in order."""
    rng = world.rng("singles")
    usual = sorted(
        (s for s in world.suppliers if s.id not in world.special.values()), key=lambda s: -s.weight
    )
    found = []
    for i, supplier in enumerate((usual[24], usual[41])):
        cents = round(float(np.exp(supplier.level + 1.8)) * 100) * 100
        found.append(
            Payment(
                date(2025, 2 + 6 * i, 11), f"F25/8{i}117", supplier.id, supplier.account, cents,
                "jsv", _text(supplier.account, 1), "12", "mistyped by a factor of 100",
            )
        )  # fmt: skip
    found.append(
        Payment(
            date(2024, 11, 20), "VR-2024-03", world.supplier("overhaul").id, "62230",
            int(rng.integers(48_100_000, 48_900_000)), "acm", "Gran varada del Págalo",
            "innocent", "dry-dock overhaul of the Págalo, with contract",
        )
    )  # fmt: skip
    found.append(
        Payment(
            date(2025, 3, 4), "PZ-88120", world.supplier("insurer").id, "62520",
            int(rng.integers(9_400_000, 9_800_000)), "acm", "Prima única responsabilidad civil",
            "innocent", "one-off insurance premium",
        )
    )  # fmt: skip
    return found


def _paid_twice(world: World, found: list[Payment]) -> list[Payment]:
    """Kind 5: the same invoice paid twice, fifteen times; two of them reversed afterwards."""
    rng = world.rng("twice")
    plain = [
        p for p in found if not p.kind and p.cents > 20_000 and p.day < END - timedelta(days=40)
    ]
    # The first two are reversed, and nothing is wrong with them.
    chosen = rng.choice(len(plain), size=15 if world.planted else 2, replace=False)
    again = []
    for i, index in enumerate(chosen.tolist()):
        p = plain[index]
        invoice = p.invoice
        if i % 3 == 1:
            invoice = p.invoice.replace("/", "-").replace("F", "F0")
        day = p.day + timedelta(days=(0, 0, 7)[i % 3])
        kind = "innocent" if i < 2 else "5"
        note = "paid twice and reversed" if i < 2 else "invoice paid twice"
        again.append(replace(p, day=day, invoice=invoice, kind=kind, note=note))
        if i < 2:
            back = replace(p, day=day + timedelta(days=5), invoice=invoice, cents=-p.cents)
            again.append(replace(back, text="Abono de proveedor", kind="innocent", note=note))
    return again
