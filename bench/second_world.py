"""A world that has nothing of the sample's: python bench/second_world.py FOLDER [--seed 1].

Three clinics in a valley, in German: other columns, another language, other habits. Payments go out in two
runs a month, a third of them standing orders; the journal has one unsigned amount with Soll and Haben; nurses
work at night, and the laboratory's interface posts at one; the fiscal year is the calendar's, the limit of
approval 10,000. Sixteen kinds of irregularity are planted with an answer key, as in the sample, and things
that only look bad. Names are invented.
"""

from __future__ import annotations

import argparse
import csv
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import numpy as np

START, END = date(2024, 1, 1), date(2025, 12, 31)
ACCOUNTS = {
    "6010": ("Medikamente", "60", 14), "6020": ("Verbandmaterial", "60", 9), "6030": ("Laborbedarf", "60", 8),
    "6040": ("Implantate", "60", 5), "6110": ("Strom Tal", "61", 0), "6120": ("Strom Höhe", "61", 0),
    "6130": ("Strom See", "61", 0), "6140": ("Heizöl", "61", 2), "6210": ("Speisen", "62", 9),
    "6220": ("Wäsche", "62", 6), "6230": ("Reinigung", "62", 6), "6310": ("Instandhaltung Bau", "63", 5),
    "6320": ("Instandhaltung Technik", "63", 6), "6330": ("Mieten", "63", 4), "6410": ("Beratung", "64", 2),
    "6420": ("Prüfung und Recht", "64", 2), "6430": ("Fortbildung", "64", 3), "6440": ("Versicherungen", "64", 1),
    "6510": ("Fuhrpark", "65", 3), "6520": ("Büro", "65", 5), "6530": ("Porto und Telefon", "65", 4),
    "6590": ("Sonstiges", "65", 5), "1200": ("Bank", "12", 0), "1400": ("Forderungen", "14", 0),
    "4010": ("Erlöse stationär", "40", 0), "4020": ("Erlöse ambulant", "40", 0), "4030": ("Erlöse Wahlleistungen", "40", 0),
    "1790": ("Verrechnung", "17", 0), "4990": ("Sonstige Erlöse", "49", 0),
}  # fmt: skip
STANDING = ("6330", "6530", "6230")
CLERKS = ("abl", "brg", "dor", "ehl", "fis", "gra")
WORDS = {
    "6010": "Apotheke",
    "6210": "Küche",
    "6320": "Wartung",
    "6410": "Beratung",
    "6590": "Diverses",
}
_NAMES = ("Alpin", "Birken", "Dachs", "Erlen", "Falken", "Gletscher", "Hasel", "Isar", "Kiesel", "Lerchen", "Moos",
          "Nebel", "Otter", "Quell", "Reiher", "Silber", "Tannen", "Ulmen", "Wacholder", "Zirben")  # fmt: skip
_TRADES = (
    "Pharma",
    "Medizintechnik",
    "Textil",
    "Catering",
    "Bau",
    "Energie",
    "Logistik",
    "Labor",
    "Druck",
    "Dienste",
)
_FORMS = ("GmbH", "AG", "KG", "e.K.")
_FIRST = (
    "Anna",
    "Bernd",
    "Clara",
    "Detlef",
    "Edda",
    "Frank",
    "Greta",
    "Henrik",
    "Ilse",
    "Jonas",
    "Karin",
    "Lutz",
)
_LAST = ("Achleitner", "Buchner", "Dorfer", "Ebner", "Fuchsloch", "Grasser", "Huberich", "Innauer", "Kranzl",
         "Leitgeb", "Mosbacher", "Niederer", "Ortlieb", "Pichler", "Rainer", "Stadlober", "Talhuber")  # fmt: skip
WARDS = ("Chirurgie", "Innere", "Pflege", "Labor", "Verwaltung")


