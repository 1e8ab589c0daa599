"""A county's books as its programs hand them on: python bench/third_world.py FOLDER [--seed 1] [--size 1.0].

In English, dates month first, nine files of eight tables with names such as ``Vendor #`` and ``Ext Price``: checks of
two fiscal years, orders and what was received, vendors and staff, wages of every fortnight, the ledger and the
purchasing cards. Eleven kinds of irregularity are planted with an answer key. Names are invented.
"""

from __future__ import annotations

import argparse
import csv
from collections.abc import Sequence
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np

START, DAYS = date(2023, 7, 3), 726
FACTS = "\n[facts]\napproval = 5000\n"
FIRST = ("Alma", "Beth", "Carl", "Dora", "Evan", "Faye", "Glen", "Hope", "Ivan", "June", "Kurt", "Lena", "Milo", "Nora",
         "Otto", "Quin", "Rosa", "Seth", "Tess", "Vern", "Wade", "Yann", "Zoe")  # fmt: skip
LAST = ("Abbot", "Boyle", "Crane", "Drake", "Ellis", "Frost", "Grove", "Hardy", "Ingram", "Joyce", "Kemp", "Lowry", "Mason",
        "Nolan", "Ogden", "Pratt", "Quill", "Reyes", "Stone", "Tully", "Upton", "Vance", "Wells", "York")  # fmt: skip
TRADES = ("Supply", "Paving", "Electric", "Consulting", "Fuel", "Office", "Medical")
CLERKS, DIRECTORS = ("ALMAC", "BBOYLE", "CDRAKE", "DELLIS"), ("GHARDY", "HINGRAM", "IJOYCE")
ACCOUNTS = {
    "5100": "Salaries", "5200": "Supplies", "5300": "Contract services", "5400": "Travel", "4000": "Property tax",
    "1010": "Cash", "2010": "Accounts payable",
}  # fmt: skip
POSTED = (
    ("5200", "2010"),
    ("5300", "2010"),
    ("5400", "2010"),
    ("2010", "1010"),
    ("1010", "4000"),
    ("5100", "1010"),
)


def _us(day: date) -> str:
    return f"{day.month}/{day.day}/{day.year}"


def _money(cents: int) -> str:
    return f"{cents / 100:,.2f}"


def _working(day: date) -> date:
    return day + timedelta(days=max(0, 7 - day.weekday()) if day.weekday() > 4 else 0)


