"""Reports as programs print them: headings, sums in odd places, names in two lines, pages, amounts without cents."""

from __future__ import annotations

import csv
import io
import json
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import xlsxwriter
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.intake.formats.deciding import decide
from sabueso.intake.formats.detection import Prior
from sabueso.intake.formats.floats import plain_number, plain_numbers
from sabueso.intake.formats.hints import Hints
from sabueso.intake.readers.delimited_blocks import Padding
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import intake_engine, take_file

START = date(2025, 1, 1)


@pytest.fixture(scope="module")
def engine():
    opened = intake_engine()
    yield opened
    opened.close()


def taken(engine, path: Path, content: str | None = None, **read):
    if content is not None:
        path.write_text(content, encoding="utf-8")
    out = path.with_name("rows.parquet")
    return take_file(path, out, ReadSettings(**read), Prior(), engine)


def agree(report) -> bool:
    return all(line.stated == line.accepted for line in report.totals_lines)


def test_headings_before_a_balance_brought_forward(engine, tmp_path):
    lines = ["Movements by account", "", ",Date,Number,Who,Amount,Balance"]
    for account in ("Bank", "Rent", "Paper"):
        lines += [f"{account},,,,,", "Brought forward,,,,,0.00"]
        for i in range(9):
            lines.append(
                f",2025-{i + 1:02d}-03,{i},Acme {i % 2},{10 + i}.50,{sum(10.5 + k for k in range(i + 1)):.2f}"
            )
        lines.append(f"Total {account},,,,130.50,")
    report = taken(engine, tmp_path / "movements.csv", "\n".join(lines))
    assert report.accepted == 27 and report.sums["Amount"] == Decimal("391.50") and agree(report)
    assert any("'Bank', 'Rent'" in note for note in report.notes)


def test_a_sum_of_one_row_is_that_row(engine, tmp_path):
    lines = ["Vendor;Invoice;Date;Current;Late;Total"]
    for vendor, many in (("A", 3), ("B", 1), ("C", 2), ("D", 1)):
        lines += [f"{vendor};R{i};2025-06-0{i + 1};{10 + i}.00;;{10 + i}.00" for i in range(many)]
        sums = f"{sum(10 + i for i in range(many))}.00"
        lines.append(f"Total {vendor};;;{sums};0.00;{sums}")
    report = taken(engine, tmp_path / "aging.csv", "\n".join(lines))
    # An empty column of nothing but stated zeros agrees too.
    assert (report.accepted, agree(report)) == (7, True)


def test_the_header_again_on_each_page_hides_no_currency(engine, tmp_path):
    head, rule = "|No.   |Day       |Vendor|  Amount|Cry|", "-" * 38
    lines, total = [], 0
    for page in range(3):
        lines += (
            [rule, head, rule] if not page else ["", f"List   page {page + 1}", rule, head, rule]
        )
        for i in range(12):
            lines.append(
                f"|{page:03d}{i:03d}|{START + timedelta(i)}|V{i % 3:<5}|{i * 3 + 1:>5}.20|CHF|"
            )
            total += i * 3 + 1
    report = taken(engine, tmp_path / "list.txt", "\n".join(lines))
    assert report.accepted == 36 and report.sums["Amount"] == total + Decimal("7.20")
    assert report.roles["currency"] == "Cry" and report.currencies == ("CHF",)


def test_amounts_in_one_currency_under_its_code_and_a_sum_among_numbers(engine, tmp_path):
    path = tmp_path / "claims.xlsx"
    with xlsxwriter.Workbook(path) as book:
        sheet = book.add_worksheet()
        sheet.write_row(0, 0, ["Date", "Merchant", "Currency", "Amount", "Rate", "EUR"])
        for i in range(20):
            code, rate = (("EUR", 1), ("USD", 0.92), ("GBP", 1.17))[i % 3]
            row = [
                str(START + timedelta(i)),
                f"M{i}",
                code,
                100 + i,
                rate,
                round((100 + i) * rate, 2),
            ]
            sheet.write_row(i + 1, 0, row)
        total = sum(round((100 + i) * (1, 0.92, 1.17)[i % 3], 2) for i in range(20))
        sheet.write_row(21, 4, ["Total", round(total, 2)])
    report = taken(engine, path)
    assert (report.roles["amount"], "price" in report.roles) == ("EUR", False)
    assert report.currencies == ("EUR",) and report.accepted == 20
    assert report.quarantined == 0 and len(report.totals_lines) == 1 and agree(report)


