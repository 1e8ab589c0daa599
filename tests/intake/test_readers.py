"""Every format: what goes in comes out, and what is broken gets a sentence or the quarantine."""

from __future__ import annotations

import gzip
import io
import json
import sqlite3
import zipfile
from collections.abc import Callable, Sequence
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import xlsxwriter
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside as sabueso
from conftest import inside_json as as_json
from sabueso.base.errors import UserError
from sabueso.case.register_file import FileRegister
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import Prior, intake_engine, take_file

ENGINE = intake_engine()
Row = tuple[str, Decimal, date]
HEADER = ("concepto", "importe", "fecha")


def take(path: Path, **settings: Any):
    out = path.with_name("out.parquet")
    report = take_file(path, out, ReadSettings(**settings), Prior(), ENGINE)
    counted = report.accepted + report.quarantined + report.totals + report.blank
    assert counted == report.read
    return report, pq.read_table(out).to_pylist()


texts = st.text(
    st.characters(
        codec="utf-8", exclude_categories=["Cs", "Cc", "Zl", "Zp"], exclude_characters="_"
    ),
    min_size=1,
    max_size=12,
).map(lambda t: f"x{t}y")
rows = st.lists(
    st.tuples(
        texts,
        st.integers(-(10**12), 10**12).map(lambda c: Decimal(c).scaleb(-2)),
        st.dates(date(1990, 1, 1), date(2060, 12, 31)),
    ),
    min_size=1,
    max_size=20,
)


def _csv(found: Sequence[Row]) -> bytes:
    lines = [";".join(HEADER)]
    lines += ['"' + t.replace('"', '""') + f'";{a};{d}' for t, a, d in found]
    return ("\n".join(lines) + "\n").encode()


def as_gz(path: Path, found: Sequence[Row]) -> None:
    path.write_bytes(gzip.compress(_csv(found)))


def as_zip(path: Path, found: Sequence[Row]) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("inside.csv", _csv(found))


def in_json(path: Path, found: Sequence[Row]) -> None:
    objects = [
        f'{{"concepto": {json.dumps(t)}, "importe": {a}, "fecha": "{d}"}}' for t, a, d in found
    ]
    path.write_text("[" + ",\n".join(objects) + "]", encoding="utf-8")


def as_lines(path: Path, found: Sequence[Row]) -> None:
    objects = [
        f'{{"concepto": {json.dumps(t, ensure_ascii=False)}, "importe": "{a}", "fecha": "{d}"}}'
        for t, a, d in found
    ]
    path.write_text("\n".join(objects), encoding="utf-8")


def as_parquet(path: Path, found: Sequence[Row]) -> None:
    t, a, d = zip(*found, strict=True)
    kinds = (pa.string(), pa.decimal128(16, 2), pa.date32())
    arrays = [pa.array(v, k) for v, k in zip((t, a, d), kinds, strict=True)]
    pq.write_table(pa.table(arrays, names=list(HEADER)), path)


def as_workbook(
    path: Path, found: Sequence[Row], *, titles: int = 0, texts_only: bool = False
) -> None:
    with xlsxwriter.Workbook(
        path, {"strings_to_formulas": False, "strings_to_urls": False}
    ) as book:
        sheet = book.add_worksheet("2024")
        for i in range(titles):
            sheet.write(i, 0, f"Naviera Marisma, listing {i}")
        sheet.write_row(titles, 0, HEADER)
        day = book.add_format({"num_format": "yyyy-mm-dd"})
        for i, (t, a, d) in enumerate(found, titles + 1):
            sheet.write_string(i, 0, t)
            if texts_only:
                sheet.write_string(i, 1, str(a))
                sheet.write_string(i, 2, d.isoformat())
            else:
                sheet.write_number(i, 1, float(a))
                sheet.write_datetime(i, 2, datetime(d.year, d.month, d.day), day)


