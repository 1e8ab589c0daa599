"""Files as clients send them: what they hold, read right; what they do not tell, asked and not guessed."""

from __future__ import annotations

import bz2
import json
import lzma
import re
import tomllib
from decimal import Decimal
from pathlib import Path

import pyarrow.parquet as pq
import pytest
import xlsxwriter
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import EXAMPLES, inside, inside_json
from sabueso.base.errors import UserError
from sabueso.intake.formats.detection import Prior
from sabueso.intake.formats.header import find_header
from sabueso.intake.interface import Ambiguous
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import intake_engine, take_file


@pytest.fixture(scope="module")
def engine():
    opened = intake_engine()
    yield opened
    opened.close()


def taken(engine, folder: Path, text: str | bytes, name: str = "x.csv", **read):
    """The report of a file, and its rows."""
    path, out = folder / name, folder / "x.parquet"
    path.write_bytes(
        text if isinstance(text, bytes) else text.encode(read.get("encoding", "utf-8"))
    )
    report = take_file(path, out, ReadSettings(**read), Prior(), engine)
    return report, pq.read_table(out).to_pylist()


CASES = {
    # Whole numbers with a thousands mark, in English, German, Swiss and French.
    "thousands, commas": ('id,day,amount\nA1,2024-01-02,"19,582"\nA2,2024-01-03,900\n', {"amount": "20482"}, 2),
    "thousands, points": ("id;day;amount\nA1;2024-01-02;12.500\nA2;2024-01-03;1.250\nA3;2024-01-04;900\n", {"amount": "14650"}, 3),
    "thousands, two marks": ('id,amount\nA1,"1,234,567"\nA2,"12,000"\n', {"amount": "1246567"}, 2),
    "thousands by another column": ('id,amount,fee\nA1,"19,582",1.20\nA2,"20,100",3.40\n', {"amount": "39682"}, 2),
    "decimals by another column": ("id;menge;betrag\nA1;19,582;1,20\nA2;20,100;3,40\n", {"menge": "39.682"}, 2),
    "decimals that begin with 0": ("id;litros\nA1;0,500\nA2;12,250\n", {"litros": "12.750"}, 2),
    "apostrophes": ("id;amount\nA1;1'234.50\nA2;2.00\n", {"amount": "1236.50"}, 2),
    "narrow blanks": ("id;montant\nA1;1\u202f234,50\nA2;2,00\n", {"montant": "1236.50"}, 2),
    "parentheses": ('id,amount\nA1,"(1,234.50)"\nA2,2.00\n', {"amount": "-1232.50"}, 2),
    "trailing minus": ("id;importe\nA1;1.234,50-\nA2;2,00\n", {"importe": "-1232.50"}, 2),
    "lakhs": ('Date,Particulars,Amount\n13/01/2024,A,"1,23,456.50"\n14/01/2024,B,"12,34,567.00"\n', {"Amount": "1358023.50"}, 2),
    "minus signs of typesetting": ("id,amount\n1,\u221212.50\n2,\u20133.50\n3,5.00\n", {"amount": "-11.00"}, 3),
    "minus signs and a currency": ("id,amount\n1,\u2212\u20ac12.50\n2,\u20ac3.50\n", {"amount": "-9.00"}, 2),
    "Af and Bij": ('Datum,Naam,Af Bij,Bedrag (EUR)\n20240102,Huur,Af,"1200,00"\n20240103,Klant,Bij,"2500,00"\n', {"Bedrag (EUR)": "-1300.00"}, 2),
    "Débit and Crédit as words": ("date;sens;montant\n2024-01-02;Débit;12,50\n2024-01-03;Crédit;2,00\n", {"montant": "10.50"}, 2),
    "IN and OUT": ("date,flow,amount\n2024-01-02,OUT,12.50\n2024-01-03,IN,2.00\n", {"amount": "10.50"}, 2),
    "kwota": ("Data;Opis;Kwota\n02-01-2024;Czynsz;-1 200,00\n13-01-2024;Klient;2 500,00\nRazem;;1 300,00\n", {"Kwota": "1300.00"}, 2),
    "beløb": ("dato;tekst;beløb\n02-01-2024;Leje;-1.200,00\n13-01-2024;Kunde;2.500,00\n", {"beløb": "1300.00"}, 2),
    "subtotals with a month": ("Employee;Month;Gross;Net\nE1;2024-01;1000,00;800,00\nE2;2024-01;1500,00;1200,00\nSubtotal;2024-01;2500,00;2000,00\nE1;2024-02;1000,00;800,00\nE2;2024-02;1500,00;1200,00\nSubtotal;2024-02;2500,00;2000,00\nTotal;;5000,00;4000,00\n", {"Gross": "5000.00", "Net": "4000.00"}, 4),
    "a supplier called Total": ("date,party,amount\n2024-01-02,Total Energies,12.50\n2024-01-03,Totalsur,2.00\n2024-01-04,Otro,2.00\n", {"amount": "16.50"}, 3),
    # Values before names.
    "names of codes": ("Invoice No,Invoice Amount,Sales Tax,VAT,Account Balance\nI-1,100.00,7.00,21.00,1000.50\nI-2,50.25,3.50,10.50,900.00\n", {"Invoice Amount": "150.25", "Sales Tax": "10.50", "VAT": "31.50", "Account Balance": "1900.50"}, 2),
    "importe factura": ("factura;importe factura\nF1;100,50\nF2;-3,25\n", {"importe factura": "97.25"}, 2),
    # Pairs by their usual names.
    "withdrawal, deposit": ("Date,Details,Withdrawal,Deposit\n13/02/2024,foo,12.50,\n14/02/2024,bar,,3.00\n", {"amount": "9.50"}, 2),
    "money out, money in": ("Date,Details,Money Out,Money In\n13/02/2024,foo,12.50,\n14/02/2024,bar,,3.00\n", {"amount": "9.50"}, 2),
    "paid in, paid out": ("Date,Details,Paid In,Paid Out\n13/02/2024,foo,,12.50\n14/02/2024,bar,3.00,\n", {"amount": "9.50"}, 2),
    "Soll, Haben": ("Datum;Text;Soll;Haben\n13.02.2024;foo;12,50;\n14.02.2024;bar;;3,00\n", {"amount": "9.50"}, 2),
    "débit, crédit": ("Date;Libellé;Débit;Crédit\n13/02/2024;foo;12,50;\n14/02/2024;bar;;3,00\n", {"amount": "9.50"}, 2),
    "cargo, abono": ("Fecha;Concepto;Cargo;Abono\n13/02/2024;foo;12,50;\n14/02/2024;bar;;3,00\n", {"amount": "9.50"}, 2),
    "dare, avere": ("Data;Descrizione;Dare;Avere\n13/02/2024;foo;12,50;\n14/02/2024;bar;;3,00\n", {"amount": "9.50"}, 2),
    "credits negative already": ("Date,Details,Debit,Credit\n13/02/2024,a,12.50,\n14/02/2024,b,,-3.00\n15/02/2024,c,,-5.00\n", {"amount": "4.50"}, 3),
    "a side column": ("Date,Details,Amount,D/C\n13/02/2024,a,12.50,D\n14/02/2024,b,3.00,C\n15/02/2024,c,5.00,C\n", {"Amount": "4.50"}, 3),
    # Totals by word and by what they add up to.
    "Summe": ("Datum;Text;Betrag\n13.02.2024;foo;12,50\n14.02.2024;bar;3,00\n;Summe;15,50\n", {"Betrag": "15.50"}, 2),
    "Totaal": ("Datum;Omschrijving;Bedrag\n13.02.2024;foo;12,50\n14.02.2024;bar;3,00\n;Totaal;15,50\n", {"Bedrag": "15.50"}, 2),
    "Итого in the column of dates": ("Дата;Текст;Сумма\n13.02.2024;foo;12,50\n14.02.2024;bar;3,00\nИтого;;15,50\n", {"Сумма": "15.50"}, 2),
    "Összesen": ("Dátum;Szöveg;Összeg\n2024.02.13;foo;12,50\n2024.02.14;bar;3,00\n;Összesen;15,50\n", {"Összeg": "15.50"}, 2),
    "Ogółem": ("Data;Opis;Kwota\n13.02.2024;foo;12,50\n14.02.2024;bar;3,00\n;Ogółem;15,50\n", {"Kwota": "15.50"}, 2),
    "accounts of digits": ("Konto;Bezeichnung;Soll;Haben;Saldo\n4000;Erlöse;;12.500,00;-12.500,00\n6000;Miete;1.200,00;;1.200,00\n", {"amount": "-11300.00"}, 2),
    "capitals within names": ("JournalCode\tEcritureNum\tEcritureDate\tCompteNum\tDebit\tCredit\nVE\t1\t20240102\t411000\t120,00\t0,00\nVE\t1\t20240102\t707000\t0,00\t120,00\n", {"amount": "0.00"}, 2),
    "Итого": ("Дата;Текст;Сумма\n13.02.2024;foo;12,50\n14.02.2024;bar;3,00\n;Итого;15,50\n", {"Сумма": "15.50"}, 2),
    "totals without a word": ("date,text,amount\n2024-01-02,a,1.00\n2024-01-03,b,2.00\n,,3.00\n", {"amount": "3.00"}, 2),
    "totals of blocks": ("dept,name,gross,net\nA,x,10.00,8.00\nA,y,20.00,16.00\nA,,30.00,24.00\nB,z,5.00,4.00\nB,w,6.00,5.00\nB,,11.00,9.00\n,,41.00,33.00\n", {"gross": "41.00", "net": "33.00"}, 4),
    "no total: it does not add up": ("date,text,amount\n2024-01-02,a,1.00\n2024-01-03,b,2.00\n,c,9.00\n", {"amount": "12.00"}, 3),
    # Numbers that a program wrote.
    "tiny units of much": ("id,amount\nA1,12345678901234567.1234567890123\nA2,3.5\n", {"amount": "12345678901234570.623456789012"}, 2),
    "tiny units": ("id,amount\nA1,77.568412632875629003\nA2,0.000000000000500001\nA3,2\n", {"amount": "79.568412632877"}, 3),
    "float noise": ("id,amount\nA1,48.053808600000004\nA2,3.5\n", {"amount": "51.5538086"}, 2),
    "exponents": ("id,amount\nA1,1.2E+05\nA2,7\n", {"amount": "120007"}, 2),
    # The header.
    "titles before it": ("My bank\nAccount 123\n\nDate;Text;Amount\n01.02.2024;foo;-12,50\n13.02.2024;bar;3,00\n", {"Amount": "-9.50"}, 2),
    "comments before it": ("# made on Monday\n# by hand\nDate;Text;Amount\n01.02.2024;foo;-12,50\n13.02.2024;bar;3,00\n", {"Amount": "-9.50"}, 2),
    "sep=": ("sep=;\nDate;Text;Amount\n01.02.2024;foo;-12,50\n13.02.2024;bar;3,00\n", {"Amount": "-9.50"}, 2),
    "years as names": ("account,2023,2024\n100,1.50,2.50\n200,3.00,4.00\n", {"2023": "4.50", "2024": "6.50"}, 2),
    "names in two lines": (";2023;;2024;\nAccount;Debit;Credit;Debit;Credit\nA1;1,50;;2,50;\nA2;;3,00;;4,00\n", {"2023 Debit": "1.50", "2024 Credit": "4.00"}, 2),
    "names in two lines, the pair below": ("Date;Account;Amount;\n;;Debit;Credit\n2024-01-02;100;1,50;\n2024-01-13;200;;3,00\n", {"amount": "-1.50"}, 2),
    "the header on every page": ("Date;Party;Amount\n" + "".join(f"2024-01-{i:02};P{i};{i},50\n" + ("Date;Party;Amount\n" if i % 5 == 0 else "") for i in range(1, 21)), {"Amount": "220.00"}, 20),
    "the header once more, after a blank line": ("Party,Amount\na,1.50\nb,2.50\n\nParty,Amount\nc,3.50\nd,4.00\n", {"Amount": "11.50"}, 4),
    "a line end in a name": ('id,"amount\nin EUR"\nA1,1.50\nA2,2.00\n', {"amount in EUR": "3.50"}, 2),
    "no header": ("2024-01-02,foo,12.50\n2024-01-03,bar,3.00\n2024-01-04,baz,4.00\n", {"column 3": "19.50"}, 3),
    "a mark more in the lines": ("a;b;amount\n1;x;2,50;\n2;y;3,50;\n", {"amount": "6.00"}, 2),
    "a mark more in the header": ("a;b;amount;\n1;x;2,50\n2;y;3,50\n", {"amount": "6.00"}, 2),
    # Nothing, as people write it.
    "marks of nothing": ("day,amount,qty\n2024-01-02,1.50,NA\n2024-01-03,n/a,3\n#N/A,2.50,-\n", {"amount": "4.00", "qty": "3"}, 3),
    "mixed line ends": (b"id,amount\r\nA1,1.50\nA2,2.00\rA3,3.00\r\n", {"amount": "6.50"}, 3),
}  # fmt: skip


