"""A programme proposed from the rows alone, kept, and run."""

from __future__ import annotations

import csv
import random
import shutil
import tomllib
from datetime import date, timedelta
from decimal import Decimal

import pytest
from xlsxwriter import Workbook

from conftest import inside, inside_json
from folders import Style, taken_in, write_folder
from third_world import write


@pytest.fixture(scope="module")
def newcomer(marisma, tmp_path_factory):
    """The sample's inbox in three commands, without a line of plan written by hand: the programme is
    proposed with the tables."""
    case = tmp_path_factory.mktemp("newcomer")
    # The others are proposed by themselves elsewhere, and all together in bench/recall.py.
    others = (
        "journal-*.csv",
        "roster.csv",
        "bank-*.xml",
        "loan-*.csv",
        "traffic.csv",
        "orders.csv",
        "receipts.csv",
        "invoices.csv",
    )
    shutil.copytree(marisma / "inbox", case / "inbox", ignore=shutil.ignore_patterns(*others))
    inside("open", ".", cwd=case)
    taken = inside_json("intake", "inbox", "--yes", cwd=case)
    inside("screen", cwd=case)
    return case, taken


@pytest.mark.long
def test_what_todays_tests_can_see_is_in_the_queue(newcomer):
    case, _ = newcomer
    found = set()
    for item in inside_json("queue", "--top", "400", cwd=case):
        for name, value in item["subject"].items():
            found.add(
                (item["table"], f"{name} {value}" if name.startswith("first") else str(value))
            )
    with (case / "inbox/answers.csv").open(encoding="utf-8") as file:
        planted = {}
        for row in csv.DictReader(file):
            planted.setdefault(row["kind"], set()).add((row["table"], row["key"]))
    assert planted["1"] & {("payments", "first-two 48"), ("payments", "first-two 49")} <= found
    assert planted["2"] & {("payments", "first 6"), ("payments", "first 7")} <= found
    for kind in ("4", "12"):
        assert planted[kind] <= found, kind


@pytest.mark.long
def test_each_screen_says_what_it_is_for_and_no_more_than_can_be_reviewed_is_flagged(newcomer):
    case, proposed = newcomer
    assert sum(s["flagged"] for s in proposed["screens"]) <= 300
    plan = tomllib.loads((case / "case.toml").read_text())
    by_name = {s["name"]: s for s in plan["screens"]}
    for screen in proposed["screens"]:
        assert by_name[screen["name"]]["purpose"] == screen["purpose"]
        assert screen["because"] and not screen["refused"]
    # A part of the books is not compared with a budget for all of them; a price list has no digits.
    assert not any(
        s["table"] == "payments" and "against" in s["settings"] for s in proposed["screens"]
    )
    digits = [s for s in proposed["screens"] if s["test"] == "digits" and s["table"] == "payments"]
    assert digits and all("62910" in s["settings"]["where"] for s in digits)


@pytest.mark.long
def test_less_is_proposed_where_less_can_be_reviewed(newcomer):
    case, _ = newcomer
    few = inside_json("survey", "payments", "--propose", "--capacity", "12", cwd=case)
    assert few["capacity"] == 12 and {s["table"] for s in few["screens"]} == {"payments"}
    assert all(s["flagged"] <= 5 for s in few["screens"] if s["test"] in ("zscore", "periods", "fences"))  # fmt: skip


def test_nothing_is_proposed_where_nothing_fits(tmp_path):
    inside("open", ".", cwd=tmp_path)
    assert "no table yet" in inside("survey", "--propose", cwd=tmp_path, code=2).stderr
    (tmp_path / "names.csv").write_text("code,name\n" + "".join(f"C{i},N{i}\n" for i in range(300)))
    inside("intake", "names.csv", "--as", "names", cwd=tmp_path)
    assert inside_json("survey", "--propose", cwd=tmp_path)["screens"] == []
    assert "no test is proposed" in inside("survey", "--propose", cwd=tmp_path).stdout
    for words in (["--keep"], ["--capacity", "9"], ["--propose", "--capacity", "0"], ["--propose", "--pairs"]):  # fmt: skip
        inside("survey", *words, cwd=tmp_path, code=2)


