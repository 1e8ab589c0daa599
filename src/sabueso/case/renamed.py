"""Columns that a later file calls otherwise: the same columns in the same order, under names that say the same."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sabueso.intake.formats.called import folded, looks_like_code, looks_like_date, worded
from sabueso.intake.formats.deciding import decide
from sabueso.intake.formats.header_words import WORDS
from sabueso.intake.formats.hints import Hints
from sabueso.intake.interface import Layout
from sabueso.population.table import Column

LEAST_COLUMNS = 4
"""Columns from which their order tells that two tables are one."""
LEAST_SAME = 2
"""How many of them must be called the same."""
LOOKED_AT = 50
"""Rows of which it is asked of what kind a column is."""
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

    Each column stands where the other has it, is of the same kind, and its name has a word of the other's, or one by
    which columns have the same role.
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


def under_names(header: Sequence[str], names: Mapping[str, str]) -> list[str]:
    """The columns of a file as the plan says that the table calls them."""
    said = {folded(name): other for name, other in names.items()}
    return [said.get(folded(name), name) for name in header]


def _says_the_same(name: str, other: str) -> bool:
    one, two = set(worded(name)), set(worded(other))
    if one & two:
        return True
    return any(
        not one.isdisjoint(words) and not two.isdisjoint(words)
        for words in (role.split() for role in WORDS.values())
    )


def _kind(layout: Layout, name: str) -> str:
    """Of what kind the first texts of a column are."""
    texts = [t.strip() for t in layout.sample.column(name).slice(0, LOOKED_AT).to_pylist() if t]
    hints = Hints(code=looks_like_code(name, texts), dated=looks_like_date(name))
    kind = decide([text for text in texts if text], hints).type
    return _DAYS.get(kind, kind)
