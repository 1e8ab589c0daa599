"""The bank's statement of one month, as ISO 20022 camt.053."""

from __future__ import annotations

from datetime import date, timedelta
from pathlib import Path
from xml.sax.saxutils import escape

from sabueso.demo.payments import Payment
from sabueso.demo.world import World

NAMESPACE = "urn:iso:std:iso:20022:tech:xsd:camt.053.001.08"
IBAN = "ES7800000000000000000001"
OPENING = 184_302_117  # minor units
LINES = ("Isla Albarda", "Punta Sequera", "Los Carrizos")


def write_statement(path: Path, world: World, payments: list[Payment], month: date) -> None:
    """Payments of the month, booked up to three days later, and each day's fares, as entries.

    Voided payments of 0 and those booked after the month's end are not in it.
    """
    rng = world.rng("bank")
    banks = {s.id: (s.name, s.bank) for s in world.suppliers}
    last = date(month.year + month.month // 12, month.month % 12 + 1, 1) - timedelta(days=1)
    entries: list[tuple[date, int, str, str, str, str]] = []
    for payment in payments:
        booked = payment.day + timedelta(days=int(rng.integers(0, 4)))
        if payment.cents and month <= booked <= last:
            name, bank = banks.get(payment.supplier, (payment.supplier, ""))
            entries.append((booked, -payment.cents, name, bank, payment.id, payment.text))
    for offset in range((last - month).days + 1):
        for line in LINES:
            fares = int(rng.normal(820_000, 90_000))
            day = month + timedelta(days=offset)
            entries.append((day, fares, f"Taquilla {line}", "", "", f"billetes {day:%d/%m/%Y}"))
    entries.sort(key=lambda e: (e[0], e[4], e[1]))
    closing = OPENING + sum(e[1] for e in entries)
    written = "\n".join(_entry(i, *e) for i, e in enumerate(entries, 1))
    path.write_text(
        f'<?xml version="1.0" encoding="UTF-8"?>\n<Document xmlns="{NAMESPACE}"><BkToCstmrStmt>\n'
        f"<GrpHdr><MsgId>{month:%Y%m}</MsgId><CreDtTm>{last}T23:00:00</CreDtTm></GrpHdr>\n"
        f"<Stmt><Id>EXT-{month:%Y-%m}</Id><Acct><Id><IBAN>{IBAN}</IBAN></Id><Ccy>EUR</Ccy></Acct>\n"
        f"{_balance('OPBD', OPENING, month)}\n{_balance('CLBD', closing, last)}\n"
        f"{written}\n</Stmt></BkToCstmrStmt></Document>\n",
        encoding="utf-8",
    )


def _amount(cents: int) -> str:
    """Amount and side: what leaves the account is a debit."""
    side = "DBIT" if cents < 0 else "CRDT"
    size = f"{abs(cents) // 100}.{abs(cents) % 100:02d}"
    return f'<Amt Ccy="EUR">{size}</Amt><CdtDbtInd>{side}</CdtDbtInd>'


def _balance(code: str, cents: int, day: date) -> str:
    kind = f"<Tp><CdOrPrtry><Cd>{code}</Cd></CdOrPrtry></Tp>"
    return f"<Bal>{kind}{_amount(cents)}<Dt><Dt>{day}</Dt></Dt></Bal>"


def _entry(number: int, day: date, cents: int, name: str, bank: str, end: str, text: str) -> str:
    other = "Cdtr" if cents < 0 else "Dbtr"
    account = f"<{other}Acct><Id><IBAN>{bank}</IBAN></Id></{other}Acct>" if bank else ""
    reference = f"<Refs><EndToEndId>{end or 'NOTPROVIDED'}</EndToEndId></Refs>"
    return (
        f"<Ntry>{_amount(cents)}<Sts><Cd>BOOK</Cd></Sts><BookgDt><Dt>{day}</Dt></BookgDt>"
        f"<ValDt><Dt>{day}</Dt></ValDt><AcctSvcrRef>B{number:06d}</AcctSvcrRef><NtryDtls><TxDtls>"
        f"{reference}<RltdPties><{other}><Pty><Nm>{escape(name)}</Nm></Pty></{other}>{account}"
        f"</RltdPties><RmtInf><Ustrd>{escape(text)}</Ustrd></RmtInf></TxDtls></NtryDtls></Ntry>"
    )