def test_codes_are_texts_in_every_language(engine, tmp_path):
    for name in (
        "Konto",
        "CompteNum",
        "Belegnr",
        "Rekening",
        "Konto nr",
        "Customer No",
        "Číslo dokladu",
    ):
        report, rows = taken(engine, tmp_path, f"{name};Betrag\n4000;1,50\n6000;2,50\n")
        assert rows[0][name] == "4000" and list(report.sums) == ["Betrag"], name


@pytest.mark.parametrize("name", CASES)
def test_files_are_read_right(engine, tmp_path, name):
    text, sums, rows = CASES[name]
    report, _ = taken(engine, tmp_path, text)
    assert report.accepted == rows
    assert report.reconciled and not report.quarantined
    for column, total in sums.items():
        assert report.sums[column] == Decimal(total), column


@pytest.mark.parametrize(
    ("texts", "days"),
    [
        (("04 Feb 2022", "5-mar-22", "1. März 2024"), ("2022-02-04", "2022-03-05", "2024-03-01")),
        (("4 de febrero de 2022", "12 août 2023"), ("2022-02-04", "2023-08-12")),
        (("Jan 1, 2000", "December 31 2001"), ("2000-01-01", "2001-12-31")),
        (("31-12-23", "01-02-24"), ("2023-12-31", "2024-02-01")),
        (("2022-05-25 10.39.15", "2022-05-26"), ("2022-05-25 10:39:15", "2022-05-26 00:00:00")),
        (("2024-01-02", "2024-01-03 10:00:00"), ("2024-01-02 00:00:00", "2024-01-03 10:00:00")),
        (("05/25/2022 10:39 PM", "05/26/2022 1:02 AM"), ("2022-05-25 22:39:00", "2022-05-26 01:02:00")),
        (("20240102", "20241231"), ("2024-01-02", "2024-12-31")),
    ],
)  # fmt: skip
def test_dates_as_people_and_machines_write_them(engine, tmp_path, texts, days):
    lines = "".join(f"{text};1,50\n" for text in texts)
    report, rows = taken(engine, tmp_path, f"Date;Amount\n{lines}")
    assert not report.quarantined
    assert tuple(str(row["Date"]) for row in rows) == days


