"""Intake: what goes in comes out, every line is accounted for, and damage is set aside."""

from __future__ import annotations

import csv
import io
from datetime import date, datetime, timedelta
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from conftest import inside as sabueso
from conftest import inside_json as as_json
from sabueso.base.errors import UserError
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.intake.interface import FileReport
from sabueso.intake.readers.records import Splitter, blocks
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import Prior, intake_engine, take_file

ENGINE = intake_engine()


def take(tmp_path, content, name="x.csv", **settings) -> tuple[FileReport, list[dict]]:
    path, out = tmp_path / name, tmp_path / "out.parquet"
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    report = take_file(path, out, ReadSettings(**settings), Prior(), ENGINE)
    counted = report.accepted + report.quarantined + report.totals + report.blank
    assert counted == report.read
    return report, pq.read_table(out).to_pylist()


texts = st.text(
    st.characters(
        codec="utf-8", exclude_characters="\0\r\x85\u2028\u2029", exclude_categories=["Cs"]
    ),
    max_size=12,
).filter(lambda t: t.strip() == t)
rows = st.lists(
    st.tuples(
        texts,
        st.integers(-(10**13), 10**13).map(lambda c: Decimal(c).scaleb(-2)),
        st.dates(date(1990, 1, 1), date(2060, 12, 31)),
    ),
    min_size=1,
    max_size=25,
)


@given(
    rows,
    st.sampled_from([";", ",", "\t", "|"]),
    st.sampled_from([(".", ""), (",", ""), (",", "."), (".", ","), (",", " ")]),
    st.sampled_from(["%d/%m/%Y", "%Y-%m-%d", "%m/%d/%Y", "%d.%m.%Y"]),
    st.sampled_from(["utf-8", "utf-8-sig", "utf-16"]),
    st.sampled_from(["\n", "\r\n"]),
    st.sampled_from(["minus", "trailing", "parentheses"]),
)
def test_round_trip(tmp_path, rows, delimiter, marks, dates, encoding, newline, style):
    def written(value):
        text = f"{abs(value):,.2f}".replace(",", "T").replace(".", marks[0]).replace("T", marks[1])
        if value >= 0:
            return text
        return {"minus": f"-{text}", "trailing": f"{text}-", "parentheses": f"({text})"}[style]

    text = io.StringIO()
    writer = csv.writer(text, delimiter=delimiter, lineterminator=newline)
    writer.writerow(["concepto", "importe", "fecha"])
    writer.writerows([f"·{t}", written(a), d.strftime(dates)] for t, a, d in rows)
    order = {"%m/%d/%Y": "month first", "%d/%m/%Y": "day first"}.get(dates)
    report, found = take(
        tmp_path, text.getvalue().encode(encoding), delimiter=delimiter, dates=order,
        decimal=marks[0], thousands=marks[1], types={"concepto": "text"},
    )  # fmt: skip
    assert report.quarantined == 0
    assert [(r["concepto"], r["importe"], r["fecha"]) for r in found] == [
        (f"·{t}", a, d) for t, a, d in rows
    ]
    assert report.sums["importe"] == sum(a for _, a, _ in rows)
    assert report.reconciled


SPANISH = """pago;fecha;proveedor;cuenta;importe;usuario;concepto
P1;13/02/2024;S01;00712;1.234,56;ana;Compañía "El Cabo" naviera
P2;15/02/2024;S02;62100;-34,50;ana;"uno
dos; tres"
P3;31/02/2024;S02;62100;10,00;ana;día que no existe
P4;28/02/2024;S02;62100;12,00;ana
P5;28/02/2024;S02;62100;12x,00;ana;z

P6;29/02/2024;S02;62100;12,5;ana;=cmd()
;;;;1222,56;;TOTAL
;;;;;;
"""


