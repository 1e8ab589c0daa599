"""Forms of files that are not what their suffix says, or need another file or their own name to be read."""

from __future__ import annotations

import struct
from decimal import Decimal
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import xlsxwriter
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.base.errors import UserError
from sabueso.intake.formats.detection import Prior
from sabueso.intake.formats.encodings import gathered, tell
from sabueso.intake.formats.headings import Filling, Headings
from sabueso.intake.interface import Batch
from sabueso.intake.readers.place_cuts import cells_of, cuts_of, run_over
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import intake_engine, take_file
from sabueso.population.period_names import period_of


@pytest.fixture(scope="module")
def engine():
    opened = intake_engine()
    yield opened
    opened.close()


def taken(engine, folder: Path, content: bytes, name: str, **read):
    path, out = folder / name, folder / "rows.parquet"
    path.write_bytes(content)
    report = take_file(path, out, ReadSettings(**read), Prior(), engine)
    return report, pq.read_table(out).to_pylist()


PAGE = """<html><head>{head}</head><body><h1>x</h1><table><tr><td>{title}</td></tr></table>
<TABLE border=1><thead><tr><th>{day}</th><th>{text}</th><th>{amount}</th></tr></thead><tbody>
<tr><td>01/02/2024<td>{a} &amp; co<td align=right>1.234,50</tr>
<tr><td>15/02/2024</td><td colspan=1>{b}</td><td>-34,50</td></tr>
<tr><td></td><td>Total</td><td>1.200,00</td></tr></tbody></TABLE><p>end</body></html>"""
SPANISH = {
    "title": "Extracto",
    "day": "Fecha",
    "text": "Concepto",
    "amount": "Importe",
    "a": "Café",
    "b": "Año",
}
GERMAN = {
    "title": "Auszug",
    "day": "Datum",
    "text": "Text",
    "amount": "Betrag",
    "a": "Müller",
    "b": "Straße",
}
FRENCH = {
    "title": "Relevé",
    "day": "Date",
    "text": "Libellé",
    "amount": "Montant",
    "a": "Société",
    "b": "Reçu",
}


@pytest.mark.parametrize("words", [SPANISH, GERMAN, FRENCH], ids=["es", "de", "fr"])
@pytest.mark.parametrize(
    ("name", "encoding", "head"),
    [
        ("a.xls", "cp1252", '<meta charset="windows-1252">'), ("a.xls", "utf-8", "<meta charset=utf-8>"),
        ("a.html", "cp1252", ""), ("a.htm", "utf-8", ""), ("a.xls", "utf-16", ""), ("a.xlsx", "utf-8", ""),
    ],
)  # fmt: skip
def test_a_page_of_tables(engine, tmp_path, words, name, encoding, head):
    report, rows = taken(engine, tmp_path, PAGE.format(head=head, **words).encode(encoding), name)
    assert (report.accepted, report.totals, report.reconciled) == (2, 1, True)
    assert report.sums == {words["amount"]: Decimal("1200.00")}
    assert [r[words["text"]] for r in rows] == [f"{words['a']} & co", words["b"]]
    assert [r["_line"] for r in rows] == [2, 3]


def test_cells_of_a_page_that_span_rows_and_columns(engine, tmp_path):
    rows = "<tr><td rowspan=2>A</td><td>x</td><td>1.50</td></tr><tr><td>y</td><td>2.50</td></tr><tr><td>B</td><td>z</td><td>3.50</td></tr>"
    head = "<tr><th>Dept</th><th>Name</th><th>Pay</th></tr>"
    report, found = taken(engine, tmp_path, f"<table>{head}{rows}</table>".encode(), "a.xls")
    assert report.sums == {"Pay": Decimal("7.50")}
    assert [(r["Dept"], r["Name"]) for r in found] == [("A", "x"), (None, "y"), ("B", "z")]
    head = "<tr><th rowspan=2>Account</th><th colspan=2>2024</th></tr><tr><th>Debit</th><th>Credit</th></tr>"
    rows = "<tr><td>A1</td><td>1,50</td><td></td></tr><tr><td>A2</td><td></td><td>2,50</td></tr>"
    report, found = taken(engine, tmp_path, f"<table>{head}{rows}</table>".encode(), "b.html")
    assert report.sums["amount"] == Decimal("-1.00")
    assert list(found[0])[:3] == ["Account", "2024 Debit", "2024 Credit"]