@pytest.mark.parametrize(
    "months",
    [
        ("202401", "202412"), ("2024-01", "2024-12"), ("01.2024", "12.2024"), ("2024M01", "2024M12"),
        ("2024-M01", "2024-M12"), ("2024 01", "2024 12"), ("Jan 2024", "Dec 2024"),
    ],
)  # fmt: skip
def test_months_under_the_name_of_a_period(engine, tmp_path, months):
    lines = "".join(f"{text};{i},50\n" for i, text in enumerate(4 * months))
    report, rows = taken(engine, tmp_path, f"Period;Amount\n{lines}")
    assert not report.quarantined
    assert [str(row["Period"]) for row in rows[:2]] == ["2024-01-01", "2024-12-01"]


@pytest.mark.parametrize("text", ['"19,582"', "12.500", '"(1,234)"'])
def test_what_nothing_in_the_file_tells_is_refused(engine, tmp_path, text):
    other = text.strip('"').replace("1", "2")
    lines = f'id,amount\nA1,{text}\nA2,"{other}"\n'
    with pytest.raises(Ambiguous, match="in two ways") as caught:
        taken(engine, tmp_path, lines)
    readings = caught.value.readings
    assert len(readings) == 2 and readings[0][0] != readings[1][0]
    sums = [
        taken(engine, tmp_path, lines, decimal=value)[0].sums["amount"] for _, _, value in readings
    ]
    assert sums[0] == 1000 * sums[1]


