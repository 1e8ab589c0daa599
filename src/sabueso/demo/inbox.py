"""The inbox as a client hands it over: encodings, marks, totals lines and damage included."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path

import numpy as np

from sabueso.demo.bank import write_statement
from sabueso.demo.crew import Employee, make_roster, make_staff, phantoms
from sabueso.demo.journal import Entry, make_journal
from sabueso.demo.payments import Payment, make_payments, missing_numbers
from sabueso.demo.payroll import Pay, make_payroll
from sabueso.demo.records import INSTALMENTS, RAISED_FROM, TERMS, make_loan, make_traffic
from sabueso.demo.world import ACCOUNTS, GROUPS, INTERFACE, World, make_world
from sabueso.demo.yard import Order, make_orders, yard_payments

DAMAGED_MONTH = "2025-07"
CONTRACT = """Contrato VR-2024-03 (muestra)

Gran varada del buque Págalo en dique seco. Aprobado por el Consejo Rector, acta 2024/17.
Importe según liquidación final. Documento inventado para el caso de muestra.
"""


@dataclass(frozen=True)
class Answer:
    """A planted thing, or one that only looks bad (kind ``innocent``)."""

    table: str
    key: str
    kind: str
    note: str


def write_inbox(
    folder: Path,
    seed: int,
    scale: float,
    step: Callable[[str], None],
    *,
    planted: bool = True,
) -> list[Answer]:
    """Write all files of the inbox and the answer key; returns the key. Without ``planted`` there is nothing
    wrong in them, but for what is damaged, and what only looks bad."""
    world = make_world(seed, scale, planted=planted)
    (folder / "payments").mkdir(parents=True, exist_ok=True)
    (folder / "evidence").mkdir(exist_ok=True)
    step("payments")
    orders = make_orders(world)
    payments = make_payments(world, yard_payments(world, orders))
    _write_payments(folder / "payments", world, payments)
    _write_yard(folder, orders)
    step("payroll")
    pays = make_payroll(world)
    _write_payroll(folder / "payroll.xlsx", pays)
    step("journal")
    monthly: dict[str, int] = {}
    for pay in pays:
        monthly[pay.month] = monthly.get(pay.month, 0) + pay.net
    entries = make_journal(world, payments, monthly)
    _write_journal(folder, entries)
    step("bank statement")
    write_statement(folder / "bank-2025-11.xml", world, payments, date(2025, 11, 1))
    step("roster and traffic")
    staff = make_staff(world, pays)
    _write_crew(folder, world, staff)
    _write(
        folder / "traffic.csv",
        [["ruta", "mes", "salidas", "pasajeros", "ingresos", "litros"], *make_traffic(world)],
    )
    _write(
        folder / "loan-garceta.csv", [["cuota", "fecha", "importe"], *make_loan(planted=planted)]
    )
    (folder / "evidence" / "loan-garceta-terms.txt").write_text(TERMS, encoding="utf-8")
    step("masters and budget")
    _write_masters(folder, world, staff)
    _write_budget(folder / "budget.csv", world, entries)
    (folder / "evidence" / "contract-VR-2024-03.txt").write_text(CONTRACT, encoding="utf-8")
    answers = [*_answers(payments, pays, entries, staff), *_more_answers(world, payments, orders)]
    if not planted:
        answers = [answer for answer in answers if answer.kind == "innocent"]
    rows = [["table", "key", "kind", "note"], *([a.table, a.key, a.kind, a.note] for a in answers)]
    _write(folder / "answers.csv", rows)
    return answers


def _write(path: Path, rows: Iterable[Iterable[object]], encoding: str = "utf-8") -> None:
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows(rows)
    path.write_bytes(text.getvalue().encode(encoding))


def _comma(cents: int) -> str:
    """1234567 as 12.345,67."""
    text = f"{abs(cents) // 100:,}".replace(",", ".") + f",{abs(cents) % 100:02d}"
    return f"-{text}" if cents < 0 else text


def _point(cents: int) -> str:
    sign = "-" if cents < 0 else ""
    return f"{sign}{abs(cents) // 100}.{abs(cents) % 100:02d}"


def _write_payments(folder: Path, world: World, payments: list[Payment]) -> None:
    """One file a month: semicolons, decimal comma, Latin-1, a totals line and a blank line."""
    header = "pago;fecha;factura;proveedor;cuenta;importe;usuario;concepto"
    by_month: dict[str, list[Payment]] = {}
    for p in payments:
        by_month.setdefault(f"{p.day:%Y-%m}", []).append(p)
    for month, rows in sorted(by_month.items()):
        lines = [
            f"{p.id};{p.day:%d/%m/%Y};{p.invoice};{p.supplier};{p.account};{_comma(p.cents)};{p.user};{p.text}"
            for p in rows
        ]
        if month == DAMAGED_MONTH:
            _damage(world, rows, lines)
        total = _comma(sum(p.cents for p in rows))
        text = "\r\n".join([header, *lines, f"TOTAL;;;;;{total};;", "", ""])
        (folder / f"pagos-{month}.csv").write_bytes(text.encode("latin-1"))


def _damage(world: World, rows: list[Payment], lines: list[str]) -> None:
    """Nine rows as a hurried export leaves them; none of what is planted."""
    rng = world.rng("damage")
    plain = [i for i, p in enumerate(rows) if not p.kind and p.cents > 0]
    for n, i in enumerate(sorted(rng.choice(plain, size=9, replace=False).tolist())):
        cells = lines[i].split(";")
        if n in (0, 5):
            del cells[6]
        elif n in (1, 6):
            cells[7:] = ["Suministro", "segunda parte"]
        elif n in (2, 7):
            cells[1] = "31/06/2025"
        elif n in (3, 8):
            cells[5] = cells[5].replace(",", ",O")
        else:
            cells[7] = f'"{cells[7]}'
        lines[i] = ";".join(cells)


def _write_yard(folder: Path, orders: list[Order]) -> None:
    """Orders, receipts and invoices of the yard's materials, as the store keeps them."""
    _write(
        folder / "orders.csv",
        [["pedido", "fecha", "proveedor", "articulo", "cantidad", "precio", "importe"], *(
            [o.number, o.day.isoformat(), o.supplier, o.article, o.quantity, _point(o.price),
             _point(o.quantity * o.price)] for o in orders
        )],
    )  # fmt: skip
    came = sorted((day, o.number, n) for o in orders for day, n in o.received)
    _write(
        folder / "receipts.csv",
        [["albaran", "fecha", "pedido", "cantidad"], *(
            [f"AL-{i:05d}", day.isoformat(), number, n] for i, (day, number, n) in enumerate(came, 1)
        )],
    )  # fmt: skip
    billed = sorted(orders, key=lambda o: (o.invoiced_on, o.invoice))
    _write(
        folder / "invoices.csv",
        [["factura", "fecha", "proveedor", "pedido", "cantidad", "precio", "importe"], *(
            [o.invoice, o.invoiced_on.isoformat(), o.supplier, o.number, o.invoiced, _point(o.invoiced_price),
             _point(o.cents)] for o in billed
        )],
    )  # fmt: skip