XML = """<?xml version="1.0"?><?mso-application progid="Excel.Sheet"?>
<Workbook xmlns="urn:schemas-microsoft-com:office:spreadsheet" xmlns:ss="urn:schemas-microsoft-com:office:spreadsheet">
<Worksheet ss:Name="Cover"><Table><Row><Cell><Data ss:Type="String">Hello</Data></Cell></Row></Table></Worksheet>
<Worksheet ss:Name="Data"><Table><Row ss:Index="3">{names}</Row>{rows}</Table></Worksheet></Workbook>"""


@pytest.mark.parametrize("name", ["a.xls", "a.xml"])
def test_a_spreadsheet_in_the_xml_of_2003(engine, tmp_path, name):
    def cell(value, kind="String", at=""):
        return f'<Cell{at}><Data ss:Type="{kind}">{value}</Data></Cell>'

    names = "".join(map(cell, ("Day", "Text", "Amount")))
    third = cell("12.5", "Number", ' ss:Index="3"')
    rows = f"<Row>{cell('2024-01-02T00:00:00.000', 'DateTime')}{third}</Row>"
    rows += (
        f"<Row>{cell('2024-01-03T10:30:00', 'DateTime')}{cell('a')}{cell('1E3', 'Number')}</Row>"
    )
    report, found = taken(engine, tmp_path, XML.format(names=names, rows=rows).encode(), name)
    assert report.sums["Amount"] == Decimal("1012.5")
    assert [(str(r["Day"]), r["Text"], r["_line"]) for r in found] == [
        ("2024-01-02 00:00:00", None, 4), ("2024-01-03 10:30:00", "a", 5)
    ]  # fmt: skip


@pytest.mark.parametrize("encoding", ["utf-8", "cp1252", "utf-16", "utf-16-le", "cp850"])
def test_tab_text_under_the_suffix_of_a_spreadsheet(engine, tmp_path, encoding):
    text = "Fecha\tConcepto\tImporte\r\n01/02/2024\tCafé y año\t1.234,50\r\n15/02/2024\tLuz\t-34,50\r\n"
    report, rows = taken(engine, tmp_path, text.encode(encoding), "a.xls")
    assert report.sums["Importe"] == Decimal("1200.00")
    assert rows[0]["Concepto"] == "Café y año"


def dbase(fields, rows, language=3, version=3) -> bytes:
    size = 1 + sum(f[2] for f in fields)
    head = struct.pack(
        "<B3BIHH17xB2x", version, 124, 1, 1, len(rows), 33 + 32 * len(fields), size, language
    )
    for name, kind, length, scale in fields:
        head += struct.pack("<11sc4xBB14x", name.encode(), kind.encode(), length, scale)
    return head + b"\r" + b"".join(rows) + b"\x1a"


FIELDS = [("FECHA", "D", 8, 0), ("CUENTA", "C", 8, 0), ("TEXTO", "C", 12, 0), ("IMPORTE", "N", 12, 2), ("OK", "L", 1, 0)]  # fmt: skip


def record(day, account, text, amount, ok="T", mark=b" ", encoding="cp1252"):
    cells = (day.ljust(8), account.ljust(8), text.ljust(12), amount.rjust(12), ok)
    return mark + "".join(cells).encode(encoding)


@pytest.mark.parametrize(
    ("language", "encoding", "text"),
    [(3, "cp1252", "Café"), (0x57, "cp1252", "Año"), (2, "cp850", "Señal"), (0, "cp850", "Cañería"),
     (0xC8, "cp1250", "Łódź"), (0xC9, "cp1251", "Сумма"), (0, "cp1251", "Оплата")],
)  # fmt: skip
def test_dbase(engine, tmp_path, language, encoding, text):
    rows = [
        record("20240102", "00430001", text, "1234.50", encoding=encoding),
        record("20240103", "00430002", "", "-34.50", "F"),
        record("20240104", "00430003", "x", "9.00", "?", b"*"),
        record("", "00430004", "", ""),
    ]
    report, found = taken(engine, tmp_path, dbase(FIELDS, rows, language), "a.dbf")
    assert (report.accepted, report.quarantined, report.reconciled) == (3, 1, True)
    assert report.sums["IMPORTE"] == Decimal("1200.00")
    assert "deleted" in report.damaged[0].reason and report.damaged[0].line == 3
    assert [r["TEXTO"] for r in found] == [text, None, None]
    assert [str(r["FECHA"]) for r in found] == ["2024-01-02", "2024-01-03", "None"]
    assert found[0]["CUENTA"] == "00430001"


