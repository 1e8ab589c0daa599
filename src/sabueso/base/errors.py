"""The one error that a user's mistake becomes: a sentence, and exit code 2."""

from __future__ import annotations

import difflib
from collections.abc import Iterable


class UserError(Exception):
    """Bad usage or bad input. Its text is one sentence that says where and what was expected."""


class ProgramFault(Exception):
    """A check of this program on itself failed: what it would have said is wrong. Exit code 1."""


def nearest(name: str, choices: Iterable[str]) -> str:
    """Return ``"; did you mean X?"`` for the choice most like ``name``, else the choices."""
    known = list(dict.fromkeys(map(str, choices)))
    lowered = {c.lower(): c for c in reversed(known)}
    match = difflib.get_close_matches(name.lower(), lowered, n=1, cutoff=0.55)
    if match:
        return f"; did you mean {lowered[match[0]]!r}?"
    if not known:
        return ""
    shown = ", ".join(known[:12]) + (", …" if len(known) > 12 else "")
    return f"; there is {shown}"