@dataclass
class Made:
    """What is written: rows by file, and the answers."""

    rng: np.random.Generator
    files: dict[str, list[Sequence[Any]]] = field(default_factory=dict)
    answers: list[tuple[str, str, str, str]] = field(default_factory=list)

    def tell(self, table: str, key: str, kind: object, note: str) -> None:
        self.answers.append((table, key, str(kind), note))


def german(amount: float) -> str:
    """1.234,56"""
    return f"{amount:,.2f}".translate(str.maketrans(",.", ".,"))


def day_of(day: date) -> str:
    return f"{day:%d.%m.%Y}"


def iban(rng: np.random.Generator) -> str:
    return (
        f"DE{rng.integers(10, 99)}" + "".join(f"{v:04d}" for v in rng.integers(0, 10_000, 4)) + "00"
    )


@dataclass
class Supplier:
    number: str
    name: str
    account: str
    level: float
    weight: float
    created: date
    bank: str
    standing: float = 0.0


@dataclass
class Payment:
    day: date
    supplier: Supplier
    account: str
    amount: float
    clerk: str
    invoice: str
    text: str
    kind: str = ""
    note: str = ""
    number: str = ""


def runs(first: date = START, last: date = END) -> list[date]:
    """The two days a month on which payments go out."""
    found = []
    for year in (2024, 2025):
        for month in range(1, 13):
            for wanted in (10, 25):
                day = date(year, month, wanted)
                while day.weekday() > 4:
                    day += timedelta(days=1)
                if first <= day <= last:
                    found.append(day)
    return found


def suppliers_of(rng: np.random.Generator) -> list[Supplier]:
    names = [f"{a}{b} {f}" for a in _NAMES for b in ("bach", "feld", "tal") for f in _TRADES]
    picked = rng.choice(len(names), 420, replace=False)
    weighted = [(a, w) for a, (_, _, w) in ACCOUNTS.items() if w]
    shares = np.array([w for _, w in weighted], float)
    accounts = rng.choice(len(weighted), 420, p=shares / shares.sum())
    popular = rng.permutation(1 / (np.arange(420) + 8.0))
    found = []
    for i in range(420):
        account = weighted[accounts[i]][0]
        one = Supplier(
            f"L{20_000 + 7 * i}", f"{names[picked[i]]} {_FORMS[int(rng.integers(4))]}", account,
            float(rng.normal(5.8, 0.8)), float(popular[i]),
            START - timedelta(days=int(rng.integers(60, 4_000))), iban(rng),
        )  # fmt: skip
        if account in STANDING and rng.random() < 0.5:
            one.standing = round(float(np.exp(rng.normal(6.5, 0.7))), 2)
        found.append(one)
    return found


def ordinary(rng: np.random.Generator, suppliers: list[Supplier], many: int) -> list[Payment]:
    """Payments as they arise: quantity times price, and standing orders each month."""
    days = runs()
    found: list[Payment] = []
    trading = [s for s in suppliers if not s.standing]
    weight = np.array([s.weight for s in trading])
    chosen = rng.choice(len(trading), many, p=weight / weight.sum())
    when = rng.integers(0, len(days), many)
    clerks = rng.choice(len(CLERKS), many, p=[0.28, 0.22, 0.18, 0.14, 0.1, 0.08])
    quantity = np.maximum(1, np.round(rng.lognormal(2.0, 1.1, many)))
    price = np.exp(rng.normal(0, 0.45, many))
    for i in range(many):
        s = trading[chosen[i]]
        amount = round(float(quantity[i] * price[i] * np.exp(s.level - 2.0)), 2)
        account = s.account if rng.random() < 0.96 else "6590"
        if rng.random() < 0.02:
            amount = -round(amount * float(rng.uniform(0.05, 0.9)), 2)
        found.append(
            Payment(days[when[i]], s, account, amount, CLERKS[clerks[i]], "", text_of(rng, account))
        )
    for s in suppliers:
        if s.standing:
            rise = float(rng.uniform(1.0, 1.04))
            for day in days[::2]:
                amount = round(s.standing * (rise if day.year == 2025 else 1), 2)
                found.append(
                    Payment(
                        day,
                        s,
                        s.account,
                        amount,
                        "abl",
                        "",
                        f"Dauerauftrag {ACCOUNTS[s.account][0]}",
                    )
                )
    return found


