"""Text whose columns stand at fixed places, with blanks between: the places told by the lines, then cut line by line.

Between two columns there is a place that is blank on every line that was looked at. A line that has a letter there
is set aside: nothing tells whose it is.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.intake.formats.above import currency_above, scale_notes, year_above
from sabueso.intake.formats.header import LOOKED_AT, Found, find_header, joined_names
from sabueso.intake.interface import Assumed, Batch, Damaged, Layout
from sabueso.intake.readers.cells import (
    SAMPLE_ROWS,
    alone_above,
    column_names,
    name_notes,
    said_above,
)
from sabueso.intake.readers.records import RULE, is_rule
from sabueso.intake.settings import ReadSettings

LEAST_COLUMNS, LEAST_LINES = 3, 5
MOST_LINES = 20_000
ALIGNED, MOST_SUMS, MOSTLY = 0.9, 3, 0.6
LEAST_AGAIN = 3
"""Times that a line comes again before it is taken for the header of as many blocks."""
_SPACED = re.compile(r"\S {2,}\S")


@dataclass(frozen=True)
class Places(Layout):
    """``cuts`` are the blank places between the columns, ``titles`` the lines above the header without the
    number of their page, as they come again on each. Where rows begin with figures, ``money`` is where the first
    column of amounts begins: what begins with a word may run over the places before it."""

    encoding: str
    cuts: tuple[int, ...]
    titles: pa.Array
    money: int = 0


def cuts_of(lines: Sequence[str]) -> tuple[int, ...] | None:
    """The blank places between columns; None where the lines have not several columns.

    Examples
    --------
    >>> cuts_of(["NO   DATE      AMOUNT", "A1   20240102   10.00", "A22  20240103  112.50"] * 3)
    (4, 13)
    """
    plain = [line.expandtabs() for line in lines[:MOST_LINES]]
    filled = [
        line for line in plain if line.strip() and not is_rule(line.encode("utf-8", "replace"))
    ]
    if len(filled) < LEAST_LINES:
        return None
    usual = sorted(len(line.rstrip()) for line in filled)[len(filled) // 2]
    rows = [line for line in filled if len(line.rstrip()) >= 0.6 * usual]
    # Titles stand above, and sums below, and fill what is blank between them.
    top = rows[: min(10, len(rows) // 5)]
    rows, heads = _without_sums(rows[len(top) :]), _heads(lines) or (top or filled[:1])[-1:]
    counts, spans = _used(rows, heads)
    numbered = [line for line in rows if _begins_with_figure(line)]
    if MOSTLY * len(rows) <= len(numbered) < len(rows):
        # Headings and sums among the rows begin with a word that runs over what is blank on these.
        with_names = [*numbered, *(head.expandtabs() for head in heads)]
        for some in (with_names, numbered):
            more = _used(some, heads)
            if len(more[1]) > len(spans):
                rows, (counts, spans) = some, more
    if len(spans) < LEAST_COLUMNS:
        return None
    cuts = []
    for (_, end), (after, last) in pairwise(spans):
        right = counts[last - 1] >= ALIGNED * len(rows) > counts[after]
        # What is aligned to the right grows to the left, all else to the right.
        cuts.append(end if right else after - 1)
    return tuple(cuts)


def _used(rows: Sequence[str], heads: Sequence[str]) -> tuple[np.ndarray, list[tuple[int, int]]]:
    """How many rows have a letter at each place, and where columns begin and end."""
    used = np.zeros((len(rows), max(map(len, rows), default=0)), dtype=bool)
    for place, line in enumerate(rows):
        used[place, : len(line)] = [letter != " " for letter in line]
    counts = used.sum(axis=0)
    return counts, _joined(_spans(counts > 0), heads)


def _begins_with_figure(line: str) -> bool:
    return line.lstrip()[:1].isdigit()


def _spans(used: np.ndarray) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[0], used.astype(np.int8), [0]])))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def _without_sums(rows: list[str]) -> list[str]:
    """Rows without the last few where these begin with a word, and nearly all others with a figure."""
    figures = [_begins_with_figure(line) for line in rows]
    if sum(figures) < ALIGNED * len(rows):
        return rows
    last = max(place for place, figure in enumerate(figures) if figure)
    return rows[: last + 1] if len(rows) - last - 1 <= MOST_SUMS else rows


def _heads(lines: Sequence[str]) -> list[str]:
    """The lines of words just above the rows, which have figures one after another, rules apart: names, in one
    line or two."""
    found: list[str] = []
    some = [line for line in lines[:LOOKED_AT] if not is_rule(line.encode("utf-8", "replace"))]
    for place, line in enumerate(some):
        if not any(map(str.isdigit, line)):
            found = [*found, line] if line.strip() else []
            continue
        rows = [row for row in some[place:] if row.strip()][:LEAST_LINES]
        if found and all(any(map(str.isdigit, row)) for row in rows):
            return found
        found = []
    return []


def _joined(spans: list[tuple[int, int]], heads: Sequence[str]) -> list[tuple[int, int]]:
    """Columns apart by one blank are one where no name begins above the second."""
    names = [word.start() for head in heads for word in re.finditer(r"\S+", head.expandtabs())]
    found: list[tuple[int, int]] = []
    for start, end in spans:
        if found and start - found[-1][1] == 1 and not any(start - 1 <= n < end for n in names):
            found[-1] = found[-1][0], end
        else:
            found.append((start, end))
    return found


def cells_of(line: str, cuts: Sequence[int]) -> list[str]:
    """The cells of a line, trimmed."""
    line = line.expandtabs()
    edges = [-1, *cuts, max(len(line), (cuts[-1] if cuts else 0) + 1)]
    return [line[a + 1 : b].strip() for a, b in pairwise(edges)]


_AMOUNT = re.compile(r"[-(]?[0-9][0-9.,' ]*[.,][0-9]{2}(?:[-)]| ?[CD]R)?")


def where_money_begins(lines: Sequence[str], cuts: Sequence[int]) -> int:
    """Where the first column begins that has amounts with decimals, of lines that begin with a figure; 0 where
    most lines begin otherwise, or none has."""
    filled = [line for line in lines if line.strip() and not run_over(line, cuts)]
    rows = [cells_of(line, cuts) for line in filled if _begins_with_figure(line)]
    if len(rows) < MOSTLY * len(filled):
        return 0
    for place, cells in enumerate(zip(*rows, strict=True)):
        some = [cell for cell in cells if cell]
        money = sum(_AMOUNT.fullmatch(cell) is not None for cell in some)
        if place and some and money >= ALIGNED * len(some):
            return cuts[place - 1] + 1
    return 0


_WORDS = re.compile(r" *([^\W\d_]\S*(?: \S+)*)")


def spread(line: str, cuts: Sequence[int], money: int) -> list[str] | None:
    """The cells of a line whose first words run over places before the amounts, as those of headings and sums do;
    None of any other. Words with one blank between are not apart, be it where one column ends.

    Examples
    --------
    >>> spread("Client: 17  Ann Lee & Co", (10, 15), 16), spread("Closing balance     12.00", (10, 15), 16)
    (['Client: 17 Ann Lee & Co', '', ''], ['Closing balance', '', '12.00'])
    """
    plain = line.expandtabs().rstrip()
    words = _WORDS.match(plain) if money else None
    if words is None:
        return None
    if not run_over(plain, cuts) and not any(words.start(1) < cut < words.end() for cut in cuts):
        return None
    if len(plain) <= money:
        return [re.sub(" +", " ", plain.strip()), *[""] * len(cuts)]
    rest = " " * words.end() + plain[words.end() :]
    if words.end() >= money or run_over(rest, cuts):
        return None
    return [words[1], *cells_of(rest, cuts)[1:]]


def _alone(line: str, cuts: Sequence[int], money: int) -> list[str] | None:
    """The one text of a line that ends before the amounts begin, in one cell; None of any other."""
    cells = spread(line, cuts, money)
    return None if cells is None or any(cells[1:]) else cells[:1]


def run_over(line: str, cuts: Sequence[int]) -> int:
    """How many places between columns a line runs over, as a title does, and a long name may."""
    line = line.expandtabs()
    return sum(place < len(line) and line[place] != " " for place in cuts)


def names_of(line: str, cuts: Sequence[int]) -> list[str]:
    """The names above columns: words belong to the column that they stand above most."""
    edges = [-1, *cuts, 10**6]
    names = [""] * (len(cuts) + 1)
    for word in re.finditer(r"\S+", line.expandtabs()):
        over = [min(word.end(), b) - max(word.start(), a + 1) for a, b in pairwise(edges)]
        place = int(np.argmax(over))
        names[place] = f"{names[place]} {word.group()}".strip()
    return names


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
    blank = np.asarray(pc.equal(pc.utf8_trim_whitespace(texts), ""))
    blank = blank | np.asarray(pc.match_substring_regex(texts, rf"^(?:{RULE})$"))
    crossed = np.zeros(len(lines), dtype=bool)
    for place in layout.cuts:
        between = pc.utf8_slice_codeunits(texts, place, place + 1)
        crossed |= np.asarray(pc.not_equal(pc.utf8_trim_whitespace(between), ""))
    titles = _are_titles(texts, layout.titles) & ~blank
    crossed &= ~blank & ~titles
    may = ~blank & ~titles & bool(layout.money)
    if layout.money:
        may &= np.asarray(pc.match_substring_regex(texts, r"^ *\p{L}"))
    worded = {
        int(i): cells
        for i in np.flatnonzero(may)
        if (cells := spread(plain[i], layout.cuts, layout.money)) is not None
    }
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


_PAGE = (
    r"(?i)(?:page|seite|p[aá]g[a-zí.]*|blatt|folio|sida|side|strona|strana|стр[а-я.]*|頁|페이지)[^\p{L}0-9]*[0-9]+"
    r"(?: *(?:of|von|de|di|/) *[0-9]+)?"
)


def _unnumbered(texts: pa.Array) -> pa.Array:
    """Lines without what differs from page to page, the page's number; any other figure may be that of an
    account whose rows follow."""
    plain = pc.replace_substring_regex(pc.utf8_trim_whitespace(texts), _PAGE, "page")
    return pc.replace_substring_regex(plain, " +", " ")


def _titles_of(lines: Sequence[str]) -> pa.Array:
    """What stands above a header, as it comes again."""
    return _unnumbered(pa.array([line.expandtabs() for line in lines if line.strip()], pa.string()))


def _are_titles(texts: pa.Array, titles: pa.Array) -> np.ndarray:
    """The lines that stand above the first header, come again on top of another page."""
    if not len(titles):
        return np.zeros(len(texts), dtype=bool)
    found = pc.is_in(_unnumbered(texts), value_set=titles)
    return np.asarray(found.to_numpy(zero_copy_only=False), dtype=bool)


def is_spaced(filled: Sequence[str]) -> bool:
    """Whether most lines have blanks between what stands on them."""
    return sum(bool(_SPACED.search(line)) for line in filled) > 0.8 * len(filled)


def _head_at_places(lines: list[str], cuts: tuple[int, ...]) -> Found | None:
    """The header of columns at fixed places; titles run over them."""
    if (again := _comes_again(lines)) is not None:
        return Found(again, len(cuts) + 1)
    found = None
    for most in (0, 1):
        rows = [
            [line.strip()] if run_over(line, cuts) > most else cells_of(line, cuts)
            for line in lines[:LOOKED_AT]
        ]
        found = find_header(rows)
        if found is not None and not found.none:
            break
    return found


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


def layout_at_places(
    lines: list[str], encoding: str, notes: Sequence[str], settings: ReadSettings
) -> Places | None:
    """The layout of text whose columns stand at fixed places; None where it is none."""
    filled = [line for line in lines[:SAMPLE_ROWS] if line.strip()]
    cuts = cuts_of(lines) if len(filled) > 1 and is_spaced(filled) else None
    if cuts is None:
        return None
    given = settings.header
    found = (
        Found(given - 1, len(cuts) + 1) if isinstance(given, int) else _head_at_places(lines, cuts)
    )
    if found is None:
        return None
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
    names = column_names(header)
    header_line = at if none else at + 1
    money = where_money_begins(lines[header_line:], cuts)
    sample = [
        spread(line, cuts, money) or cells_of(line, cuts)
        for line in lines[header_line:]
        if line.strip()
    ]
    sample = [row for row in sample if not is_rule(" ".join(row).encode("utf-8", "replace"))]
    columns = list(zip(*sample[:SAMPLE_ROWS], strict=True)) if sample else [()] * len(names)
    titles = [
        _alone(line, cuts, money) or re.split(r" {2,}", line.strip())
        for line in lines[:top]
        if line.strip()
    ]
    notes = [
        *notes,
        Assumed(
            "the columns stand at fixed places, told by what is blank between them",
            "read.delimiter",
        ),
    ]
    if top != at:
        text = f"the names stand in two lines, {top + 1} and {at + 1}"
        notes.append(Assumed(text, "read.header"))
    if titles:
        notes.append(Assumed(said_above(at + 1, len(titles)), "read.header"))
    return Places(
        header=names,
        header_line=header_line,
        described={"encoding": encoding, "columns": f"{len(names)} at fixed places"},
        sample=pa.table(
            [pa.array([cell or None for cell in c], pa.string()) for c in columns], names=names
        ),
        notes=(*notes, *scale_notes(titles), *([] if none else name_notes(header, names))),
        found={"encoding": encoding} | ({} if header_line == 1 else {"header": header_line}),
        currency=currency_above(titles),
        year=year_above(titles),
        heading=alone_above(titles),
        encoding=encoding,
        cuts=cuts,
        titles=above,
        money=money,
    )