def test_dbase_of_binary_numbers(engine, tmp_path):
    fields = [("N", "I", 4, 0), ("Y", "Y", 8, 4), ("B", "B", 8, 2), ("T", "T", 8, 0)]
    rows = [
        b" " + struct.pack("<iqdii", n, n * 10_001, n / 4, 2_460_311, 3_723_000) for n in (1, -2, 3)
    ]
    report, found = taken(engine, tmp_path, dbase(fields, rows, version=0x30), "a.dbf")
    assert report.sums["Y"] == Decimal("2.0002") and report.sums["B"] == Decimal("0.5")
    assert str(found[0]["T"]) == "2024-01-01 01:02:03"
    with pytest.raises(UserError, match="ends after record 2; its header states 3"):
        taken(engine, tmp_path, dbase(fields, rows, version=0x30)[:-20], "b.dbf")


INDEX = """<?xml version="1.0" encoding="UTF-8"?><!DOCTYPE DataSet SYSTEM "gdpdu-01-09-2004.dtd">
<DataSet><Version>1.0</Version><Media><Name>CD</Name>
<Table><URL>buchungen.txt</URL><Name>Buchungen</Name><ANSI/><DecimalSymbol>,</DecimalSymbol>
<DigitGroupingSymbol>.</DigitGroupingSymbol>{range}<VariableLength><ColumnDelimiter>;</ColumnDelimiter>
<VariablePrimaryKey><Name>Beleg</Name><AlphaNumeric/></VariablePrimaryKey>
<VariableColumn><Name>Datum</Name><Date><Format>DD.MM.YYYY</Format></Date></VariableColumn>
<VariableColumn><Name>Konto</Name><AlphaNumeric/></VariableColumn>
<VariableColumn><Name>Betrag</Name><Numeric><Accuracy>2</Accuracy></Numeric></VariableColumn>
<VariableColumn><Name>Steuer</Name><Numeric><ImpliedAccuracy>2</ImpliedAccuracy></Numeric></VariableColumn>
</VariableLength></Table>
<Table><URL>fest.dat</URL><Name>Fest</Name><ANSI/><FixedLength><Length>15</Length>
<FixedPrimaryKey><Name>Nr</Name><AlphaNumeric/><FixedRange><From>1</From><To>5</To></FixedRange></FixedPrimaryKey>
<FixedColumn><Name>Betrag</Name><Numeric><ImpliedAccuracy>2</ImpliedAccuracy></Numeric>
<FixedRange><From>6</From><Length>10</Length></FixedRange></FixedColumn></FixedLength></Table></Media></DataSet>"""


@pytest.mark.parametrize("first", ["", "<Range><From>2</From></Range>"])
def test_an_export_for_the_tax_audit_by_its_index(engine, tmp_path, first):
    (tmp_path / "index.xml").write_text(INDEX.format(range=first))
    head = "Beleg;Datum;Konto;Betrag;Steuer\r\n" if first else ""
    text = head + '"B1";01.02.2024;"0420";1.234;19500\r\n"B2";03.02.2024;"0421";-34,50;-5\r\n'
    report, rows = taken(engine, tmp_path, text.encode("cp1252"), "buchungen.txt")
    assert report.reconciled and report.header_lines == bool(first)
    assert report.sums == {"Betrag": Decimal("1199.50"), "Steuer": Decimal("194.95")}
    assert (rows[0]["Beleg"], rows[0]["Konto"], str(rows[0]["Datum"])) == (
        "B1",
        "0420",
        "2024-02-01",
    )
    fixed, rows = taken(
        engine, tmp_path, b"A0001       100\nA0002      -250\nA0003         5\n", "fest.dat"
    )
    assert fixed.sums == {"Betrag": Decimal("-1.45")} and rows[2]["Nr"] == "A0003"


