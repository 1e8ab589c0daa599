"""What is said of rows that may not count, or count otherwise: those called cancelled or not posted, credit notes
above nothing, plans beside actuals, and accounts that add up others. All are rows until somebody says otherwise."""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Mapping, Sequence
from decimal import Decimal

import numpy as np

from sabueso.base.words import listed
from sabueso.intake.balance_tells import told_by_balance
from sabueso.intake.formats.called import worded
from sabueso.intake.formats.downward import filled_cells, plain
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.intake.interface import Assumed
from sabueso.intake.readers.cells import num_lines
from sabueso.intake.reading import Reading
from sabueso.report import numbers as num

CALLED_OFF = frozenset(
    [
        "void", "voided", "cancelled", "canceled", "reversed", "deleted", "draft", "rejected", "declined", "failed",
        "bounced", "parked", "unposted", "not posted", "pending", "on hold", "held", "obsolete", "withdrawn",
        "anulado", "anulada", "cancelado", "cancelada", "rechazado", "rechazada", "borrador", "pendiente", "devuelto",
        "storniert", "storno", "abgelehnt", "entwurf", "geparkt", "vorerfasst", "gelöscht",
        "annulé", "annulée", "rejeté", "rejetée", "brouillon", "en attente",
        "annullato", "annullata", "respinto", "respinta", "bozza", "stornato", "stornata", "sospeso",
        "estornado", "estornada", "rascunho", "pendente", "rejeitado", "geannuleerd", "afgekeurd", "concept",
        "anulowany", "anulowana", "stornowano", "аннулирован", "отменен", "черновик", "сторно",
    ]
)  # fmt: skip
"""Texts that call a row off, or say that it is not posted, small letters."""
_HEADS = frozenset(
    ["void", "voided", "cancelled", "canceled", "cancel", "reversed", "deleted", "storno", "storniert", "anulado",
     "anulada", "annule", "annullato", "cancelado", "estornado", "geannuleerd"]
)  # fmt: skip
"""Words of headers under which a mark calls a row off."""
_MARKS = frozenset(["x", "y", "yes", "true", "t", "1", "j", "ja", "s", "si", "sí", "o", "oui", "sim", "v", "c", "r", "d", "a", "*"])  # fmt: skip
_NO_MARKS = frozenset(["", "n", "no", "false", "f", "0", "nein", "non", "não", "nao", "nee", "-"])
CREDITS = frozenset(
    ["cn", "nc", "ncr", "crn", "credit", "credit note", "credit memo", "creditnote", "refund", "refunded", "return",
     "reversal", "chargeback", "gutschrift", "rückerstattung", "erstattung", "nota de crédito", "nota de credito",
     "abono", "devolución", "avoir", "remboursement", "nota di credito", "rimborso", "creditnota", "estorno",
     "devolução", "korekta", "kreditnota"]
)  # fmt: skip
"""What is taken off what others are added to."""
ACTUAL = frozenset(["actual", "actuals", "real", "ist", "réel", "réalisé", "effettivo", "realizado", "act"])  # fmt: skip
PLANNED = frozenset(
    ["budget", "budgeted", "forecast", "plan", "planned", "presupuesto", "previsto", "prevision", "previsión",
     "budgété", "prévisionnel", "preventivo", "orçamento", "orcado", "begroting", "bud", "fcst"]
)  # fmt: skip
MOST_KINDS = 12
"""Distinct texts up to which a column says of what kind a row is."""
MOSTLY_ABOVE = 0.95
"""Share of amounts above nothing from which all are taken to have one sign."""
LEAST_CELLS = 4
"""Columns from which a line of one text is told from rows."""
LEAST_ADDED, MOSTLY_ADDED = 3, 0.8
"""Accounts that others begin with, and the share of them that are the sum of those, from which they are sums."""


_OF_KINDS = frozenset(
    ["type", "types", "tipo", "typ", "art", "kind", "class", "klasse", "doc", "document", "beleg", "transaction", "trans",
     "tran", "piece", "documento", "code"]
)  # fmt: skip
"""Words of columns that say of what kind a row is."""


def may_not_count(reading: Reading) -> list[Assumed]:
    """What is said of a file's first lines; nothing of a table without amounts."""
    amount = reading.roles.get("amount", reading.roles.get("debit"))
    sample = reading.layout.sample
    if amount is None or not sample.num_rows:
        return []
    values = _values(reading, amount)
    found = []
    for name in reading.seen():
        texts = [(text or "").strip() for text in plain(sample.column(name)).to_pylist()]
        kinds = Counter(filter(None, texts))
        if 0 < len(kinds) <= MOST_KINDS:
            found += [
                Assumed(f"{name}: {said}", key, (amount,))
                for said, key in (
                    (_called_off(name, kinds, len(texts)), "rules"),
                    (_above_nothing(name, texts, values), "columns"),
                    (_beside(kinds, len(texts)), "rules"),
                )
                if said
            ]
    return [
        *found,
        *told_by_balance(reading, amount),
        *_of_one_text(reading, amount),
        *_added_up_again(reading, amount),
    ]


