"""What a report prints above its header comes again on top of each page: those lines are no rows, and name nothing.

A report by account prints the account there as well. So a line is the head of a page only where it stands above every
header of those that are looked at; one that changes is a heading of the rows below it.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace
from typing import TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.intake.formats.downward import plain
from sabueso.intake.interface import Batch, Layout

Look = TypeVar("Look", bound=Layout)

_PAGE = (
    r"(?i)(?:page|seite|p[aá]g[a-zí.]*|blatt|folio|sida|side|strona|strana|стр[а-я.]*|頁|페이지)[^\p{L}0-9]*[0-9]+"
    r"(?: *(?:of|von|de|di|/) *[0-9]+)?"
)


def unnumbered(texts: pa.Array) -> pa.Array:
    """Lines without what differs from page to page, the page's number; any other figure may be that of an
    account whose rows follow."""
    bare = pc.replace_substring_regex(pc.utf8_trim_whitespace(texts), _PAGE, "page")
    return pc.replace_substring_regex(bare, " +", " ")


def _words(texts: pa.Array) -> pa.Array:
    """Lines by their words, however their cells are parted."""
    bare = pc.replace_substring_regex(unnumbered(texts), r"[^\p{L}\p{N}]+", " ")
    return pc.utf8_trim_whitespace(bare)


def page_heads(lines: Sequence[str], header: int) -> frozenset[str]:
    """The words of the heads of pages among the first lines of a file, whose header is line ``header``.

    Examples
    --------
    >>> page = ["Firm Ltd  Page 1", "Account 10", "No;Amount", "1;2.00", ""]
    >>> again = ["Firm Ltd  Page 2", "Account 20", "No;Amount", "2;3.00"]
    >>> sorted(page_heads([*page, *again], 3)), sorted(page_heads(page, 3))
    (['Firm Ltd page'], [])
    """
    if header < 2:
        return frozenset()
    words = _words(pa.array(lines, pa.string())).to_pylist()
    titles = {text for text in words[: header - 1] if any(map(str.isalpha, text))}
    again = [i for i in range(header, len(words)) if words[i] and words[i] == words[header - 1]]
    if not again:
        return frozenset()
    for place, before in zip(again, [header, *again], strict=False):
        titles &= set(words[max(place - header, before) : place])
    return frozenset(titles)


def _are_heads(cells: pa.Table, heads: Collection[str]) -> np.ndarray:
    """The rows that are heads of pages."""
    columns = [pc.fill_null(plain(column), "") for column in cells.columns]
    found = pc.is_in(
        _words(pc.binary_join_element_wise(*columns, " ")), value_set=pa.array(sorted(heads))
    )
    return np.asarray(found.to_numpy(zero_copy_only=False), dtype=bool)


def with_page_heads(layout: Look, heads: frozenset[str]) -> Look:
    """The layout of a file whose pages have such heads: none of them is in its sample."""
    if not heads:
        return layout
    sample = layout.sample.filter(pa.array(~_are_heads(layout.sample, heads)))
    own = _words(pa.array([layout.heading])).to_pylist()[0] in heads
    return replace(
        layout,
        sample=sample,
        heading="" if own else layout.heading,
        heads=heads,
    )


def without_page_heads(batch: Batch, heads: Collection[str]) -> Batch:
    """A batch without the heads of its pages, which are counted; they are not as wide as rows are, or they are."""
    damaged = batch.damaged
    if damaged:
        told = _words(pa.array([each.text for each in damaged], pa.string())).to_pylist()
        damaged = [each for each, words in zip(damaged, told, strict=True) if words not in heads]
    found = _are_heads(batch.cells, heads)
    return replace(
        batch,
        lines=batch.lines[~found],
        cells=batch.cells.filter(pa.array(~found)),
        damaged=damaged,
        titles=batch.titles + int(found.sum()) + len(batch.damaged) - len(damaged),
    )