TEXTS = {
    "Data;Opis;Kwota\n13-01-2024;Usługi księgowe;{}\n14-01-2024;Łódź źródło;{}\n": ("cp1250", "iso8859-2", "cp852"),
    "Datum;Popis;Částka\n13.01.2024;Dvořák účtárna;{}\n14.01.2024;příjem měsíc;{}\n": ("cp1250", "iso8859-2", "cp852"),
    "Kelt;Szöveg;Összeg\n2024.01.13;költség befizetés;{}\n2024.01.14;fűtés, idő;{}\n": ("cp1250", "iso8859-2"),
    "Data;Aprašymas;Suma\n2024-01-13;Mokėjimas už šildymą;{}\n2024-01-14;Žemė;{}\n": ("cp1257",),
    "Tarih;Açıklama;Tutar\n13.01.2024;şirket ödeme;{}\n14.01.2024;müşteri ığdır;{}\n": ("cp1254", "cp857", "mac-turkish"),
    "תאריך;תיאור;סכום\n13.01.2024;שכר דירה;{}\n14.01.2024;ספק כהן;{}\n": ("cp1255", "cp862"),
    "التاريخ;البيان;المبلغ\n13.01.2024;إيجار المكتب;{}\n14.01.2024;شركة النور;{}\n": ("cp1256", "iso8859-6"),
    "วันที่;รายการ;จำนวนเงิน\n13.01.2024;ค่าเช่าสำนักงาน;{}\n14.01.2024;เงินเดือน;{}\n": ("cp874",),
    "Дата;Текст;Сумма\n13.01.2024;Оплата;{}\n14.01.2024;Аренда;{}\n": ("cp1251", "cp866", "koi8-r"),
    "Ημερομηνία;Κείμενο;Ποσό\n13/01/2024;πληρωμή;{}\n14/01/2024;Αθήνα;{}\n": ("cp1253", "iso8859-7"),
    "Date;Libellé;Montant\n13/01/2024;Café crème à Orléans;{}\n14/01/2024;Hôtel;{}\n": ("cp850", "mac-roman", "latin-1"),
    "Fecha;Concepto;Importe\n13/01/2024;Señal año;{}\n14/01/2024;Cañería;{}\n": ("cp850", "mac-roman", "latin-1"),
    "Datum;Verwendung;Betrag\n13.01.2024;Müller Straße;{}\n14.01.2024;Überweisung Gebühr;{}\n": ("cp850", "mac-roman", "latin-1"),
    "Data;Descrição;Valor\n13/01/2024;São Paulo comissão;{}\n14/01/2024;março;{}\n": ("cp850", "latin-1"),
}  # fmt: skip


@pytest.mark.parametrize("text", TEXTS, ids=lambda t: t[:12])
def test_encodings_are_told_by_letters_and_said(engine, tmp_path, text):
    for encoding in TEXTS[text]:
        full = text.format("1200,00", "-3,50")
        report, rows = taken(engine, tmp_path, full.encode(encoding), "a.csv")
        amount, words = list(rows[0])[2], list(rows[0])[1]
        assert report.sums[amount] == Decimal("1196.50"), encoding
        assert [r[words] for r in rows] == [line.split(";")[1] for line in full.splitlines()[1:]]
        assert encoding == "latin-1" or any("assumed" in note for note in report.notes)


def test_letters_that_no_encoding_makes_words_of_are_said(engine, tmp_path):
    text = "Date,Libellé,Montant\n2024/01/02,Société Générale,12000\n2024/01/13,Crédit à l’État,-3500\n".replace(
        "’", "'"
    ).encode("hp-roman8")
    report, _ = taken(engine, tmp_path, text, "a.csv")
    assert any("cannot be told" in note for note in report.notes)
    assert list(report.sums.values())[-1] == Decimal("8500")
    given_, rows = taken(engine, tmp_path, text, "b.csv", encoding="hp-roman8")
    assert rows[0]["Libellé"] == "Société Générale" and not given_.assumed