def _write_payroll(path: Path, pays: list[Pay]) -> None:
    """One sheet a year, two title lines above the header, months as dates of the spreadsheet."""
    import xlsxwriter

    header = "empleado categoria mes salario_base plus_mar horas_extra importe_extra neto cuenta_bancaria"
    with xlsxwriter.Workbook(path) as book:
        book.set_properties({"created": datetime(2026, 1, 12)})
        month = book.add_format({"num_format": "mm/yyyy"})
        money = book.add_format({"num_format": "#,##0.00"})
        for year in sorted({p.month[:4] for p in pays}):
            sheet = book.add_worksheet(year)
            sheet.write_string(0, 0, "Naviera Marisma, S. Coop.")
            sheet.write_string(1, 0, f"Nóminas {year}")
            sheet.write_row(2, 0, header.split())
            rows = [p for p in pays if p.month.startswith(year)]
            for i, p in enumerate(rows, 3):
                sheet.write_row(i, 0, [p.employee, p.grade])
                sheet.write_datetime(i, 2, datetime.fromisoformat(f"{p.month}-01"), month)
                for j, cents in ((3, p.base), (4, p.allowance), (6, p.overtime), (7, p.net)):
                    sheet.write_number(i, j, cents / 100, money)
                sheet.write_number(i, 5, p.hours)
                sheet.write_string(i, 8, p.bank)


def _write_journal(folder: Path, entries: list[Entry]) -> None:
    header = [
        "asiento",
        "fecha",
        "hora",
        "cuenta",
        "debe",
        "haber",
        "unidades",
        "preparado",
        "aprobado",
        "concepto",
    ]
    years: dict[int, list[list[object]]] = {}
    for number, entry in enumerate(entries, 1):
        for line in entry:
            years.setdefault(line.day.year, []).append(
                [
                    f"A{number:06d}", line.day.isoformat(), line.time, line.account,
                    _point(line.debit) if line.debit else "",
                    _point(line.credit) if line.credit else "",
                    line.units, line.preparer, line.approver, line.text,
                ]
            )  # fmt: skip
    for year, rows in years.items():
        _write(folder / f"journal-{year}.csv", [header, *rows])


def _write_crew(folder: Path, world: World, staff: list[Employee]) -> None:
    rows = [
        [e.id, e.name, e.grade, e.joined.isoformat(), e.left.isoformat() if e.left else "", e.bank]
        for e in staff
    ]
    header = ["empleado", "nombre", "categoria", "alta", "baja", "cuenta_bancaria"]
    _write(folder / "staff.csv", [header, *rows])
    roster = (
        [employee, day.isoformat(), vessel] for employee, day, vessel in make_roster(world, staff)
    )
    _write(folder / "roster.csv", [["empleado", "dia", "buque"], *roster])


