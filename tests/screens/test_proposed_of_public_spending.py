"""What is proposed of open data on public money: months of spending whose headers drift, vouchers of contracts, pay by the
year, and contracts none of which reaches a limit."""

from __future__ import annotations

import random
from collections import Counter
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside, inside_json, sabueso
from folders import PLAIN, Style, asked_for, taken_in, write_folder
from sabueso.case.renamed import renamed

BRITISH = Style(days="%d/%m/%Y")
OLD = (
    "Entity",
    "Date",
    "Supplier",
    "Transaction number",
    "AP Amount (£)",
    "VAT registration number",
    "Description",
)
NEW = (
    "Entity",
    "Payment Date",
    "Supplier Name",
    "Transaction Number",
    "Amount (GBP)",
    "Supplier VAT No",
    "Purpose",
)

pytestmark = pytest.mark.long


def _cents(rng, median, spread):
    return Decimal(f"{rng.lognormvariate(0, spread) * median:.2f}")


def _months(rng):
    """Six months of spending, the last two under another header, and the numbers of what is wrong."""
    firms = [
        (f"{name} {kind}", f"GB{rng.randrange(10**8, 10**9)}")
        for name in (
            "Ashdown",
            "Brindle",
            "Calder",
            "Dunmere",
            "Eastfell",
            "Farrow",
            "Greystone",
            "Holme",
        )
        for kind in ("Consulting Ltd", "Facilities Limited", "Digital LLP", "Estates plc")
    ]
    months, number, wrong = {}, 400_000, {}
    for month in range(4, 10):
        rows = []
        for _ in range(160):
            number += rng.randint(1, 9)
            firm, vat = rng.choice(firms)
            day = date(2024, month, 1) + timedelta(days=rng.randrange(28))
            rows.append(
                [
                    "Coast",
                    day,
                    firm,
                    str(number),
                    25_000 + _cents(rng, 9000, 0.7),
                    vat,
                    rng.choice(["", "Fees"]),
                ]
            )
        months[month] = rows
    paid = months[7][30]
    months[8].append([*paid[:1], paid[1] + timedelta(days=9), *paid[2:3], "499001", *paid[4:]])
    wrong["again"] = {paid[3], "499001"}
    months[6].append(
        [
            *months[6][3][:2],
            "Calder Digitall LLP",
            "499002",
            Decimal("187340.00"),
            "GB999999999",
            "",
        ]
    )
    wrong["alike"] = "Calder Digitall LLP"
    months[5].append(
        [*months[5][7][:2], "Holme Holdings", "499003", Decimal("31002.10"), firms[3][1], ""]
    )
    wrong["vat"] = {"499003"}
    return months, wrong


@pytest.fixture(scope="module")
def spent(tmp_path_factory):
    months, wrong = _months(random.Random(4))
    tables = {
        f"spend-over-25k-2024-{month:02}": (OLD if month < 8 else NEW, rows)
        for month, rows in months.items()
    }
    at = tmp_path_factory.mktemp("spent")
    case, screens = taken_in(at, tables, BRITISH)
    return at, case, screens, months, wrong


def test_months_under_another_header_are_one_table_and_that_is_said(spent):
    at, case, _screens, months, _wrong = spent
    names = dict(zip(NEW, OLD, strict=True))
    said = inside("intake", "../in", cwd=case).stdout
    assert "0 tables taken in" in said or "there already" in said
    plan = (case / "case.toml").read_text(encoding="utf-8")
    assert '"Payment Date" = "Date"' in plan and '"Amount (GBP)" = "AP Amount (£)"' in plan
    (table,) = inside_json("survey", cwd=case)["tables"]
    assert table["table"] == "spend_over_25k"
    assert table["rows"] == sum(map(len, months.values()))
    # A month that comes later goes there too, under the names that the plan has.
    rows = [[*row[:3], f"5{row[3]}", *row[4:]] for row in months[9][:20]]
    write_folder(at / "later", {"spend-over-25k-2024-10": (NEW, rows)}, BRITISH)
    later = inside_json("intake", "../later", "--yes", cwd=case)
    assert [(t["table"], t["known"]) for t in later["proposed"]] == [("spend_over_25k", True)]
    assert [file["accepted"] for file in later["taken"][0]["files"]] == [20]
    # On paper and in a new case it is said which column is taken for which.
    inside("open", "other", cwd=at)
    first = inside_json("intake", "../in", cwd=at / "other")
    assert first["renamed"] == [
        {
            "table": "spend_over_25k",
            "names": {n: o for n, o in names.items() if n.lower() != o.lower() and n != "Entity"},
        }
    ]
    text = " ".join(inside("intake", "../in", "--yes", cwd=at / "other").stdout.split())
    assert "Payment Date is taken for Date" in text