EAST_ASIA = {
    '日付,伝票番号,勘定科目,取引先,摘要,金額（円）,担当者\n{}1月5日,10001,外注費,山田商事,送料,"1,012,000",田中\n'
    '{}2月13日,10002,会議費,鈴木運輸,出張,"-3,500",高橋\n': ("2024年", ("cp932", "euc-jp")),
    '日期,凭证号,科目,供应商,摘要,金额,制单人\n{}01-05,1,管理费用,上海贸易有限公司,办公用品,"1,012,000",张伟\n'
    '{}02-13,2,销售费用,广州运输公司,运费,"-3,500",李娜\n': ("2024-", ("gb18030",)),
    '日期,傳票號碼,會計科目,供應商,摘要,金額,製單\n{}01/05,1,旅費,台北貿易股份有限公司,出差,"1,012,000",王小明\n'
    '{}02/13,2,運費,高雄貨運公司,送貨,"-3,500",陳美麗\n': ("2024/", ("big5",)),
    '날짜,전표번호,계정과목,거래처,적요,금액,작성자\n{}01.05,1,여비교통비,한국상사,출장비,"1,012,000",김철수\n'
    '{}02.13,2,운반비,서울운수,배송,"-3,500",박민수\n': ("2024.", ("cp949",)),
    "日付,伝票番号,勘定科目,取引先,摘要,金額,担当者\n{}6年1月5日,1,外注費,山田商事,送料,￥1012000,田中\n"
    "{}6年2月13日,2,会議費,鈴木運輸,出張,￥-3500,高橋\n": ("令和", ("utf-8", "cp932")),
}
ROLES_TOLD = ["date", "document", "account", "party", "text", "amount", "preparer"]


@pytest.mark.parametrize("text", EAST_ASIA, ids=lambda t: t[:12])
def test_ledgers_of_east_asia(engine, tmp_path, text):
    year, encodings = EAST_ASIA[text]
    for encoding in encodings:
        content = text.replace("{}", year).encode(encoding)
        report, rows = taken(engine, tmp_path, content, "a.csv")
        names = list(rows[0])[:7]
        assert [
            next((r for r, n in report.roles.items() if n == name), "") for name in names
        ] == ROLES_TOLD
        assert [str(row[names[0]]) for row in rows] == ["2024-01-05", "2024-02-13"]
        assert report.sums[names[5]] == 1_008_500 and rows[1][names[6]] in text
        assert encoding == "utf-8" or any("assumed" in note for note in report.notes)


def by_account(own_column: bool) -> str:
    """A report by account: a line with its name above the rows of each, a total below."""
    lead = "," if own_column else ""
    lines = [
        "Harbour Ltd,,,,",
        "General ledger,,,,",
        f"{lead}Date,Num,Name,Amount{'' if own_column else ','}",
    ]
    for account, first in (("6100 Travel", 10), ("6200 Fuel", 20), ("6300 Office", 30)):
        lines.append(f"{account},,,,")
        lines += [
            f"{lead}{day:02}/02/2024,{first + day},Staples,{first + day}.50{'' if own_column else ','}"
            for day in range(13, 19)
        ]
        total = sum(first + day + 0.5 for day in range(13, 19))
        lines.append(
            f"Total {account},,,{total:.2f},"
            if not own_column
            else f"Total {account},,,,{total:.2f}"
        )
    return "\n".join([*lines, ",,,,", ""])


@pytest.mark.parametrize("own_column", [True, False])
def test_headings_of_a_report_stand_on_their_rows(engine, tmp_path, own_column):
    content = by_account(own_column).encode()
    report, rows = taken(engine, tmp_path, content, "ledger.csv")
    name = "column 1" if own_column else "heading"
    assert [row[name] for row in rows] == ["6100 Travel"] * 6 + ["6200 Fuel"] * 6 + [
        "6300 Office"
    ] * 6
    assert (report.accepted, report.totals, report.quarantined) == (18, 3, 0)
    assert report.header_lines == 3 + 3 and report.lines == len(content.splitlines())
    assert all(line.agrees for line in report.totals_lines) and len(report.totals_lines) == 3
    assert any("are headings" in note for note in report.notes)
    assert report.roles["party"] == "Name" and report.roles["date"] == "Date"
    assert report.roles["account"] == name
    off, _ = taken(engine, tmp_path, content, "b.csv", headings="none")
    assert off.accepted + off.quarantined == 21 and not any("headings" in n for n in off.notes)


