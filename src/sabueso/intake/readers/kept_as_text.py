"""Cells written so that a spreadsheet keeps them as text: ``="00123"``, or with an apostrophe before each."""

from __future__ import annotations

import re
from collections.abc import Sequence

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.words import listed

LEAST = 3
"""Cells of a column below which apostrophes before all of them are no habit."""
_FORMULA = r'\A="((?:[^"]|"")*)"\z'
_FORMULA_HERE = re.compile(_FORMULA.replace(r"\z", r"\Z"))


def bare(text: str) -> str:
    """What stands in a formula that is nothing but a text; any other text as it is.

    Examples
    --------
    >>> bare('="00123"'), bare('=A1+"x"'), bare("12.50")
    ('00123', '=A1+"x"', '12.50')
    """
    found = _FORMULA_HERE.fullmatch(text.strip())
    return text if found is None else found[1].replace('""', '"')


def kept_as_text(sample: pa.Table) -> tuple[str, ...]:
    """Columns some cells of which are such formulas, or all of which begin with an apostrophe."""
    found = []
    for name in sample.column_names:
        texts = [text for text in sample.column(name).to_pylist() if text and text.strip()]
        if any(bare(text) != text for text in texts) or (
            len(texts) >= LEAST and all(re.match(r"'[^']*\Z", text) for text in texts)
        ):
            found.append(name)
    return tuple(found)


def as_told(names: Sequence[str]) -> list[str]:
    """What is said of such columns."""
    if not names:
        return []
    shown = listed(list(names[:4])) + (" …" if len(names) > 4 else "")
    return [
        f'{shown}: written so that a spreadsheet keeps them as text (="…", or an apostrophe before); what they '
        "hold is read"
    ]


def bared(cells: pa.Table, names: Sequence[str]) -> pa.Table:
    """Cells with what some columns hold."""
    for name in names:
        column = cells.column(name)
        texts = column.cast(pa.string()) if pa.types.is_dictionary(column.type) else column
        inner = pc.replace_substring_regex(texts, rf"{_FORMULA}|\A'([^']*)\z", r"\1\2")
        inner = pc.if_else(
            pc.starts_with(texts, '="'), pc.replace_substring(inner, '""', '"'), inner
        )
        cells = cells.set_column(cells.column_names.index(name), name, inner)
    return cells