def test_a_later_line_may_tell(engine, tmp_path):
    many = "".join(f'A{i},"{i % 8 + 1},{i % 900 + 100}"\n' for i in range(3000))
    with pytest.raises(Ambiguous):
        taken(engine, tmp_path, f"id,amount\n{many}")
    whole = sum((i % 8 + 1) * 1000 + i % 900 + 100 for i in range(3000))
    report, _ = taken(engine, tmp_path, f"id,amount\n{many}B1,7\n")
    assert report.sums["amount"] == whole + 7
    report, _ = taken(engine, tmp_path, f'id,amount\n{many}B1,"0,500"\n')
    assert report.sums["amount"] == Decimal(whole) / 1000 + Decimal("0.5")


def test_what_is_mostly_unread_is_refused(engine, tmp_path):
    text = "id,amount\n1,abc\n2,def\n3,4.00\n4,x\n5,y\n"
    with pytest.raises(UserError, match="4 of 5 lines cannot be read, the first of them line 2"):
        taken(engine, tmp_path, text, types={"amount": "number"})
    assert not (tmp_path / "x.parquet").exists()


@pytest.mark.parametrize(("pack", "suffix"), [(bz2.compress, "bz2"), (lzma.compress, "xz")])
def test_packed_files(engine, tmp_path, pack, suffix):
    report, _ = taken(engine, tmp_path, pack(b"id,amount\nA1,2.50\nA2,3.00\n"), f"x.csv.{suffix}")
    assert report.sums["amount"] == Decimal("5.50")
    with pytest.raises(UserError, match="damaged"):
        taken(engine, tmp_path, b"BZhno archive at all", f"x.csv.{suffix}")


