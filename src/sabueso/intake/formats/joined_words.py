"""Names of columns that programs write in one piece: words without blanks between them, and short names of fields."""

from __future__ import annotations

from functools import cache

from sabueso.intake.formats import role_words
from sabueso.intake.formats.header_words import CODE_NAMES, RUNNING, WORDS

FIELDS = {
    # Of accounting documents and their lines.
    "bukrs": "company code", "gjahr": "fiscal year", "belnr": "document no", "buzei": "line", "blart": "document type",
    "bldat": "document date", "budat": "posting date", "cpudt": "entered date", "cputm": "entered time",
    "usnam": "user name", "tcode": "program code", "xblnr": "reference", "bktxt": "header comment", "stblg": "reversal no",
    "bschl": "posting key", "koart": "account type", "shkzg": "side", "umskz": "kind of entry", "mwskz": "tax code",
    "dmbtr": "amount in local currency", "wrbtr": "amount in document currency", "hwbas": "tax base", "mwsts": "tax",
    "hwste": "tax", "fwste": "tax in document currency", "skfbt": "discount base", "wskto": "discount",
    "waers": "currency", "hwaer": "local currency code", "kursf": "exchange rate", "hkont": "account no", "saknr": "account no",
    "sgtxt": "text", "zuonr": "assignment", "augbl": "clearing no", "augdt": "clearing date", "zfbdt": "due base date",
    "zterm": "payment terms", "rebzg": "settled invoice", "kostl": "cost center", "prctr": "profit center", "aufnr": "internal order",
    "hsl": "amount in local currency", "wsl": "amount in document currency", "racct": "account no", "rbukrs": "company code",
    "lifnr": "vendor no", "kunnr": "customer no", "pernr": "employee no", "vblnr": "payment no", "chect": "cheque no",
    "laufd": "run date", "laufi": "run", "hbkid": "house bank", "rwbtr": "amount paid", "zaldt": "payment date",
    # Of orders, goods and masters.
    "ebeln": "purchase order no", "ebelp": "order line", "bsart": "order type", "bedat": "order date", "matnr": "material no",
    "werks": "plant", "meins": "unit of measure", "netpr": "net price", "netwr": "net value", "vbeln": "sales document no",
    "fkdat": "billing date", "fkart": "billing type", "erdat": "created date", "ernam": "created by", "erzet": "created time",
    "aedat": "changed date", "aenam": "changed by", "stras": "street", "pstlz": "postal code", "stcd": "tax number",
    "bankn": "bank account no", "bankl": "bank branch", "banks": "bank country", "ktokk": "account group", "sperr": "blocked",
    # Of other systems of the kind.
    "amountmst": "amount in local currency", "amountcur": "amount in document currency", "txt": "text", "oprid": "user id",
    "accountingcurrencyamount": "amount in local currency", "transactioncurrencyamount": "amount in document currency",
    "recid": "record", "invoiceaccount": "party no", "orderaccount": "party no",
}  # fmt: skip
"""Short names of fields as accounting systems keep them, each in the words of a header."""
_WORDS = (
    "account accounting acct amount amt approval approved approver balance bank batch beneficiary bill billing book booking "
    "branch business by card cash category center centre charge check cheque city class client code comment company contract "
    "cost country created creation credit curr currency cust customer date datetime day debit department dept desc descr "
    "description dest destination discount doc document due effective employee end entered entry exchange expense fee fiscal "
    "flag from full gl gross group head header hour id inv invoice item journal key last ledger line loan local location "
    "manager member memo merchant method mode modified month name net new no nbr num number old order org orig original owner "
    "paid party pay payee payment payroll percent period person phone plan po point policy post posted posting price "
    "product project purchase qty quantity rate reason receipt receiver record ref reference refund region rent salary sale "
    "sales sender seq sequence serial settlement site source staff start state status store street sub supplier tax term "
    "text time total transaction transfer trans tran trx txn type unit update updated user value vat vendor voucher wage week "
    "year zip table vend limit count days budget opening closing interest principal instalment installment insurance premium claim "
    "patient student donor tenant driver asset ticket wallet "
    "cliente codigo concepto cuenta descripcion documento factura fecha importe movimiento numero pago proveedor tipo usuario "
    "compte libelle montant facture fournisseur piece conto fornitore fattura importo data cliente valor conta fornecedor "
)
PIECES = frozenset(_WORDS.split())
"""Words that names in one piece are put together of."""
_KNOWN = PIECES.union(
    CODE_NAMES,
    RUNNING,
    *(words.split() for words in WORDS.values()),
    *(words for words in vars(role_words).values() if isinstance(words, frozenset)),
)
"""Words that are whole as they are: a cardholder, a salesperson."""
SHORTEST, LONG = 6, 4
"""Letters of a name that may be in one piece, and of its longest word at least."""


def told_apart(word: str) -> list[str]:
    """The words of a part of a name, small letters.

    Examples
    --------
    >>> told_apart("invoicedate"), told_apart("createddatetime"), told_apart("lifnr"), told_apart("cardholder")
    (['invoice', 'date'], ['created', 'datetime'], ['vendor', 'no'], ['cardholder'])
    """
    if word in FIELDS:
        return FIELDS[word].split()
    if len(word) < SHORTEST or word in _KNOWN or not (word.isascii() and word.isalpha()):
        return [word]
    return list(_pieces(word)) or [word]


@cache
def _pieces(word: str) -> tuple[str, ...]:
    """The fewest pieces that make a word up, one of them long; none where there are none."""
    best: dict[int, tuple[str, ...]] = {0: ()}
    for end in range(2, len(word) + 1):
        found = [
            (*best[start], word[start:end])
            for start in range(max(end - 12, 0), end - 1)
            if start in best and word[start:end] in PIECES
        ]
        if found:
            best[end] = min(found, key=len)
    pieces = best.get(len(word), ())
    return pieces if pieces and max(map(len, pieces)) >= LONG else ()