FORMS: dict[str, Callable[[Path, Sequence[Row]], None]] = {
    "x.csv.gz": as_gz,
    "x.zip": as_zip,
    "x.json": in_json,
    "x.jsonl": as_lines,
    "x.parquet": as_parquet,
    "x.xlsx": as_workbook,
}


@pytest.mark.parametrize("name", FORMS)
@given(found=rows)
def test_round_trip(tmp_path, name, found):
    """The same decimals, dates and texts, and their sum, whatever the form."""
    FORMS[name](tmp_path / name, found)
    report, taken = take(tmp_path / name, types={"concepto": "text"})
    assert report.quarantined == 0
    assert [(r["concepto"], r["importe"], r["fecha"]) for r in taken] == list(found)
    assert report.sums["importe"] == sum(a for _, a, _ in found)


PLAIN: list[Row] = [
    ("uno", Decimal("1.50"), date(2024, 1, 2)),
    ("dos", Decimal("-2.25"), date(2024, 2, 3)),
]


@pytest.mark.parametrize("texts_only", [False, True])
def test_a_header_under_title_lines(tmp_path, texts_only):
    as_workbook(tmp_path / "x.xlsx", PLAIN, titles=3, texts_only=texts_only)
    report, taken = take(tmp_path / "x.xlsx")
    assert (report.header_lines, report.lines, report.unit) == (4, 6, "rows")
    assert [(r["importe"], r["fecha"], r["_line"]) for r in taken] == [
        (Decimal("1.50"), date(2024, 1, 2), 5),
        (Decimal("-2.25"), date(2024, 2, 3), 6),
    ]


def test_sheets_with_one_header_are_one_table(tmp_path):
    with xlsxwriter.Workbook(tmp_path / "x.xlsx") as book:
        for year in ("2024", "2025"):
            sheet = book.add_worksheet(year)
            sheet.write_row(0, 0, ["empleado", "mes", "neto"])
            for i in range(1, 4):
                sheet.write_row(i, 0, [f"E{i}", f"{year}-0{i}", 1000 + i])
            sheet.write_formula(4, 2, "=SUM(C2:C4)", None, 3006)
            sheet.write(4, 0, "TOTAL")
        book.add_worksheet("notas").write_row(0, 0, ["nada", "que", "ver", "aquí"])
    report, taken = take(tmp_path / "x.xlsx")
    assert len(taken) == 6 and report.totals == 2
    assert {r["_file"] for r in taken} == {"x.xlsx#2024", "x.xlsx#2025"}
    assert report.sums["neto"] == Decimal(6012)
    assert any("'notas'" in note for note in report.notes)
    only, _ = take(tmp_path / "x.xlsx", sheet="2025")
    assert only.accepted == 3
    with pytest.raises(UserError, match="no sheet '2026'"):
        take(tmp_path / "x.xlsx", sheet="2026")


def test_days_numbered_by_a_spreadsheet(tmp_path):
    (tmp_path / "x.csv").write_text("id,fecha,importe\nA,45293,1.50\nB,45657,2.25\n")
    _, taken = take(tmp_path / "x.csv")
    assert [r["fecha"] for r in taken] == [date(2024, 1, 2), date(2024, 12, 31)]