def test_a_file_as_a_client_hands_it_over(tmp_path):
    report, found = take(tmp_path, SPANISH.replace("\n", "\r\n").encode("latin-1"))
    assert report.detected["encoding"] == "latin-1"
    assert report.detected["column importe"] == "number 1.234,56"
    assert report.detected["column fecha"] == "date dd/mm/yyyy"
    assert report.roles == {
        "amount": "importe", "date": "fecha", "preparer": "usuario", "party": "proveedor",
        "account": "cuenta", "text": "concepto", "id": "pago",
    }  # fmt: skip
    assert [r["pago"] for r in found] == ["P1", "P2", "P6"]
    assert [r["_line"] for r in found] == [2, 3, 9]
    assert found[0]["cuenta"] == "00712"  # leading zeros stay
    assert found[1]["concepto"] == "uno\r\ndos; tres"
    assert [(d.line, d.column) for d in report.damaged] == [
        (5, "fecha"),
        (6, "usuario"),
        (7, "importe"),
    ]
    assert "expected 7" in report.damaged[1].reason
    assert (report.totals, report.blank, report.continued, report.lines) == (1, 2, 1, 11)
    total = report.totals_lines[0]
    assert total.stated == Decimal("1222.56")
    assert total.accepted == Decimal("1212.56")
    assert total.quarantined == Decimal("10.00")
    assert total.agrees  # accepted and the quarantined row whose amount could be read


def test_a_wrong_totals_line_is_seen(tmp_path):
    report, _ = take(tmp_path, "id,date,amount\na,2024-01-01,5.00\nTotal,,6.00\n")
    assert report.totals == 1
    assert not report.totals_lines[0].agrees
    assert not report.reconciled


def test_debit_and_credit_become_one_signed_amount(tmp_path):
    report, found = take(
        tmp_path, "entry,date,account,debit,credit\n1,2024-01-05,572,10.00,\n1,2024-01-05,700,,9.5\n1,2024-01-05,477,,0.5\n"
    )  # fmt: skip
    assert [r["amount"] for r in found] == [Decimal("10.00"), Decimal("-9.50"), Decimal("-0.50")]
    assert [r["debit"] for r in found] == [Decimal("10.00"), None, None]
    assert report.roles["amount"] == "amount"
    assert report.sums["amount"] == 0


def test_columns_are_decided_by_all_their_rows(tmp_path):
    # The first 2,000 rows are whole numbers, dates that could be either, and digits; then not.
    lines = ["amount,day,ref"]
    lines += [f"{i},0{1 + i % 9}/0{1 + i % 8}/2024,{i}" for i in range(2000)]
    lines += ["12.345,25/03/2024,A7", "(1.5),26/03/2024,00012"] * 30
    report, found = take(tmp_path, "\n".join(lines))
    assert report.quarantined == 0
    assert found[-1] == {
        "amount": Decimal("-1.500"), "day": date(2024, 3, 26), "ref": "00012", "_file": "x.csv", "_line": 2061,
    }  # fmt: skip
    assert found[0]["ref"] == "0"


def test_month_first_is_found_out_late(tmp_path):
    lines = ["day,amount"] + [f"0{1 + i % 9}/0{1 + i % 8}/2024,1.00" for i in range(900)]
    report, found = take(tmp_path, "\n".join([*lines, "03/25/2024,1.00"]))
    assert report.detected["column day"] == "date mm/dd/yyyy"
    assert found[0]["day"] == date(2024, 1, 1) and found[1]["day"] == date(2024, 2, 2)


def test_an_order_is_no_assumption_once_a_late_row_settles_it(tmp_path):
    lines = ["day,amount"] + [f"0{1 + i % 9}/0{1 + i % 8}/2024,1.00" for i in range(900)]
    report, _ = take(tmp_path, "\n".join([*lines, "25/03/2024,1.00"]))
    assert report.detected["column day"] == "date dd/mm/yyyy"
    assert report.notes == []


def test_an_assumption_is_said(tmp_path):
    report, _ = take(tmp_path, "day,amount\n01/02/2024,1.24\n03/04/2024,5.68\n")
    (note,) = (note for note in report.notes if "day: read as date dd/mm/yyyy" in note)
    assert "2024-02 to 2024-04, by the other order of day and month 2024-01 to 2024-03" in note