def test_a_cover_sheet_is_passed_over(engine, tmp_path):
    path = tmp_path / "book.xlsx"
    book = xlsxwriter.Workbook(str(path))
    cover = book.add_worksheet("cover")
    for i, pair in enumerate((("Report", "of the year"), ("Made", "by hand"))):
        cover.write_row(i, 0, pair)
    sheet = book.add_worksheet("data")
    sheet.write(0, 0, "Payroll of the harbour")
    sheet.write_row(2, 0, ["employee", 2023, 2024])
    for i in range(12):
        sheet.write_row(3 + i, 0, [f"E{i}", 1.5 * i, 2.25])
    book.close()
    report, rows = taken(engine, tmp_path, path.read_bytes(), "book.xlsx")
    assert (report.accepted, report.sums["2024"]) == (12, Decimal("27.00"))
    assert any("'cover'" in note for note in report.notes)
    assert any("the header is row 3" in note for note in report.notes)
    assert rows[1]["2023"] == Decimal("1.5")


def test_header_given(engine, tmp_path):
    text = "a;b\nx;y\nid;amount\nA1;1,50\n"
    report, _ = taken(engine, tmp_path, text, header=3)
    assert report.sums["amount"] == Decimal("1.50")
    report, _ = taken(engine, tmp_path, "A1;1,50\nA2;2,00\n", header="none")
    assert report.sums["column 2"] == Decimal("3.50")
    with pytest.raises(UserError, match="no line 40"):
        taken(engine, tmp_path, text, header=40)


def test_options_of_reading_are_kept_in_the_plan(tmp_path):
    inside("open", "c", cwd=tmp_path)
    case = tmp_path / "c"
    (case / "x.csv").write_text('id,day,amount\nA1,04/09/2024,"19,582"\nA2,05/10/2024,"20,100"\n')
    refused = inside("intake", "x.csv", "--as", "x", cwd=case, code=2).stderr
    assert "--decimal" in refused and len(refused.splitlines()) == 1
    assert not list((case / "population").glob("x/*"))
    options = ["--decimal", ".", "--dates", "month first"]
    found = inside_json("intake", "x.csv", "--as", "x", *options, cwd=case)
    assert found["total"]["amount"] == "39682"
    assert found["files"][0]["first_date"] == "2024-04-09"
    assert 'dates = "month first"' in (case / "case.toml").read_text()
    wrong = inside("intake", "x.csv", "--as", "y", "--dates", "backwards", cwd=case, code=2).stderr
    assert "--dates 'backwards'" in wrong


# --- any table in any style

STYLES = [
    (point, mark, minus, unit)
    for point, mark in ((".", ""), (".", ","), (",", ""), (",", "."), (",", " "), (".", "'"), (",", "\u202f"), (",", "\u00a0"))
    for minus, unit in (("-{}", ""), ("{}-", ""), ("({})", ""), ("-{}", "€"), ("-{}", "EUR"))
]  # fmt: skip


def _written(value: Decimal, style) -> str:
    point, mark, minus, unit = style
    whole, _, decimals = f"{abs(value):,}".partition(".")
    text = whole.replace(",", mark) + (point + decimals if decimals else "")
    text = minus.format(text) if value < 0 else text
    return f"{text} {unit}" if unit else text


@settings(max_examples=max(EXAMPLES, 80), deadline=None)
@given(
    st.lists(st.decimals("-9999999", "9999999", places=2), min_size=1, max_size=12),
    st.integers(0, 3),
    st.sampled_from(STYLES),
)
def test_any_table_is_read_back_or_refused(engine, tmp_path_factory, values, places, style):
    folder = tmp_path_factory.mktemp("style")
    values = [round(v, places) if places else Decimal(int(v)) for v in values]
    if places == 3:
        values = [v / 10 for v in values]
        values = [v.quantize(Decimal("0.001")) for v in values]
    lines = "".join(f'R{i}\t"{_written(v, style)}"\n' for i, v in enumerate(values))
    try:
        report, rows = taken(engine, folder, f"id\tamount\n{lines}", "x.tsv")
    except UserError:
        return  # said, and nothing kept
    if report.quarantined:
        return  # said, line by line
    read = [row["amount"] for row in rows]
    if all(isinstance(v, Decimal) for v in read):
        assert read == values
    else:
        # Text that nothing told to be a number.
        assert report.roles.get("amount") is None