CAMT = """<?xml version="1.0" encoding="UTF-8"?>
<Document xmlns="urn:iso:std:iso:20022:tech:xsd:camt.053.001.08"><BkToCstmrStmt>
<GrpHdr><MsgId>M1</MsgId></GrpHdr>
<Stmt><Id>S-11</Id><Acct><Id><IBAN>ES0000000000000000000001</IBAN></Id></Acct>
<Bal><Tp><CdOrPrtry><Cd>OPBD</Cd></CdOrPrtry></Tp><Amt Ccy="EUR">100.00</Amt><CdtDbtInd>CRDT</CdtDbtInd></Bal>
<Bal><Tp><CdOrPrtry><Cd>CLBD</Cd></CdOrPrtry></Tp><Amt Ccy="EUR">%s</Amt><CdtDbtInd>CRDT</CdtDbtInd></Bal>
<Ntry><Amt Ccy="EUR">25.10</Amt><CdtDbtInd>CRDT</CdtDbtInd><Sts><Cd>BOOK</Cd></Sts>
<BookgDt><Dt>2025-11-03</Dt></BookgDt><ValDt><Dt>2025-11-04</Dt></ValDt><AcctSvcrRef>R1</AcctSvcrRef>
<NtryDtls><TxDtls><Refs><EndToEndId>P-1</EndToEndId></Refs><RltdPties><Dbtr><Pty><Nm>Isla Albarda</Nm></Pty></Dbtr>
<DbtrAcct><Id><IBAN>ES02</IBAN></Id></DbtrAcct></RltdPties><RmtInf><Ustrd>billetes &amp; más</Ustrd></RmtInf></TxDtls></NtryDtls></Ntry>
<Ntry><Amt Ccy="EUR">5.05</Amt><CdtDbtInd>DBIT</CdtDbtInd><Sts><Cd>BOOK</Cd></Sts>
<BookgDt><DtTm>2025-11-05T10:00:00</DtTm></BookgDt><AcctSvcrRef>R2</AcctSvcrRef></Ntry>
</Stmt></BkToCstmrStmt></Document>"""


@pytest.mark.parametrize(("closing", "agrees"), [("120.05", True), ("121.00", False)])
def test_a_bank_statement_and_its_balances(tmp_path, closing, agrees):
    (tmp_path / "x.xml").write_text(CAMT % closing, encoding="utf-8")
    report, taken = take(tmp_path / "x.xml")
    assert [(r["entry"], r["amount"], r["booked"]) for r in taken] == [
        ("R1", Decimal("25.10"), date(2025, 11, 3)),
        ("R2", Decimal("-5.05"), date(2025, 11, 5)),
    ]
    first = taken[0]
    assert (first["counterparty"], first["counterparty account"]) == ("Isla Albarda", "ES02")
    assert (first["remittance"], first["statement"]) == ("billetes & más", "S-11")
    assert first["account"] == "ES0000000000000000000001"
    assert report.unit == "entries" and report.reconciled is agrees
    stated = report.totals_lines[0]
    assert (stated.stated, stated.agrees) == (Decimal(closing) - 100, agrees)


SAFT = """<?xml version="1.0"?><AuditFile xmlns="urn:StandardAuditFile-Taxation-Financial:EX"><GeneralLedgerEntries>
<NumberOfEntries>2</NumberOfEntries><TotalDebit>30.00</TotalDebit><TotalCredit>30.00</TotalCredit>
<Journal><JournalID>J1</JournalID>
<Transaction><TransactionID>T1</TransactionID><TransactionDate>2025-03-01</TransactionDate><SourceID>ana</SourceID>
<Line><RecordID>1</RecordID><AccountID>62210</AccountID><Description>obra</Description><DebitAmount><Amount>10.00</Amount></DebitAmount></Line>
<Line><RecordID>2</RecordID><AccountID>40000</AccountID><CreditAmount><Amount>10.00</Amount></CreditAmount></Line></Transaction>
<Transaction><TransactionID>T2</TransactionID><TransactionDate>2025-03-02</TransactionDate>
<Line><RecordID>1</RecordID><AccountID>62210</AccountID><DebitAmount><Amount>20.00</Amount></DebitAmount></Line>
<Line><RecordID>2</RecordID><AccountID>40000</AccountID><CreditAmount><Amount>20.00</Amount></CreditAmount></Line></Transaction>
</Journal></GeneralLedgerEntries></AuditFile>"""