def text_of(rng: np.random.Generator, account: str) -> str:
    return f"{WORDS.get(account, ACCOUNTS[account][0])} {'ABCDEFG'[int(rng.integers(7))]}{int(rng.integers(100, 999))}"


def payments(made: Made, suppliers: list[Supplier], staff: list[Sequence[Any]], many: int) -> None:
    """The payments with what is planted in them (kinds 1, 2, 5, 6, 9, 10, 12, 13, 16)."""
    rng, days = made.rng, runs()
    quiet = [s for s in sorted(suppliers, key=lambda s: s.weight)[120:300] if not s.standing]
    cast = [quiet[i] for i in rng.choice(len(quiet), 12, replace=False)]
    split, invented, dormant, moved, award, device, insurer, lessor = cast[:8]
    for one in (split, invented, dormant, moved, award, device, insurer, lessor):
        one.weight = 0.0
    found = ordinary(rng, [s for s in suppliers if s is not moved and s is not dormant], many)

    def add(day: date, s: Supplier, amount: float, clerk: str, text: str, kind: object = "", note: str = "",
            account: str = "", invoice: str = "") -> Payment:  # fmt: skip
        one = Payment(
            day, s, account or s.account, round(amount, 2), clerk, invoice, text, str(kind), note
        )
        found.append(one)
        return one

    for _ in range(64):
        add(days[int(rng.integers(6, 44))], split, float(rng.uniform(9_250, 9_990)), "gra",
            text_of(rng, split.account), 1, "kept under the limit of 10,000")  # fmt: skip
    for _ in range(260):
        start = int(rng.choice([8, 9]))
        add(days[int(rng.integers(0, 48))], invented, start * 100 + int(rng.integers(0, 10)) * 10 + float(rng.choice([0, 0.5])),
            "gra", "Honorar laut Absprache", 2, "invented")  # fmt: skip
    for k in range(6):
        add(days[k], dormant, float(rng.lognormal(6, 0.4)), "brg", text_of(rng, dormant.account))
    dormant.bank = f"{staff[40][4][:4]} {staff[40][4][4:8]} {staff[40][4][8:]}"
    for k in range(9):
        add(days[36 + k], dormant, float(rng.lognormal(7.4, 0.3)), "gra", text_of(rng, dormant.account), 6,
            "revived; the account of an employee")  # fmt: skip
    for k, day in enumerate(days):
        late = day.year == 2025
        add(day, moved, float(rng.lognormal(7.6, 0.15)), "dor", f"Beratung Monat {k // 2 + 1}", 9 if late else "",
            "consulting booked as sundry" if late else "", account="6590" if late else "6410")  # fmt: skip
    for k in range(12):
        add(date(2025, 9, 8) + timedelta(days=k % 7), award, float(rng.uniform(2_000, 9_000)), "ehl",
            "Machbarkeitsstudie", 10, "before the award")  # fmt: skip
    for k in range(5):
        add(days[8 * k], award, float(rng.lognormal(6.5, 0.6)), "dor", text_of(rng, award.account))
    add(
        date(2025, 6, 10),
        device,
        1_184_000.0,
        "abl",
        "MRT laut Vertrag 2025/3",
        "innocent",
        "the scanner, with contract",
    )
    add(date(2025, 1, 10), insurer, 212_300.0, "abl", "Haftpflicht Jahresprämie", "innocent", "premium of the year",
        account="6440")  # fmt: skip
    for day in days[::4]:
        add(
            day,
            lessor,
            3_850.0,
            "brg",
            "Leasingrate Betten",
            "innocent",
            "equal instalments of a lease",
        )
    twins = [Supplier(f"L{30_001 + i}", n, "6320", 6.2, 0.0, date(2023, 5, 2), "") for i, n in
             enumerate(("Steinmüller Gerätebau GmbH", "Steinmueller Gerätebau GmbH & Co. KG"))]  # fmt: skip
    twins[0].bank = iban(rng)
    twins[1].bank = twins[0].bank
    family = [Supplier(f"L{30_011 + i}", n, "6510", 6.0, 0.0, date(2022, 3, 1), iban(rng)) for i, n in
              enumerate(("Obermoser Fahrzeuge GmbH", "Obermoser Transporte GmbH"))]  # fmt: skip
    for s in (*twins, *family):
        for k in range(8):
            add(
                days[5 * k + int(rng.integers(0, 4))],
                s,
                float(rng.lognormal(6.8, 0.5)),
                CLERKS[k % 4],
                text_of(rng, s.account),
            )
        made.tell("lieferanten", s.number, 13 if s in twins else "innocent",
                  "entered twice, one account" if s in twins else "one family name, accounts of their own")  # fmt: skip
    suppliers += [*twins, *family]
    found.sort(key=lambda p: p.day)
    for p in found:
        p.invoice = p.invoice or f"R{p.day:%y}/{int(rng.integers(10_000, 99_999))}"
    _twice(rng, found)
    large = [p for p in found if not p.kind and 200 < p.amount < 900 and not p.supplier.standing]
    for p in (large[i] for i in rng.choice(len(large), 2, replace=False)):
        p.amount, p.kind, p.note = round(p.amount * 100, 2), "12", "a factor of 100"
    found.sort(key=lambda p: p.day)
    number = 400_000
    gap, again = (int(x) for x in rng.choice(np.arange(2_000, len(found) - 500), 2, replace=False))
    for i, p in enumerate(found):
        number += 5 if i == gap else 1
        if i == again:
            number -= 1
            p.kind, p.note = p.kind or "16", p.note or "number used twice"
            found[i - 1].kind = found[i - 1].kind or "16"
        p.number = f"Z{number}"
        if p.kind:
            made.tell("zahlungen", p.number, p.kind, p.note)
    made.tell("zahlungen", found[gap].number, 16, "the number after a gap of four")
    head = [
        "Zahlungsnr",
        "Belegdatum",
        "Lieferant",
        "Rechnungsnr",
        "Sachkonto",
        "Betrag",
        "Erfasser",
        "Buchungstext",
    ]
    for year in (2024, 2025):
        made.files[f"zahlungen/zahlungen_{year}.csv"] = [head, *(
            [p.number, day_of(p.day), p.supplier.number, p.invoice, p.account, german(p.amount), p.clerk, p.text]
            for p in found if p.day.year == year
        )]  # fmt: skip