def test_a_row_of_which_little_is_known_is_no_heading(engine, tmp_path):
    rows_ = "".join(f"Firm {i},{'' if i % 7 == 0 else f'Road {i}'},{'' if i % 7 == 0 else '28001'},{'' if i % 7 == 0 else i}\n" for i in range(40))  # fmt: skip
    report, rows = taken(engine, tmp_path, f"name,street,zip,terms\n{rows_}".encode(), "firms.csv")
    assert report.accepted == 40 and "heading" not in rows[0] and rows[0]["name"] == "Firm 0"


def test_a_heading_goes_on_in_the_next_block():
    filling = Filling(Headings("a", "a"))
    table = [{"a": "Travel", "b": None, "c": None}, {"a": None, "b": "1", "c": "x"}]
    blocks = [
        table,
        [{"a": None, "b": "2", "c": "y"}, {"a": None, "b": None, "c": None}],
        table[1:],
    ]
    found = [
        filling.batch(Batch(np.arange(len(rows)), pa.Table.from_pylist(rows))) for rows in blocks
    ]
    assert [batch.cells.column("a").to_pylist() for batch in found] == [
        ["Travel"],
        ["Travel", None],
        ["Travel"],
    ]
    assert [batch.headings for batch in found] == [1, 0, 0] and found[0].lines.tolist() == [1]
    other = Batch(np.arange(1), pa.Table.from_pylist(table[1:]), part="sheet 2")
    assert filling.batch(other).cells.column("a").to_pylist() == [None]


def statement(rows: int = 40) -> tuple[str, Decimal]:
    """An account in print: titles over the columns, amounts to the right, a rule and the sums below."""
    lines = ["Autohaus Nord GmbH                     Kontoblatt 2024             Seite 1", "",
             "Datum       Beleg   Konto  Buchungstext                Soll         Haben", "-" * 74]  # fmt: skip
    sums = [Decimal(0), Decimal(0)]
    for i in range(rows):
        amount = Decimal(i * i * 731 + 12345) / 100
        sums[i % 3 == 0] += amount
        written = f"{amount:,.2f}".translate(str.maketrans(",.", ".,"))
        text = ("Müller Öl", "Reifen, Winter", "Miete Halle 3")[i % 3]
        left, right = ("", written) if i % 3 == 0 else (written, "")
        lines.append(
            f"{i % 28 + 1:02}.02.2024  R{i:05}  {4400 + i % 2:<5}  {text:<18}{left:>12}  {right:>12}"
        )
    said = [f"{s:,.2f}".translate(str.maketrans(",.", ".,")) for s in sums]
    lines += ["-" * 74, f"{'Summe':<47}{said[0]:>12}  {said[1]:>12}", ""]
    return "\n".join(lines), sums[0] - sums[1]


def test_columns_at_fixed_places(engine, tmp_path):
    text, net = statement()
    report, rows = taken(engine, tmp_path, text.encode("cp1252"), "konto.txt")
    assert list(rows[0])[:6] == ["Datum", "Beleg", "Konto", "Buchungstext", "Soll", "Haben"]
    assert (report.accepted, report.quarantined, report.totals) == (40, 0, 1)
    assert report.sums["amount"] == net and all(t.agrees for t in report.totals_lines)
    assert len(report.totals_lines) == 2 and report.lines == len(text.splitlines())
    assert rows[1]["Buchungstext"] == "Reifen, Winter" and rows[5]["Konto"] == "4401"
    # A letter between two columns is of either: the line is set aside, and no other.
    odd = text.splitlines()
    odd[9] = odd[9][:18] + "x" + odd[9][19:]
    report, _ = taken(engine, tmp_path, "\n".join(odd).encode("cp1252"), "b.txt")
    cut = [d for d in report.damaged if "between two columns" in d.reason]
    assert report.accepted + report.quarantined == 40 and [d.line for d in cut] in ([10], [])
    assert report.lines == len(odd)