def test_what_is_wrong_in_months_of_spending_is_in_the_queue(spent):
    _, case, _screens, months, wrong = spent
    found = asked_for(case)
    assert wrong["again"] <= {
        i
        for item in found["repeats of spend_over_25k"]
        for i in _ids(case, item, "Transaction number")
    }
    (alike,) = found["Supplier of spend_over_25k written nearly alike"]
    rows = [row for month in months.values() for row in month if row[2] == "Calder Digital LLP"]
    assert alike["label"] == f"Calder Digital LLP ~ {wrong['alike']}"
    said = " ".join(inside("why", alike["id"], cwd=case).stdout.split())
    assert (
        f"Calder Digital LLP has {len(rows)} rows of {sum(row[4] for row in rows):,}, and {wrong['alike']} 1 row of "
        "187,340.00, unlike in letters."
    ) in said
    (other,) = found["Supplier of spend_over_25k other than the VAT registration number's"]
    assert _ids(case, other, "Transaction number") == wrong["vat"]
    far = [name for name in found if "unlike the Supplier's others" in name]
    # Amounts above a floor are no normal ones on any scale: few of them are exceptions all the same.
    assert all(len(found[name]) <= 25 for name in far)


def _rows(case, item):
    return inside_json("dig", item["id"], "--rows", cwd=case)["rows"]


def _ids(case, item, column):
    return {row[column] for row in _rows(case, item)}


@pytest.mark.parametrize(
    ("names", "header", "sentence"),
    [
        ({"Paid": "Amount"}, "Day,Paid,Amount,Who", "'Paid' and 'Amount' are both 'Amount' by read.names"),
        ({"Paid": "Amount", "Sum": "amount"}, "Day,Paid,Sum,Who", "'Paid' and 'Sum' are both 'amount' by read.names"),
    ],
)  # fmt: skip
def test_two_columns_of_a_file_are_never_one_of_the_table(tmp_path, names, header, sentence):
    (tmp_path / "a.csv").write_text("Day,Amount,Who\n2024-01-02,3.10,Ann\n2024-01-03,4.20,Bob\n")
    (tmp_path / "b.csv").write_text(f"{header}\n2024-02-02,3.10,4.00,Ann\n")
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    inside("intake", "../a.csv", "--as", "paid", cwd=case)
    plan = case / "case.toml"
    listed = ", ".join(f'{name} = "{other}"' for name, other in names.items())
    text = plan.read_text().replace(
        "[tables.paid]\n", f"[tables.paid]\nread = {{ names = {{ {listed} }} }}\n"
    )
    plan.write_text(text)
    said = inside("intake", "../b.csv", "--as", "paid", cwd=case, code=2).stderr
    assert sentence in " ".join(said.split()) and "b.csv" in said
    assert inside_json("survey", cwd=case)["tables"][0]["rows"] == 2


@pytest.mark.parametrize(
    ("names", "same"),
    [
        (["Date|Payment Date", "Supplier|Supplier Name", "AP Amount (£)|Amount (GBP)", "VAT registration number|Supplier VAT No",
          "Description|Purpose", "Vendor|Supplier", "supplier_id|Supplier Number"], False),
        (["Net Amount|Gross Amount", "Amount|Net Amount", "Date|Due Date", "Buchungsdatum|Belegdatum", "Customer|Supplier", "Order No|Invoice No",
          "Amount (EUR)|Amount (GBP)", "Amount|Amount (USD)", "Start Date|End Date", "Amount Paid|Amount Claimed", "Opening Balance|Closing Balance",
          "Region|Branch", "Notes|Amount"], True),
    ],
)  # fmt: skip
def test_names_that_may_say_something_else_keep_two_tables_apart(names, same):
    for pair in names:
        one, other = pair.split("|")
        mine = {"Id": "text", "Place": "text", "Who": "text", one: "number"}
        theirs = {"Id": "text", "Place": "text", "Who": "text", other: "number"}
        assert (renamed(mine, theirs) is None) is same, pair
        assert renamed(mine, {**theirs, other: "text"}) is None  # of another kind
        assert renamed(mine, dict(reversed(theirs.items()))) is None  # in another place
    assert (
        renamed(
            {"a": "text", "Date": "date", "b": "text"}, {"a": "text", "Day": "date", "b": "text"}
        )
        is None
    )