@given(
    st.lists(st.lists(st.sampled_from(["", "a", "Name", "12", "3,50", "2024-01-02", "2023"]), max_size=5), max_size=12)
)  # fmt: skip
def test_a_header_is_always_one_of_the_rows(rows):
    found = find_header(rows)
    if found is None:
        assert not any(any(row) for row in rows)
    else:
        assert any(rows[found.row]) and found.width >= 1


def test_a_folder_is_proposed_as_tables_and_taken_in(tmp_path):
    inside("open", ".", cwd=tmp_path)
    box = tmp_path / "box"
    for folder in ("bank", "pagos", "pagos/more"):
        (box / folder).mkdir(parents=True, exist_ok=True)
    for month in (1, 2):
        rows = "".join(f"V{i % 7},2025-0{month}-{i % 27 + 1:02d},{i},50\n" for i in range(1, 40))
        (box / f"pagos/p-2025-0{month}.csv").write_text("vendor,date,number,amount\n" + rows)
    (box / "pagos/more/fixed.csv").write_text("Amount,NUMBER,vendor,date\n7.25,900,V1,2025-03-01\n")
    (box / "vendors.csv").write_text("vendor,name\n" + "".join(f"V{i},N{i}\n" for i in range(7)))
    (box / "bank/jan 2025.csv").write_text("id;importe\n1;19,582\n2;20,100\n")
    (box / "note.txt").write_text("A letter.\n\nTo whom it may concern, in short: nothing.\n")
    (box / "picture.png").write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(range(256)))

    # Without a word of consent nothing is written.
    before = (tmp_path / "case.toml").read_text()
    shown = inside("intake", "box", cwd=tmp_path).stdout
    assert "--yes" in shown and (tmp_path / "case.toml").read_text() == before

    answer = inside("intake", "box", "--yes", "--format", "json", cwd=tmp_path, code=2)
    assert all(word in answer.stderr for word in ("'19,582'", "--decimal '.'", "--as jan"))
    tables = {t["table"]: t for t in inside_json("survey", cwd=tmp_path)["tables"]}
    assert {name: t["rows"] for name, t in tables.items() if t["rows"]} == {
        "pagos": 79,
        "vendors": 7,
    }
    assert 'vendor = "vendors.vendor"' in (tmp_path / "case.toml").read_text()

    # A file of the same columns goes to the table that has them.
    (box / "april.csv").write_text("vendor,date,number,amount\nV2,2025-04-01,901,1.50\n")
    again = inside_json("intake", "box/april.csv", "--yes", cwd=tmp_path)
    assert again["proposed"][0]["table"] == "pagos" and again["proposed"][0]["known"]
    assert inside_json("survey", "pagos", cwd=tmp_path)["population"]["rows"] == 80


ROWS = [{"id": f"A{i}", "date": f"2024-01-{i:02d}", "amount": i + 0.25} for i in range(1, 29)]
VALUES = [list(row.values()) for row in ROWS]
JSON_FORMS = {
    "array": ROWS,
    "envelope": {"status": "ok", "meta": {"page": 1}, "data": ROWS, "total": 28},
    "envelope in an envelope": {"response": {"meta": {"n": 3}, "result": {"rows": ROWS}}},
    "under keys": {row["id"] + "x": row for row in ROWS},
    "arrays with names": [list(ROWS[0]), *VALUES],
    "names beside arrays": {"columns": list(ROWS[0]), "data": VALUES},
}


@pytest.mark.parametrize("indent", [None, 2])
@pytest.mark.parametrize("form", JSON_FORMS)
def test_json_in_its_usual_forms(tmp_path, engine, form, indent):
    text = json.dumps(JSON_FORMS[form], indent=indent)
    report, rows = taken(engine, tmp_path, text, "x.json")
    assert (report.accepted, report.sums["amount"]) == (28, Decimal("413.00"))
    assert [(row["id"], row["date"].isoformat()) for row in rows] == [(r["id"], r["date"]) for r in ROWS]  # fmt: skip
    assert ("not read" in " ".join(report.notes)) == ("meta" in text)
    # Cut short, it loses nothing without a word.
    report, _ = taken(engine, tmp_path, text[: text.rfind("2024-01-28")], "x.json")
    assert (report.accepted, report.quarantined > 0) == (27, True)


def test_json_with_two_lists_is_a_question(tmp_path, engine):
    with pytest.raises(UserError, match="'a' and in 'b'"):
        taken(engine, tmp_path, json.dumps({"a": ROWS, "b": ROWS[:9]}), "x.json")