@given(st.lists(st.tuples(st.integers(0, 10**7), st.text("abc d", max_size=12)), min_size=6, max_size=40))  # fmt: skip
def test_cells_at_fixed_places_are_those_that_were_written(rows):
    lines = [f"{'No':<8}{'Text':<16}{'Amount':>12}  Who"]
    lines += [
        f"N{i:<7}{text.strip() or 'x':<16}{amount:>12}  {'ab'[i % 2]}"
        for i, (amount, text) in enumerate(rows)
    ]
    cuts = cuts_of(lines)
    assert cuts is not None
    for line, (amount, text) in zip(lines[1:], rows, strict=True):
        if run_over(line, cuts):
            continue  # such a line is set aside
        cells = cells_of(line, cuts)
        assert "".join(cells).replace(" ", "") == line.replace(" ", "")
        assert cells[-2].split()[-1] == str(amount)
        # A word that reaches past what the other lines have stands before the amount, which is no number then.
        spilled = cells[-2].split()[:-1]
        words = " ".join([*cells[1:-2], *spilled]).split()
        assert " ".join(words) in (" ".join(text.split()) or "x", "")


def test_a_list_between_bars_with_rules_and_stars(engine, tmp_path):
    rule = "-" * 60 + "\n"
    rows_ = "".join(
        f"|B{i:03}|{i:02}.02.2024|476100|Reise|  1.{i}0,00-|EUR|\n" for i in range(10, 20)
    )
    text = (
        "05.01.2025     Einzelposten     Seite 1\n\n"
        + rule
        + "|Belegnr|Datum|Konto|Text|Betrag|Währg|\n"
        + rule
        + rows_
        + rule
        + "|*|  |476100| |11.450,00-|EUR|\n"
        + rule
    )
    report, _ = taken(engine, tmp_path, text.encode("latin-1"), "list.txt")
    assert (report.accepted, report.totals, report.quarantined, report.blank) == (10, 1, 0, 3)
    assert report.sums["Betrag"] == Decimal("-11450.00")
    assert [line.agrees for line in report.totals_lines] == [True]


@pytest.mark.parametrize(
    ("language", "header"),
    [
        ("Italian", "DDT;Data DDT;Codice cliente;Codice articolo;Quantità;Peso kg"),
        ("French", "N°;Date;Client;Libellé;Montant"), ("Portuguese", "Data;Cliente;Descrição;Valor"),
        ("German", "Datum;Artikel;Stückzahl;Preis"), ("Spanish", "Fecha;Cliente;Descripción;Importe"),
        ("Romanian", "Data;Furnizor;Preţ;Suma"), ("Lithuanian", "Data;Sąskaita;Kaina;Suma"),
    ],
)  # fmt: skip
def test_one_letter_of_a_header_is_read_in_the_language_of_its_words(language, header):
    encoding = {"Romanian": "cp1250", "Lithuanian": "cp1257"}.get(language, "cp1252")
    told = tell(*gathered([header.encode(encoding), b"D000001;1;C1000;ART0001;10;2,5\n"]))
    assert (told.language, told.encoding) == (language, encoding)


@given(st.dictionaries(st.binary(min_size=1, max_size=8).filter(lambda b: not b.isascii()), st.integers(1, 5)))  # fmt: skip
def test_any_bytes_are_told_as_something(words):
    told = tell(words)
    assert all(isinstance(word.decode(told.encoding, "replace"), str) for word in words)
    found, _ = gathered([b" ".join(words)])
    assert not words or tell(found).encoding


@pytest.mark.parametrize(
    ("name", "beside", "period"),
    [
        ("ventas_202403", "", "2024-03"), ("sales-2024-03", "", "2024-03"), ("03-2024", "", "2024-03"),
        ("März 2024", "", "2024-03"), ("payroll sept 2024", "", "2024-09"), ("styczeń 2024", "", "2024-01"),
        ("20240331 export", "", "2024-03-31"), ("31.03.2024", "", "2024-03-31"), ("Q1 2024", "", "2024-Q1"),
        ("1T2024", "", "2024-Q1"), ("S1 2024", "", "2024-H1"), ("FY2024", "", "2024"), ("2023-24", "", "2023-2024"),
        ("Enero", "nominas 2024", "2024-01"), ("03", "nominas 2024", "2024-03"), ("Enero", "", None),
        ("north", "", None), ("2024 vs 2023", "", None), ("report 12", "", None),
    ],
)  # fmt: skip
def test_the_period_of_a_name(name, beside, period):
    assert period_of(name, beside) == period


