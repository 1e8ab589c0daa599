"""Of amounts in several currencies, and the same in one currency beside them, which are the table's."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from sabueso.base.currencies import written
from sabueso.intake.formats.called import worded
from sabueso.intake.formats.currencies import (
    currency_column,
    names_ledgers_side,
    names_one_currency,
    stated_currency,
)
from sabueso.intake.formats.header_words import CURRENCY_WORDS, WORDS
from sabueso.intake.formats.role_words import MONEY
from sabueso.intake.formats.roles import may_have
from sabueso.population.table import Column, Role


def ledgers_sides(guessed: dict[Role, str], columns: Sequence[Column]) -> None:
    """Of two pairs of a debit and a credit, as entered and in the ledger's currency, the latter are the table's."""
    free = [c.name for c in columns if c.type == "number" and c.name not in guessed.values()]
    own = [name for name in free if names_ledgers_side(name)]
    sides: dict[Role, list[str]] = {
        role: [name for name in own if not set(WORDS[role].split()).isdisjoint(worded(name))]
        for role in ("debit", "credit")
    }
    if all(len(names) == 1 for names in sides.values()):
        guessed |= {role: names[0] for role, names in sides.items()}
        # It tells in what the others stand.
        guessed.pop("currency", None)


def own_currency(
    guessed: dict[Role, str], columns: Sequence[Column], samples: Mapping[str, list[str]]
) -> None:
    """Of several columns of currencies, the one of the amounts: called as they are, or beside them as each is
    beside its own."""
    amount = guessed.get("amount")
    told = [
        c.name
        for c in columns
        if c.type == "text"
        and (c.name not in guessed.values() or c.name == guessed["currency"])
        and _has_currencies(c.name, samples[c.name])
    ]
    if amount is None or len(told) < 2:
        return
    stems = _stems(amount)
    named = [name for name in told if stems & _stems(name)]
    if len(named) == 1:
        guessed["currency"] = named[0]
        return
    places = {column.name: i for i, column in enumerate(columns)}
    money = {places[c.name] for c in columns if c.type == "number"}
    # Where the first of them has no amount before it, each stands before its own.
    step = 1 if places[told[0]] - 1 in money else -1
    for name in told:
        if places[name] - step == places[amount]:
            guessed["currency"] = name


def _has_currencies(name: str, values: Sequence[str]) -> bool:
    """Whether a column of texts is called as currencies are, or has nothing but their codes."""
    return may_have("currency", name) or currency_column({name: values}) is not None


_SAME = {"paid": "pay", "payment": "pay", "payable": "pay", "received": "receiv", "receipt": "receiv", "receiving": "receiv",
         "lc": "local", "dc": "doc", "document": "doc", "trans": "transaction", "txn": "transaction", "tc": "transaction",
         "orig": "original", "base": "functional", "converted": "settlement", "settled": "settlement"}  # fmt: skip
"""Words that say the same of an amount and of its currency."""


def _stems(name: str) -> set[str]:
    """What a name says of amounts or of a currency besides that it is one."""
    plain = CURRENCY_WORDS | MONEY | {"code", "codigo", "iso", "in", "of"}
    return {_SAME.get(word, word) for word in worded(name) if _SAME.get(word) or word not in plain}


_MONEY = frozenset(["amount", "amt", "value", "importe", "betrag", "montant", "importo", "valor", "total"])  # fmt: skip
_PARTS = frozenset(
    ["fee", "fees", "tax", "vat", "iva", "mwst", "tva", "charge", "charges", "discount", "duty", "freight", "commission",
     "shipping", "tip", "interest", "balance", "saldo", "limit", "price", "rate", "budget", "gebuhr", "frais", "rabatt"]
)  # fmt: skip
"""Words of what is a part of an amount, or stands beside it."""


def leave_anothers(guessed: dict[Role, str], columns: Sequence[Column]) -> None:
    """Give no amounts the currency of others: a fee's currency is that of the fee."""
    amount = set(worded(guessed.get("amount", guessed.get("debit", ""))))
    of = set(worded(guessed["currency"])) - CURRENCY_WORDS - {"code", "codigo", "iso"}
    others = [set(worded(c.name)) for c in columns if c.type == "number"]
    theirs = any(of <= words <= of | _MONEY for words in others)
    if amount and of and amount.isdisjoint(of) and theirs:
        del guessed["currency"]


def in_one_currency(
    guessed: dict[Role, str], columns: Sequence[Column], samples: Mapping[str, list[str]]
) -> None:
    """Of amounts in several currencies, and the same in one beside them, the latter are the table's."""
    if len({written(v) for v in samples[guessed["currency"]]}) < 2:
        return
    sided = "debit" in guessed
    free = [
        column.name
        for column in columns
        if column.type == "number"
        and (column.name not in guessed.values() or column.name == guessed.get("amount"))
        # Beside a debit and a credit it is their difference, and has a sign.
        and (not sided or any(re.search(r"[-−(]", value) for value in samples[column.name]))
    ]
    named = [name for name in free if names_one_currency(name)]
    # Where the name says no more of the amounts than their currency, it is the only one that does.
    stated = [
        name for name in free if stated_currency(name, {}, "") and _PARTS.isdisjoint(worded(name))
    ]
    if named or len(stated) == 1:
        for role in ("currency", "debit", "credit"):
            guessed.pop(role, None)
        guessed["amount"] = (named or stated)[0]
        texts = {c.name for c in columns if c.type == "text" and c.name not in guessed.values()}
        single = (n for n, v in samples.items() if n in texts and len(set(map(written, v))) == 1)
        only = next((name for name in single if _has_currencies(name, samples[name])), None)
        if only is not None:
            guessed["currency"] = only
        return
    if "amount" in guessed:
        _of_another_pair(guessed, columns, samples)


def _of_another_pair(
    guessed: dict[Role, str], columns: Sequence[Column], samples: Mapping[str, list[str]]
) -> None:
    """The amounts of a second pair of an amount and its currency that stand as the first do, where those are in
    one currency."""
    places = {column.name: i for i, column in enumerate(columns)}
    amount = places[guessed["amount"]]
    step = places[guessed["currency"]] - amount
    if abs(step) != 1:
        return
    for place, column in enumerate(columns):
        beside = columns[place + step].name if 0 <= place + step < len(columns) else None
        free = place != amount and column.name not in guessed.values() and column.type == "number"
        if beside is None or not free or beside in guessed.values():
            continue
        codes = {written(each) for each in samples[beside]}
        if len(codes) == 1 and _has_currencies(beside, samples[beside]):
            guessed |= {"amount": column.name, "currency": beside}
            return
