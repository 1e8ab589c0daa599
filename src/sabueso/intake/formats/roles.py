"""Roles guessed from header words and from what the columns hold."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping, Sequence

from sabueso.population.table import Column, Role

# Header words in English and Spanish, the most telling first. A word ends in * where more may
# follow. The trade's words only: a header that says something else gets no role.
_WORDS: dict[Role, str] = {
    "debit": "debit debe dr cargo",
    "credit": "credit haber cr abono",
    "amount": "amount importe monto amt value valor net neto total presupuesto budget sum suma",
    "quantity": "quantity cantidad qty unidades units litros litres liters",
    "price": "price precio rate tarifa",
    "date": "date fecha posting posted day dia booked month mes",
    "entered": "entered created time hora timestamp registro alta",
    "approver": "approver approved aprobado aprueba autorizado authorised authorized",
    "preparer": "preparer prepared preparado usuario user operator operador initials contabilizado",
    "party": "party supplier vendor proveedor payee beneficiario customer cliente employee empleado "
    "acreedor counterparty tercero",
    "account": "account cuenta acct ledger",
    "document": "document documento invoice factura voucher reference referencia ref",
    "text": "text texto description descripcion concepto memo narrative detalle glosa name nombre",
    "currency": "currency moneda divisa ccy",
    "id": "id pago payment entry asiento number numero no num codigo code transaction movimiento",
}
_CODE_WORDS = re.compile(
    r"\b(id|code|codigo|no|num|numero|number|iban|bic|nif|cif|vat|tax|phone|telefono|zip|postal|"
    r"cuenta|account|asiento|entry|factura|invoice|document|documento|ref\w*|pago|employee|"
    r"empleado|proveedor|supplier|cliente|customer|usuario|user)\b"
)
_NUMBER_ROLES: tuple[Role, ...] = ("debit", "credit", "amount", "quantity", "price")


def folded(name: str) -> str:
    """Lower case, without accents, words apart: ``N.º Factura`` -> ``n o factura``."""
    plain = unicodedata.normalize("NFKD", name)
    plain = "".join(c for c in plain if not unicodedata.combining(c)).lower()
    return " ".join(re.findall(r"[a-z]+|[0-9]+", plain))


def looks_like_code(name: str) -> bool:
    """Whether a header names identifiers, whose digits are not a quantity."""
    return _CODE_WORDS.search(folded(name)) is not None


def looks_like_measure(name: str) -> bool:
    """Whether a header names amounts or dates, so that texts among them are damage."""
    words = " ".join(_WORDS[role] for role in (*_NUMBER_ROLES, "date")).split()
    return any(part in words for part in folded(name).split())


def looks_like_date(name: str) -> bool:
    """Whether a header names a date."""
    words = _WORDS["date"].split()
    return any(part in words for part in folded(name).split())


SIDE_SIGNS = {
    **dict.fromkeys(("D", "DR", "S", "DEBE", "DEBIT", "SOLL", "CARGO", "+"), 1),
    **dict.fromkeys(("C", "CR", "H", "HABER", "CREDIT", "HABEN", "ABONO", "-"), -1),
}
"""Texts that name the side of the ledger, upper case, and the sign of an amount on it."""


def side_column(samples: Mapping[str, Sequence[str]], amounts: Sequence[str]) -> str | None:
    """The column that tells the side of each amount: both sides' marks and little else, and no amount
    with a minus of its own, which would say that the amounts are signed already."""
    if any("-" in text or "(" in text for text in amounts):
        return None
    for name, values in samples.items():
        signs = [SIDE_SIGNS.get(value.upper()) for value in values]
        odd = signs.count(None)
        if {1, -1} <= set(signs) and 4 * odd <= len(signs):
            return name
    return None


def guess_roles(
    columns: Sequence[Column], distinct: Mapping[str, tuple[int, int]]
) -> dict[Role, str]:
    """Roles of columns, each role and each column at most once.

    Parameters
    ----------
    columns : sequence of Column
        The columns with their types.
    distinct : mapping of str to (int, int)
        Per column, distinct and non-empty texts in the sample.
    """
    found: dict[Role, str] = {}
    taken: set[str] = set()

    def suits(role: Role, column: Column) -> bool:
        if role in _NUMBER_ROLES:
            return column.type == "number"
        if role == "date":
            return column.type in ("date", "timestamp")
        if role == "entered":
            return column.type in ("date", "timestamp", "time")
        if role == "id":
            n, rows = distinct.get(column.name, (0, 0))
            return column.type in ("text", "number") and rows > 0 and n >= 0.2 * rows
        return column.type == "text"

    def named_otherwise(role: Role, column: Column) -> bool:
        # A bank account is no ledger account.
        parts = set(folded(column.name).split())
        if role == "currency":
            return "foreign" in parts
        return role == "account" and bool(parts & {"bancaria", "bank", "iban"})

    def best(role: Role) -> str | None:
        words = _WORDS[role].split()
        scored = []
        for position, column in enumerate(columns):
            if column.name in taken or not suits(role, column) or named_otherwise(role, column):
                continue
            parts = folded(column.name).split()
            ranks = [words.index(part) for part in parts if part in words]
            if ranks:
                scored.append((len(parts) > 1, min(ranks), position, column.name))
        return min(scored)[3] if scored else None

    for role in _WORDS:
        name = best(role)
        if name is not None:
            found[role] = name
            taken.add(name)
    # A debit without a credit is only a column called "cargo".
    if ("debit" in found) != ("credit" in found):
        alone: Role = "debit" if "debit" in found else "credit"
        name = found.pop(alone)
        if "amount" not in found:
            found["amount"] = name
    if "date" not in found:
        filled = max((rows for _, rows in distinct.values()), default=0)
        dates = [
            c.name
            for c in columns
            if c.type in ("date", "timestamp")
            and c.name not in taken
            and 2 * distinct.get(c.name, (0, 0))[1] >= filled  # most rows have no day of leaving
        ]
        if len(dates) == 1:
            found["date"] = dates[0]
    if "id" not in found and columns and columns[0].name not in taken:
        n, rows = distinct.get(columns[0].name, (0, 0))
        if rows and n == rows and columns[0].type == "text":
            found["id"] = columns[0].name
    return found