def _twice(rng: np.random.Generator, found: list[Payment]) -> None:
    """Invoices paid twice: as they are, with another number's form, in the next run; two are taken back."""
    plain = [
        p
        for p in found
        if not p.kind and p.amount > 300 and not p.supplier.standing and p.day < date(2025, 11, 1)
    ]
    for k, i in enumerate(rng.choice(len(plain), 14, replace=False)):
        p = plain[i]
        invoice = p.invoice if k % 3 else p.invoice.replace("/", "-")
        later = next(day for day in runs() if day > p.day) if k % 2 else p.day
        innocent = k > 11
        found.append(Payment(later, p.supplier, p.account, p.amount, p.clerk, invoice, p.text,
                             "" if innocent else "5", "" if innocent else "paid twice"))  # fmt: skip
        if innocent:
            found.append(
                Payment(later, p.supplier, p.account, -p.amount, "abl", invoice, f"Storno {p.text}")
            )


def staff_of(made: Made) -> list[Sequence[Any]]:
    rng = made.rng
    rows = []
    for i in range(240):
        name = f"{_FIRST[int(rng.integers(12))]} {_LAST[int(rng.integers(17))]}"
        ward = WARDS[int(rng.choice(5, p=[0.22, 0.22, 0.36, 0.1, 0.1]))]
        since = START - timedelta(days=int(rng.integers(30, 6_000)))
        rows.append([f"M{500 + i}", name, ward, since, iban(rng), None])
    rows[77][5] = date(2025, 3, 31)
    made.files["mitarbeiter.csv"] = [
        ["Personalnr", "Name", "Abteilung", "Eintritt", "Austritt", "IBAN"],
        *(
            [r[0], r[1], r[2], day_of(r[3]), "" if r[5] is None else day_of(r[5]), r[4]]
            for r in rows
        ),
    ]
    return rows


