"""Text whose columns stand at fixed places, with blanks between: the places told by the lines, then cut line by line.

Between two columns there is a place that is blank on every line that was looked at. A line that has a letter there
is set aside: nothing tells whose it is.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.intake.formats.above import currency_above, scale_notes, year_above
from sabueso.intake.formats.header import LOOKED_AT, Found, find_header, joined_names
from sabueso.intake.formats.page_heads import unnumbered
from sabueso.intake.formats.stated import states_total
from sabueso.intake.interface import Assumed, Batch, Damaged, Layout
from sabueso.intake.readers.cells import (
    SAMPLE_ROWS,
    alone_above,
    column_names,
    name_notes,
    said_above,
)
from sabueso.intake.readers.place_cuts import (
    MOST_LINES,
    Rows,
    alone,
    cells_of,
    cuts_of,
    heads_of,
    long_lines,
    names_of,
    parts_of,
    rows_of,
    run_over,
    spread,
)
from sabueso.intake.readers.records import RULE, is_rule
from sabueso.intake.readers.wide_numbers import cells_by_edges, right_edges
from sabueso.intake.settings import ReadSettings

LEAST_AGAIN = 3
"""Times that a line comes again before it is taken for the header of as many blocks."""
_SPACED = re.compile(r"\S {2,}\S")


@dataclass(frozen=True)
class Places(Layout):
    """``cuts`` are the blank places between the columns, ``titles`` the lines above the header without the
    number of their page, as they come again on each; ``rows`` is how the rows begin, ``edges`` where the figures of
    each column end."""

    encoding: str
    cuts: tuple[int, ...]
    titles: pa.Array
    rows: Rows
    edges: tuple[int, ...]


def cut_batches(stream: Iterable[bytes], layout: Places, first_line: int) -> Iterator[Batch]:
    """Batches of lines that end with a line feed or a return, cut at the places."""
    at = first_line
    for block in stream:
        text = block.decode("utf-8", "surrogateescape").replace("\r\n", "\n").replace("\r", "\n")
        lines = text.removesuffix("\n").split("\n")
        yield _cut(lines, layout, at)
        at += len(lines)


def _cut(lines: list[str], layout: Places, first: int) -> Batch:
    plain = [line.expandtabs() if "\t" in line else line for line in lines]
    texts = pa.array([line.encode("utf-8", "replace").decode() for line in plain], pa.string())
    starred = states_total(pc.utf8_trim_whitespace(texts))
    if starred.any():
        bare = pc.replace_substring_regex(texts, r"([0-9])[*]{1,5}\s*\z", r"\1")
        texts = pc.if_else(pa.array(starred), bare, texts)
        plain = texts.to_pylist()
    blank = np.asarray(pc.equal(pc.utf8_trim_whitespace(texts), ""))
    blank = blank | np.asarray(pc.match_substring_regex(texts, rf"^(?:{RULE})$"))
    crossed = np.zeros(len(lines), dtype=bool)
    for place in layout.cuts:
        between = pc.utf8_slice_codeunits(texts, place, place + 1)
        crossed |= np.asarray(pc.not_equal(pc.utf8_trim_whitespace(between), ""))
    titles = _are_titles(texts, layout.titles) & ~blank
    crossed &= ~blank & ~titles
    may = ~blank & ~titles & bool(layout.rows.money)
    if layout.rows.figures:
        may &= crossed | np.asarray(pc.match_substring_regex(texts, r"^ *\p{L}"))
    else:
        may &= crossed
    worded = {
        int(i): cells
        for i in np.flatnonzero(may)
        if (cells := spread(plain[i], layout.cuts, layout.rows)) is not None
    }
    for i in np.flatnonzero(crossed).tolist():
        wide = None if i in worded else cells_by_edges(plain[i], layout.cuts, layout.edges)
        if wide is not None:
            worded[i] = wide
    crossed[list(worded)] = False
    kept = ~blank & ~crossed & ~titles
    chosen = texts.filter(pa.array(kept))
    at = np.searchsorted(np.flatnonzero(kept), sorted(worded))
    edges = [-1, *layout.cuts]
    columns = []
    for place, start in enumerate(edges):
        stop = edges[place + 1] if place + 1 < len(edges) else None
        cell = pc.utf8_trim_whitespace(pc.utf8_slice_codeunits(chosen, start + 1, stop))
        if worded:
            own = np.zeros(len(cell), dtype=bool)
            own[at] = True
            cell = pc.replace_with_mask(
                cell, pa.array(own), pa.array([worded[i][place] for i in sorted(worded)])
            )
        columns.append(pc.if_else(pc.equal(cell, ""), pa.scalar(None, pa.string()), cell))
    numbers = first + np.arange(len(lines))
    reason = "a letter stands between two columns, and may be of either"
    return Batch(
        lines=numbers[kept],
        cells=pa.table(columns, names=list(layout.header)),
        damaged=[
            Damaged(int(numbers[i]), "", "", reason, lines[i])
            for i in np.flatnonzero(crossed).tolist()
        ],
        blank=int(blank.sum()),
        titles=int(titles.sum()),
    )


def _titles_of(lines: Sequence[str]) -> pa.Array:
    """What stands above a header, as it comes again."""
    return unnumbered(pa.array([line.expandtabs() for line in lines if line.strip()], pa.string()))


def _are_titles(texts: pa.Array, titles: pa.Array) -> np.ndarray:
    """The lines that stand above the first header, come again on top of another page."""
    if not len(titles):
        return np.zeros(len(texts), dtype=bool)
    found = pc.is_in(unnumbered(texts), value_set=titles)
    return np.asarray(found.to_numpy(zero_copy_only=False), dtype=bool)


def is_spaced(filled: Sequence[str]) -> bool:
    """Whether most lines have blanks between what stands on them, but for short ones: headings, and further lines
    of a text."""
    long = long_lines(filled)
    return sum(bool(_SPACED.search(line)) for line in long) > 0.8 * len(long)


def _head_at_places(lines: list[str], cuts: tuple[int, ...]) -> Found | None:
    """The header of columns at fixed places; titles run over them."""
    if (again := _comes_again(lines)) is not None:
        return Found(again, len(cuts) + 1)
    if (named := _names_each(lines, cuts)) is not None:
        return Found(named, len(cuts) + 1)
    found = None
    for most in (0, 1):
        rows = [
            parts_of(line, cuts)
            or ([line.strip()] if run_over(line, cuts) > most else cells_of(line, cuts))
            for line in lines[:LOOKED_AT]
        ]
        found = find_header(rows)
        if found is not None and not found.none:
            break
    return found


def _names_each(lines: list[str], cuts: tuple[int, ...]) -> int | None:
    """The line just above rows with figures whose words stand above every column, each above its own."""
    heads = heads_of(lines)
    if len(heads) != 1 or run_over(heads[0], cuts) or not all(cells_of(heads[0], cuts)):
        return None
    return lines.index(heads[0])


def _comes_again(lines: list[str]) -> int | None:
    """The line of words that comes again above each page or block: the header, whatever stands above it."""
    worded = [
        line.strip()
        for line in lines[:MOST_LINES]
        if _SPACED.search(line.strip()) and not any(map(str.isdigit, line))
    ]
    often = [line for line, times in Counter(worded).items() if times >= LEAST_AGAIN]
    places = [i for i, line in enumerate(lines[:LOOKED_AT]) if line.strip() in often]
    # Names in two lines come again as two.
    return places[0] if len(often) == 1 and places else None


@dataclass(frozen=True)
class _Head:
    """The columns of a text at fixed places: ``row`` holds their names, ``top`` is the first row of these, where
    they stand in two; ``given`` are the names as they stand, ``line`` is how many lines lie before the rows."""

    cuts: tuple[int, ...]
    top: int
    row: int
    given: list[str]
    line: int
    titles: pa.Array
    below: list[str]


def layout_at_places(
    lines: list[str], encoding: str, notes: Sequence[str], settings: ReadSettings
) -> Places | None:
    """The layout of text whose columns stand at fixed places; None where it is none."""
    head = _head(lines, settings.header)
    if head is None:
        return None
    names = column_names(head.given)
    rows = rows_of(head.below, head.cuts)
    edges = right_edges(head.below, head.cuts)
    titles = [
        alone(line, head.cuts, rows) or re.split(r" {2,}", line.strip())
        for line in lines[: head.top]
        if line.strip()
    ]
    said = [*notes, *_assumed(head, len(titles)), *scale_notes(titles)]
    # Without a line of names the rows begin where the header would stand.
    said += name_notes(head.given, names) if head.line > head.row else []
    return Places(
        header=names,
        header_line=head.line,
        described={"encoding": encoding, "columns": f"{len(names)} at fixed places"},
        sample=_sample(head, names, rows, edges),
        notes=tuple(said),
        found={"encoding": encoding} | ({} if head.line == 1 else {"header": head.line}),
        currency=currency_above(titles),
        year=year_above(titles),
        heading=alone_above(titles),
        encoding=encoding,
        cuts=head.cuts,
        titles=head.titles,
        rows=rows,
        edges=edges,
    )


def _head(lines: list[str], given: int | str | None) -> _Head | None:
    """Where the columns stand and what they are called; None where there are none."""
    filled = [line for line in lines[:SAMPLE_ROWS] if line.strip()]
    cuts = cuts_of(lines) if len(filled) > 1 and is_spaced(filled) else None
    if cuts is None:
        return None
    found = (
        Found(given - 1, len(cuts) + 1) if isinstance(given, int) else _head_at_places(lines, cuts)
    )
    if found is None or found.row >= len(lines):
        return None  # told where the header is looked for
    at = found.row
    none = given == "none" or (found.none and given is None)
    top = at if none or found.above is None else found.above
    above = _titles_of(lines[:top])
    again = _are_titles(pa.array([line.expandtabs() for line in lines[top:]], pa.string()), above)
    if again.any():
        # What comes again on each page runs over the columns.
        rows = [line for line, title in zip(lines[top:], again, strict=True) if not title]
        cuts = cuts_of([*lines[:top], *rows]) or cuts
    header = [""] * (len(cuts) + 1) if none else names_of(lines[at], cuts)
    if top != at:
        header = joined_names(names_of(lines[top], cuts), header)
    line = at if none else at + 1
    no_title = zip(lines[line:], again[line - top :], strict=True)
    below = [line for line, title in no_title if line.strip() and not title]
    return _Head(cuts, top, at, header, line, above, below)


def _sample(head: _Head, names: Sequence[str], rows: Rows, edges: tuple[int, ...]) -> pa.Table:
    """The first rows, as text."""
    cut = [
        spread(line, head.cuts, rows)
        or cells_by_edges(line, head.cuts, edges)
        or cells_of(line, head.cuts)
        for line in head.below
    ]
    cut = [row for row in cut if not is_rule(" ".join(row).encode("utf-8", "replace"))]
    columns = list(zip(*cut[:SAMPLE_ROWS], strict=True)) if cut else [()] * len(names)
    return pa.table(
        [pa.array([cell or None for cell in c], pa.string()) for c in columns], names=names
    )


def _assumed(head: _Head, titles: int) -> Iterator[Assumed]:
    """What was taken for the columns and their names, to be said."""
    yield Assumed(
        "the columns stand at fixed places, told by what is blank between them", "read.delimiter"
    )
    if head.top != head.row:
        text = f"the names stand in two lines, {head.top + 1} and {head.row + 1}"
        yield Assumed(text, "read.header")
    if titles:
        yield Assumed(said_above(head.row + 1, titles), "read.header")