def _write_masters(folder: Path, world: World, staff: list[Employee]) -> None:
    rows = [[a, name, sub, top, GROUPS[top]] for a, name, sub, top, _ in ACCOUNTS]
    _write(
        folder / "accounts.csv", [["cuenta", "nombre", "subgrupo", "grupo", "nombre_grupo"], *rows]
    )
    # Kind 6: the revived supplier is paid into an employee's account.
    shared = {world.special["revived"]: next(e.bank for e in staff if e.grade == "tierra")}
    shared = shared if world.planted else {}
    rows = [
        [s.id, s.name, s.created.isoformat(), shared.get(s.id, s.bank)] for s in world.suppliers
    ]
    _write(folder / "suppliers.csv", [["id", "nombre", "alta", "cuenta_bancaria"], *rows])


def _write_budget(path: Path, world: World, entries: list[Entry]) -> None:
    """2025 by account and month: last year's year spread by season, 3 % up, in hundreds."""
    rng = world.rng("budget")
    last: dict[str, int] = {}
    for entry in entries:
        for line in entry:
            if line.day.year == 2024 and line.account[:2] in ("62", "64", "70"):
                last[line.account] = last.get(line.account, 0) + line.debit - line.credit
    last["70530"] = -22_000_000
    last["62130"] = 9_000_000
    season = 1 + 0.3 * np.sin((np.arange(12) - 3) / 12 * 2 * np.pi)
    rows = [
        [account, f"2025-{m + 1:02d}",
         _point(round(year * 1.03 * season[m] / season.sum() * rng.uniform(0.97, 1.03) / 10_000) * 10_000)]
        for account, year in sorted(last.items())
        for m in range(12)
    ]  # fmt: skip
    _write(path, [["cuenta", "mes", "presupuesto"], *rows])


def _more_answers(world: World, payments: list[Payment], orders: list[Order]) -> list[Answer]:
    """What stands in no single record: suppliers, orders, numbers, and what only looks bad there."""
    first, last = missing_numbers(payments) if world.planted else ("", "")
    twins = [world.special[f"twin {part}"] for part in (1, 2)]
    families = [world.special[f"family {part}"] for part in (1, 2)]
    return [
        *(
            Answer("suppliers", s, "13", "one supplier entered twice, with one account")
            for s in twins
        ),
        *(Answer("invoices", o.number, "15", o.note) for o in orders if o.note),
        Answer("payments", f"{first} – {last}", "16", "numbers that no damaged line explains"),
        *(
            Answer("suppliers", s, "innocent", "one family name, accounts of their own")
            for s in families
        ),
        Answer("journal", INTERFACE, "innocent", "an interface that posts at three every night"),
    ]


def _answers(
    payments: list[Payment], pays: list[Pay], entries: list[Entry], staff: list[Employee]
) -> list[Answer]:
    found = [Answer("payments", p.id, p.kind, p.note) for p in payments if p.kind]
    found += [
        Answer("payments", "first-two 48", "1", "excess just under the approval limit"),
        Answer("payments", "first-two 49", "1", "excess just under the approval limit"),
        Answer("payments", "first 6", "2", "excess of invented amounts"),
        Answer("payments", "first 7", "2", "excess of invented amounts"),
        Answer("journal", "62840", "8", "fuel of the Alcatraz: the rate moved, not the volume"),
        Answer("journal", "62950", "9", "commission hidden among sundry expense"),
        Answer("journal", "62320", "9", "commission falls"),
        Answer("journal", "62130", "innocent", "berths of the route opened in March 2025"),
        Answer("journal", "70530", "innocent", "income of the route opened in March 2025"),
        Answer("journal", "62520", "innocent", "one-off insurance premium"),
        Answer("journal", "62230", "innocent", "dry-dock overhaul of the Págalo in 2024"),
    ]
    found += [
        Answer("payroll", employee, "4", "sea allowance far from the peers'")
        for employee in sorted({p.employee for p in pays if p.kind})
    ]
    absent, left = phantoms(staff)
    found += [
        Answer("payroll", absent, "3", "paid for nine months without a day on the roster"),
        Answer("payroll", left, "3", "paid after the leaving date"),
    ]
    found += [
        Answer("loan", str(number), "11", "instalment above the terms")
        for number in range(RAISED_FROM, INSTALMENTS + 1)
    ]
    found += [
        Answer("journal", f"A{n:06d}", e[0].kind, e[0].note)
        for n, e in enumerate(entries, 1)
        if e[0].kind in ("7", "14")
    ]
    return found