def salaries(made: Made, staff: list[Sequence[Any]]) -> None:
    """Payroll and roster (kinds 3 and 4)."""
    rng = made.rng
    base = {
        "Chirurgie": 5_200,
        "Innere": 4_900,
        "Pflege": 3_300,
        "Labor": 3_500,
        "Verwaltung": 3_900,
    }
    night = {"Chirurgie": 620, "Innere": 560, "Pflege": 480, "Labor": 150, "Verwaltung": 0}
    nurses = [r[0] for r in staff if r[2] == "Pflege"]
    odd = [nurses[i] for i in rng.choice(len(nurses) - 10, 4, replace=False)]
    ghost = staff[120][0]
    pay: list[Sequence[Any]] = [["Personalnr", "Monat", "Grundgehalt", "Nachtzulage", "Netto"]]
    roster: list[Sequence[Any]] = [["Personalnr", "Tag", "Station"]]
    months = [date(y, m, 1) for y in (2024, 2025) for m in range(1, 13)]
    for r in staff:
        own, extra = (
            base[r[2]] * float(rng.normal(1, 0.06)),
            night[r[2]] * float(rng.normal(1, 0.08)),
        )
        if r[0] in odd[:3]:
            extra *= 2.1
        elif r[0] == odd[3]:
            own, extra = own * 0.9, extra * 1.45
        for k, month in enumerate(months):
            gone = r[5] is not None and month > r[5]
            if gone and k > 18:
                continue
            grown = 1.03 if month.year == 2025 else 1
            allowance = extra * float(rng.normal(1, 0.07)) if extra else 0
            total = (own * grown + allowance) * 0.62
            pay.append([r[0], day_of(month), german(own * grown), german(allowance), german(total)])
            if gone or (r[0] == ghost and 8 <= k < 18):
                continue
            for d in sorted(rng.choice(27, int(rng.integers(15, 20)), replace=False)):
                roster.append([r[0], day_of(month + timedelta(days=int(d))), r[2]])
    made.files["gehalt.csv"], made.files["dienstplan.csv"] = pay, roster
    for one in odd:
        made.tell("gehalt", one, 4, "night allowance unlike the peers'")
    made.tell("gehalt", ghost, 3, "ten months without a shift")
    made.tell("gehalt", staff[77][0], 3, "paid after leaving")


