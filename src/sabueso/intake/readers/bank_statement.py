"""Bank statements, reports and notifications by the open standard ISO 20022: camt.053, 052, 054."""

from __future__ import annotations

from collections.abc import Collection, Generator, Iterator
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.intake.interface import Batch, Damaged, Layout
from sabueso.intake.readers.cells import (
    Record,
    batches_of,
    first_rows,
    stating_balances,
    text_table,
)
from sabueso.intake.readers.xml_elements import elements, root_name, value
from sabueso.intake.settings import ReadSettings

HEADER = [
    "entry", "booked", "value date", "amount", "currency", "status", "account", "counterparty",
    "counterparty account", "end to end", "remittance", "statement",
]  # fmt: skip
AMOUNT = "amount"
_MESSAGES = tuple(f"urn:iso:std:iso:20022:tech:xsd:camt.{n}" for n in ("052", "053", "054"))
_WHOLES = ("Stmt", "Rpt", "Ntfctn")


class BankStatementReader:
    """One row an entry; debits are negative. The balances the bank states are checked."""

    suffixes = (".xml",)
    unit = "entries"

    def takes(self, path: Path) -> bool:
        return root_name(path)[0].startswith(_MESSAGES)

    def layout(self, path: Path, settings: ReadSettings) -> Layout:
        head = first_rows(_entries(path, {}))
        if not head:
            raise UserError(f"{path}: the statement has no entries")
        kind = root_name(path)[0].rpartition(":")[2]
        sample = text_table(HEADER, head)
        return Layout(HEADER, 0, {"form": f"ISO 20022 {kind}"}, sample)

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        stated: dict[str, Decimal] = {}
        yield from batches_of(HEADER, _entries(path, stated))
        if stated:
            yield stating_balances(HEADER, stated, AMOUNT)


def _entries(path: Path, stated: dict[str, Decimal]) -> Iterator[Record | Damaged]:
    """Entries by their number in the file; ``stated`` gets each statement's change of balance."""
    number, account, statement = 0, None, None
    balances: dict[str, Decimal] = {}
    for name, element in elements(path, "Ntry", ("Id", "Acct", "Bal", *_WHOLES)):
        if name == "Acct" and _parent(element) in _WHOLES:
            account = value(element, "Id/IBAN") or value(element, "Id/Othr/Id")
        elif name == "Id" and _parent(element) in _WHOLES:
            statement = (element.text or "").strip()
        elif name == "Bal" and _parent(element) in _WHOLES:
            code = value(element, "Tp/CdOrPrtry/Cd") or ""
            amount = _signed(element)
            if amount is not None:
                balances[code] = amount
        elif name == "Ntry":
            number += 1
            row = _entry(element) | {"account": account, "statement": statement}
            if row["amount"] is None:
                reason = "expected an amount and CRDT or DBIT"
                yield Damaged(number, "amount", value(element, "Amt") or "", reason, str(row))
            else:
                yield number, row
        elif name in _WHOLES:
            opening = balances.get("OPBD", balances.get("PRCD"))
            if opening is not None and "CLBD" in balances:
                stated[statement or str(len(stated))] = balances["CLBD"] - opening
            balances = {}


def _parent(element: Any) -> str:
    parent = element.getparent()
    return "" if parent is None else str(parent.tag).rpartition("}")[2]


def _signed(element: Any) -> Decimal | None:
    text, side = value(element, "Amt"), value(element, "CdtDbtInd")
    try:
        amount = Decimal(text or "")
    except InvalidOperation:
        return None
    return {"CRDT": amount, "DBIT": -amount}.get(side or "")


def _entry(element: Any) -> Cells:
    amount = element.find("{*}Amt")
    details = element.find("{*}NtryDtls/{*}TxDtls")
    debit = value(element, "CdtDbtInd") == "DBIT"
    other = "Cdtr" if debit else "Dbtr"

    def detail(*paths: str) -> str | None:
        if details is None:
            return None
        return next((found for path in paths if (found := value(details, path))), None)

    def day(path: str) -> str | None:
        return value(element, f"{path}/Dt") or (value(element, f"{path}/DtTm") or "")[:10] or None

    return {
        "entry": value(element, "AcctSvcrRef") or value(element, "NtryRef"),
        "booked": day("BookgDt"),
        "value date": day("ValDt"),
        "amount": _signed(element),
        "currency": None if amount is None else amount.get("Ccy"),
        "status": value(element, "Sts/Cd") or value(element, "Sts"),
        "counterparty": detail(
            f"RltdPties/{other}/Pty/Nm", f"RltdPties/{other}/Nm", f"RltdPties/Ultmt{other}/Nm"
        ),
        "counterparty account": detail(
            f"RltdPties/{other}Acct/Id/IBAN", f"RltdPties/{other}Acct/Id/Othr/Id"
        ),
        "end to end": detail("Refs/EndToEndId"),
        "remittance": detail("RmtInf/Ustrd", "RmtInf/Strd/CdtrRefInf/Ref")
        or value(element, "AddtlNtryInf"),
    }