@pytest.mark.long
def test_amounts_without_days_are_compared_where_they_are_of_somebody_again_and_again(tmp_path):
    """What each spent, in steps that are no days; a list of what each owes has nothing to be compared with."""
    rng = random.Random(6)
    usual = {f"C{n:04}": rng.uniform(2, 4) for n in range(60)}
    rows = [
        {"step": n // 30, "customer": who, "category": "fares", "amount": _decimal(rng, usual[who], 0.4)}
        for n in range(3_000)
        for who in [rng.choice(list(usual))]
    ]  # fmt: skip
    for n in (400, 1_900):
        rows[n]["amount"] *= 60
    owed = [{"customer": who, "city": "Bath", "owed": _decimal(rng, 6, 1)} for who in usual]
    case, screens = taken_in(tmp_path, {"spent": rows, "owed": owed})
    limits = [name for name, screen in screens.items() if screen["test"] in ("zscore", "fences")]
    assert limits == ["spent unlike the customer's others"]
    inside("screen", cwd=case)
    found = inside_json("queue", cwd=case)
    assert {402, 1_902} <= {i["subject"].get("line") for i in found if i["table"] == "spent"}


def _decimal(rng, mean, spread):
    return Decimal(rng.lognormvariate(mean, spread)).quantize(Decimal("0.01"))


def test_outflows_and_a_few_missing_values(tmp_path):
    rng = random.Random(3)
    rows = []
    for i in range(4_000):
        amount = (
            -round(rng.lognormvariate(4, 1.2), 2) if i % 9 else round(rng.lognormvariate(4, 1), 2)
        )
        party = "" if i in (7, 70) else f"P{rng.randrange(40)}"
        rows.append(f"2024-{i % 12 + 1:02d}-{i % 27 + 1:02d},{party},{amount:.2f}\n")
    rows[100] = rows[100].rsplit(",", 1)[0] + ",-90000.00\n"
    (tmp_path / "bank.csv").write_text("date,party,amount\n" + "".join(rows))
    inside("open", ".", cwd=tmp_path)
    inside("intake", "bank.csv", "--as", "bank", cwd=tmp_path)
    proposed = inside_json("survey", "--propose", "--keep", cwd=tmp_path)
    screens = {s["test"]: s for s in proposed["screens"]}
    # What was proposed and kept is proposed again, and not written again.
    before = (tmp_path / "case.toml").read_bytes()
    again = inside_json("survey", "--propose", "--keep", cwd=tmp_path)
    assert again["kept"] == [] and all(s["known"] for s in again["screens"])
    assert len(again["screens"]) == len(proposed["screens"])
    assert (tmp_path / "case.toml").read_bytes() == before
    assert screens["zscore"]["settings"]["side"] == "low"
    assert screens["zscore"]["settings"]["where"] == "amount < 0"
    assert (
        screens["range"]["settings"] == {"required": ["party"]} and screens["range"]["flagged"] == 2
    )
    inside("screen", cwd=tmp_path)
    assert any(item["amount"] == "-90000.00" for item in inside_json("queue", cwd=tmp_path))


@pytest.mark.long
def test_peers_stand_in_the_master_that_is_linked(tmp_path):
    """A doctor's nights are no nurse's: of one ward, and only there, one nurse's allowance is odd."""
    rng = random.Random(5)
    wards = {"Surgery": (5000, 600), "Care": (3000, 300), "Laboratory": (3600, 90)}
    staff = [(f"M{i:03d}", list(wards)[i % 3]) for i in range(90)]
    pay = []
    for person, ward in staff:
        basic, night = wards[ward]
        night = 560 if person == "M004" else night
        pay += [
            f"{person},2025-{month:02d}-01,{basic * rng.gauss(1, 0.05):.2f},{night * rng.gauss(1, 0.05):.2f}\n"
            for month in range(1, 13)
        ]
    (tmp_path / "staff.csv").write_text(
        "employee,ward,iban\n" + "".join(f"{p},{w},ES{i:022d}\n" for i, (p, w) in enumerate(staff))
    )
    (tmp_path / "payroll.csv").write_text("employee,month,basic,night\n" + "".join(pay))
    inside("open", "case", cwd=tmp_path)
    for name in ("staff", "payroll"):
        inside("intake", f"../{name}.csv", "--as", name, cwd=tmp_path / "case")
    plan = tmp_path / "case" / "case.toml"
    text = plan.read_text()
    roles = next(line for line in text.splitlines() if line.startswith("roles") and "month" in line)
    named = 'roles = {party = "employee", date = "month", amount = "basic"}'
    plan.write_text(text.replace(roles, named + '\nlinks = {employee = "staff.employee"}'))
    found = inside_json("survey", "--propose", "--keep", cwd=tmp_path / "case")["screens"]
    (distance,) = [s for s in found if s["test"] == "distance" and s["settings"].get("per")]
    assert distance["name"] == "employee unlike others of its ward"
    assert distance["settings"]["by"] == ["employee.ward"] and distance["flagged"] == 1
    inside("screen", cwd=tmp_path / "case")
    (odd,) = inside_json("queue", "--kind", "entity", cwd=tmp_path / "case")
    assert odd["subject"] == {"employee": "M004"}


def test_what_no_group_has_rows_enough_for_is_not_kept(tmp_path):
    """Of all rows each party has enough, of those above nothing none."""
    rng = random.Random(5)
    lines = ["id,day,supplier,amount"]
    for i in range(400):
        lines.append(f"P{i},2024-{1 + i % 12:02d}-03,S{i % 30},{rng.gauss(0, 800):.2f}")
    (tmp_path / "p.csv").write_text("\n".join(lines) + "\n")
    inside("open", ".", "--currency", "EUR", cwd=tmp_path)
    inside("intake", "p.csv", "--as", "p", cwd=tmp_path)
    proposed = inside_json("survey", "p", "--propose", "--keep", cwd=tmp_path)
    (screen,) = (s for s in proposed["screens"] if s["test"] == "zscore")
    assert screen["refused"].startswith("no group can be tested: only")
    kept = tomllib.loads((tmp_path / "case.toml").read_text())["screens"]
    assert "zscore" not in {s["test"] for s in kept} and kept


def test_whoever_is_paid_and_in_no_master_is_proposed(tmp_path, monkeypatch):
    """A supplier's number that the master lacks, beside one that says nothing; days of the first twelve are assumed
    once for all files, and the tenant is whose rent it is."""
    (tmp_path / "in/bills").mkdir(parents=True)
    known = [f"F{i:03}" for i in range(40)]
    with (tmp_path / "in/fournisseurs.csv").open("w", newline="", encoding="utf-8") as file:
        csv.writer(file, delimiter=";").writerows(
            [["Code fournisseur", "Raison sociale"], *([k, f"Maison {k}"] for k in known)]
        )
    for month in range(1, 6):
        rows = [
            [
                f"FA{month}{i:03}",
                known[i % 40],
                f"{1 + i % 9:02}/{month:02}/2024",
                f"{100 + i * 7},{i:02}",
            ]
            for i in range(90)
        ]
        rows += [
            [f"FA{month}900", "F999", f"05/{month:02}/2024", "2400,00"],
            [f"FA{month}901", "n/a", f"05/{month:02}/2024", "12,10"],
        ]
        with (tmp_path / f"in/bills/bills_{month:02}.csv").open(
            "w", newline="", encoding="utf-8"
        ) as file:
            head = ["N° facture", "Code fournisseur", "Date facture", "Montant"]
            csv.writer(file, delimiter=";").writerows([head, *rows])
    inside("open", "case", cwd=tmp_path)
    monkeypatch.setenv("COLUMNS", "250")
    said = inside("intake", "../in", "--yes", cwd=tmp_path / "case").stdout
    assert (
        said.count("nothing in the files contradicts it") == 1
        and said.count("by the other order") == 1
    )
    inside("screen", cwd=tmp_path / "case")
    items = inside_json(
        "queue", "--screen", "Code fournisseur of bills not in fournisseurs", cwd=tmp_path / "case"
    )
    assert {item["subject"]["Code fournisseur"]: item["amount"] for item in items}[
        "F999"
    ] == "12000.00"


def test_a_till_without_parties(tmp_path):
    """Of rows that name neither a party nor an account all are compared, and whoever keeps the till with the others."""
    rng = random.Random(6)
    rows = []
    for i in range(1_800):
        who, qty, price = f"C{i % 18:02}", rng.randint(1, 4), round(rng.uniform(2, 60), 2)
        off = 50 if who == "C07" and i % 4 == 3 else 10 if rng.random() < 0.06 else 0
        total = round(qty * price * (1 - off / 100) + 1e-9, 2) + (9_000 if i == 431 else 0)
        rows.append(
            [
                f"R{i:05}",
                f"2024-{1 + i % 12:02}-{1 + i % 28:02}",
                who,
                rng.randint(10**15, 10**16 - 1),
                qty,
                price,
                off,
                f"{total:.2f}",
            ]
        )
    with (tmp_path / "till.csv").open("w", newline="", encoding="utf-8") as file:
        head = [
            "receipt_no",
            "sold_on",
            "cashier",
            "loyalty",
            "qty",
            "unit_price",
            "discount_pct",
            "line_total",
        ]
        csv.writer(file).writerows([head, *rows])
    inside("open", "case", cwd=tmp_path)
    inside("intake", "../till.csv", "--as", "till", "--yes", cwd=tmp_path / "case")
    proposed = {
        s["name"]: s
        for s in inside_json("survey", "--propose", "--keep", cwd=tmp_path / "case")["screens"]
    }
    assert {"till far from the rest", "cashier of till unlike others"} <= set(proposed)
    assert "loyalty" not in proposed["cashier of till unlike others"]["because"]
    inside("screen", cwd=tmp_path / "case")
    said = [i["subject"] for i in inside_json("queue", "--top", "20", cwd=tmp_path / "case")]
    assert any(s.get("receipt_no") == "R00431" for s in said) and any(
        s.get("cashier") == "C07" for s in said
    )


@pytest.mark.long
def test_a_countys_books_as_they_stand(tmp_path):
    """Masters with days of leaving, accounts and addresses, orders beside checks, wages of many columns: what is wrong
    with each is found by what is proposed, without a word of the plan. At full size, with other seeds: bench/recall.py."""
    write(tmp_path / "inbox", seed=4, size=0.15)
    case = tmp_path / "case"
    inside("open", "case", cwd=tmp_path)
    inside("intake", "../inbox", "--yes", cwd=case)
    inside("screen", cwd=case)
    items = inside_json("queue", "--top", "400", cwd=case)
    said = {(item["table"], str(value)) for item in items for value in item["subject"].values()}
    with (tmp_path / "answers.csv").open(encoding="utf-8") as file:
        planted: dict[str, set[tuple[str, str]]] = {}
        for row in csv.DictReader(file):
            planted.setdefault(row["kind"], set()).add((row["table"], row["key"]))
    for kind in ("1", "3", "8", "10"):
        assert planted[kind] <= said, kind
    screens = {
        (mark["screen"], str(v))
        for i in items
        for mark in i["marks"]
        for v in i["subject"].values()
    }
    (net,) = [
        i for i in items if any(m["screen"].startswith("Net Pay of payroll is") for m in i["marks"])
    ]
    assert {("payroll", net["label"].rsplit(" · ", 1)[-1])} == planted["7"]
    (shell,) = {key for table, key in planted["2"] if table == "employees"}
    (lived,) = {key for _, key in planted["11"]}
    assert ("Bank Account of employees among vendor_master too", shell) in screens
    assert ("Address of employees among vendor_master too", lived) in screens
    director = next(
        i for i in items if i["table"] == "gl_detail" and "HINGRAM" in i["subject"].values()
    )
    dug = inside_json("dig", director["id"], "--by", '"JE Num"', "--limit", "50", cwd=case)
    assert dug["population"]["used"] == 2 * len(planted["6"])
    tied = [i for i in items if any(m["screen"].startswith("amount by PO #") for m in i["marks"])]
    assert len(tied) == len(planted["4"]) + len(planted["5"]) / 2


@pytest.mark.long
def test_papers_that_name_one_another(tmp_path):
    """Policies, claims and what was paid of them: another account than the garage's own, one of somebody on the staff,
    a claim paid twice, one before its policy began; who is on the staff is told by a list with days."""
    rng = random.Random(8)
    garages = [[f"C{i:02}", f"Garage {i}", f"IT{7_000_000_000 + 977 * i}"] for i in range(30)]
    staff = [
        [f"D{i:02}", f"Nome {i}", f"IT{9_000_000_000 + 733 * i}", f"{1 + i:02}/03/2015"]
        for i in range(20)
    ]
    garages[11][2] = staff[4][2]
    policies, claims, paid = [], [], []
    for i in range(700):
        began = date(2024, 1, 1) + timedelta(days=rng.randrange(200))
        happened = (
            began + timedelta(days=rng.randrange(1, 140)) if i % 100 else began - timedelta(3)
        )
        other = i in (301, 302, 303)
        garage = garages[5] if other else rng.choice(garages)
        account = "IT1234512345" if other else garage[2]
        amount = f"{rng.lognormvariate(7, 0.8):.2f}".replace(".", ",")
        at = [happened + timedelta(days=rng.randrange(0, 9)), happened + timedelta(days=40)]
        policies.append([f"POL{i:04}", f"{began:%d/%m/%Y}"])
        claims.append([f"SIN{i:04}", f"POL{i:04}", *(f"{d:%d/%m/%Y}" for d in (happened, at[0]))])
        paid.append([f"LQ{i:04}", f"SIN{i:04}", f"{at[1]:%d/%m/%Y}", garage[0], account, amount])
    paid += [[f"LQ9{i:03}", *paid[17 + 40 * i][1:]] for i in range(4)]
    tables = {
        "polizze": (["Polizza", "Decorrenza"], policies),
        "sinistri": (["Sinistro", "Polizza", "Data sinistro", "Data denuncia"], claims),
        "pagati": (["Nr.", "Sinistro", "Data", "Cod. beneficiario", "IBAN", "Importo"], paid),
        "garages": (["Codice", "Ragione sociale", "IBAN"], garages),
        "dipendenti": (["Matricola", "Nominativo", "IBAN", "Data assunzione"], staff),
    }
    write_folder(tmp_path / "in", tables, Style(";"))
    inside("open", "case", cwd=tmp_path)
    inside("intake", "../in", "--yes", cwd=tmp_path / "case")
    inside("screen", cwd=tmp_path / "case")

    def flagged(screen):
        return inside_json("queue", "--screen", screen, cwd=tmp_path / "case")

    (other,) = flagged("IBAN of pagati other than in garages")
    assert other["subject"]["IBAN"] == "IT1234512345"
    assert Decimal(other["amount"]) == sum(
        Decimal(p[5].replace(",", ".")) for p in paid if p[4] == "IT1234512345"
    )
    (shared,) = flagged("IBAN of dipendenti among garages too")
    assert shared["subject"]["IBAN"] == staff[4][2]
    early = flagged("Data sinistro of sinistri before Polizza.Decorrenza")
    assert {e["subject"]["Sinistro"] for e in early} == {f"SIN{i:04}" for i in range(0, 700, 100)}
    twice = flagged("repeats of pagati")
    assert len(twice) == 4
    assert [e["days"] for e in _early(tmp_path / "case")] == [3] * 7


def _early(case):
    """What is told of claims that happened before their policy began."""
    days = "Polizza.Decorrenza,Data sinistro,Data denuncia"
    found = inside_json("try", "range", "sinistri", "--in-order", days, cwd=case)
    assert [rule["flagged"] for rule in found["groups"][0]["rules"]] == [7, 0]
    return found["flags"]


@pytest.mark.long
def test_what_is_paid_ties_to_what_was_billed_with_its_tax(tmp_path):
    """A bill has three amounts: its payment is of the one with tax, its order of the one without; a receipt's own
    number comes before its order's."""
    rng = random.Random(12)
    orders, receipts, bills, paid = [], [], [], []
    for i in range(300):
        net = Decimal(rng.randint(2_000, 900_000)) / 100
        billed = net + (500 if i == 44 else 0)
        gross = (billed * Decimal("1.2")).quantize(Decimal("0.01"))
        day, who = f"2024-{1 + i // 28:02}-{1 + i % 28:02}", f"S{i % 23:02}"
        orders.append([f"PO{1000 + i}", day, who, rng.randint(1, 9), net])
        receipts.append([f"GR{7000 + i}", f"PO{1000 + i}", day, orders[-1][3]])
        bills.append(
            [f"V{4000 + i}", f"A-{rng.randint(1000, 99999)}", day, who, f"PO{1000 + i}", billed]
        )
        bills[-1] += [gross - billed, gross]
        paid.append([f"B{i:04}", day, who, f"V{4000 + i}", gross + (9 if i == 120 else 0)])
    tables = {
        "orders": (["PO Number", "Order Date", "Supplier No", "Qty", "Order Value"], orders),
        "goods": (["GRN", "PO Number", "Received Date", "Qty Received"], receipts),
        "bills": (
            [
                "Voucher",
                "Supplier Invoice No",
                "Invoice Date",
                "Supplier No",
                "PO Number",
                "Net",
                "VAT",
                "Gross",
            ],
            bills,
        ),
        "paid": (["Payment Ref", "Payment Date", "Supplier No", "Voucher", "Amount Paid"], paid),
    }
    write_folder(tmp_path / "in", tables)
    inside("open", "case", cwd=tmp_path)
    taken = inside_json("intake", "../in", "--yes", cwd=tmp_path / "case")
    kept = {link["column"]: link["other"] for link in taken["links"] if link["kept"]}
    assert kept["bills.PO Number"] == "orders.PO Number" and len(kept) == 5
    tables = tomllib.loads((tmp_path / "case/case.toml").read_text(encoding="utf-8"))["tables"]
    assert (tables["goods"]["roles"]["id"], tables["bills"]["roles"]["id"]) == ("GRN", "Voucher")
    flags = {s["name"]: s["flagged"] for s in taken["screens"]}
    assert flags["Gross by Voucher of bills and Amount Paid of paid"] == 1
    assert flags["amount by PO Number of bills and orders"] == 1


@pytest.mark.long
def test_a_bill_of_freight_is_the_miles_and_rate_of_its_shipment(tmp_path):
    """The bill names its shipment, which has a rate and no amount; a workbook has the shipments, and carriers beside."""
    rng = random.Random(3)
    shipments, bills = [], []
    for i in range(400):
        miles, rate = rng.randint(100, 1400), round(rng.uniform(1, 3), 4)
        haul = round(miles * rate, 2) + (50 if i in (33, 210) else 0)
        day = date(2024, 1, 2) + timedelta(days=i % 300)
        shipments.append([f"SH{i:04}", day.isoformat(), f"CR{i % 7}", miles, rate])
        fuel = round(haul * rng.uniform(0.1, 0.2), 2)
        bills.append([f"FB{9000 + i}", f"SH{i:04}", f"CR{i % 7}", (day + timedelta(9)).isoformat()])
        bills[-1] += [f"{haul:.2f}", f"{fuel:.2f}", f"{haul + fuel:.2f}"]
    bills += [[f"FB{9900 + i}", *bills[60 + i][1:]] for i in range(3)]
    head = ["Bill #", "Shipment ID", "Carrier Code", "Bill Date", "Linehaul", "Fuel", "Total"]
    write_folder(tmp_path / "in", {"bills": (head, bills)})
    book = Workbook(str(tmp_path / "in/freight.xlsx"))
    sheets = {
        "Notes": [["as of", "May"], ["by", "AB"]],
        "Shipments": [
            ["Shipment ID", "Ship Date", "Carrier Code", "Miles", "Rate/Mile"],
            *shipments,
        ],
        "Carriers": [["Carrier Code", "Carrier"], *([f"CR{i}", f"Haulier {i}"] for i in range(12))],
    }
    for name, rows in sheets.items():
        sheet = book.add_worksheet(name)
        for place, row in enumerate(rows):
            sheet.write_row(place, 0, row)
    book.close()
    inside("open", "case", cwd=tmp_path)
    taken = inside_json("intake", "../in", "--yes", cwd=tmp_path / "case")
    rows = {report["table"]: report["files"][0]["accepted"] for report in taken["taken"]}
    assert rows == {"bills": 403, "shipments": 400, "carriers": 12}
    roles = tomllib.loads((tmp_path / "case/case.toml").read_text(encoding="utf-8"))["tables"][
        "bills"
    ]["roles"]
    assert (roles["id"], roles["party"]) == ("Bill #", "Carrier Code")
    flagged = {s["name"]: s["flagged"] for s in taken["screens"]}
    assert flagged["Linehaul of bills is Miles times Rate/Mile of its Shipment ID"] == 2
    assert flagged["repeats of bills"] == 3
    again = inside_json("intake", "../in", "--yes", cwd=tmp_path / "case")
    assert [t["known"] for t in again["proposed"]] == [True] * 3


def test_a_ledger_of_entries_by_its_sides(tmp_path):
    """Bills and their payments stand on one account of the supplier: a payment takes no bill back, and a bill that was
    entered again under a longer number is found; entries without a preparer have traits as well."""
    rng = random.Random(4)
    rows = []

    def entry(number, day, lines):
        rows.extend(
            [number, day.isoformat(), *line[:4], f"{line[4]:.2f}", f"{line[5]:.2f}"]
            for line in lines
        )

    for i in range(420):
        day, who = date(2024, 1, 2) + timedelta(days=i % 330), f"F{i % 35:03}"
        net = rng.randint(2_000, 400_000) / 100
        paper = f"FA{rng.randint(10_000, 99_999)}"
        for again in ("", "-B") if i in (50, 220) else ("",):
            entry(
                f"AC{i:05}{again}",
                day,
                [
                    ("6061", "", paper + again, "Bill", net, 0),
                    ("4010", who, paper + again, "Bill", 0, net),
                ],
            )
        entry(
            f"BQ{i:05}",
            day + timedelta(30),
            [("4010", who, f"V{i}", "Paid", net, 0), ("5120", "", f"V{i}", "Paid", 0, net)],
        )
    for i in range(2):
        entry(
            f"OD{i}",
            date(2024, 12, 31),
            [("4710", "", "", "Adjust", 30_000, 0), ("7060", "", "", "Adjust", 0, 30_000)],
        )
    with (tmp_path / "fec.txt").open("w", newline="", encoding="utf-8") as file:
        head = [
            "EcritureNum",
            "EcritureDate",
            "CompteNum",
            "CompAuxNum",
            "PieceRef",
            "EcritureLib",
            "Debit",
            "Credit",
        ]
        csv.writer(file, delimiter="\t").writerows([head, *rows])
    inside("open", "case", cwd=tmp_path)
    inside("intake", "../fec.txt", "--as", "fec", "--yes", cwd=tmp_path / "case")
    proposed = inside_json("survey", "--propose", cwd=tmp_path / "case")["screens"]
    flagged = {s["name"]: s["flagged"] for s in proposed}
    assert flagged["repeats of fec, Credit"] == 2 and flagged["repeats of fec, Debit"] == 0
    assert "traits of fec" in flagged


@pytest.mark.long
def test_a_test_that_would_flag_more_than_can_be_reviewed_is_named_and_not_kept(tmp_path):
    """Donors of whom a quarter pay no tax, and have nothing of what is reclaimed, are of two kinds and no outliers."""
    rng = random.Random(8)
    gifts = [
        {"gift": f"G{n:05}", "donor": f"D{n % 200:03}", "date": date(2024, 1, 1) + timedelta(n % 360), "amount": amount, "reclaim": (amount / 4).quantize(Decimal("0.01")) if n % 200 % 4 else Decimal(0)}
        for n, amount in enumerate(Decimal(rng.randint(100, 24_000)) / 100 for _ in range(1_600))
    ]  # fmt: skip
    case, _ = taken_in(tmp_path, {"gifts": gifts})
    for capacity, reason in (
        (20, "more than the 20 that can be reviewed"),
        (900, "so many are no exceptions"),
    ):
        asked = ("survey", "gifts", "--propose", "--capacity", str(capacity))
        found = {s["name"]: s for s in inside_json(*asked, cwd=case)["screens"]}
        unlike = found["donor of gifts unlike others"]
        assert not unlike["flagged"] and unlike["refused"].endswith(reason)


@pytest.mark.long
def test_what_is_there_twice_may_be_more_and_not_ten_times_as_much(tmp_path):
    rows = [
        {"id": f"P{n:04}", "date": date(2024, 1, 1) + timedelta(n % 300), "supplier": f"S{n % 7}", "amount": Decimal(100 + n)}
        for n in range(400)
    ]  # fmt: skip
    rows += [{**row, "id": f"Q{row['id']}"} for row in rows[:40]]
    case, _ = taken_in(tmp_path, {"pay": rows})
    for capacity, kept in ((3, False), (4, True)):
        asked = ("survey", "pay", "--propose", "--capacity", str(capacity))
        (twice,) = [
            s for s in inside_json(*asked, cwd=case)["screens"] if s["name"] == "repeats of pay"
        ]
        assert (twice["flagged"] == 40, not twice["refused"]) == (kept, kept)
        assert (
            kept or twice["refused"] == "it flags 40, more than 10 times the 3 that can be reviewed"
        )