@given(st.lists(st.text(st.sampled_from('ab;"\n \r'), max_size=9), max_size=30), st.integers(1, 40))
def test_every_line_is_counted_however_it_is_cut(lines, size):
    text = "\n".join(lines).encode()
    chunks = [text[i : i + size] for i in range(0, len(text), size)]
    whole = text.replace(b"\r", b"\n") if b"\n" not in text and b"\r" in text else text
    physical = whole.count(b"\n") + (not whole.endswith(b"\n") and bool(whole))
    splitter = Splitter(b";", 2, 1)
    found = list(blocks(chunks))
    results = [splitter.split(b, last=i == len(found) - 1) for i, b in enumerate(found)]
    total = sum(len(r.lines) + len(r.broken) + r.blank + r.continued for r in results)
    if b"\r" not in text:
        assert total == physical
    numbers = np.concatenate([r.lines for r in results]) if results else np.empty(0)
    assert (np.diff(numbers) > 0).all()
    for r in results:
        parsed = list(csv.reader(io.StringIO(r.text.decode(), newline=""), delimiter=";"))
        assert len([p for p in parsed if p]) == len(r.lines)
        assert all(len(p) == 2 for p in parsed if p)


def test_an_unclosed_quote_loses_one_row_only(tmp_path):
    lines = ["id;amount;text"] + [f"{i};{i}.00;t" for i in range(600)]
    lines[300] = '299;299.00;"never closed'
    report, found = take(tmp_path, "\n".join(lines))
    assert report.quarantined == 1
    assert report.damaged[0].line == 301
    assert "not closed" in report.damaged[0].reason
    assert len(found) == 599
    assert found[299]["_line"] == 302


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (b"", "empty"),
        (b"\n\n  \n", "empty"),
        (b"id,amount\n", "header and no rows"),
        (b"\xef\xbb\xbf", "empty"),
    ],
)
def test_files_that_are_no_table(tmp_path, content, message):
    with pytest.raises(UserError, match=message):
        take(tmp_path, content)
    assert not (tmp_path / "out.parquet").exists()


@pytest.mark.parametrize(
    "content",
    [
        b"id,amount\nx\0y,1.00\nb,2.00\n",
        b"id,id,,amount\n1,2,3,4.00\n",
        b"id;amount\r1;2,50\r2;3,50\r",
        b"id,amount\n" + b"1,2.00\n" * 3 + b'"' * 7 + b",1\n",
        ("h" + ",h" * 300 + "\n" + "1" + ",1" * 300 + "\n").encode(),
        b"id,amount\n1,99999999999999999999.99\n2,1.00\n",
        b"id,amount\n1," + b"9" * 60 + b"\n2,1.00\n",
        b"a\n1\n2\n",
        b"id,amount\n1,2.00\n2," + b"x" * 3_000_000 + b"\n",
        "id,amount\n1,２.00\n2,3.00\n".encode(),
    ],
)
def test_hostile_files_give_rows_or_quarantine(tmp_path, content):
    report, found = take(tmp_path, content)
    assert report.accepted == len(found)
    assert report.accepted + report.quarantined >= 1


def test_a_setting_that_does_not_fit_is_a_sentence(tmp_path):
    with pytest.raises(UserError, match=r"not utf-8; set read\.encoding"):
        take(tmp_path, "id,text\n1,ñ\n".encode("latin-1"), encoding="utf-8")


@pytest.mark.long
def test_an_encoding_that_shows_late(tmp_path):
    """Its first megabyte is ASCII, and then there are letters of another encoding."""
    rows = 8_000
    plain = "".join(f"{n},2024-01-02,{n}.50,{'plain text ' * 12}\n" for n in range(rows))
    assert len(plain) > 1_048_576
    for encoding, letter in (
        ("latin-1", "caña"),
        ("cp1252", "€"),
        ("utf-8", "ñ"),
        ("cp1252", "–"),
        ("latin-1", "£"),
    ):
        text = f"id,date,amount,note\n{plain}x,2024-01-02,1.00,{letter}\n"
        report, found = take(tmp_path, text.encode(encoding), encoding=None)
        assert report.detected["encoding"] == encoding
        assert found[-1]["note"] == letter
        assert report.accepted == len(found) == rows + 1
    with pytest.raises(UserError, match=r"not utf-8; set read\.encoding"):
        take(tmp_path, text.encode("latin-1"), encoding="utf-8")


