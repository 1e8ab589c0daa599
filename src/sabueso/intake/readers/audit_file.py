"""General-ledger entries of the OECD's Standard Audit File for Tax (SAF-T)."""

from __future__ import annotations

from collections.abc import Collection, Generator, Iterator
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.intake.interface import Batch, Layout
from sabueso.intake.readers.cells import Record, batches_of, first_rows, stating, text_table
from sabueso.intake.readers.xml_elements import elements, root_name, value
from sabueso.intake.settings import ReadSettings

HEADER = [
    "transaction", "line", "journal", "date", "entered", "account", "debit", "credit", "party",
    "document", "preparer", "description", "foreign currency",
]  # fmt: skip
_LINES = ("Line", "DebitLine", "CreditLine")


class AuditFileReader:
    """One row a line of a transaction. The number and the totals the file states are checked."""

    suffixes = (".xml",)
    unit = "lines of transactions"

    def takes(self, path: Path) -> bool:
        return root_name(path)[1] == "AuditFile"

    def layout(self, path: Path, settings: ReadSettings) -> Layout:
        head = first_rows(_rows(path, {}))
        if not head:
            raise UserError(f"{path}: the audit file has no general-ledger entries")
        return Layout(HEADER, 0, {"form": "OECD SAF-T"}, text_table(HEADER, head))

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        stated: dict[str, Decimal] = {}
        yield from batches_of(HEADER, _rows(path, stated))
        if stated:
            yield stating(HEADER, "totals of the general-ledger entries", stated)


def _rows(path: Path, stated: dict[str, Decimal]) -> Iterator[Record]:
    """Lines by their number in the file; ``stated`` gets the totals of debits and credits."""
    number, journal = 0, None
    names = ("JournalID", "TotalDebit", "TotalCredit")
    for name, element in elements(path, "Transaction", names):
        parent = element.getparent()
        within = "" if parent is None else str(parent.tag).rpartition("}")[2]
        if name == "JournalID" and within == "Journal":
            journal = (element.text or "").strip()
        elif name in ("TotalDebit", "TotalCredit") and within == "GeneralLedgerEntries":
            try:
                stated[name.removeprefix("Total").lower()] = Decimal((element.text or "").strip())
            except InvalidOperation:
                continue
        elif name == "Transaction":
            common = _transaction(element) | {"journal": journal}
            for line in element.iter(*(f"{{*}}{each}" for each in _LINES)):
                number += 1
                yield number, common | _line(line)


def _first(element: Any, *paths: str) -> str | None:
    return next((found for path in paths if (found := value(element, path))), None)


def _transaction(element: Any) -> Cells:
    entered = _first(element, "SystemEntryDate", "SystemEntryTime")
    return {
        "transaction": value(element, "TransactionID"),
        "date": _first(element, "GLPostingDate", "TransactionDate", "PostingDate"),
        "entered": entered.replace("T", " ") if entered else None,
        "preparer": _first(element, "SourceID", "OperatorID"),
        "party": _first(element, "CustomerID", "SupplierID"),
        "document": value(element, "DocArchivalNumber"),
        "description": value(element, "Description"),
    }


def _line(element: Any) -> Cells:
    kind = str(element.tag).rpartition("}")[2]
    debit = _first(element, "DebitAmount/Amount", "DebitAmount")
    credit = _first(element, "CreditAmount/Amount", "CreditAmount")
    if kind != "Line" and debit is None and credit is None:
        amount = _first(element, "Amount/Amount", "Amount")
        debit, credit = (amount, None) if kind == "DebitLine" else (None, amount)
    found = {
        "line": value(element, "RecordID"),
        "account": value(element, "AccountID"),
        "debit": debit,
        "credit": credit,
        "party": _first(element, "CustomerID", "SupplierID"),
        "document": value(element, "SourceDocumentID"),
        "description": value(element, "Description"),
        "foreign currency": _first(
            element, "DebitAmount/CurrencyCode", "CreditAmount/CurrencyCode"
        ),
    }
    # What a line does not say of itself, its transaction says.
    return {
        key: item for key, item in found.items() if item is not None or key in ("debit", "credit")
    }
