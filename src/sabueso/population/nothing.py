"""Texts that stand where a value should and state none: what they are alike in is no likeness."""

from __future__ import annotations

import re

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.sql import Tree

MISSING = frozenset(
    ["na", "n/a", "n.a.", "nan", "null", "none", "nil", "#n/a", "#na", "#null!", "#value!", "#ref!", "#div/0!",
     "\\n", "(null)", "[null]", "<null>", "#nv", "#wert!", "#bezug!", "#n/d", "#¡valor!", "#¡ref!", "#¡div/0!",
     "#valeur!", "#valore!", "#rif!", "#valor!", "-", "--", "–", "—", ".", "..", "s/d", "k.a.", "n.d.", "nd"]
)  # fmt: skip
"""Texts that stand for nothing where a number or a date is expected, small letters."""
STATES_NOTHING = MISSING | frozenset(
    [
        "no", "not available", "not applicable", "unknown", "notprovided", "not provided", "nonref",
        "not known", "missing", "empty", "blank", "tbd", "tbc", "tba", "to follow",
        "x", "xx", "xxx", "xxxx", "xxxxx", "xxxxxx",
        "s/n", "s/c", "sin", "sin datos", "sin dato", "sin cuenta", "sin número", "sin numero",
        "sin asignar", "ninguno", "ninguna", "desconocido", "desconocida", "no aplica", "no consta",
        "k. a.", "keine", "keiner", "keine angabe", "ohne", "unbekannt", "entfällt", "fehlt", "leer",
        "aucun", "aucune", "inconnu", "inconnue", "sans", "néant", "neant", "non renseigné", "non applicable",
        "nessuno", "nessuna", "sconosciuto", "sconosciuta", "non disponibile", "assente",
        "nenhum", "nenhuma", "desconhecido", "desconhecida", "sem", "não informado", "nao informado",
        "geen", "onbekend", "nvt", "n.v.t.", "ingen", "inget", "ukendt", "ukjent", "okänd", "saknas",
        "brak", "nieznany", "nieznana", "není", "žádný", "neznámý", "yok", "bilinmiyor", "belirsiz",
        "нет", "не указан", "не указано", "неизвестно", "відсутній", "無", "无", "なし", "不明",
    ]
)  # fmt: skip
"""Texts that state nothing of whose or which something is, small letters."""


_MARKS = " \u00a0\t-/._#0,;:*?!+=~'\"()[]<>\u2013\u2014\u2026\u00b7\u2212"


_PATTERN = f"[{re.escape(_MARKS)}]*"


def states_nothing(tree: Tree) -> Tree:
    """Whether a value is a text of those, or has nothing but marks and zeros, such as ``-`` or ``0000``."""
    text = sql.cast(tree, "TEXT")
    words = exp.In(
        this=exp.Lower(this=exp.Trim(this=text)),
        expressions=[sql.text(word) for word in sorted(STATES_NOTHING)],
    )
    marks = exp.RegexpLike(this=text.copy(), expression=sql.text(f"^{_PATTERN}$"))
    return exp.or_(marks, words)


def is_nothing(text: str | None) -> bool:
    """The same of a text at hand; a missing one is none."""
    if text is None:
        return False
    return text.strip().lower() in STATES_NOTHING or re.fullmatch(_PATTERN, text) is not None