class County:
    """What is written: rows by file, and the answers."""

    def __init__(self, seed: int, size: float) -> None:
        self.rng = np.random.default_rng(seed)
        self.size = size
        self.files: dict[str, list[Sequence[Any]]] = {}
        self.answers: list[tuple[str, str, str, str]] = []
        self.staff: list[list[Any]] = []
        self.vendors: list[list[Any]] = []

    def many(self, count: int, least: int = 0) -> int:
        return max(int(count * self.size), least)

    def one(self, of: Sequence[Any]) -> Any:
        return of[int(self.rng.integers(len(of)))]

    def day(self) -> date:
        return _working(START + timedelta(days=int(self.rng.integers(DAYS))))

    def plant(self, table: str, key: object, kind: int, note: str) -> None:
        self.answers.append((table, str(key), str(kind), note))

    def make(self) -> None:
        self._people()
        self._vendors()
        self._checks()
        self._wages()
        self._ledger()
        self._cards()

    def _address(self, streets: Sequence[str], ends: Sequence[str]) -> str:
        return f"{int(self.rng.integers(10, 9999))} {self.one(streets)} {self.one(ends)}"

    def _people(self) -> None:
        for i in range(self.many(240, 60)):
            hired = START - timedelta(days=int(self.rng.integers(4000)))
            left = (
                START + timedelta(days=int(self.rng.integers(600)))
                if self.rng.random() < 0.12
                else None
            )
            self.staff.append([
                f"E{1000 + i}", f"{self.one(LAST)}, {self.one(FIRST)}",
                self._address(("Oak", "Elm", "Pine", "Main", "Lake"), ("St", "Ave", "Rd")), hired, left,
                str(self.rng.integers(10**9, 10**10)), self.one(("Roads", "Parks", "Sheriff", "Clerk", "Health")),
            ])  # fmt: skip
        self.staff[37][5] = self.staff[12][5]
        self.plant("employees", self.staff[37][5], 1, "one account of two")
        self.staff[50][4] = date(2023, 9, 29)
        for who in (12, 20, 25, 37, 41, 45):
            self.staff[who][4] = None
        rows = [[*p[:3], _us(p[3]), _us(p[4]) if p[4] else "", *p[5:]] for p in self.staff]
        head = ["Emp ID", "Name", "Address", "Hire Date", "Term Date", "Bank Account", "Department"]
        self.files["Employees.csv"] = [head, *rows]

    def _vendors(self) -> None:
        for i in range(self.many(420, 110)):
            self.vendors.append([
                str(20000 + i), f"{self.one(LAST)} {self.one(TRADES)} {self.one(('LLC', 'Inc', 'Co'))}",
                self._address(("Commerce", "Market", "Industrial"), ("Blvd", "Way", "Dr")), "Harborfield",
                str(self.rng.integers(40000, 40999)),
                f"{int(self.rng.integers(10, 99))}-{int(self.rng.integers(10**6, 10**7))}",
                str(self.rng.integers(10**9, 10**10)), START - timedelta(days=int(self.rng.integers(1, 3000))),
                self.one(CLERKS),
            ])  # fmt: skip
        self.shell, self.near, self.early = self.vendors[-5], self.vendors[-9], self.vendors[-13]
        self.shell[6] = self.staff[20][5]
        self.plant("employees", self.shell[6], 2, "a vendor's account is a clerk's")
        self.near[2] = self.staff[25][2]
        self.plant("employees", self.near[2], 11, "a vendor lives where a clerk does")
        self.early[7] = date(2024, 11, 4)
        self.plant("ap_check_register_fy", self.early[0], 10, "paid before it was known")
        head = [
            "Vendor #",
            "Vendor Name",
            "Address",
            "City",
            "ZIP",
            "TIN",
            "Bank Account",
            "Created On",
            "Created By",
        ]
        self.files["Vendor Master.csv"] = [head, *([*v[:7], _us(v[7]), v[8]] for v in self.vendors)]

    def _checks(self) -> None:
        known = self.vendors[: int(0.7 * len(self.vendors))]
        prices = (self.rng.uniform(3, 400, 60) * 100).astype(int)
        orders, received, checks = [], [], []
        for i in range(self.many(5200, 400)):
            day, vendor, item = self.day(), self.one(known), int(self.rng.integers(60))
            many, price = (
                int(self.rng.integers(1, 60)),
                int(prices[item] * self.rng.uniform(0.97, 1.03)),
            )
            number, cents = f"PO{500001 + i}", many * price
            orders.append(
                [
                    number,
                    _us(day),
                    vendor[0],
                    f"ITM-{item:03}",
                    many,
                    _money(price),
                    _money(cents),
                    self.one(CLERKS),
                ]
            )
            came = _working(day + timedelta(days=int(self.rng.integers(3, 25))))
            received.append([f"RC{500001 + i}", number, _us(came), many, self.one(("W1", "W2"))])
            over = i in (31, 77, 203)
            billed = _working(came + timedelta(days=int(self.rng.integers(0, 6))))
            checks.append(
                self._check(
                    vendor,
                    billed,
                    int(cents * 1.25) if over else cents,
                    number,
                    kind=4 if over else 0,
                )
            )
        for _ in range(self.many(2600, 300)):
            vendor = self.one(self.vendors[:-15])
            checks.append(
                self._check(vendor, self.day(), int(np.exp(self.rng.normal(6, 1.3)) * 100) + 1)
            )
        for k, place in enumerate((40, 90, 150, 240)):
            twin = dict(checks[place])
            if k % 2:
                twin["invoice"] += "A"
            twin["paid"] += timedelta(days=14)
            twin["kind"] = checks[place]["kind"] = 5
            checks.append(twin)
        for i in range(14):
            day = _working(date(2024, 3, 4) + timedelta(days=25 * i))
            checks.append(
                self._check(self.shell, day, 470_000 + int(self.rng.integers(29_000)), kind=2)
            )
        for k in range(3):
            checks.append(
                self._check(
                    self.vendors[-11],
                    date(2024, 9, 9) + timedelta(days=k),
                    240_000 + 1_725 * k,
                    kind=9,
                )
            )
        for k in range(8):
            checks.append(
                self._check(
                    self.early,
                    _working(date(2024, 8, 5) + timedelta(days=28 * k)),
                    61_300 + 977 * k,
                )
            )
        checks.sort(key=lambda c: c["paid"])
        head = ["Vendor #", "Vendor Name", "Invoice #", "Inv Date", "Check #", "Check Date", "Amount", "PO #", "Dept",
                "Entered By", "Approved By"]  # fmt: skip
        years: dict[int, list[Sequence[Any]]] = {24: [head], 25: [head]}
        for number, c in enumerate(checks, 81001):
            if c["kind"]:
                self.plant("ap_check_register_fy", number, c["kind"], "a check")
            years[24 if c["paid"] < date(2024, 7, 1) else 25].append([
                *c["vendor"][:2], c["invoice"], _us(c["billed"]), number, _us(c["paid"]), _money(c["cents"]), c["order"],
                self.one(("100", "200", "300")), self.one(CLERKS), self.one(DIRECTORS),
            ])  # fmt: skip
        for year, rows in years.items():
            self.files[f"AP Check Register FY{year}.csv"] = rows
        head = ["PO #", "PO Date", "Vendor #", "Item", "Qty", "Unit Price", "Ext Price", "Buyer"]
        self.files["Purchase Orders.csv"] = [head, *orders]
        self.files["Receiving.csv"] = [
            ["Receipt #", "PO #", "Receipt Date", "Qty Received", "Whse"],
            *received,
        ]

    def _check(
        self, vendor: list[Any], billed: date, cents: int, order: str = "", kind: int = 0
    ) -> dict[str, Any]:
        paid = _working(billed + timedelta(days=int(self.rng.integers(20, 40))))
        invoice = f"{self.one('AB')}{int(self.rng.integers(10_000, 99_999))}"
        return {
            "vendor": vendor,
            "invoice": invoice,
            "billed": billed,
            "paid": paid,
            "cents": cents,
            "order": order,
            "kind": kind,
        }

    def _wages(self) -> None:
        rates = self.rng.integers(1_600, 4_800, len(self.staff))
        rows: list[Sequence[Any]] = []
        day, runs = date(2023, 7, 7), 0
        while day < date(2025, 7, 1):
            for place, who in enumerate(self.staff):
                # The last wage is paid on the run after the last day.
                if who[3] > day or (
                    who[4]
                    and who[4] + timedelta(days=14) < day
                    and (place != 50 or day > date(2024, 5, 31))
                ):
                    continue
                extra = 38 if place == 41 and runs > 13 else int(self.one((0, 0, 0, 0, 2, 4, 6)))
                gross = int(rates[place]) * 80 + int(rates[place]) * 3 * extra // 2
                tax, fund = gross * 12 // 100, round(gross * 0.0765)
                net = gross - tax - fund + (90_000 if place == 45 and runs == 33 else 0)
                rows.append([
                    who[0], _us(day), 80, extra, _money(int(rates[place])), *map(_money, (gross, tax, fund, net)), who[5],
                ])  # fmt: skip
            day, runs = day + timedelta(days=14), runs + 1
        for place, kind, note in (
            (50, 3, "paid after leaving"),
            (45, 7, "a net that is none"),
            (41, 8, "overtime of one"),
        ):
            self.plant("payroll", self.staff[place][0], kind, note)
        head = [
            "Emp ID",
            "Pay Date",
            "Reg Hrs",
            "OT Hrs",
            "Rate",
            "Gross",
            "Fed Tax",
            "FICA",
            "Net Pay",
            "Acct No",
        ]
        self.files["Payroll.csv"] = [head, *rows]

    def _ledger(self) -> None:
        rows: list[Sequence[Any]] = []

        def enter(
            number: int,
            when: datetime,
            accounts: tuple[str, str],
            cents: int,
            who: Sequence[str],
            memo: str,
        ) -> None:
            for line, account in enumerate(accounts, 1):
                sides = (_money(cents), "") if line == 1 else ("", _money(cents))
                rows.append([
                    f"JE{number:06}", line, _us(when.date()), when.strftime("%m/%d/%Y %I:%M:%S %p"), account, ACCOUNTS[account],
                    *sides, *who, memo,
                ])  # fmt: skip

        entries = self.many(6000, 2_000)
        for number in range(1, entries + 1):
            day = self.day()
            when = datetime(
                day.year,
                day.month,
                day.day,
                *(int(self.rng.integers(*at)) for at in ((8, 18), (0, 60), (0, 60))),
            )
            memo = self.one(
                (
                    "Invoice posting",
                    "Monthly accrual",
                    "Check run",
                    "Receipts",
                    "Reclass",
                    "Payroll",
                )
            )
            cents = int(np.exp(self.rng.normal(6.5, 1.4)) * 100) + 1
            enter(
                number, when, self.one(POSTED), cents, (self.one(CLERKS), self.one(DIRECTORS)), memo
            )
        for k, thousands in enumerate((50, 75, 120, 40, 90, 60, 150)):
            day, number = date(2024, 6, 30) if k < 4 else date(2025, 6, 29), entries + 1 + k
            when = datetime(day.year, day.month, day.day, 23, 10 + k, 4)
            enter(
                number,
                when,
                ("5300", "4000"),
                thousands * 100_000,
                ("HINGRAM", "HINGRAM"),
                "adjustment of the director",
            )
            self.plant("gl_detail", f"JE{number:06}", 6, "a director at night")
        head = [
            "JE Num",
            "Line",
            "Post Date",
            "Entry Time",
            "Acct",
            "Acct Desc",
            "Debit",
            "Credit",
            "Preparer",
            "Approver",
            "Memo",
        ]
        self.files["GL Detail.csv"] = [head, *rows]

    def _cards(self) -> None:
        holders, rows = [who[1] for who in self.staff[:40]], []
        for _ in range(self.many(3500, 600)):
            day = START + timedelta(days=int(self.rng.integers(DAYS)))
            day = day if self.rng.random() < 0.1 else _working(day)
            who, shop = self.one(holders), int(self.rng.integers(5))
            cents = int(np.exp(self.rng.normal(4, 1)) * 100) + 1
            rows.append([
                _us(day), _us(day + timedelta(days=int(self.rng.integers(1, 4)))), who,
                ("AMAZE MKT", "HOME CTR 221", "OFFICE WORLD", "FUEL STOP", "DINER 4")[shop],
                ("5942", "5200", "5943", "5541", "5812")[shop],
                f"({_money(cents)})" if self.rng.random() < 0.02 else _money(cents), f"XXXX-{1000 + holders.index(who)}",
            ])  # fmt: skip
        head = ["Trans Date", "Post Date", "Cardholder", "Merchant", "MCC", "Amount", "Card"]
        self.files["PCard.csv"] = [head, *rows]


def write(folder: Path, seed: int, size: float = 1.0) -> None:
    """The inbox, and its answers beside it."""
    county = County(seed, size)
    county.make()
    folder.mkdir(parents=True)
    for name, rows in county.files.items():
        with (folder / name).open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows(rows)
    with (folder.parent / "answers.csv").open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([["table", "key", "kind", "note"], *county.answers])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--size", type=float, default=1.0)
    args = parser.parse_args()
    write(args.folder, args.seed, args.size)


if __name__ == "__main__":
    main()
