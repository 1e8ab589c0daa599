"""The sides of the ledger, as texts and names of columns tell them."""

from __future__ import annotations

import unicodedata
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal

import pyarrow as pa

from sabueso.intake.formats.called import folded

SIDE_SIGNS = {
    **dict.fromkeys(
        (
            "D", "DR", "S", "DEBE", "DEBIT", "SOLL", "CARGO", "+", "DB", "DEB", "DBIT", "DEBITO", "DARE",
            "ADDEBITO", "AF", "OUT", "WITHDRAWAL", "MONEY OUT", "EXPENSE", "AUSGABE", "DEPENSE", "SORTIE",
            "USCITA", "GASTO", "EGRESO", "LASTSCHRIFT", "BELASTUNG", "SALIDA", "SAIDA", "VYDAJ", "WYDATEK", "OBCIAZENIE",
            "РАСХОД", "СПИСАНИЕ", "GIDER", "BORC", "支出", "出金", "출금", "借", "借方", "차변",
        ),
        1,
    ),
    **dict.fromkeys(
        (
            "C", "CR", "H", "HABER", "CREDIT", "HABEN", "ABONO", "-", "CRED", "CRDT", "CREDITO", "AVERE",
            "ACCREDITO", "BIJ", "IN", "DEPOSIT", "MONEY IN", "INCOME", "EINNAHME", "RECETTE", "ENTREE",
            "ENTRATA", "INGRESO", "GUTSCHRIFT", "ENTRADA", "PRIJEM", "WPLYW", "UZNANIE",
            "ПРИХОД", "ЗАЧИСЛЕНИЕ", "GELIR", "ALACAK", "收入", "入金", "입금", "贷", "貸方", "贷方", "대변",
        ),
        -1,
    ),
}  # fmt: skip
"""Texts that name the side of the ledger, or whether money goes out or comes in, upper case without
accents, and the sign of an amount on it."""


WORD = 4
"""Letters from which what is neither side is a word, and not a slip of a mark."""


def side_sign(text: str) -> int | None:
    """The sign of an amount beside a text that names its side."""
    plain = unicodedata.normalize("NFKD", text.strip())
    return SIDE_SIGNS.get("".join(c for c in plain if not unicodedata.combining(c)).upper())


def side_column(samples: Mapping[str, Sequence[str]], amounts: Sequence[str]) -> str | None:
    """The column that tells the side of each amount: both sides' marks and little else, and no amount
    with a minus of its own, which would say that the amounts are signed already. A word that comes again and is
    neither, such as a fee or a reversal beside deposits and withdrawals, makes it a column of kinds."""
    if any("-" in text or "(" in text for text in amounts):
        return None
    for name, values in samples.items():
        signs = [side_sign(value) for value in values]
        others = Counter(v for v, sign in zip(values, signs, strict=True) if sign is None)
        odd = others.total()
        if any(n > 1 and len(text.strip()) >= WORD for text, n in others.items()):
            continue
        if {1, -1} <= set(signs) and 4 * odd <= len(signs):
            return name
    return None


SIDES = frozenset(
    [
        "debit",
        "debe",
        "dr",
        "credit",
        "haber",
        "cr",
        "soll",
        "haben",
        "dare",
        "avere",
        "дебет",
        "кредит",
        "χρεωση",
        "πιστωση",
        "借方",
        "貸方",
        "贷方",
        "차변",
        "대변",
        "مدين",
        "دائن",
        "חובה",
        "זכות",
        "borc",
        "alacak",
        "tartozik",
        "kovetel",
        "duguje",
        "potrazuje",
        "debet",
        "kredit",
        "بدهکار",
        "بستانکار",
        "เดบิต",
        "เครดิต",
    ]
)
"""Words that name a side of the ledger and nothing else."""
_PHRASES = (
    ("money out", "money in"), ("paid out", "paid in"), ("payments", "receipts"), ("out", "in"),
    ("sortie", "entree"), ("sorties", "entrees"), ("uscite", "entrate"), ("payment", "receipt"),
    ("debit amount", "credit amount"), ("amount debit", "amount credit"), ("pagos", "cobros"), ("paid", "received"),
    ("amount paid", "amount received"), ("disbursements", "receipts"), ("outgoings", "incomings"), ("outgoing", "incoming"),
    ("drawings", "lodgements"), ("depenses", "recettes"), ("decaissements", "encaissements"), ("gastos", "ingresos"),
    ("pagamentos", "recebimentos"), ("saidas", "entradas"), ("pagamenti", "incassi"), ("ausgang", "eingang"),
    ("auszahlung", "einzahlung"), ("auszahlungen", "einzahlungen"), ("uit", "in"), ("ut", "inn"), ("ut", "in"),
)  # fmt: skip
"""Names of two columns, one for what goes out and one for what comes in, accents apart."""


_OF_MONEY = frozenset(
    ["amount", "amt", "value", "betrag", "importe", "montant", "importo", "valor", "bedrag", "total", "sum"]
)  # fmt: skip
"""Words of amounts that say nothing of their side."""


def phrased_pair(names: Sequence[str]) -> tuple[str, str] | None:
    """The columns of what goes out and of what comes in, by their names as they are or without words for money.

    Examples
    --------
    >>> phrased_pair(["Amount In", "Amount Out"]), phrased_pair(["Paid in", "Paid out", "Out"]), phrased_pair(["Qty In", "Qty Out"])
    (('Amount Out', 'Amount In'), ('Paid out', 'Paid in'), None)
    """
    whole = {folded(name): name for name in names}
    bare = {" ".join(w for w in name.split() if w not in _OF_MONEY): n for name, n in whole.items()}
    for known in (whole, bare):
        for out, into in _PHRASES:
            if out in known and into in known:
                return known[out], known[into]
    return None


MINUS_SHARE, CLEAR = 0.95, 10


def own_minus(values: Sequence[Decimal]) -> bool:
    """Whether the amounts of one side stand with a minus of their own, as money out does in some banks'
    downloads: all but a few."""
    return bool(values) and sum(v < 0 for v in values) >= MINUS_SHARE * len(values)


def clearly(values: Sequence[Decimal]) -> bool:
    """Whether there are so many amounts that their signs are a habit, and no few reversals."""
    below = sum(v < 0 for v in values)
    return len(values) >= CLEAR and max(below, len(values) - below) >= MINUS_SHARE * len(values)


def both_filled(sample: pa.Table) -> Callable[[str, str], bool]:
    """Whether most rows of a sample have a figure, and no nought, in both of two columns."""

    def holds(first: str, second: str) -> bool:
        sides = [
            [any(c in "123456789" for c in text or "") for text in sample.column(name).to_pylist()]
            for name in (first, second)
        ]
        return 2 * sum(a and b for a, b in zip(*sides, strict=True)) > sample.num_rows

    return holds
