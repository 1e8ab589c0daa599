"""Columns that a later file calls otherwise: the same columns in the same order, under names that say the same."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sabueso.base.currencies import CODES
from sabueso.intake.formats.called import folded, looks_like_code, looks_like_date, worded
from sabueso.intake.formats.currencies import stated_currency
from sabueso.intake.formats.deciding import decide
from sabueso.intake.formats.guessing import alike_parties
from sabueso.intake.formats.header_words import WORDS
from sabueso.intake.formats.hints import Hints
from sabueso.intake.formats.role_words import NAMES, NUMBERS
from sabueso.intake.interface import Layout
from sabueso.population.table import Column

LEAST_COLUMNS = 4
"""Columns from which their order tells that two tables are one."""
LEAST_SAME = 2
"""How many of them must be called the same."""
LOOKED_AT = 50
"""Rows of which it is asked of what kind a column is."""
_NEUTRAL = (
    NUMBERS
    | NAMES
    | {"ap", "ar", "registration", "reg", "full", "of", "the", "de", "der", "des", "du", "la", "le"}
)
"""Words of a name that change nothing of what it is."""
_TELLING = frozenset(
    ["net", "neto", "netto", "gross", "bruto", "brutto", "brut", "due", "value", "valuta", "valor", "start", "end", "from",
     "to", "opening", "closing", "paid", "claimed", "billed", "budget", "plan", "planned", "actual", "forecast", "debit", "credit", "tax", "iva", "tva", "mwst",
     "excl", "incl", "excluding", "including", "ht", "ttc", "with", "without", "before", "after", "old", "new", "previous", "prior", "discount",
     "balance", "cost", "price", "unit", "total", "subtotal", "fee", "birth", "approved", "entered", "created", "delivery",
     "refund", "outstanding", "local", "foreign", "document", "inicio", "fin", "von", "bis", "debut", "faelligkeit", "falligkeit", "vencimiento", "echeance"]
)  # fmt: skip
"""Words that make another thing of what has them."""
_DAYS = {"timestamp": "date"}
"""Kinds that a few rows do not tell apart."""


def kinds_of(layout: Layout) -> dict[str, str]:
    """The columns of a file, in their order, with their kinds by the first rows."""
    return {name: _kind(layout, name) for name in layout.on_lines}


def kinds_held(columns: Sequence[Column]) -> dict[str, str]:
    """The same of the columns that a table has."""
    return {c.name: _DAYS.get(c.type, c.type) for c in columns if not c.is_place}


def renamed(mine: Mapping[str, str], theirs: Mapping[str, str]) -> dict[str, str] | None:
    """Column of one file -> column of another that it must be, where they are called otherwise; None where the two have
    other columns, in another order, or of other kinds.

    Each column stands where the other has it, is of the same kind, and its name says the same.
    """
    if len(mine) != len(theirs) or len(mine) < LEAST_COLUMNS:
        return None
    found: dict[str, str] = {}
    for name, its in zip(mine, theirs, strict=True):
        if folded(name) == folded(its):
            continue
        if not _says_the_same(name, its) or mine[name] != theirs[its]:
            return None
        found[name] = its
    if len(mine) - len(found) < LEAST_SAME:
        return None
    # What both have, in another place, is another column.
    both = {folded(name) for name in mine} & {folded(name) for name in theirs}
    moved = any(folded(n) in both or folded(i) in both for n, i in found.items())
    return None if moved else found


def _says_the_same(name: str, other: str) -> bool:
    """Whether two names must be of one thing: they have a word in common, one of them says no more than the other but in
    words that change nothing, and no word that may: a net is no gross, and a due date no date."""
    if stated_currency(name, {}, "") != stated_currency(other, {}, ""):
        return False
    one, two = (
        {word for word in worded(each) if word.upper() not in CODES} for each in (name, other)
    )
    mine, theirs = one - two - _NEUTRAL, two - one - _NEUTRAL
    if (mine | theirs) & _TELLING:
        return False
    if one & two - _NEUTRAL:
        return not (mine and theirs)
    texts, parties = frozenset(WORDS["text"].split()) - NAMES, set(WORDS["party"].split())
    alike = bool(alike_parties(one & parties) & two)
    return alike or not (one.isdisjoint(texts) or two.isdisjoint(texts))


def _kind(layout: Layout, name: str) -> str:
    """Of what kind the first texts of a column are."""
    texts = [t.strip() for t in layout.sample.column(name).slice(0, LOOKED_AT).to_pylist() if t]
    hints = Hints(code=looks_like_code(name, texts), dated=looks_like_date(name))
    kind = decide([text for text in texts if text], hints).type
    return _DAYS.get(kind, kind)
