"""Bank statements as SWIFT's message MT940 writes them: fields between colons, one or more lines each."""

from __future__ import annotations

import re
from collections.abc import Collection, Generator, Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.intake.interface import Batch, Damaged, Layout
from sabueso.intake.readers.cells import (
    Record,
    batches_of,
    first_rows,
    short_day,
    stating_balances,
    text_table,
)
from sabueso.intake.readers.source import opened, text_lines
from sabueso.intake.settings import ReadSettings

HEADER = [
    "entry", "booked", "value date", "amount", "currency", "account", "counterparty",
    "counterparty account", "reference", "remittance", "statement",
]  # fmt: skip
AMOUNT = "amount"
LOOKED_AT = 4096
_FIELD = re.compile(r":(\d{2}[A-Z]?):(.*)", re.DOTALL)
_ENTRY = re.compile(
    r"(?P<value>\d{6})(?P<booked>\d{4})?(?P<side>R?[CD])[A-Z]?(?P<amount>\d[\d.]*(?:,\d*)?)"
    r"(?P<kind>[A-Z][A-Z0-9]{3})?(?P<reference>[^\n]*)"
)
_BALANCE = re.compile(r"(?P<side>[CD])(?P<day>\d{6})(?P<currency>[A-Z]{3})(?P<amount>\d+(?:,\d*)?)")
# A credit reversed is money out, a debit reversed money in.
_SIGNS = {"C": 1, "D": -1, "RC": -1, "RD": 1}
_PART = re.compile(r"[?](\d\d)")


@dataclass
class _Statement:
    """What the fields before the entries say of them."""

    number: str | None = None
    account: str | None = None
    currency: str | None = None
    balances: dict[str, Decimal] = field(default_factory=dict)


class BankLinesReader:
    """One row an entry; what goes out is negative. The balances that the bank states are checked."""

    suffixes = (".sta", ".mt940", ".940", ".swi", ".txt")
    unit = "entries"

    def takes(self, path: Path) -> bool:
        with opened(path) as file:
            head = file.read(LOOKED_AT)
        lines = head.decode("latin-1").replace("\r", "\n").split("\n")
        tags = {found[1] for line in lines if (found := _FIELD.match(line))}
        return "25" in tags and bool({"60F", "60M"} & tags)

    def layout(self, path: Path, settings: ReadSettings) -> Layout:
        rows = first_rows(_entries(path, {}, settings))
        if not rows:
            raise UserError(f"{path}: the statement has no entries that can be read")
        return Layout(HEADER, 0, {"form": "SWIFT MT940"}, text_table(HEADER, rows))

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        stated: dict[str, Decimal] = {}
        yield from batches_of(HEADER, _entries(path, stated, settings))
        if stated:
            yield stating_balances(HEADER, stated, AMOUNT)


def _entries(
    path: Path, stated: dict[str, Decimal], settings: ReadSettings
) -> Iterator[Record | Damaged]:
    """Entries by the line they begin on; ``stated`` gets each statement's change of balance."""
    now = _Statement()
    waiting: Record | None = None
    for line, tag, text in _fields(path, settings):
        if tag == "86" and waiting is not None:
            yield waiting[0], {**waiting[1], **_remittance(text)}
            waiting = None
            continue
        if waiting is not None:
            yield waiting
            waiting = None
        if tag == "20":
            now = _Statement()
        elif tag == "25":
            now.account = text.strip()
        elif tag in ("28", "28C"):
            now.number = text.strip()
        elif tag[:2] in ("60", "62"):
            balance = _BALANCE.match(text)
            if balance is None:
                raise UserError(f"{path}, line {line}: expected a balance such as C240131EUR12,50")
            now.currency = balance["currency"]
            now.balances[tag[:2]] = _SIGNS[balance["side"]] * _decimal(balance["amount"])
            if tag[:2] == "62" and "60" in now.balances:
                change = now.balances["62"] - now.balances["60"]
                stated[f"{now.account} {now.number} {line}"] = change
        elif tag == "61":
            entry = _ENTRY.match(text)
            if entry is None:
                reason = "expected an entry such as 2401310131D12,50NTRF"
                yield Damaged(line, "amount", text.split("\n")[0], reason, text)
            else:
                waiting = line, _entry(entry, now)
    if waiting is not None:
        yield waiting


def _fields(path: Path, settings: ReadSettings) -> Iterator[tuple[int, str, str]]:
    """(line, tag, text) of each field, the lines that go on with it joined by line feeds."""
    begun: tuple[int, str, list[str]] | None = None
    for number, line in enumerate(text_lines(path, settings.encoding), start=1):
        found = _FIELD.match(line)
        if found is None and begun is not None and line.strip() not in ("-", "-}", ""):
            begun[2].append(line)
        elif found is not None:
            if begun is not None:
                yield begun[0], begun[1], "\n".join(begun[2])
            begun = number, found[1], [found[2]]
    if begun is not None:
        yield begun[0], begun[1], "\n".join(begun[2])


def _decimal(text: str) -> Decimal:
    return Decimal(text.replace(".", "").replace(",", ".").rstrip("."))


def _entry(entry: re.Match[str], now: _Statement) -> dict[str, str | None]:
    year, booked = entry["value"][:2], entry["booked"]
    month = entry["value"][2:4]
    if booked and (month, booked[:2]) in (("12", "01"), ("01", "12")):
        # Valued in December, booked in January, or the other way about.
        year = f"{int(year) + (1 if month == '12' else -1):02d}"
    reference, _, own = entry["reference"].strip().partition("//")
    return {
        "entry": own.strip() or None,
        "booked": short_day(year + booked if booked else entry["value"]),
        "value date": short_day(entry["value"]),
        "amount": str(_SIGNS[entry["side"]] * _decimal(entry["amount"])),
        "currency": now.currency,
        "account": now.account,
        "reference": None if reference in ("", "NONREF") else reference,
        "statement": now.number,
    }


def _remittance(text: str) -> dict[str, str | None]:
    """The parts of an entry's text; where it has no marked parts, all of it."""
    joined = text.replace("\n", "")
    pieces = _PART.split(joined)
    if len(pieces) < 3:
        return {"remittance": " ".join(text.split()) or None}
    parts = list(zip(pieces[1::2], pieces[2::2], strict=True))

    def of(*codes: str) -> str | None:
        return "".join(value for code, value in parts if code in codes).strip() or None

    return {
        "remittance": of(*(f"{n}" for n in (*range(20, 30), *range(60, 64)))),
        "counterparty account": of("31"),
        "counterparty": of("32", "33"),
    }
