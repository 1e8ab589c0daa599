"""Well-formed files of forms beside delimited text, whose rows and sum are known, for torture.py."""

from __future__ import annotations

import random
import struct
from collections.abc import Sequence
from decimal import Decimal
from html import escape

Rows = Sequence[tuple[str, str, Decimal]]


def page(rows: Rows, made: random.Random) -> tuple[str, bytes]:
    """A page with a table of rows, as programs write it under the suffix of a spreadsheet."""
    cells = "".join(
        f"<tr><td>{k}</td><td>{escape(t)}</td><td>{a:f}</td></tr>\n" for k, t, a in rows
    )
    head = "<tr><th>id</th><th>text</th><th>amount</th></tr>"
    title = made.choice(["", "<table><tr><td>Report</td></tr></table>"])
    text = f"<html><meta charset=utf-8><body>{title}<table>{head}{cells}</table></body></html>"
    return made.choice([".xls", ".html"]), text.encode()


def sheet_xml(rows: Rows, made: random.Random) -> tuple[str, bytes]:
    """A spreadsheet in the XML of 2003."""

    def cell(value: str, kind: str = "String") -> str:
        return f'<Cell><Data ss:Type="{kind}">{escape(value)}</Data></Cell>'

    body = "".join(f"<Row>{cell(k)}{cell(t)}{cell(f'{a:f}', 'Number')}</Row>" for k, t, a in rows)
    space = "urn:schemas-microsoft-com:office:spreadsheet"
    head = "".join(map(cell, ("id", "text", "amount")))
    text = (
        f'<?xml version="1.0"?><Workbook xmlns="{space}" xmlns:ss="{space}"><Worksheet ss:Name="S">'
        f"<Table><Row>{head}</Row>{body}</Table></Worksheet></Workbook>"
    )
    return made.choice([".xls", ".xml"]), text.encode()


def tabs(rows: Rows, made: random.Random) -> tuple[str, bytes]:
    """Tab-separated text under the suffix of a spreadsheet."""
    lines = [f"{k}\t{t.replace(chr(9), ' ').replace(chr(34), '')}\t{a:f}" for k, t, a in rows]
    text = "\r\n".join(["id\ttext\tamount", *lines]) + "\r\n"
    return ".xls", text.encode(made.choice(["utf-8", "utf-16"]))


def dbase(rows: Rows, made: random.Random) -> tuple[str, bytes]:
    """A dBASE table."""
    fields = [("ID", b"C", 8, 0), ("TEXT", b"C", 20, 0), ("AMOUNT", b"N", 16, 2)]
    head = struct.pack("<B3BIHH17xB2x", 3, 124, 1, 1, len(rows), 33 + 32 * 3, 45, 3)
    for name, kind, size, scale in fields:
        head += struct.pack("<11sc4xBB14x", name.encode(), kind, size, scale)
    body = b"".join(
        b" " + k.encode().ljust(8) + t.encode("cp1252", "replace")[:20].ljust(20) + f"{a:f}".encode().rjust(16)
        for k, t, a in rows
    )  # fmt: skip
    return ".dbf", head + b"\r" + body + made.choice([b"", b"\x1a"])


def swift(rows: Rows, made: random.Random) -> tuple[str, bytes]:
    """A bank statement in MT940, its balances those of its entries."""
    total = sum((a for _, _, a in rows), Decimal(0))

    def balance(tag: str, value: Decimal) -> str:
        side = "C" if value >= 0 else "D"
        return f":{tag}:{side}250101EUR{str(abs(value)).replace('.', ',')}"

    entries = [
        f":61:250102{'C' if a >= 0 else 'D'}{str(abs(a)).replace('.', ',')}NTRF{k}\n:86:{k} paid"
        for k, _, a in rows
    ]
    lines = [
        ":20:S1",
        ":25:ES00",
        ":28C:1",
        balance("60F", Decimal("0.00")),
        *entries,
        balance("62F", total),
    ]
    return made.choice([".sta", ".mt940"]), "\n".join([*lines, "-"]).encode()


def download(rows: Rows, made: random.Random) -> tuple[str, bytes]:
    """A bank statement in OFX."""
    entries = "".join(
        f"<STMTTRN><TRNTYPE>OTHER<DTPOSTED>20250102<TRNAMT>{a:f}<FITID>{k}<NAME>{k}</STMTTRN>\n"
        for k, _, a in rows
    )
    text = (
        "OFXHEADER:100\nDATA:OFXSGML\nVERSION:102\n\n<OFX><BANKMSGSRSV1><STMTTRNRS><STMTRS><CURDEF>EUR"
        f"<BANKACCTFROM><ACCTID>1</BANKACCTFROM><BANKTRANLIST>{entries}</BANKTRANLIST></STMTRS></STMTTRNRS>"
        "</BANKMSGSRSV1></OFX>"
    )
    return made.choice([".ofx", ".qfx"]), text.encode()


FORMS = (page, sheet_xml, tabs, dbase, swift, download)