MT940 = """:20:START
:25:10020030/1234567
:28C:00001/001
:60F:C241231EUR1000,00
:61:2412310102DR50,25NTRF12345//B99
FURTHER
:86:166?00SEPA?20EREF+77?21Rechnung 12?31DE0012
345?32K\u00fche GmbH
:61:250102C200,N051NONREF
:86:Plain text of
a credit
:61:2501030103RC10,00NRTI
:62F:C250131EUR1139,75
-
"""
OFX = """OFXHEADER:100
CHARSET:1252

<OFX><STMTRS><CURDEF>EUR<BANKACCTFROM><ACCTID>123</BANKACCTFROM><BANKTRANLIST>
<STMTTRN>
<TRNTYPE>DEBIT
<DTPOSTED>20240102120000[-5:EST]
<TRNAMT>-12.50
<FITID>A1
<NAME>K\u00fche &amp; Sons
</STMTTRN>
<STMTTRN><TRNTYPE>CREDIT<DTPOSTED>20240103<TRNAMT>3,25<FITID>A2<NAME>Bar</STMTTRN>
</BANKTRANLIST><LEDGERBAL><BALAMT>99.00</LEDGERBAL></STMTRS></OFX>
"""


@pytest.mark.parametrize("encoding", ["utf-8", "latin-1"])
@pytest.mark.parametrize("name", ["x.sta", "x.txt"])
def test_bank_statement_of_lines(tmp_path, engine, name, encoding):
    report, rows = taken(engine, tmp_path, MT940.encode(encoding), name)
    assert [(row["amount"], row["booked"].isoformat()) for row in rows] == [
        (Decimal("-50.25"), "2025-01-02"), (Decimal("200.00"), "2025-01-02"), (Decimal("-10.00"), "2025-01-03"),
    ]  # fmt: skip
    assert rows[0]["value date"].isoformat() == "2024-12-31"  # of the year before
    assert (rows[0]["counterparty"], rows[0]["counterparty account"]) == ("Kühe GmbH", "DE0012345")
    assert rows[1]["remittance"] == "Plain text of a credit"
    (stated,) = report.totals_lines
    assert stated.agrees and stated.stated == Decimal("139.75")
    wrong, _ = taken(engine, tmp_path, MT940.replace("C200,", "C201,").encode(), name)
    assert not wrong.reconciled
    damaged, _ = taken(engine, tmp_path, MT940.replace("DR50,25", "XX50,25").encode(), name)
    assert damaged.quarantined == 1


@pytest.mark.parametrize("line", ["\n", "\r\n", ""])
def test_bank_statement_of_tags(tmp_path, engine, line):
    head, body = OFX.split("<OFX>")
    text = head + "<OFX>" + body.replace("\n", line)
    report, rows = taken(engine, tmp_path, text.encode("windows-1252"), "x.ofx")
    assert [(r["entry"], r["amount"], r["booked"].isoformat()) for r in rows] == [
        ("A1", Decimal("-12.50"), "2024-01-02"), ("A2", Decimal("3.25"), "2024-01-03"),
    ]  # fmt: skip
    assert rows[0]["counterparty"] == "Kühe & Sons"
    assert (rows[0]["currency"], rows[0]["account"]) == ("EUR", "123")
    closed, _ = taken(engine, tmp_path, re.sub(r"<(NAME|FITID|TRNAMT)>([^<\r\n]*)", r"<\1>\2</\1>", text).encode(), "x.ofx")  # fmt: skip
    assert closed.sums == report.sums
    cut, _ = taken(engine, tmp_path, text.partition("<NAME>Bar")[0].encode("cp1252"), "x.ofx")
    assert (cut.accepted, cut.quarantined) == (1, 1)


@pytest.mark.parametrize(("kind", "whole"), [("052", "Rpt"), ("053", "Stmt"), ("054", "Ntfctn")])
def test_bank_reports_and_notifications(tmp_path, engine, kind, whole):
    text = (
        f'<Document xmlns="urn:iso:std:iso:20022:tech:xsd:camt.{kind}.001.08"><M><{whole}><Id>S1</Id>'
        "<Acct><Id><IBAN>ES1</IBAN></Id></Acct>"
        + "".join(
            f'<Ntry><Amt Ccy="EUR">{amount}</Amt><CdtDbtInd>{side}</CdtDbtInd><BookgDt><Dt>2025-01-0{i}'
            f"</Dt></BookgDt></Ntry>"
            for i, (amount, side) in enumerate([("5.50", "CRDT"), ("2.25", "DBIT")], 1)
        )
        + f"</{whole}></M></Document>"
    )
    report, rows = taken(engine, tmp_path, text, "x.xml")
    assert report.sums["amount"] == Decimal("3.25")
    assert {(row["account"], row["statement"]) for row in rows} == {("ES1", "S1")}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("DATE       VENDOR          AMOUNT\n2024-01-02 ACME             12.50\n2024-01-03 FOO             113.50\n", "fixed places"),
        ("Name: ACME\nDate: 2024-01-02\nAmount: 12.50\n\nName: BAR\nDate: 2024-01-03\nAmount: 3.50\n", "follows its label"),
        ('id,amount\n1,"$1,234.50"\n2,"€2,000.00"\n3,$5.00\n4,€6.00\n', "several currencies"),
    ],
)  # fmt: skip
def test_what_is_no_table_or_no_sum_is_refused(tmp_path, engine, text, said):
    with pytest.raises(UserError, match=said):
        taken(engine, tmp_path, text)