@given(
    st.lists(st.integers(-(10**18) + 1, 10**18 - 1), min_size=1, max_size=30),
    st.integers(1, 6),
    st.sampled_from(".,"),
    st.sampled_from(["", "+", "0"]),
)
def test_decimals_are_read_exactly(units, scale, mark, start):
    """Also those beyond what a float holds, and those of which one is written otherwise."""
    values = [Decimal(u).scaleb(-scale) for u in units]
    texts = [format(v, "f").replace(".", mark) for v in values]
    if values[0] >= 0:
        texts[0] = start + texts[0]
    read = NumberFormat(decimal=mark, scale=scale, whole=18 - scale).read(pa.array(texts))
    assert read.to_pylist() == values
    read = NumberFormat(decimal=mark, scale=scale, whole=18 - scale).read(
        pa.array([*texts, f"1{mark}{'0' * scale}1", f"1{mark}{'0' * scale}0", "1-1", "", None])
    )
    assert read.to_pylist()[: len(values)] == values
    assert read.to_pylist()[len(values) :] == [None] * 5


@given(
    st.lists(st.integers(-(10**9), 10**9), min_size=1, max_size=20),
    st.sampled_from(["€", "USD", "$"]),
    st.sampled_from(["{s}{u}{n}", "{u} {s}{n}", "{s}{n} {u}", "({u}{n})"]),
)
def test_amounts_with_their_currency(tmp_path, cents, unit, shape):
    def written(value):
        size = f"{abs(value) / 100:,.2f}"
        if "(" in shape:
            return shape.format(u=unit, n=size) if value < 0 else f"{unit}{size}"
        return shape.format(s="-" if value < 0 else "", u=unit, n=size)

    lines = "\n".join(f'{i},"{written(v)}"' for i, v in enumerate(cents))
    report, found = take(tmp_path, f"n,amount\n{lines}\n", types={"amount": "number"})
    assert report.quarantined == 0
    assert [r["amount"] for r in found] == [Decimal(v).scaleb(-2) for v in cents]
    assert unit in report.detected["column amount"]


@given(
    st.lists(
        st.tuples(st.integers(0, 10**9), st.sampled_from("DCSH")), min_size=2, max_size=20
    ).filter(lambda rows: {mark in "CH" for _, mark in rows} == {True, False}),
    st.booleans(),
)
def test_sides_give_the_sign(tmp_path, entries, apart):
    """Debit and credit marks, behind each amount or in a column of their own."""
    signed = [Decimal(-v if mark in "CH" else v).scaleb(-2) for v, mark in entries]
    text = "ref,amount" + (",dc" if apart else "") + "\n"
    for i, (v, mark) in enumerate(entries):
        text += f"r{i},{v / 100:.2f}{',' if apart else ' '}{mark}\n"
    report, found = take(tmp_path, text)
    assert [r["amount"] for r in found] == signed
    assert report.sums["amount"] == sum(signed)


def test_what_is_not_the_columns_unit_is_set_aside(tmp_path):
    lines = "".join(f"{i},{i}.00 EUR\n" for i in range(60)) + "60,5.00 USD\n61,7%\n62,8.00\n"
    report, found = take(tmp_path, "n,amount\n" + lines)
    assert [d.value for d in report.damaged] == ["5.00 USD", "7%"]
    assert found[-1]["amount"] == Decimal("8.00"), "an amount without a unit has the column's"
    report, found = take(tmp_path, "n,rate\n1,12.5%\n2,3 %\n3,5\n", types={"rate": "number"})
    assert [r["rate"] for r in found] == [Decimal("12.5"), Decimal("3.0")]
    assert report.damaged[0].value == "5", "5 among per cents may be 500%"
    report, _ = take(tmp_path, "seat,name\n12C,a\n14D,b\n3H,c\n")
    assert report.detected["column seat"] == "text"