def test_a_period_that_stands_in_a_name_is_a_column(engine, tmp_path):
    rows = b"party,amount\na,1.50\nb,2.50\n"
    report, found = taken(engine, tmp_path, rows, "ventas_2024-03.csv", period="file name")
    assert [str(r["period"]) for r in found] == ["2024-03-01"] * 2 and report.roles[
        "date"
    ] == "period"
    report, found = taken(engine, tmp_path, rows, "year 2024.csv", period="file name")
    assert [r["period"] for r in found] == ["2024"] * 2
    with pytest.raises(UserError, match="tells no period"):
        taken(engine, tmp_path, rows, "north.csv", period="file name")
    with pytest.raises(UserError, match="has no sheets"):
        taken(engine, tmp_path, rows, "a 2024.csv", period="sheet name")
    book = xlsxwriter.Workbook(tmp_path / "nominas 2024.xlsx")
    for month in ("Enero", "Febrero"):
        sheet = book.add_worksheet(month)
        sheet.write_row(0, 0, ["Empleado", "Bruto"])
        sheet.write_row(1, 0, ["a", 1000.5])
        sheet.write_row(2, 0, ["b", 20])
    book.close()
    content = (tmp_path / "nominas 2024.xlsx").read_bytes()
    _, found = taken(engine, tmp_path, content, "nominas 2024.xlsx", period="sheet name")
    assert sorted({str(r["period"]) for r in found}) == ["2024-01-01", "2024-02-01"]


def test_names_that_differ_in_accents_blanks_or_capitals_are_one_column(engine, tmp_path):
    first = tmp_path / "a.csv"
    first.write_text("fecha operación,Nº factura,importe\n2024-01-31,F1,1.50\n2024-02-01,F2,2.50\n")
    one = take_file(first, tmp_path / "a.parquet", ReadSettings(), Prior(), engine)
    known = Prior({c.name: c for c in one.columns}, one.roles)
    second = tmp_path / "b.csv"
    second.write_text("IMPORTE,Fecha Operacion,nº Factura\n9.00,2024-03-01,F3\n")
    two = take_file(second, tmp_path / "b.parquet", ReadSettings(), known, engine)
    assert {c.name for c in two.columns} == {c.name for c in one.columns}
    assert sum("is called" in note for note in two.notes) == 3


def test_a_folder_with_an_index_is_its_tables(tmp_path):
    inside("open", ".", cwd=tmp_path)
    box = tmp_path / "box"
    box.mkdir()
    (box / "INDEX.XML").write_text(INDEX.format(range=""))
    (box / "buchungen.txt").write_bytes(
        b'"B1";01.02.2024;"0420";1.234;19500\r\n"B2";03.02.2024;"0421";-34,50;-5\r\n'
    )
    assert "names fest.dat" in inside("intake", "box", cwd=tmp_path).stdout
    (box / "fest.dat").write_bytes(b"A0001       100\nA0002      -250\n")
    error = inside("intake", "box/INDEX.XML", "--as", "x", cwd=tmp_path, code=2).stderr
    assert "describes 2 tables: buchungen.txt, fest.dat" in error
    inside("intake", "box", "--yes", cwd=tmp_path)
    tables = {t["table"]: t["rows"] for t in inside_json("survey", cwd=tmp_path)["tables"]}
    assert tables == {"buchungen": 2, "fest": 2}


PIECES = [b"\r", b"\n", b"\r\n", b'"', b";", b",", b"a", b"1", b"2,5", b"TOTAL;", b"PK", b"<", b"\xff", b"\0", b"\x85", b"\x0b", b" "]  # fmt: skip


@given(st.lists(st.sampled_from(PIECES), min_size=1, max_size=14))
def test_scraps_are_taken_or_told_and_every_line_is_counted(engine, tmp_path, pieces):
    path = tmp_path / "scrap.csv"
    path.write_bytes(b"".join(pieces))
    try:
        report = take_file(path, tmp_path / "scrap.parquet", ReadSettings(), Prior(), engine)
    except UserError as error:
        assert "\n" not in str(error)
    else:
        assert report.read == report.accepted + report.quarantined + report.totals + report.blank