def test_a_plan_written_by_hand_before_the_first_file(tmp_path):
    inside("open", ".", cwd=tmp_path)
    plan = tmp_path / "case.toml"
    begun = plan.read_text()
    plan.write_text(
        begun
        + """
[tables.pay] # the payroll
roles = { amount = "Gross" }
read = { decimal = "," }

[[tables.pay.rules]]
rule = "required"
on = ["Employee"]

[[screens]]
name = "largest"
test = "top"
table = "pay"
share = "0.5"
"""
    )
    (tmp_path / "p.csv").write_text(
        "Employee;Month;Gross;Net\nE1;2024-01;1,500;800,00\nE2;2024-01;2,000;1200,00\n"
    )
    inside("survey", cwd=tmp_path, code=(0, 2))
    told = inside_json("intake", "p.csv", "--as", "pay", cwd=tmp_path)
    assert told["files"][0]["sums"]["Gross"] == "3.500"  # as the plan says, and no question
    written = plan.read_text()
    assert (
        written.startswith(begun) and "# the payroll" in written and 'amount = "Gross"' in written
    )
    assert written.index("sources") < written.index("[[tables.pay.rules]]")
    section = tomllib.loads(written)["tables"]["pay"]
    assert section["prefix"] == "PAY" and section["sources"] == ["p.csv"]
    assert section["roles"] == {"amount": "Gross", "date": "Month", "party": "Employee"}
    assert inside_json("screen", cwd=tmp_path)["screens"][0]["name"] == "largest"

    plan.write_text(begun + '\n[tables.staff]\nroles = { party = "Employe" }\n')
    wrong = inside("intake", "p.csv", "--as", "staff", cwd=tmp_path, code=2)
    assert "'Employe'" in wrong.stderr and "Employee" in wrong.stderr


def test_files_called_alike_with_other_columns_are_told_apart_and_prose_is_no_table(tmp_path):
    folder = tmp_path / "in"
    folder.mkdir()
    rows = "".join(f"P{i},2024-01-{1 + i:02d},V{i % 3},{i}.50\n" for i in range(20))
    for month in ("01", "02"):
        own = rows.replace("2024-01", f"2024-{month}")
        (folder / f"pay_2024-{month}.csv").write_text(f"Pay No,Pay Date,Vendor,Amount\n{own}")
    noted = rows.replace("\n", ",x\n")
    (folder / "pay_2024-03.csv").write_text(f"Pay No,Pay Date,Vendor,Amount,Notes\n{noted}")
    (folder / "vendors.csv").write_text("Vendor,Name\nV0,A\nV1,B\nV2,C\n")
    (folder / "readme.txt").write_text("This extract was made by the finance team.\nIn May.\n")
    inside("open", "c", "--currency", "EUR", cwd=tmp_path)
    found = inside_json("intake", "../in", "--yes", cwd=tmp_path / "c")
    assert {each["table"]: len(each["files"]) for each in found["proposed"]} == {
        "pay": 2, "pay_2": 1, "vendors": 1,
    }  # fmt: skip
    assert found["apart"] == [{"table": "pay_2", "other": "pay", "columns": ["Notes"]}]
    assert [each["file"] for each in found["unread"]] == ["readme.txt"]
    # What is said to make one table of them does.
    inside("open", "d", "--currency", "EUR", cwd=tmp_path)
    plan = tmp_path / "d" / "case.toml"
    plan.write_text(plan.read_text() + '\n[tables.pay]\nread = { columns = "may differ" }\n')
    for month in ("01", "02", "03"):
        inside("intake", f"../in/pay_2024-{month}.csv", "--as", "pay", cwd=tmp_path / "d")
    rows = inside_json("dig", "pay", "--rows", "--limit", "100", cwd=tmp_path / "d")["rows"]
    assert [row["Notes"] for row in rows].count("x") == 20 and len(rows) == 60