def _of_one_text(reading: Reading, amount: str) -> list[Assumed]:
    """What is said of lines with one text and nothing else, such as the number of a page, in a table whose rows
    have days and amounts."""
    sample, date = reading.layout.sample, reading.roles.get("date")
    names = [
        n for n in sample.column_names if n in reading.formats and n not in reading.layout.added
    ]
    if date not in names or len(names) < LEAST_CELLS:
        return []
    filled = np.column_stack([filled_cells(sample.column(name)) for name in names])
    figures = [names.index(name) for name in (date, amount) if name in names]
    alone = np.flatnonzero((filled.sum(axis=1) == 1) & ~filled[:, figures].any(axis=1)).tolist()
    if not alone or len(alone) * 2 > len(filled):
        return []
    columns = [names[int(filled[place].argmax())] for place in alone]
    first = plain(sample.column(columns[0]))[alone[0]].as_py().strip()
    said = num.verb(len(alone), "holds", "hold")
    are = num.verb(len(alone), "it is a row like all others", "they are rows like all others")
    text = (
        f"{num.many(len(alone), 'line')} of the first {num_lines(len(filled))} {said} one text and nothing else, such as "
        f"{first!r}: {are}"
    )
    return [Assumed(text, "rules", tuple(dict.fromkeys(columns)))]


def _called_off(name: str, kinds: Mapping[str, int], lines: int) -> str:
    off = {text: many for text, many in kinds.items() if text.lower() in CALLED_OFF}
    marked = {text.lower() for text in kinds} <= _MARKS | _NO_MARKS
    if not off and marked and not _HEADS.isdisjoint(worded(name)):
        off = {text: many for text, many in kinds.items() if text.lower() in _MARKS}
    if not off:
        return ""
    many = sum(off.values())
    are = num.verb(many, "it is a row like all others", "they are rows like all others")
    return (
        f"{listed([repr(text) for text in off])} on {many:,} of the first {num_lines(lines)}: {are}"
    )


def _values(reading: Reading, amount: str) -> list[Decimal | None]:
    """The amounts of the first lines; none where they are made of two columns."""
    found, sample = reading.formats.get(amount), reading.layout.sample
    if amount not in sample.column_names or not isinstance(found, NumberFormat):
        return []
    if "side" in reading.roles:
        return []
    return list(found.read(plain(sample.column(amount))).to_pylist())


def _above_nothing(name: str, texts: Sequence[str], values: Sequence[Decimal | None]) -> str:
    """What is said of credit notes and their like whose amounts have the sign of all others."""
    known = [(text, v) for text, v in zip(texts, values, strict=False) if v]
    # Two letters may be a country's.
    kinds = not _OF_KINDS.isdisjoint(worded(name))
    credits = {text for text, _ in known if text.lower() in CREDITS and (kinds or len(text) > 2)}
    of_credits = [v for text, v in known if text in credits]
    others = [v for text, v in known if text not in credits]
    if not of_credits or not others:
        return ""
    if min(sum(v > 0 for v in part) / len(part) for part in (of_credits, others)) < MOSTLY_ABOVE:
        return ""
    named = list(dict.fromkeys(text for text, _ in known if text in credits))
    return (
        f"{listed([repr(text) for text in named])} on {len(of_credits):,} of the first {num_lines(len(texts))}, with "
        "amounts above nothing as all others: they are added, and not taken off"
    )


def _beside(kinds: Mapping[str, int], lines: int) -> str:
    told = {text: text.lower() for text in kinds}
    if ACTUAL.isdisjoint(told.values()) or PLANNED.isdisjoint(told.values()):
        return ""
    named = [
        f"{text!r} on {kinds[text]:,}" for text, low in told.items() if low in ACTUAL | PLANNED
    ]
    return f"{listed(named)} of the first {num_lines(lines)}: what was planned and what is are added up"


def _added_up_again(reading: Reading, amount: str) -> list[Assumed]:
    """What is said of a table of accounts in which some are the sums of those that begin with them."""
    sample, account = reading.layout.sample, reading.roles.get("account")
    column = amount if amount in sample.column_names else reading.roles.get("debit", "")
    found = reading.formats.get(column)
    if account not in sample.column_names or not isinstance(found, NumberFormat):
        return []
    codes = [(text or "").strip() for text in plain(sample.column(account)).to_pylist()]
    if len(set(codes)) < len(codes) or "" in codes:
        return []
    values = found.read(plain(sample.column(column))).to_pylist()
    sums = dict(zip(codes, (value or Decimal(0) for value in values), strict=True))
    # Where both are nothing, that they are equal tells nothing.
    parents = {code: total for code, total in _sums_of_others(sums).items() if total or sums[code]}
    hold = [code for code, total in parents.items() if sums[code] == total]
    if len(parents) < LEAST_ADDED or len(hold) < MOSTLY_ADDED * len(parents):
        return []
    text = (
        f"{account}: {len(hold):,} of the {len(parents):,} accounts that others begin with, such as {hold[0]!r}, have "
        f"what those add up to: the sum of {column} counts them again"
    )
    return [Assumed(text, "rules", (amount,))]


def _sums_of_others(sums: Mapping[str, Decimal]) -> dict[str, Decimal]:
    """Of each code that two longer ones or more begin with, what those add up to that none begins with.

    Examples
    --------
    >>> _sums_of_others({"1": Decimal(5), "10": Decimal(3), "11": Decimal(2), "2": Decimal(1)})
    {'1': Decimal('5')}
    """
    codes: Sequence[str] = sorted(sums)
    leaf = [
        not (place + 1 < len(codes) and codes[place + 1].startswith(code))
        for place, code in enumerate(codes)
    ]
    found = {}
    for place, code in enumerate(codes):
        end = bisect_left(codes, code + "\U0010ffff")
        below = [codes[i] for i in range(place + 1, end) if leaf[i]]
        if len(below) > 1:
            found[code] = sum((sums[each] for each in below), Decimal(0))
    return found