def test_a_contract_is_one_vendors_and_direct_vouchers_are_nobodys(tmp_path):
    rng = random.Random(9)
    vendors = [
        f"{a} {b}"
        for a in ("LAKE", "MIDWAY", "CANAL", "OGDEN", "GRANT")
        for b in ("PAVING", "LEGAL", "SUPPLY")
    ]
    contracts = {
        vendor: [str(rng.randrange(10_000, 99_999)) for _ in range(2)] for vendor in vendors
    }
    rows = []
    for n in range(900):
        vendor = rng.choice(vendors)
        contract = "DV" if rng.random() < 0.2 else rng.choice(contracts[vendor])
        rows.append(
            {"voucher": f"PV{n:05}", "amount": _cents(rng, 4000, 1), "check date": date(2024, 1, 2) + timedelta(days=n // 3),
             "contract number": contract, "vendor name": vendor}
        )  # fmt: skip
    wrong = {rows[n]["voucher"] for n in (200, 501)}
    for n in (200, 501):
        rows[n]["contract number"] = contracts[
            next(v for v in vendors if v != rows[n]["vendor name"])
        ][0]
    case, screens = taken_in(tmp_path, {"vouchers": rows}, PLAIN)
    name = "vendor name of vouchers other than the contract number's"
    assert screens[name]["settings"]["where"] == "\"contract number\" not in ('DV')"
    assert "those of DV, which have many, are left out" in screens[name]["because"]
    found = asked_for(case)[name]
    assert set().union(*(_ids(case, item, "voucher") for item in found)) == wrong


def test_pay_by_the_year_has_one_row_of_each(tmp_path):
    rng = random.Random(3)
    rows = [
        {"Employee Name": f"{chr(65 + n % 26)}. Person {n}", "Job Title": rng.choice(["Clerk", "Nurse"]),
         "Base Pay": _cents(rng, 60_000, 0.2), "Overtime Pay": _cents(rng, 3000, 0.8), "Year": year}
        for year in (2022, 2023, 2024)
        for n in range(150)
    ]  # fmt: skip
    rows += [dict(rows[n]) for n in (7, 300)]
    _case, screens = taken_in(tmp_path, {"pay": rows}, PLAIN)
    assert screens["Employee Name and Year of pay in two rows"]["flagged"] == 2
    totals = [screen for name, screen in screens.items() if "totals of pay, by year" in name]
    assert all(screen["flagged"] <= 25 for screen in totals)


def test_a_limit_that_no_amount_reaches_is_one(tmp_path):
    rng = random.Random(8)
    firms = [f"Obras {chr(65 + n)} S.L." for n in range(12)]
    rows = [
        {"Expediente": f"CM/{n:05}", "Fecha adjudicación": date(2024, 1, 2) + timedelta(days=n // 4),
         "Adjudicatario": rng.choice(firms), "Importe": min(_cents(rng, 3000, 1), Decimal(12_000) + rng.randrange(2000))}
        for n in range(1000)
    ]  # fmt: skip
    for n in range(0, 400, 20):
        rows[n] |= {"Adjudicatario": firms[3], "Importe": Decimal(14_700) + rng.randrange(299)}
    case, screens = taken_in(tmp_path, {"contratos": rows}, PLAIN)
    screen = screens["contratos just under 15000"]
    assert "which no amount reaches" in screen["because"]
    (whose,) = asked_for(case)[screen["name"]]
    assert whose["subject"] == {"Adjudicatario": firms[3]}


def test_what_is_long_after_two_days_is_asked_of_the_one_it_follows(tmp_path):
    rng = random.Random(2)
    rows = []
    for n in range(400):
        day = date(2024, 1, 1) + timedelta(days=n // 2)
        rows.append({"Year-Month": f"{day:%Y%m}", "Card": f"C{n % 9}", "Amount": _cents(rng, 80, 0.6),
                     "Transaction Date": day, "Posted Date": day + timedelta(days=rng.choice([1, 2, 3]))})  # fmt: skip
    for n in (50, 300):
        rows[n]["Posted Date"] += timedelta(days=80)
    _case, screens = taken_in(tmp_path, {"cards": rows}, PLAIN)
    late = Counter(name for name in screens if "long after" in name)
    assert list(late) == ["Posted Date of cards long after Transaction Date"]


def test_the_program_itself_reads_the_names_of_the_plan(tmp_path):
    """In a process of its own, as a client runs it."""
    write_folder(tmp_path / "in", {
        "paid 2024-01": (("Ref", "Dept", "Date", "Supplier", "Amount"), [[f"R{n}", "Law", date(2024, 1, n + 1), "Holt", Decimal(n) + 1] for n in range(9)]),
        "paid 2024-02": (("Ref", "Dept", "Payment date", "Supplier name", "Amount"), [[f"S{n}", "Law", date(2024, 2, n + 1), "Holt", Decimal(n) + 1] for n in range(9)]),
    })  # fmt: skip
    sabueso("open", "case", cwd=tmp_path)
    done = sabueso("intake", "../in", "--yes", cwd=tmp_path / "case")
    assert "1 table taken in" in done.stdout and "Payment date is taken for Date" in " ".join(
        done.stdout.split()
    )
