"""Ledgers in other scripts, calendars and habits: each is read as its client reads it, or refused."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import xlsxwriter
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.base.errors import UserError
from sabueso.base.figures import plain_figures
from sabueso.base.months import CROATIAN_MONTHS, MONTHS
from sabueso.intake.formats.deciding import TextFormat, decide
from sabueso.intake.formats.detection import Prior
from sabueso.intake.formats.hints import Hints
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import intake_engine, take_file


@pytest.fixture(scope="module")
def engine():
    opened = intake_engine()
    yield opened
    opened.close()


def taken(engine, path: Path, **read):
    out = path.with_suffix(".parquet")
    report = take_file(path, out, ReadSettings(**read), Prior(), engine)
    return report, pq.read_table(out).to_pylist()


# Header and two rows, the encoding, the roles, the sum, the first day, and the currency that is stated.
LEDGERS = {
    "Turkish": (
        "Tarih;Hesap Kodu;Açıklama;Borç (TL);Alacak (TL);Kullanıcı\n13 Ağustos 2024;100.01;şirket ödeme;1.234,50;0,00;İlker\n"
        "2 Eylül 2024;770.03;kira;0,00;34,50;Ayşe\n",
        "cp1254", {"account": "Hesap Kodu", "debit": "Borç (TL)", "credit": "Alacak (TL)", "preparer": "Kullanıcı"},
        "1200.00", date(2024, 8, 13), "TRY",
    ),
    "Arabic": (
        "رقم القيد,التاريخ,الحساب,المورد,المبلغ,المستخدم\n١٠٠٠١,١٣/٠٨/٢٠٢٤,٥١٠١,شركة النور,\"١٬٢٣٤٫٥٠\",أحمد\n"
        "١٠٠٠٢,٠٢/٠٩/٢٠٢٤,٥١٠٢,شركة الفجر,-٣٤٫٥٠,سارة\n",
        "utf-8", {"account": "الحساب", "party": "المورد", "amount": "المبلغ", "preparer": "المستخدم"},
        "1200.00", date(2024, 8, 13), None,
    ),
    "Hebrew": (
        "תאריך,ספק,חשבון,סכום,הוקלד על ידי\n13.08.24,כהן ובניו,5101,\"1,234.50 ₪\",דנה\n02.09.24,לוי,5102,-34.50 ₪,יוסי\n",
        "cp1255", {"account": "חשבון", "party": "ספק", "amount": "סכום", "preparer": "הוקלד על ידי"},
        "1200.00", date(2024, 8, 13), "ILS",
    ),
    "Thai": (
        "วันที่,รหัสบัญชี,ผู้ขาย,จำนวนเงิน,ผู้จัดทำ\n13/08/2567,5101,บริษัท หนึ่ง,\"1,234.50\",somchai\n29/02/2567,5102,บริษัท สอง,-34.50,malee\n",
        "cp874", {"account": "รหัสบัญชี", "party": "ผู้ขาย", "amount": "จำนวนเงิน", "preparer": "ผู้จัดทำ"},
        "1200.00", date(2024, 8, 13), None,
    ),
    "Vietnamese": (
        "Ngày hạch toán,Tài khoản,Nhà cung cấp,Số tiền,Người lập\n13/08/2024,6421,Công ty A,1.234.500 ₫,lan\n02/09/2024,331,Công ty B,-34.500 ₫,hùng\n",
        "utf-8", {"account": "Tài khoản", "party": "Nhà cung cấp", "amount": "Số tiền", "preparer": "Người lập"},
        "1200000", date(2024, 8, 13), "VND",
    ),
    "Indonesian": (
        "Tanggal,Kode Akun,Nama Pemasok,Jumlah,Dibuat Oleh\n13 Agu 2024,5-101,PT Satu,\"Rp1.234.500,00\",budi\n2 Mei 2024,5-102,PT Dua,\"-Rp34.500,00\",siti\n",
        "utf-8", {"account": "Kode Akun", "party": "Nama Pemasok", "amount": "Jumlah", "preparer": "Dibuat Oleh"},
        "1200000.00", date(2024, 8, 13), "IDR",
    ),
    "Greek": (
        "Ημερομηνία;Λογαριασμός;Προμηθευτής;Καθαρή αξία;Χρήστης\n13 Αυγούστου 2024;62.03;Άλφα;1.234,50;νίκος\n2 Μαΐου 2024;64.01;Βήτα;-34,50;μαρία\n",
        "cp1253", {"account": "Λογαριασμός", "party": "Προμηθευτής", "amount": "Καθαρή αξία", "preparer": "Χρήστης"},
        "1200.00", date(2024, 8, 13), None,
    ),
    "Hungarian": (
        "Dátum;Főkönyvi szám;Partner;Összeg (Ft);Rögzítette\n2024. augusztus 13.;511;Alfa Kft;1 234 500;kati\n2024. május 2.;521;Béta Kft;-34 500;gábor\n",
        "cp1250", {"account": "Főkönyvi szám", "party": "Partner", "amount": "Összeg (Ft)", "preparer": "Rögzítette"},
        "1200000", date(2024, 8, 13), "HUF",
    ),
    "Ukrainian": (
        "Дата;Рахунок;Постачальник;Сума;Користувач\n13 серпня 2024 р.;631;ТОВ Їжа;1 234,50;Ганна\n2 травня 2024 р.;281;ТОВ Ліс;-34,50;Іван\n",
        "cp1251", {"account": "Рахунок", "party": "Постачальник", "amount": "Сума", "preparer": "Користувач"},
        "1200.00", date(2024, 8, 13), None,
    ),
}  # fmt: skip


@pytest.mark.parametrize("language", LEDGERS)
def test_a_ledger_is_read_as_its_client_reads_it(engine, tmp_path, language):
    text, encoding, roles, total, first, currency = LEDGERS[language]
    path = tmp_path / "ledger.csv"
    path.write_bytes(text.encode(encoding))
    report, rows = taken(engine, path)
    assert report.quarantined == 0 and report.accepted == 2
    assert {role: report.roles.get(role) for role in roles} == roles
    assert report.sums["amount" if "debit" in roles else roles["amount"]] == Decimal(total)
    assert rows[0][report.roles["date"]] == first
    assert report.currencies == (() if currency is None else (currency,))
    # What the client typed stays as it was typed.
    typed = text.splitlines()[1].replace('"', "")
    assert all(str(row) in typed for row in rows[0].values() if isinstance(row, str) and row != "ledger.csv")  # fmt: skip


@given(st.decimals(-(10**9), 10**9, places=2), st.sampled_from("٠۰०০๐０"))
def test_digits_of_every_script_are_the_same_number(value, zero):
    foreign = f"{value:,.2f}".translate({ord("0") + n: ord(zero) + n for n in range(10)})
    assert plain_figures(foreign) == f"{value:,.2f}"
    found = decide([foreign, foreign.replace("-", "")], Hints())
    assert found.fits(foreign)
    assert found.read(pa.array([foreign])).to_pylist() == [value]


def test_a_month_that_two_languages_share_is_told_by_the_others():
    def read(*texts):
        found = decide(list(texts), Hints())
        if isinstance(found, TextFormat):
            return None
        return [str(day) for day in found.read(pa.array(texts)).to_pylist()]

    croatian = read("3. listopada 2024", "4. rujna 2024", "5. kolovoza 2024", "6. srpnja 2024")
    assert croatian == ["2024-10-03", "2024-09-04", "2024-08-05", "2024-07-06"]
    polish = read("3 listopada 2024", "4 września 2024", "5 października 2024")
    assert polish == ["2024-11-03", "2024-09-04", "2024-10-05"]
    assert read("3 listopada 2024", "4 listopada 2024") is None, (
        "October or November: nothing tells"
    )
    assert {CROATIAN_MONTHS[w] - MONTHS[w] for w in CROATIAN_MONTHS if w in MONTHS} == {-1, 0}


def test_seconds_since_1970_are_moments_under_a_name_that_says_so(engine, tmp_path):
    path = tmp_path / "api.jsonl"
    path.write_text('{"created": 1704114000, "serial": 1900000123, "amount": "1.50", "currency": "eur"}\n'
                    '{"created": 1704200461, "serial": 1900000124, "amount": "2.50", "currency": "EUR"}\n')  # fmt: skip
    report, rows = taken(engine, path)
    assert rows[0]["created"] == datetime(2024, 1, 1, 13) and report.roles["date"] == "created"
    assert rows[0]["serial"] == "1900000123", "a serial of ten digits is none"
    assert report.currencies == ("EUR",), "one currency, however it is written"


def test_a_total_is_none_of_the_rows_where_the_sheet_tells_the_period(engine, tmp_path):
    book = xlsxwriter.Workbook(tmp_path / "stock.xlsx")
    sheet = book.add_worksheet("Stock 2024-12")
    sheet.write_row(0, 0, ["Item", "Part", "Store", "Qty", "Value"])
    values = [round(0.1 * n, 2) for n in range(1, 301)]
    for n, value in enumerate(values, 1):
        sheet.write_row(n, 0, [f"S{n}", f"part {n}", "N", n, value])
    noisy = sum(values) + 4e-12 * sum(values)  # as a program adds floats up
    sheet.write_row(301, 0, ["Total", "", "", "", noisy])
    book.close()
    report, rows = taken(engine, tmp_path / "stock.xlsx")
    assert (report.accepted, report.totals, len(rows)) == (300, 1, 300)
    assert report.sums["Value"] == sum(Decimal(str(v)) for v in values) == Decimal("4515.00")
    (line,) = [line for line in report.totals_lines if line.column == "Value"]
    assert line.stated == line.accepted


def test_a_section_ends_in_its_sums_and_in_what_the_account_stands_at(engine, tmp_path):
    path, lines = tmp_path / "gl.csv", ["Date,Jnl,Text,Debit,Credit,Balance"]
    for account in ("1000 Cash", "4000 Sales", "6100 Travel"):
        lines += [f"{account},,,,,", "01/01/2024,,Opening balance,,,50.00"]
        lines += [
            f"{n:02}/02/2024,GJ,entry {n},{n}.00,,{50 + n * (n + 1) // 2}.00" for n in range(1, 21)
        ]
        lines.append(f",,Total {account[5:]},210.00,0.00,260.00")
    path.write_text("\n".join(lines) + "\n")
    report, _ = taken(engine, path)
    assert report.totals == 6 and report.accepted == 60  # three sums, and three balances
    assert all(line.stated == line.accepted for line in report.totals_lines)
    assert {line.column for line in report.totals_lines} >= {"Debit"}
    # One that does not add up is said.
    path.write_text("\n".join(lines).replace("Total Sales,210.00", "Total Sales,211.00") + "\n")
    report, _ = taken(engine, path)
    assert any(line.stated == Decimal(211) != line.accepted for line in report.totals_lines)


def test_lines_above_the_header_state_the_currency_and_the_scale(engine, tmp_path):
    path = tmp_path / "bank.csv"
    rows = "Date,Text,Amount\n" + "".join(f"2024-01-{n:02},rent,{n}.50\n" for n in range(2, 20))
    path.write_text(f"Account:,12-34\nCurrency:,GBP\n\n{rows}")
    assert taken(engine, path)[0].currencies == ("GBP",)
    path.write_text(f"Budget 2024 (in thousands of EUR)\n\n{rows}")
    report, _ = taken(engine, path)
    assert any("in thousands" in note and "as they are written" in note for note in report.notes)
    path.write_text(f"Report of all accounts in May\n\n{rows}")
    assert taken(engine, path)[0].currencies == ()


def test_currencies_are_told_by_what_a_column_holds(engine, tmp_path):
    path = tmp_path / "multi.csv"
    path.write_text(
        "Txn,Date,Money,In\nX1,2024-01-02,10.00,USD\nX2,2024-01-03,2.50,usd\nX3,2024-01-04,7.00,gbp\n"
    )
    report, _ = taken(engine, path, types={"Money": "number"})
    assert "amount" not in report.roles
    path.write_text(
        "Txn,Date,Amount,Kind,Base amount\nX1,2024-01-02,10.00,USD,9.20\nX2,2024-01-03,2.50,eur,2.50\n"
    )
    report, _ = taken(engine, path)
    assert report.roles["amount"] == "Base amount" and "currency" not in report.roles
    # With rates in the plan the amounts are converted; a column of its own may name the one currency.
    report, rows = taken(engine, path, rates={"usd": "0.9"})
    assert (report.roles["amount"], report.roles["currency"]) == ("Amount_eur", "Kind")
    assert [row["Amount_eur"] for row in rows] == [Decimal("9.00"), Decimal("2.50")]
    path.write_text(
        "Txn,Date,Amount,Doc Currency,Amount in Local Currency,Local Currency\n"
        "X1,2024-01-02,10.00,USD,9.20,CHF\nX2,2024-01-03,2.50,eur,2.40,CHF\n"
    )
    report, _ = taken(engine, path)
    assert report.roles["amount"] == "Amount in Local Currency" and report.currencies == ("CHF",)
    path.write_text("Txn,Date,Amount,Kind\nX1,2024-01-02,10.00,USD\nX2,2024-01-03,2.50,eur\n")
    report, _ = taken(engine, path)
    assert report.roles["currency"] == "Kind" and set(report.currencies) == {"USD", "EUR"}


def test_what_is_printed_on_the_first_line_of_a_group_is_said_and_filled(engine, tmp_path):
    path = tmp_path / "once.csv"
    lines = ["Account,Date,Text,Amount"]
    for account in range(4000, 4012):
        lines += [f"{account if n == 1 else ''},2024-01-{n:02},x,{n}.00" for n in range(1, 11)]
    path.write_text("\n".join(lines) + "\n")
    report, rows = taken(engine, path)
    (said,) = [note for note in report.assumed if note.key == "read.fill"]
    assert "Account stands on 12 of the first 120 lines" in said
    assert sum(row["Account"] is not None for row in rows) == 12
    report, rows = taken(engine, path, fill=["Account"])
    assert [row["Account"] for row in rows] == [str(4000 + n // 10) for n in range(120)]
    assert not [note for note in report.assumed if note.key == "read.fill"]
    with pytest.raises(UserError, match=r"read\.fill names 'Konto', which the file does not have"):
        taken(engine, path, fill=["Konto"])
    # A column that is seldom filled and comes again is no group's.
    path.write_text("\n".join(lines).replace("4000,", "4001,") + "\n")
    assert not [note for note in taken(engine, path)[0].assumed if note.key == "read.fill"]


def test_sheets_called_by_month_and_two_digits_are_months_of_a_year(engine, tmp_path):
    book = xlsxwriter.Workbook(tmp_path / "cash.xlsx")
    for month in ("Jan 24", "Feb 24", "Mar 24"):
        sheet = book.add_worksheet(month)
        sheet.write_row(0, 0, ["Voucher", "Paid to", "Amount"])
        for n in range(12):
            sheet.write_row(n + 1, 0, [f"V{month[0]}{n}", f"Shop {n % 5}", n + 0.5])
    book.close()
    _, rows = taken(engine, tmp_path / "cash.xlsx")
    assert sorted({str(row["period"])[:7] for row in rows}) == ["2024-01", "2024-02", "2024-03"]


@pytest.mark.parametrize(
    ("header", "row", "role", "column"),
    [
        ("Claim,Claimant,Loss Dt,Paid Dt,Paid Amt", "C{n},P{n},01/{d}/2024,02/{d}/2024,{n}.50", "date", "Paid Dt"),
        ("Agent,Sale date,Premium,Commission", "A{n},2024-01-{d},{n}00.00,{n}.50", "amount", "Commission"),
        ("Bill No,Service Date,Patient ID,Units,Paid", "B{n},2024-01-{d},P1,{n},{n}.50", "id", "Bill No"),
        ("Order,Day,Unit Cost,Ext Cost,Cost Center", "C{n},2024-01-{d},{n}.50,{n}.75,1{d}", "amount", "Ext Cost"),
        ("PO,Day,Vendor,Buyer,Amount", "C{n},2024-01-{d},V{n},ANA,{n}.50", "preparer", "Buyer"),
        ("Claim,Adjuster,Day,Cost", "C{n},JD,2024-01-{d},{n}.50", "preparer", "Adjuster"),
    ],
)  # fmt: skip
def test_roles_of_the_trades(engine, tmp_path, header, row, role, column):
    path = tmp_path / "rows.csv"
    path.write_text(
        "\n".join([header, *(row.format(n=n, d=f"{n + 10:02}") for n in range(1, 15))]) + "\n"
    )
    assert taken(engine, path)[0].roles.get(role) == column


def test_what_cannot_be_told_of_amounts_is_said(engine, tmp_path):
    path = tmp_path / "rows.csv"
    path.write_text("Key,Alpha,Beta\n" + "".join(f"K{n},{n}.50,{n}.25\n" for n in range(20)))
    report, _ = taken(engine, path)
    assert "amount" not in report.roles
    assert any("none is taken for them: Alpha and Beta" in note for note in report.assumed)
    months = ",".join(f"{name}-24" for name in ("Jan", "Feb", "Mar", "Apr"))
    path.write_text(
        f"Account,{months},Total\n" + "".join(f"{n},1.50,2.50,3.50,4.50,12.00\n" for n in range(20))
    )
    report, _ = taken(engine, path)
    assert any("4 columns are called by months, Jan-24 to Apr-24" in note for note in report.notes)
    path.write_text("Date;Text;Soll;Haben;Saldo CHF\n" + "".join(
        f"2024-01-{n:02};x;{n}.00;;{n}.00\n2024-01-{n:02};y;;{n}.00;0.00\n" for n in range(1, 20)))  # fmt: skip
    assert taken(engine, path)[0].currencies == ("CHF",)


def test_a_year_and_a_month_date_rows_that_have_no_date(engine, tmp_path):
    path = tmp_path / "spend.csv"
    rows = [f"{2023 + n // 24},{1 + n // 2 % 12},Vendor {n % 5},{n}.50" for n in range(48)]
    path.write_text(
        "Fiscal Year,Month,Vendor,Spend\n" + "\n".join([*rows, ",,Total,1152.00"]) + "\n"
    )
    report, found = taken(engine, path)
    assert (report.accepted, report.totals) == (48, 1)
    assert report.roles["date"] == "period" and report.roles["amount"] == "Spend"
    assert [str(row["period"]) for row in found[:3]] == ["2023-01-01", "2023-01-01", "2023-02-01"]
    assert any("a fiscal year may begin in another" in note for note in report.assumed)
    assert isinstance(found[0]["Month"], str), "a month is no measure"
    # A column may be called so already; months may have names; a thirteenth is none.
    named = [
        f"{2023 + n // 24},{('Jan', 'März', 'P06')[n % 3]},4{n % 9}0000,{n}.50" for n in range(48)
    ]
    path.write_text(
        "Jahr,Period,Kostenart,Actual\n" + "\n".join([*named, "2024,13,400000,1.00"]) + "\n"
    )
    report, found = taken(engine, path)
    assert {str(row["period of the file"])[5:7] for row in found[:-1]} == {"01", "03", "06"}
    assert found[-1]["period of the file"] is None and report.roles["account"] == "Kostenart"
    report, found = taken(engine, path, months=["Jahr", "Period"], types={"Period": "text"})
    assert not [note for note in report.assumed if note.key == "read.months"]
    with pytest.raises(
        UserError, match=r"read\.months names 'Monat', which the file does not have"
    ):
        taken(engine, path, months=["Jahr", "Monat"])
    with pytest.raises(
        UserError, match=r"'Kostenart' and 'Actual', which read\.months names, tell no month"
    ):
        taken(engine, path, months=["Kostenart", "Actual"])
    with pytest.raises(ValueError, match="one of them does"):
        ReadSettings(period="file name", months=["Jahr", "Period"])


def test_the_next_file_of_a_year_and_a_month_joins_the_table(tmp_path):
    for year in (2023, 2024):
        rows = "".join(f"{year},{1 + n % 12},V{n % 5},{n}.50\n" for n in range(36))
        (tmp_path / f"s{year}.csv").write_text(f"Year,Month,Vendor,Spend\n{rows}")
    inside("open", "case", cwd=tmp_path)
    for year in (2023, 2024):
        inside("intake", f"../s{year}.csv", "--as", "spend", cwd=tmp_path / "case")
    found = inside_json("dig", "spend", "--by", "year", cwd=tmp_path / "case")
    assert [row["rows"] for row in found["total"]["groups"]] == [36, 36]