def journal(made: Made, many: int) -> None:
    """The journal: one unsigned amount with Soll and Haben (kinds 7, 8, 14)."""
    rng = made.rng
    rows: list[Sequence[Any]] = []
    number = 0

    def entry(
        day: date,
        time: str,
        debit: str,
        credit: str,
        amount: float,
        by: str,
        text: str,
        units: str = "",
    ) -> str:
        nonlocal number
        number += 1
        key = f"B{number:06d}"
        checked = "kra" if by != "kra" else "lam"
        for account, side in ((debit, "S"), (credit, "H")):
            rows.append(
                [
                    key,
                    day,
                    time,
                    account,
                    side,
                    amount,
                    units if side == "S" else "",
                    by,
                    checked,
                    text,
                ]
            )
        return key

    def clock(first: int, last: int) -> str:
        return f"{int(rng.integers(first, last)):02d}:{int(rng.integers(0, 60)):02d}"

    days = [START + timedelta(days=k) for k in range(731)]
    work = [d for d in days if d.weekday() < 5]
    costs = [(a, w) for a, (_, _, w) in ACCOUNTS.items() if w]
    share = np.array([w for _, w in costs], float)
    for i in rng.choice(len(costs), many, p=share / share.sum()):
        account = costs[i][0]
        entry(work[int(rng.integers(len(work)))], clock(7, 18), account, "1200",
              round(float(rng.lognormal(6.0, 1.3)), 2), CLERKS[int(rng.integers(6))], text_of(rng, account))  # fmt: skip
    for day in days:
        grown = 1.05 if day.year == 2025 else 1.0
        for account, level in (("4010", 9.4), ("4020", 8.3), ("4030", 7.6)):
            entry(day, "01:05", "1400", account, round(float(rng.lognormal(level, 0.25)) * grown, 2), "schnitt",
                  f"Abrechnung {day:%Y%m%d}")  # fmt: skip
        if day.weekday() == 6:
            entry(
                day,
                clock(9, 15),
                "6010",
                "1200",
                round(float(rng.lognormal(6, 0.8)), 2),
                "notdienst",
                "Notapotheke Sonntag",
            )
    for month in range(24):
        day = date(2024 + month // 12, month % 12 + 1, 15)
        for account, use in (("6110", 420), ("6120", 310), ("6130", 150)):
            units = (
                use * float(rng.normal(1, 0.05)) * (0.92 if account == "6120" and month > 11 else 1)
            )
            price = (
                182
                * float(rng.normal(1, 0.015))
                * (1.34 if account == "6120" and month > 11 else 1.02 if month > 11 else 1)
            )
            entry(
                day,
                clock(8, 16),
                account,
                "1200",
                round(units * price, 2),
                "fis",
                f"Strom {day:%m/%Y}",
                f"{units:.0f}",
            )
    for k in range(22):
        day = days[int(rng.integers(60, 700))]
        late = (
            f"{int(rng.choice([22, 23]))}:{int(rng.integers(60)):02d}" if k % 3 else clock(10, 20)
        )
        if not k % 3:
            day += timedelta(days=(6 - day.weekday()) % 7)
        key = entry(day, late, "1790", "4990", float(rng.integers(2, 19)) * 500, "gra", "Umbuchung")
        made.tell("buchungen", key, 7, "late or on a Sunday, a rare pair of accounts, round")
    for k in range(4):
        amount = round(float(rng.uniform(38_000, 96_000)), 2)
        one = entry(
            date(2024, 12, 27 + k),
            clock(9, 17),
            "1400",
            "4030",
            amount,
            "ehl",
            f"Wahlleistung Sammel {k + 1}",
        )
        two = entry(
            date(2025, 1, 3 + 2 * k),
            clock(9, 17),
            "4030",
            "1400",
            amount,
            "ehl",
            f"Korrektur Sammel {k + 1}",
        )
        made.tell("buchungen", one, 14, "booked before the close")
        made.tell("buchungen", two, 14, "taken back after it")
    made.tell("buchungen", "6120", 8, "power of one house: the rate moved, the volume fell")
    made.tell("buchungen", "schnitt", "innocent", "the interface posts at one")
    made.tell("buchungen", "notdienst", "innocent", "the pharmacy on duty on Sundays")
    rows.sort(key=lambda r: (r[1], r[0]))
    head = [
        "Buchungsnr",
        "Buchungsdatum",
        "Uhrzeit",
        "Konto",
        "Soll/Haben",
        "Betrag",
        "Menge MWh",
        "Erfasser",
        "Freigeber",
        "Text",
    ]
    made.files["buchungen.csv"] = [
        head,
        *([r[0], day_of(r[1]), *r[2:5], german(r[5]), *r[6:]] for r in rows),
    ]


def goods(made: Made, suppliers: list[Supplier]) -> None:
    """Orders, what came, and what was invoiced (kind 15)."""
    rng = made.rng
    sellers = [s for s in suppliers if s.account in ("6020", "6030", "6040")][:5]
    wrong = set(rng.choice(260, 8, replace=False).tolist())
    orders: list[Sequence[Any]] = [
        ["Bestellnr", "Datum", "Lieferant", "Artikel", "Menge", "Einzelpreis"]
    ]
    came: list[Sequence[Any]] = [["Lieferscheinnr", "Datum", "Bestellnr", "Menge"]]
    billed: list[Sequence[Any]] = [
        ["Rechnungsnr", "Datum", "Lieferant", "Bestellnr", "Menge", "Einzelpreis", "Betrag"]
    ]
    for i in range(260):
        key, s = f"BE-{7_000 + i}", sellers[int(rng.integers(len(sellers)))]
        day = START + timedelta(days=int(rng.integers(3, 690)))
        quantity, price = int(rng.integers(4, 300)), round(float(rng.lognormal(2.4, 0.8)), 2)
        orders.append(
            [
                key,
                day_of(day),
                s.number,
                f"Art. {int(rng.integers(1000, 1060))}",
                quantity,
                german(price),
            ]
        )
        got = quantity if rng.random() < 0.93 else max(1, quantity - int(rng.integers(1, 5)))
        came.append([f"LS{i:05d}", day_of(day + timedelta(days=5)), key, got])
        asked, rate = got, price
        if i in wrong:
            asked, rate = (
                (got + max(2, got // 5), price) if i % 2 else (got, round(price * 1.18, 2))
            )
            made.tell("rechnungen", key, 15, "invoiced above order or receipt")
        billed.append(
            [
                f"RE{i:05d}",
                day_of(day + timedelta(days=12)),
                s.number,
                key,
                asked,
                german(rate),
                german(round(asked * rate, 2)),
            ]
        )
    made.files |= {"bestellungen.csv": orders, "wareneingang.csv": came, "rechnungen.csv": billed}


def loan(made: Made) -> None:
    """Instalments above the terms from the ninth on (kind 11): 900,000 at 3.6 % over 24 months."""
    i = 0.036 / 12
    due = 900_000 * i / (1 - (1 + i) ** -24)
    rows: list[Sequence[Any]] = [["Rate", "Faellig", "Betrag"]]
    for k in range(1, 25):
        day = date(2024 + (k - 1) // 12, (k - 1) % 12 + 1, 28)
        rows.append([k, day_of(day), german(due + (290.15 if k >= 9 else 0))])
        if k >= 9:
            made.tell("darlehen", str(k), 11, "above the terms")
    made.files["darlehen.csv"] = rows


def write(folder: Path, seed: int, many: int = 22_000) -> None:
    """The inbox and its answers."""
    made = Made(np.random.default_rng([seed, 77]))
    suppliers = suppliers_of(made.rng)
    staff = staff_of(made)
    payments(made, suppliers, staff, many)
    salaries(made, staff)
    journal(made, many)
    goods(made, suppliers)
    loan(made)
    made.files["lieferanten.csv"] = [
        ["Lieferantennr", "Firma", "IBAN", "Angelegt"],
        *([s.number, s.name, s.bank, day_of(s.created)] for s in suppliers),
    ]
    made.files["kontenplan.csv"] = [
        ["Konto", "Bezeichnung", "Gruppe"],
        *([a, name, group] for a, (name, group, _) in ACCOUNTS.items()),
    ]
    for name, rows in made.files.items():
        _save(folder / name, rows, ";", "cp1252")
    _save(
        folder.parent / "answers.csv",
        [["table", "key", "kind", "note"], *made.answers],
        ",",
        "utf-8",
    )


FACTS = """
[facts]
freigabe = 10000
vergabe = 2025-09-16

[facts.darlehen]
principal = 900000
rate = 0.036
periods = 24
"""


def _save(path: Path, rows: Iterable[Sequence[Any]], delimiter: str, encoding: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w", newline="", encoding=encoding) as file:
        csv.writer(file, delimiter=delimiter).writerows(rows)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    write(given.folder / "inbox", given.seed)