def test_an_audit_file_and_its_totals(tmp_path):
    (tmp_path / "x.xml").write_text(SAFT)
    report, taken = take(tmp_path / "x.xml")
    assert [(r["transaction"], r["account"], r["amount"]) for r in taken] == [
        ("T1", "62210", 10), ("T1", "40000", -10), ("T2", "62210", 20), ("T2", "40000", -20),
    ]  # fmt: skip
    assert (taken[0]["journal"], taken[0]["preparer"], taken[0]["description"]) == (
        "J1",
        "ana",
        "obra",
    )
    assert report.sums["debit"] == report.sums["credit"] == 30
    assert report.reconciled and len(report.totals_lines) == 2


def _zipped(**members: bytes) -> bytes:
    content = io.BytesIO()
    with zipfile.ZipFile(content, "w") as archive:
        for name, data in members.items():
            archive.writestr(name.replace("_", "."), data)
    return content.getvalue()


BOMB = '<?xml version="1.0"?><!DOCTYPE l [<!ENTITY a "ha"><!ENTITY b "%s">]>' % ("&a;" * 50)
HOSTILE: dict[str, tuple[bytes, str]] = {
    "empty.csv": (b"", "the file is empty"),
    "blank.csv": (b"\n\n  \n", "the file is empty"),
    "header.csv": (b"a,b,c\n", "a header and no rows"),
    "cut.csv.gz": (gzip.compress(b"a,b\n1,2\n" * 9999)[:-20], "packed file is damaged"),
    "no.gz": (b"a,b\n1,2\n", "no reader"),
    "false.csv.gz": (b"a,b\n1,2\n", "packed file is damaged"),
    "two.zip": (_zipped(a_csv=b"a\n1\n", b_csv=b"a\n1\n"), "holds 2 files"),
    "nested.zip": (_zipped(a_zip=_zipped(a_csv=b"a\n1\n")), "holds an archive"),
    "no.zip": (b"PK nothing", "packed file is damaged"),
    "no.xlsx": (b"PK nothing", "cannot be read as a spreadsheet"),
    "cut.xls": (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(40), "cannot be read as a spreadsheet"),
    "cut.xlsx": (_zipped(a_xml=b"<a/>"), "cannot be read as a spreadsheet"),
    "no.ods": (b"", "cannot be read as a spreadsheet"),
    "no.parquet": (b"PAR1 nothing", "cannot be read as Parquet"),
    "array.json": (b"[1, 2, 3]", "expected JSON objects"),
    "cut.json": (b'[{"a": 1}, {"a": ', ""),
    "bytes.json": (b'{"a": "\xff\xfe"}', "not utf-8"),
    "deep.json": (b'{"a":' * 100_000, "expected JSON objects"),
    "other.xml": (b"<a><b>1</b></a>", "comes more than once"),
    "cut.xml": ((CAMT % "1.00").encode()[:900], ""),
    "bomb.xml": ((BOMB + (CAMT % "1.00").split("?>", 1)[1].replace("M1", "&b;")).encode(), "document type"),
    "mixed.csv": (b"a;b\n1;2\n" + b"\x81\x8d;3\n", ""),
    "utf16.csv": (("a;b\n1;2\n" * 3).encode("utf-16")[:-1], ""),
    "nul.csv": (b"id,amount\nA,1.00\nB\0,2.00\nC,3.00\n", ""),
    "returns.csv": (b"id,amount\rA,1.00\rB,2.00\r", ""),
    "double.csv": (b"id,amount,amount\nA,1.00,2.00\n", ""),
    "unnamed.csv": (b",amount,\nA,1.00,x\n", ""),
    "quote.csv": (b'id,amount\n"A,1.00\nB,2.00\nC,3.00\n', ""),
    "wide.csv": (",".join(f"c{i}" for i in range(500)).encode() + b"\n" + b"1," * 499 + b"1\n", ""),
    "long.csv": (b"id,amount\nA," + b"9" * 5_000_000 + b"\nB,2.00\n", ""),
    "field.csv": (b"id,amount\n" + b"A" * 300_000 + b",1.00\n" + b'"B' * 9 + b",2.00\n", ""),
    "formula.csv": (b'id,amount,text\nA,1.00,"=cmd|x"\n', ""),
    "ragged.csv": (b"id,amount\nA,1.00\nB\nC,1,2,3\nD,4.00\n", ""),
    "exponent.csv": (b"id,importe\n" + b"A,10.00\n" * 30 + b"B,1e5\n", ""),
    "infinite.csv": (b"id,importe\n" + b"A,10.00\n" * 30 + b"B,inf\nC,NaN\n", ""),
    "huge.csv": (b"id,importe\nA," + b"9" * 40 + b"\nB,1.00\n", ""),
}  # fmt: skip


