"""Exceptions: one reviewed subject each, with an id that stays the same on every later run."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Mapping
from typing import Any

from sabueso.base.errors import UserError

ALPHABET = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
"""Digits and letters that are not taken for one another when read aloud: no I, L, O, U."""

LENGTH = 5


def canonical(key: Mapping[str, Any]) -> str:
    """A subject's key as text that depends on nothing but its content."""
    texts = {k: v if isinstance(v, (str, int)) else str(v) for k, v in key.items() if v is not None}
    missing = {k: None for k, v in key.items() if v is None}
    return json.dumps(texts | missing, ensure_ascii=False, sort_keys=True)


Holder = Callable[[str], tuple[str, str] | None]
"""The (table, key) that has an id, or None."""


def exception_id(prefix: str, table: str, key: str, holder: Holder) -> str:
    """The id of a subject: the table's prefix and 5 characters from a hash of table and key.

    Where another subject has that id already, characters are added until it is its own.

    Parameters
    ----------
    prefix : str
        Of the table's ids.
    table, key : str
        The table's name and the subject's canonical key.
    holder : callable
        Who has an id among the exceptions there are.
    """
    digest = int.from_bytes(hashlib.sha256(f"{table}\n{key}".encode()).digest(), "big")
    letters = ""
    while len(letters) < LENGTH or holder(f"{prefix}-{letters}") not in (None, (table, key)):
        digest, rest = divmod(digest, len(ALPHABET))
        letters += ALPHABET[rest]
    return f"{prefix}-{letters}"


def parse_id(text: str) -> str:
    """An id as typed: any case, and I, L, O read as the digits they look like.

    Raises
    ------
    UserError
        If it cannot be an id.
    """
    prefix, dash, letters = text.strip().upper().rpartition("-")
    letters = letters.replace("I", "1").replace("L", "1").replace("O", "0")
    if not dash or not prefix or len(letters) < LENGTH or any(c not in ALPHABET for c in letters):
        raise UserError(
            f"{text!r} is no exception id; expected one such as PAY-7K3QF (see: sabueso queue)"
        )
    return f"{prefix}-{letters}"
