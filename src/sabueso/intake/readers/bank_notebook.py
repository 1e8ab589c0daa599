"""Bank statements as the Spanish banks' notebook 43 (AEB, formerly CSB) lays them out: records of 80 places."""

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
    "booked", "value date", "amount", "currency", "account", "concept", "document", "reference",
    "second reference", "remittance", "foreign amount", "foreign currency",
]  # fmt: skip
AMOUNT = "amount"
LOOKED_AT = 8192
_HEAD = re.compile(
    r"11(?P<bank>\d{4})(?P<branch>\d{4})(?P<account>\d{10})(?P<first>\d{6})(?P<last>\d{6})"
    r"(?P<side>[12])(?P<amount>\d{14})(?P<currency>\d{3})"
)
_ENTRY = re.compile(
    r"22.{4}.{4}(?P<booked>\d{6})(?P<value>\d{6})(?P<concept>.{2})(?P<own>.{3})(?P<side>[12])"
    r"(?P<amount>\d{14})(?P<document>.{0,10})(?P<first>.{0,12})(?P<second>.{0,16})"
)
_FOREIGN = re.compile(r"2401(?P<currency>\d{3})(?P<amount>\d{14})")
_END = re.compile(
    r"33\d{18}(?P<debits>\d{5})(?P<debit>\d{14})(?P<credits>\d{5})(?P<credit>\d{14})"
    r"(?P<side>[12])(?P<amount>\d{14})"
)
_LAST = re.compile(r"889{18}(?P<records>\d{6})")
_SIGNS = {"1": -1, "2": 1}
_CURRENCIES = {
    "978": "EUR", "840": "USD", "826": "GBP", "756": "CHF", "392": "JPY", "208": "DKK", "752": "SEK", "578": "NOK",
    "985": "PLN", "203": "CZK", "348": "HUF", "946": "RON", "975": "BGN", "949": "TRY", "504": "MAD", "124": "CAD",
    "036": "AUD", "156": "CNY", "484": "MXN", "986": "BRL", "032": "ARS", "152": "CLP", "170": "COP", "604": "PEN",
    "724": "ESP",
}  # fmt: skip
"""Numbers of ISO 4217 and its letters."""


@dataclass
class _Account:
    """What an account's first record states, and what was counted since."""

    line: int
    number: str
    currency: str
    opening: Decimal
    counted: dict[str, int] = field(default_factory=lambda: {"1": 0, "2": 0})


class BankNotebookReader:
    """One row a movement; what goes out is negative. Balances, numbers of movements and of records are checked."""

    suffixes = (".n43", ".q43", ".c43", ".csb", ".aeb", ".txt", ".dat")
    unit = "entries"

    def takes(self, path: Path) -> bool:
        with opened(path) as file:
            head = file.read(LOOKED_AT).decode("latin-1").splitlines()
        return (
            bool(head)
            and bool(_HEAD.match(head[0]))
            and len(head) > 1
            and head[1][:2] in ("22", "33")
        )

    def layout(self, path: Path, settings: ReadSettings) -> Layout:
        rows = first_rows(_entries(path, {}, settings))
        if not rows:
            raise UserError(f"{path}: the statement has no movements that can be read")
        return Layout(HEADER, 0, {"form": "AEB notebook 43"}, text_table(HEADER, rows))

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
    """Movements by the line they begin on; ``stated`` gets each account's change of balance."""
    account: _Account | None = None
    waiting: tuple[int, dict[str, str | None]] | None = None
    records, ended, lost = 0, False, False
    for line, text in enumerate(text_lines(path, settings.encoding), start=1):
        if not text.strip():
            continue
        kind = text[:2]
        if kind == "23" and waiting is not None:
            parts = [waiting[1]["remittance"], text[4:42].strip(), text[42:80].strip()]
            waiting[1]["remittance"] = " ".join(part for part in parts if part) or None
            records += 1
            continue
        if kind == "24" and waiting is not None:
            foreign = _FOREIGN.match(text)
            if foreign is not None:
                waiting[1]["foreign amount"] = str(_money(foreign["amount"]))
                waiting[1]["foreign currency"] = _currency(foreign["currency"])
            records += 1
            continue
        if kind in ("23", "24") and lost:
            records += 1  # of a movement that is set aside
            continue
        if waiting is not None:
            yield waiting
            waiting = None
        lost = False
        if kind == "88" and (last := _LAST.match(text)):
            ended = True
            if int(last["records"]) != records:
                reason = f"{int(last['records']):,} records are stated, and {records:,} stand above"
                yield Damaged(line, "", "", reason, text)
            continue
        records += 1
        if kind == "11" and (head := _HEAD.match(text)):
            if account is not None:
                yield _not_closed(account)
            account = _opened(line, head)
        elif kind == "22" and account is not None and (entry := _ENTRY.match(text)):
            account.counted[entry["side"]] += 1
            waiting = line, _movement(entry, account)
        elif kind == "33" and account is not None and (end := _END.match(text)):
            closing = _SIGNS[end["side"]] * _money(end["amount"])
            stated[f"{account.number} {account.line}"] = closing - account.opening
            yield from _counted(line, end, account, text)
            account = None
        else:
            reason = "expected a record 11, 22, 23, 24, 33 or 88 of notebook 43, in its place"
            lost = kind == "22"
            yield Damaged(line, "", text[:2], reason, text)
    if waiting is not None:
        yield waiting
    if account is not None:
        yield _not_closed(account)
    elif not ended and stated:
        yield Damaged(line, "", "", "the file ends without its record 88: it may be cut", "")


def _opened(line: int, head: re.Match[str]) -> _Account:
    number = "-".join((head["bank"], head["branch"], head["account"]))
    opening = _SIGNS[head["side"]] * _money(head["amount"])
    return _Account(line, number, _currency(head["currency"]), opening)


def _not_closed(account: _Account) -> Damaged:
    reason = f"account {account.number} has no record 33: the file is cut, or a record is lost"
    return Damaged(account.line, "", "", reason, "")


def _counted(line: int, end: re.Match[str], account: _Account, text: str) -> Iterator[Damaged]:
    """What an account's last record states of how many movements it has, where there are others."""
    stated = {"1": int(end["debits"]), "2": int(end["credits"])}
    if stated != account.counted:
        reason = (
            f"account {account.number}: {stated['1']:,} debits and {stated['2']:,} credits are stated, and "
            f"{account.counted['1']:,} and {account.counted['2']:,} stand above"
        )
        yield Damaged(line, "", "", reason, text)


def _movement(entry: re.Match[str], account: _Account) -> dict[str, str | None]:
    return {
        "booked": short_day(entry["booked"]),
        "value date": short_day(entry["value"]),
        "amount": str(_SIGNS[entry["side"]] * _money(entry["amount"])),
        "currency": account.currency,
        "account": account.number,
        "concept": "-".join(
            part for part in (entry["concept"].strip(), entry["own"].strip()) if part
        )
        or None,
        "document": _number(entry["document"]),
        "reference": _number(entry["first"]),
        "second reference": entry["second"].strip() or None,
        "remittance": None,
        "foreign amount": None,
        "foreign currency": None,
    }


def _number(text: str) -> str | None:
    """A number as it stands; nothing but zeros is none."""
    return None if not text.strip().strip("0") else text.strip()


def _money(text: str) -> Decimal:
    return Decimal(text).scaleb(-2)


def _currency(number: str) -> str:
    return _CURRENCIES.get(number, number)