def test_a_statement_with_names_in_two_lines_and_a_sum_that_runs_over(engine, tmp_path):
    lines = ["HARBOUR BANK  CARD STATEMENT", "Card ending 4471     Period 01 Jan 2025 - 31 Jan 2025", "",
             f"{'TRANS':<10}{'POST':<10}{'DESCRIPTION':<28}{'AMOUNT':>10}",
             f"{'DATE':<10}{'DATE':<38}{'GBP':>10}", "-" * 60]  # fmt: skip
    total = 0
    for i in range(40):
        day, credit = START + timedelta(i * 3 // 4), i % 7 == 3
        cents = 1999 + 4111 * i % 90000
        total += -cents if credit else cents
        lines.append(f"{day:%d %b}    {day + timedelta(1):%d %b}    {'HOTEL ' + 'X' * (i % 5):<28}"
                     f"{cents / 100:>10,.2f}{'CR' if credit else ''}")  # fmt: skip
    lines += ["-" * 60, f"{'NEW BALANCE OF THE CARD':<48}{total / 100:>10,.2f}"]
    report = taken(engine, tmp_path / "card.txt", "\n".join(lines))
    assert report.accepted == 40 and report.quarantined == 1
    assert report.sums["AMOUNT GBP"] == Decimal(total) / 100 and report.currencies == ("GBP",)
    names = [c.name for c in report.columns if not c.is_place]
    assert names == ["TRANS DATE", "POST DATE", "DESCRIPTION", "AMOUNT GBP"]


@pytest.mark.parametrize(("last", "said"), [("", True), ("0", False), (".0", False)])
def test_whole_amounts_that_nobody_rounded_may_be_cents(engine, tmp_path, last, said):
    rows = [{"id": f"C{i}", "amount": float(f"{137 + i * 77}{last}") if "." in last else int(f"{137 + i * 77}{last}"),
             "created": str(START + timedelta(i))} for i in range(40)]  # fmt: skip
    rows[0]["amount"] = 13.75 if "." in last else rows[0]["amount"]
    report = taken(engine, tmp_path / "charges.jsonl", "\n".join(map(json.dumps, rows)))
    assert any("not as hundredths" in note for note in report.notes) is said


def test_a_line_that_is_written_as_all_others_is_no_header(tmp_path):
    lines = [
        f"{i:06d}2025{i % 12 + 1:02d}01ACC60{i % 9:02d}{'ABCDEFGHI'[i % 9]}" for i in range(30)
    ]
    (tmp_path / "extract.txt").write_text("\n".join(lines) + "\n")
    inside("open", "case", cwd=tmp_path)
    done = inside("intake", "../extract.txt", "--yes", cwd=tmp_path / "case")
    assert "column 1" in done.stdout and "ACC60" not in done.stdout


def test_what_stands_on_the_first_line_of_each_voucher_is_said_and_filled(engine, tmp_path):
    lines = ["Date;Particulars;Number;Debit;Credit"]
    for i in range(20):
        # Two vouchers a day: the day alone would not tell that it is printed once.
        lines.append(f"{START + timedelta(i // 2)};Cash;{i + 1};;{i + 10}.50")
        lines.append(f";Office;;{i + 10}.50;")
    path = tmp_path / "vouchers.csv"
    report = taken(engine, path, "\n".join(lines))
    said = [note for note in report.notes if "left without one" in note]
    assert any("Date" in note and "those of Number alone" in note for note in said)
    assert "id" not in report.roles
    report = taken(engine, path, fill=["Date", "Number"])
    assert not any("left without one" in note for note in report.notes)
    assert report.accepted == 40


@pytest.mark.parametrize(
    ("title", "read", "first", "last"),
    [
        ("Statement 01 Dec 2024 - 31 Dec 2024", {}, date(2024, 11, 30), date(2025, 1, 2)),
        ("Statement", {"year": "2023-07"}, date(2023, 11, 30), date(2024, 1, 2)),
        ("Statement", {"year": 2023}, date(2023, 1, 2), date(2023, 12, 9)),
        ("Statement", {}, None, None),
    ],
)
@pytest.mark.parametrize("written", ["%d/%m", "%d.%m.", "%d%m", "%d %b", "%b %d"])
def test_days_without_a_year(engine, tmp_path, title, read, first, last, written):
    days = [date(2024, 11, 30), *(date(2024, 12, d) for d in range(1, 10)), date(2025, 1, 2)]
    rows = [f"{day.strftime(written)};shop {i};{10 + i}.50" for i, day in enumerate(days)]
    content = "\n".join([title, "", "Date;Text;Amount", *rows])
    report = taken(engine, tmp_path / "card.csv", content, **read)
    assert report.accepted == len(days) and report.sums["Amount"] == Decimal("170.50")
    if first is None:
        assert "date" not in report.roles
        assert any("nothing says their year" in note for note in report.notes)
    else:
        assert (report.first_date, report.last_date) == (str(first), str(last))
        assert any("nearest to the dates above" in note for note in report.notes) is not bool(read)


def test_figures_are_no_days_where_no_name_says_so(engine, tmp_path):
    rows = [
        f"{START + timedelta(i)};{i + 1}.{i % 12 + 1:02d};{1 + i}/{2 + i % 9}" for i in range(12)
    ]
    report = taken(engine, tmp_path / "x.csv", "\n".join(["Year 2025", "day;amount;part", *rows]))
    assert report.sums["amount"] == Decimal("78.78") and report.roles["date"] == "day"
    assert {c.name: c.type for c in report.columns}["part"] == "text"


@pytest.mark.parametrize(
    "words",
    [("Opening Balance", "Closing Balance"), ("Saldo anterior", "Saldo final al 31.12"), ("Saldovortrag", "Endbestand"),
     ("Solde précédent", "Solde de clôture"), ("Balance b/f", "Balance c/d"), ("期初余额", "期末余额"), ("Saldo początkowe", "Saldo końcowe"),
     ("Açılış bakiyesi", "Kapanış bakiyesi"), ("Входящий остаток", "Исходящий остаток")],
)  # fmt: skip
def test_what_an_account_stood_at_is_no_movement(engine, tmp_path, words):
    moved = [(11 * i + 7, i % 2) for i in range(30)]
    debit, credit = (sum(a for a, side in moved if side == k) for k in (0, 1))
    lines = ["Date,Text,Voucher,Debit,Credit", f"2024-04-01,{words[0]},,,500.00"]
    for i, (amount, side) in enumerate(moved):
        sides = f",{amount}.00" if side else f"{amount}.00,"
        # An entry that opens an account has its number like all others, and is a row.
        text = "Opening balance" if i == 3 else f"voucher {i}"
        lines.append(f"{START + timedelta(i)},{text},V{i},{sides}")
    close = 500 + credit - debit
    lines += [f",,,{debit}.00,{credit + 500}.00", f",{words[1]},,{close}.00,",
              f",,,{debit + close}.00,{credit + 500}.00"]  # fmt: skip
    content = "\n".join(lines)
    report = taken(engine, tmp_path / "creditors.csv", content)
    assert (report.accepted, report.sums["amount"]) == (30, Decimal(debit - credit))
    assert report.read == report.accepted + report.totals and agree(report)
    assert any(f"{words[0]!r} on line 2" in note for note in report.notes)
    report = taken(engine, tmp_path / "creditors.csv", content, balances="rows")
    assert report.accepted == 32 and report.sums["amount"] == 0


def test_twelve_hours_put_the_month_first(engine, tmp_path):
    rows = [f"05/0{1 + i % 9}/2025 0{1 + i % 9}:30 PM,{10 + i}.25" for i in range(20)]
    report = taken(engine, tmp_path / "pos.csv", "\n".join(["Timestamp,Amount", *rows]))
    assert report.first_date == "2025-05-01 13:30:00" and any("assumed" in n for n in report.notes)


@pytest.mark.parametrize("total", ["", "{:,.2f}"])
def test_what_stands_on_top_of_every_page_is_no_row(engine, tmp_path, total):
    """Titles run over the columns, with the page's number and a day; sums are named after their page."""
    lines, amounts = [], []
    for page in range(4):
        lines += [f"ACME CORP                          CHECK REGISTER                      PAGE {page + 1}",
                  "RUN DATE 04/02/24", "",
                  "CHECK NO   DATE       PAYEE                          AMOUNT   STATUS",
                  "---------- ---------- ---------------------- -------------- --------"]  # fmt: skip
        amounts.append(
            [Decimal(1000 + (page * 30 + i) * 7919 % 90_000).scaleb(-2) for i in range(30)]
        )
        lines += [
            f"{100000 + page * 30 + i:<10} {START + timedelta(i):%m/%d/%y}   {f'PAYEE {i % 7}':<22} {a:>14,.2f} CLEARED "
            for i, a in enumerate(amounts[-1])
        ]
        lines += ["", f"{'PAGE TOTAL':<44} {total.format(sum(amounts[-1])):>14}"]
    report = taken(engine, tmp_path / "checks.txt", "\n".join(lines) + "\n")
    assert [c.name for c in report.columns][:5] == ["CHECK NO", "DATE", "PAYEE", "AMOUNT", "STATUS"]
    assert (report.accepted, report.quarantined, report.totals) == (120, 0, 4)
    assert report.sums["AMOUNT"] == sum(map(sum, amounts)) and agree(report)
    assert len(report.totals_lines) == (4 if total else 0)
    assert "6 lines say again what stands above the header, and are no rows" in report.notes


def test_sums_of_binary_fractions_leave_no_trace(engine, tmp_path):
    """A spreadsheet keeps 50.3999999999996 where it shows 50.40; a third is a third."""
    book = xlsxwriter.Workbook(tmp_path / "b.xlsx")
    sheet = book.add_worksheet()
    values = [round(i * 1.13, 2) + 100_000.1 - 100_000 for i in range(1, 40)]
    for row, (name, value) in enumerate(
        [("Amount", "Rate"), *((v, 1 + i / 2048) for i, v in enumerate(values))]
    ):
        sheet.write(row, 0, name)
        sheet.write(row, 1, value)
    book.close()
    report = taken(engine, tmp_path / "b.xlsx")
    amount, rate = report.columns[:2]
    assert (amount.name, amount.scale) == ("Amount", 2) and rate.scale > 10
    assert report.sums["Amount"] == sum(Decimal(str(round(v, 2))) for v in values)


def test_a_header_that_comes_again_is_the_header_whatever_stands_above_it(engine, tmp_path):
    """Blocks of an account each, at fixed places: every row and every sum, and what names the account is
    told and not taken for names of columns."""
    lines, whole = [], Decimal(0)
    for block in range(12):
        lines += [
            f"Konto: {4700 + block} Miete {block}",
            "Datum       Text                          Betrag",
        ]
        amounts = [Decimal(100 + (block * 9 + i) * 7919 % 90_000).scaleb(-2) for i in range(9)]
        for i, amount in enumerate(amounts):
            shown = f"{amount:.2f}".replace(".", ",")
            lines.append(
                f"{START + timedelta(i * 7 + block):%d.%m.%Y}  {f'Beleg {i}':<22} {shown:>14}"
            )
        whole += sum(amounts)
        shown = f"{sum(amounts):,.2f}".translate(str.maketrans(",.", ".,"))
        lines += [f"{'Summe':<34} {shown:>14}", ""]
    report = taken(engine, tmp_path / "konten.txt", "\n".join(lines) + "\n")
    assert [c.name for c in report.columns][:3] == ["Datum", "Text", "Betrag"]
    assert (report.accepted, report.totals) == (108, 12) and agree(report)
    assert report.sums["Betrag"] == whole and report.quarantined == 0
    rows = pq.read_table(tmp_path / "rows.parquet").to_pylist()
    assert {row["heading"] for row in rows} == {f"Konto: {4700 + k} Miete {k}" for k in range(12)}


@pytest.mark.parametrize(
    "named", ["Client: {k}  Ann Lee & {k} Sons", "Matter {k}", "Account {k} of the Smith estate"]
)
def test_blocks_of_whose_words_run_over_the_columns(engine, tmp_path, named):
    """Whose block it is, and what stands at its end, begin with words that stand where rows have a day and a
    number: the columns are those of the rows, and each row has the words above it."""
    lines, held, owners = ["CLIENT TRUST ACCOUNT", ""], [], {}
    for k in range(1041, 1049):
        balance = Decimal(0)
        lines += [
            named.format(k=k),
            "Date        Ref     Payee              Deposits   Disbursed     Balance",
        ]
        for i in range(5 + k % 4):
            amount = Decimal(1000 + k * 37 % 900 + i * 7919 % 90_000).scaleb(-2)
            out = i % 3 == 2 and amount < balance
            balance += -amount if out else amount
            shown = f"{amount:,}"
            lines.append(
                f"{START + timedelta(i * 9 + k - 1041):%m/%d/%Y}  {7000 + i}    {'Court Clerk' if out else 'Client':<16} "
                f"{'' if out else shown:>10} {shown if out else '':>11} {balance:>11,}"
            )
            held.append(amount if out else -amount)
            owners[len(lines)] = " ".join(named.format(k=k).split())
        lines += [f"{'Ending balance':<60} {balance:>11,}", ""]
    report = taken(engine, tmp_path / "trust.txt", "\n".join(lines) + "\n")
    names = [c.name for c in report.columns]
    assert names[:7] == ["Date", "Ref", "Payee", "Deposits", "Disbursed", "Balance", "heading"]
    assert (report.accepted, report.quarantined, report.totals) == (len(held), 0, 8) and agree(
        report
    )
    assert report.sums["amount"] == sum(held)
    rows = pq.read_table(tmp_path / "rows.parquet").to_pylist()
    assert {row["_line"]: row["heading"] for row in rows} == owners


def test_a_list_drawn_with_bars_is_cut_at_them(tmp_path):
    """Bars on both sides, rules between, and a sum under it."""
    amounts = [Decimal(10_000 + 37 * i).scaleb(-2) for i in range(60)]
    rule = "-" * 60
    lines = ["12.01.2025          List of postings              1", rule,
             "|  Doc.No    |  Pstng Date  |  G/L Acct  |   Amount | Crcy |", rule]  # fmt: skip
    lines += [
        f"| {1900000000 + i} |  {1 + i % 28:02d}.01.2024  |  400000    | {str(a).replace('.', ','):>8} | EUR  |"
        for i, a in enumerate(amounts)
    ]
    lines += [rule, f"|* Total     |              |            | {str(sum(amounts)).replace('.', ','):>8} | EUR  |", rule]  # fmt: skip
    (tmp_path / "list.txt").write_text("\n".join(lines) + "\n")
    inside("open", ".", cwd=tmp_path)
    report = inside_json("intake", "list.txt", "--as", "list", cwd=tmp_path)
    roles = {"document": "Doc.No", "date": "Pstng Date", "account": "G/L Acct", "amount": "Amount", "currency": "Crcy"}  # fmt: skip
    assert roles.items() <= report["roles"].items()
    total = report["total"]
    assert (total["accepted"], total["totals"]) == (60, 1)
    assert Decimal(total["amount"]) == sum(amounts)
    assert all(t["agrees"] for f in report["files"] for t in f["totals_lines"])


@pytest.mark.parametrize(
    ("last", "said"),
    [
        ("T|40|{total}", "states 40 rows, as many as were read and {shown}, what column 4 adds up to"),
        ("9|0000040|1.00", "states 40 rows, as many as were read"),
        ("T|41|1.00", None),
    ],
)  # fmt: skip
def test_a_last_record_that_counts_the_others_is_told(tmp_path, last, said):
    amounts = [Decimal(120_000 + 37 * i).scaleb(-2) for i in range(40)]
    lines = [f"D|2024-01-{1 + i % 28:02d}|E{i % 7}|{a}|PAY" for i, a in enumerate(amounts)]
    total = sum(amounts)
    (tmp_path / "batch.txt").write_text("\n".join([*lines, last.format(total=total)]) + "\n")
    inside("open", ".", cwd=tmp_path)
    text = inside("intake", "batch.txt", "--as", "batch", cwd=tmp_path).stdout
    text = " ".join(text.split())
    if said is None:
        assert "the last, is no row" not in text
    else:
        assert f"line 41, the last, is no row and {said.format(shown=f'{total:,}')}" in text


@pytest.mark.parametrize("kind", ["csv", "txt", "xlsx"])
def test_headings_above_a_header_that_comes_again(engine, tmp_path, kind):
    """Accounts one after another, each under its name and the names of the columns."""
    names = ["Date", "Type", "Num", "Who", "Debit", "Credit"]
    rows: list[list[str]] = [["Acme Holdings"], ["General ledger 2024"], []]
    for account in ("1000 Cash at bank", "4000 Sales", "6100 Travel"):
        rows += [[account], names]
        for i in range(12):
            sides = [f"{10 + i}.50", ""] if i % 2 else ["", f"{20 + i}.25"]
            rows.append([f"{1 + i:02d}/03/2024", "INV", f"{account[0]}{i:03d}", f"Vendor {i % 5}", *sides])  # fmt: skip
        rows.append([])
    path = tmp_path / f"ledger.{kind}"
    if kind == "csv":
        path.write_text("\n".join(",".join(row) for row in rows) + "\n")
    elif kind == "txt":
        wide = [row[0] if len(row) == 1 else "".join(f"{cell:>14}" for cell in row) for row in rows]
        path.write_text("\n".join(wide) + "\n")
    else:
        with xlsxwriter.Workbook(path) as book:
            sheet = book.add_worksheet()
            for at, row in enumerate(rows):
                for place, cell in enumerate(row):
                    sheet.write_string(at, place, cell)
    report = taken(engine, path)
    assert report.accepted == 36 and not report.quarantined
    assert {report.roles["account"]: 1}.keys() <= {"heading"}
    out = path.with_name("rows.parquet")
    accounts = pq.read_table(out).column(report.roles["account"]).to_pylist()
    assert accounts == [a for a in ("1000 Cash at bank", "4000 Sales", "6100 Travel") for _ in range(12)]  # fmt: skip
    assert any("the one above the header too" in note for note in report.notes)
    # The same where the plan says in which column the headings stand.
    taken(engine, path, headings="Date")
    assert pq.read_table(out).column("heading").to_pylist() == accounts


fields = st.text(st.sampled_from('ab ,"\n0-'), max_size=6)
lone_lines = st.text(st.sampled_from("abz 09."), min_size=1, max_size=8).filter(str.strip)


@pytest.mark.parametrize("kind", ["lone", "wide", "bars", "sheet"])
@pytest.mark.parametrize("accounts", [[], ["4000 Sales", "4000 Sales", "5000 Rent", "4000 Sales"]])
def test_heads_of_pages_are_no_rows_and_name_nothing(engine, tmp_path, kind, accounts):
    names = ["Doc", "Date", "Supplier", "Amount"]
    pages = []
    for page in range(4):
        top = ["Holding North, Ltd", f"Ledger  Page {page + 1} of 4", *accounts[page : page + 1]]
        rows = [
            [f"D{page}{i:02d}", f"{i % 27 + 1:02d}/03/2025", "Acme", f"{page}.{i:02d}"]
            for i in range(25)
        ]
        pages.append((top, [names, *rows]))
    path = tmp_path / ("pages.xlsx" if kind == "sheet" else "pages.csv")
    if kind == "sheet":
        with xlsxwriter.Workbook(path) as book:
            sheet, at = book.add_worksheet(), 0
            for top, rows in pages:
                for line in ([""] * (n % 2) + [text] for n, text in enumerate(top)):
                    sheet.write_row(at, 0, line)
                    at += 1
                for row in rows:
                    sheet.write_row(at, 0, row)
                    at += 1
    else:
        before, mark, after = ("| ", " | ", " |") if kind == "bars" else ("", ";", "")
        lines = []
        for top, rows in pages:
            lines += [f"{text};;;" if kind == "wide" else text for text in top]
            lines += ["-" * 40] * (kind == "bars")
            lines += [f"{before}{mark.join(row)}{after}" for row in rows]
        path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    report = taken(engine, path)
    again = 3 * (2 + bool(accounts) + 1)
    assert (report.accepted, report.quarantined) == (100, 0)
    assert report.sums["Amount"] == Decimal(
        "162.00"
    )  # 25 rows of each of 0, 1, 2, 3, and their cents
    assert report.header_lines == 2 + bool(accounts) + 1 + again + (kind == "bars")
    if accounts:
        rows = pq.read_table(path.with_name("rows.parquet"))
        said = next(n for n in rows.column_names if "5000 Rent" in rows.column(n).to_pylist())
        assert rows.column(said).to_pylist() == [a for a in accounts for _ in range(25)]


@given(st.lists(st.lists(fields, min_size=3, max_size=3) | lone_lines, max_size=12), st.data())
def test_lines_of_one_field_get_the_others_and_nothing_else_changes(records, data):
    """Records with quotes, blanks and ends of lines within, cut into blocks at any line."""
    made = io.StringIO()
    writer = csv.writer(made, lineterminator="\n")
    for record in records:
        if isinstance(record, str):
            made.write(f"{record}\n")
        else:
            writer.writerow(record)
    lines = made.getvalue().encode().splitlines(keepends=True)
    at = data.draw(st.integers(0, len(lines)))
    padding = Padding(",", 3)
    text = b"".join(padding.block(b"".join(part)) for part in (lines[:at], lines[at:]))
    read = list(csv.reader(io.StringIO(text.decode(), newline="")))
    assert read == [[record, "", ""] if isinstance(record, str) else record for record in records]


@pytest.mark.parametrize("kind", ["csv", "xlsx"])
def test_names_over_several_columns_and_the_parts_below_them(engine, tmp_path, kind):
    """As merged cells have it: what goes over one column alone stands in the first row."""
    top = ["Date", "Document", "", "Supplier", "Movement", "", "Remarks"]
    parts = ["", "Type", "Number", "", "Debit", "Credit", ""]
    rows = [["Acme", *[""] * 6], [], top, parts]
    for i in range(30):
        sides = [f"{10 + i}.50", ""] if i % 2 else ["", f"{20 + i}.25"]
        rows.append([f"2024-03-{1 + i % 28:02d}", "INV", f"N{i:03d}", f"S{i % 5}", *sides, ""])
    path = tmp_path / f"ledger.{kind}"
    if kind == "csv":
        path.write_text("\n".join(",".join(row) for row in rows) + "\n")
    else:
        with xlsxwriter.Workbook(path) as book:
            sheet = book.add_worksheet()
            for at, row in enumerate(rows):
                for place, cell in enumerate(filter(None, row) if at < 1 else row):
                    sheet.write_string(at, place, cell)
    report = taken(engine, path)
    assert report.accepted == 30 and not report.quarantined
    named = {role: report.roles[role] for role in ("debit", "credit", "document", "party")}
    assert named == {
        "debit": "Movement Debit", "credit": "Movement Credit", "document": "Document Number", "party": "Supplier",
    }  # fmt: skip


@given(st.lists(st.floats(1e-4, 1, exclude_max=True), min_size=12, max_size=40))
def test_small_floats_of_a_program_are_numbers(values):
    """They have more decimals than are kept, and no more than a float tells: to the twelfth decimal they are equal."""
    texts = [repr(value) for value in values]
    found = decide(texts, Hints())
    read = found.read(pa.array(texts)).to_pylist()
    assert all(abs(Decimal(t) - r) <= Decimal("5e-13") + Decimal(t) * Decimal("5e-15") for t, r in zip(texts, read, strict=True))  # fmt: skip


FORMS = (
    repr,
    "{:.17g}".format,
    "{:.12f}".format,
    "{:.16f}".format,
    "{:e}".format,
    "{:.16e}".format,
)


@given(st.lists(
    st.tuples(st.floats(allow_nan=False, allow_infinity=False) | st.floats(-1e6, 1e6), st.sampled_from(FORMS)),
    min_size=1, max_size=30,
))  # fmt: skip
@example([(999.9999999999999, repr), (1234567890.1234565, repr), (5e-13, repr), (-0.0, FORMS[2])])
@example(
    [(123456789012344.5, FORMS[5]), (123456789012345.5, FORMS[5]), (0.0009999999999999998, repr)]
)
def test_floats_are_rounded_many_at_a_time_as_one_by_one(written):
    """As decimals of any precision round them, a number at a time."""
    texts = [form(value) for value, form in written]
    found = plain_numbers(pa.array([*texts, None, "12.50"])).to_pylist()
    assert found[-2:] == [None, "12.50"]
    for text, plain in zip(texts, found, strict=False):
        assert Decimal(plain) == Decimal(plain_number(text)) and (plain == text or "e" not in plain)