@pytest.mark.parametrize("name", HOSTILE)
def test_hostile_files_get_a_sentence_or_the_quarantine(tmp_path, name):
    """Never a traceback, never a wrong sum: every row is accepted, set aside, or the file refused."""
    content, message = HOSTILE[name]
    path = tmp_path / name
    path.write_bytes(content)
    if message:
        with pytest.raises(UserError, match=message) as error:
            take(path)
        assert "\n" not in str(error.value)
        assert not (tmp_path / "out.parquet").exists()
        return
    try:
        report, taken = take(path)
    except UserError as error:
        assert "\n" not in str(error) and name in str(error)
        return
    for column, total in report.sums.items():
        if column != "_line":
            assert total == sum(r[column] or 0 for r in taken)


def test_what_is_not_a_number_is_set_aside(tmp_path):
    for name in ("exponent.csv", "infinite.csv", "nul.csv", "quote.csv"):
        (tmp_path / name).write_bytes(HOSTILE[name][0])
    assert take(tmp_path / "exponent.csv")[0].sums["importe"] == 100_300
    assert take(tmp_path / "infinite.csv")[0].quarantined == 1  # inf; NaN is nothing
    report, _ = take(tmp_path / "nul.csv")
    assert (report.accepted, report.damaged[0].reason) == (2, "holds a NUL byte")
    report, _ = take(tmp_path / "quote.csv")
    assert report.damaged[0].line == 2 and report.sums["amount"] == 5


def test_a_database_query_is_taken_in(tmp_path):
    sabueso("open", "c", cwd=tmp_path)
    case, database = tmp_path / "c", tmp_path / "ledger.db"
    with sqlite3.connect(database) as connection:
        connection.execute("CREATE TABLE p (pago TEXT, fecha TEXT, importe NUMERIC)")
        rows = [(f"P{i:03d}", f"2024-01-{1 + i % 28:02d}", str(Decimal(i) / 4)) for i in range(60)]
        connection.executemany("INSERT INTO p VALUES (?, ?, ?)", rows)
    command = ["intake", "--from", f"sqlite:///{database.as_posix()}", "--as", "p"]
    report = as_json(*command, "--query", "select * from p where pago < 'P050'", cwd=case)
    assert report["total"]["accepted"] == 50
    assert Decimal(report["total"]["amount"]) == sum(Decimal(i) / 4 for i in range(50))
    again = as_json(*command, "--query", "select * from p where pago < 'P050'", cwd=case)
    assert again["files"] == [] and len(again["already_taken"]) == 1
    event = FileRegister(case / "register.db").events("source")[0].body
    assert event["query"].startswith("select") and "ledger.db" in event["database"]
    for query, message in (
        ("select * from q", "no such table"),
        ("select * from p where 0", "gives no rows"),
        ("delete from p", "expected a SELECT"),
    ):
        done = sabueso(*command, "--query", query, cwd=case, code=2)
        assert message in done.stderr and done.stderr.count("\n") == 1
    for url in ("nothing", "sqlite:///none.db", "oracle9://u:secret@h/x"):
        done = sabueso(
            "intake", "--from", url, "--query", "select 1", "--as", "p", cwd=case, code=2
        )
        assert done.stderr.count("\n") == 1 and "secret" not in done.stderr