def test_currencies_are_never_added_up(tmp_path):
    sabueso("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    rows = ["a,10.00,EUR", "b,20.05,USD", "c,-0.50,USD", "d,1.00,GBP"]
    (tmp_path / "m.csv").write_text("\n".join(["id,amount,currency", *rows]))
    refused = sabueso("intake", "../m.csv", "--as", "m", cwd=case, code=2).stderr
    assert "holds EUR, GBP and USD (m.csv), which do not add up" in refused
    with (case / "case.toml").open("a") as plan:
        plan.write('\n[tables.m]\nprefix = "MM"\nread = { rates = { USD = "0.9" } }\n')
    report = as_json("intake", "../m.csv", "--as", "m", cwd=case)
    # 20.05 · 0.9 = 18.045, and half a cent goes to the even one; GBP has no rate.
    assert report["total"] | {"accepted": 3, "quarantined": 1} == report["total"]
    assert report["total"]["amount"] == str(Decimal("10.00") + Decimal("18.04") - Decimal("0.45"))
    # Whole units of one currency are cents of another.
    (tmp_path / "w.csv").write_text("id,amount,currency\na,101,EUR\nb,1235,USD\nc,-7,USD\n")
    with (case / "case.toml").open("a") as plan:
        plan.write('\n[tables.w]\nprefix = "WW"\nread = { rates = { USD = "0.0059" } }\n')
    whole = as_json("intake", "../w.csv", "--as", "w", cwd=case)
    assert whole["total"]["amount"] == str(Decimal("101.00") + Decimal("7.29") - Decimal("0.04"))
    # One currency that is not the case's: it is the table's.
    (tmp_path / "u.csv").write_text("id,amount,currency\na,1.00,USD\nb,2.00,USD\n")
    assert as_json("intake", "../u.csv", "--as", "u", cwd=case)["currency"] == "USD"
    assert as_json("try", "zscore", "u", cwd=case)["currency"] == "USD"
    (tmp_path / "v.csv").write_text("id,amount,currency\na,1.00,\n")
    refused = sabueso("intake", "../v.csv", "--as", "u", cwd=case, code=2).stderr
    assert "holds USD (u.csv) and EUR (v.csv)" in refused, "without a currency the case's is meant"


def test_columns_that_differ(tmp_path):
    sabueso("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    (tmp_path / "a.csv").write_text("id,date,amount\n1,2025-01-01,1.00\n")
    (tmp_path / "b.csv").write_text("amount,id,branch\n2.50,2,N\n")
    sabueso("intake", "../a.csv", "--as", "t", cwd=case)
    refused = sabueso("intake", "../b.csv", "--as", "t", cwd=case, code=2).stderr
    assert "lacks date and adds branch" in refused and "may differ" in refused
    plan = (case / "case.toml").read_text()
    (case / "case.toml").write_text(plan + 'read = { columns = "may differ" }\n')
    report = as_json("intake", "../b.csv", "--as", "t", cwd=case)
    assert any("lacks date" in note for note in report["files"][0]["notes"])
    rows = sabueso("dig", "t", "--rows", "--format", "csv", cwd=case).stdout
    assert "2,,2.50,N" in rows and "1,2025-01-01,1.00," in rows


def test_parquet_attached_in_place(tmp_path):
    sabueso("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    rng = np.random.default_rng(3)
    for year in (2024, 2025):
        folder = tmp_path / f"lake/year={year}"
        folder.mkdir(parents=True)
        floats = np.round(rng.lognormal(6, 1, 500), 2)
        table = pa.table({"id": [f"{year}-{i}" for i in range(500)], "amount": floats})
        pq.write_table(table, folder / "part-0.parquet")
    total = sum(
        Decimal(str(v))
        for path in sorted(tmp_path.glob("lake/*/*.parquet"))
        for v in pq.read_table(path, partitioning=None).column("amount").to_pylist()
    )
    report = as_json("intake", "../lake/*/*.parquet", "--as", "lake", "--attach", cwd=case)
    assert (report["total"]["accepted"], report["total"]["amount"]) == (1000, str(total))
    assert not (case / "population").exists()
    found = as_json("try", "zscore", "lake", cwd=case)["population"]
    assert (found["rows"], found["total"]) == (1000, str(total))
    rows = sabueso("dig", "lake", "--where", "id = '2025-7'", "--rows", cwd=case).stdout
    assert "year=2025/part-0.parquet:8" in rows
    sabueso("intake", "../lake/*/*.parquet", "--as", "lake", "--attach", cwd=case)  # nothing new
    assert as_json("try", "zscore", "lake", cwd=case)["population"]["rows"] == 1000
    changed = tmp_path / "lake/year=2025/part-0.parquet"
    pq.write_table(pa.table({"id": ["x"], "amount": [1 / 3]}), changed)
    assert "has changed since" in sabueso("dig", "lake", cwd=case, code=2).stderr
    again = ["intake", "../lake/*/*.parquet", "--as", "lake", "--attach", "--replace"]
    assert "no decimals of up to 6 places" in sabueso(*again, cwd=case, code=2).stderr
    pq.write_table(pa.table({"id": ["x"], "amount": [0.25]}), changed)
    as_json(*again, cwd=case)
    assert as_json("try", "zscore", "lake", cwd=case)["population"]["rows"] == 501


@given(
    st.lists(st.datetimes(datetime(1990, 1, 1), datetime(2060, 1, 1)), min_size=1, max_size=12),
    st.sampled_from(["Z", "+00:00", "+02:00", "-0530", "+01"]),
    st.sampled_from(["T", " "]),
    st.sampled_from(["seconds", "milliseconds", "microseconds"]),
)
def test_moments_with_a_zone_are_kept_in_utc(tmp_path, moments, zone, between, places):
    hours = {"+02:00": 2.0, "-0530": -5.5, "+01": 1.0}.get(zone, 0.0)
    texts = [m.isoformat(sep=between, timespec=places) for m in moments]
    # More than are read one by one, of which the first few are looked at.
    many = texts * (1 if len(texts) < 8 else 900)
    lines = "".join(f"{i},{text}{zone}\n" for i, text in enumerate(many))
    report, found = take(tmp_path, f"n,entered\n{lines}")
    expected = [datetime.fromisoformat(text) - timedelta(hours=hours) for text in texts]
    assert [r["entered"] for r in found[: len(texts)]] == expected
    assert report.quarantined == 0 and "in UTC" in report.detected["column entered"]


def test_a_bare_total_is_no_row_where_there_is_no_date(tmp_path):
    rows = "A,North,1.00\nB,Total Energies,2.00\nC,,4.00\n"
    report, found = take(tmp_path, f"code,name,amount\n{rows}TOTAL,,7.00\n")
    assert [r["code"] for r in found] == ["A", "B", "C"]
    (line,) = report.totals_lines
    assert line.agrees and line.stated == Decimal("7.00")
    report, found = take(tmp_path, "name,amount\nTotal,1.00\nOther,2.00\n")
    assert len(found) == 2, "one text column alone does not tell a name from a total"


def test_currencies_of_attached_files_are_not_added_up_either(tmp_path):
    sabueso("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    for name, currencies in (
        ("one", ["USD", "USD"]),
        ("two", ["USD", "EUR"]),
        ("none", ["USD", None]),
    ):
        amounts = pa.array([Decimal("1.00"), Decimal("2.50")], pa.decimal128(12, 2))
        table = pa.table({"id": ["a", name], "amount": amounts, "currency": currencies})
        pq.write_table(table, tmp_path / f"{name}.parquet")
    report = as_json("intake", "../one.parquet", "--as", "t", "--attach", cwd=case)
    assert (report["currency"], report["total"]["amount"]) == ("USD", "3.50")
    assert as_json("try", "zscore", "t", cwd=case)["currency"] == "USD"
    refused = sabueso("intake", "../two.parquet", "--as", "t", "--attach", cwd=case, code=2).stderr
    assert "holds USD and EUR (two.parquet), which do not add up" in refused
    # What the first file states is the case's currency, and meant of an amount that states none: that is said.
    report = as_json("intake", "../none.parquet", "--as", "other", "--attach", cwd=case)
    told = {"text": "1 row with an amount names no currency: USD is meant", "key": "case.currency"}
    assert report["currency"] == "USD" and any(
        told.items() <= each.items() for each in report["assumed"]
    )
    plan = (case / "case.toml").read_text()
    rates = plan.replace("[tables.t]", '[tables.t]\nread = { rates = { USD = "0.9" } }')
    (case / "case.toml").write_text(rates)
    refused = sabueso("intake", "../two.parquet", "--as", "t", "--attach", cwd=case, code=2).stderr
    assert "attached files do not allow" in refused and refused.count("\n") == 1


@pytest.mark.parametrize(
    ("name", "texts", "wanted"),
    [
        ("amount", ["$12.00", "$15.50"], "$"),
        ("amount", ["USD 12.00", "USD 15.50"], "USD"),
        ("Valor (R$)", ["12,00", "15,50"], "BRL"),
        ("valor", ["R$ 12,00", "R$ 15,50"], "BRL"),
        ("amount CHF", ["12.00", "15.50"], "CHF"),
        ("importe", ["12,00 €", "15,50 €"], "EUR"),
        ("importe", ["12,00", "15,50"], "EUR"),
        ("total all", ["12.00", "15.50"], "EUR"),
    ],
)
def test_amounts_are_of_the_currency_that_they_state(tmp_path, name, texts, wanted):
    """A case takes the currency of its first amounts; what was never stated is the case's."""
    rows = "".join(f'{i},2025-01-0{i},"{text}"\n' for i, text in enumerate(texts, 1))
    (tmp_path / "a.csv").write_text(f'id,date,"{name}"\n{rows}', encoding="utf-8")
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    said = inside("intake", "../a.csv", "--as", "a", cwd=case).stdout
    assert f"27.50 {wanted}, the same read back" in said
    assert ("as they state themselves" in said) == (wanted != "EUR")
    assert f'currency = "{wanted}"' in (case / "case.toml").read_text(encoding="utf-8")
    assert f"amount 27.50 {wanted} = used" in inside("dig", "a", cwd=case).stdout


def test_tables_of_two_currencies_are_never_one_figure(tmp_path):
    """Neither in a table, nor over the exceptions of two."""
    for name, sign in (("a", "$"), ("b", "€"), ("c", "€")):
        rows = "".join(f"{i},2025-01-{i:02d},{sign}{i}00.00\n" for i in range(1, 13))
        (tmp_path / f"{name}.csv").write_text(f"id,date,amount\n{rows}", encoding="utf-8")
    inside("open", "case", "--currency", "USD", cwd=tmp_path)
    case = tmp_path / "case"
    for name in "ab":
        inside("intake", f"../{name}.csv", "--as", name, cwd=case)
        inside("try", "top", name, "--share", "10%", "--keep", f"top of {name}", cwd=case)
    refused = inside("intake", "../c.csv", "--as", "a", cwd=case, code=2).stderr
    assert "are in USD" in refused and "in EUR, which do not add up" in refused
    inside("screen", "--as", "KL", cwd=case)
    said = inside("queue", cwd=case).stdout
    assert "EUR and USD" in said and "1,200.00 EUR" in said and "1,200.00 USD" in said
    for item in inside_json("queue", cwd=case):
        inside(
            "review",
            item["id"],
            "--error",
            "--amount",
            "100.00",
            "--reason",
            "twice",
            "--as",
            "KL",
            cwd=case,
        )
    inside("paper", cwd=case)
    page = (case / "papers" / "working-paper.html").read_text(encoding="utf-8")
    assert "200.00 EUR and 200.00 USD in all" in page or "200.00 USD and 200.00 EUR in all" in page
    assert "2,300.00 EUR and 2,300.00 USD" in page or "2,300.00 USD and 2,300.00 EUR" in page
