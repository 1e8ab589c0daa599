"""Where the columns of text at fixed places begin and end, and the cells of its lines.

Between two columns there is a place that is blank on every line that was looked at.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from sabueso.intake.formats.header import LOOKED_AT
from sabueso.intake.readers.records import is_rule

LEAST_COLUMNS, LEAST_LINES = 3, 5
MOST_LINES = 20_000
ALIGNED, MOST_SUMS, MOSTLY, ODD = 0.9, 3, 0.6, 0.04


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
    rows = long_lines(filled)
    # Titles stand above, and sums below, and fill what is blank between them.
    top = rows[: min(10, len(rows) // 5)]
    rows, heads = _without_sums(rows[len(top) :]), heads_of(lines) or (top or filled[:1])[-1:]
    named = {head.strip() for head in heads}
    rows.sort(key=lambda line: line.strip() in named)
    numbered = [line for line in rows if _begins_with_figure(line)]
    best = _columns(rows, heads, sum(line.strip() not in named for line in rows))
    if MOSTLY * len(rows) <= len(numbered) < len(rows):
        # Headings and sums among the rows begin with a word that runs over what is blank on these.
        for some in ([*numbered, *(head.expandtabs() for head in heads)], numbered):
            more = _columns(some, heads, len(numbered))
            best = max(best, more, key=lambda found: (found.fits, found.solid, len(found.spans)))
    if len(best.spans) < LEAST_COLUMNS:
        return None
    return tuple(_cut_between(best, one, two) for one, two in pairwise(best.spans))


@dataclass(frozen=True)
class _Columns:
    """Where columns begin and end by some rows, whether each row has a letter at each place, whether there are no more
    columns than names, and how many of them more than a few rows have something in."""

    rows: Sequence[str]
    used: np.ndarray
    spans: list[tuple[int, int]]
    fits: bool
    solid: int


def _columns(rows: Sequence[str], heads: Sequence[str], many: int) -> _Columns:
    """The columns of rows, behind so many of which their names stand."""
    used = np.zeros((len(rows), max(map(len, rows), default=0)), dtype=bool)
    for place, line in enumerate(rows):
        letters = np.frombuffer(line.encode("utf-32-le", "surrogatepass"), np.uint32)
        used[place, : len(line)] = letters != ord(" ")
    named, most = _stand_apart(rows, heads)
    spans = _of_rows(_joined(_spans(used.any(axis=0)), heads), rows[:many])
    # A few lines that run over make no one column of two, nor is what stands beside them a column.
    few = max(1, ODD * len(rows))
    apart = _of_rows(_joined(_spans(used.sum(axis=0) > few), heads), rows[:many])
    if len(apart) <= most and (len(apart) >= len(spans) or len(spans) > named):
        spans = apart
    solid = sum(int(used[:, a:b].any(axis=1).sum() > few) for a, b in spans)
    return _Columns(rows, used, spans, len(spans) <= most, solid)


_GROUPED = re.compile(r"[-(]?[0-9]{1,3}(?: [0-9]{3})+(?:[.,][0-9]+)?[-)]?")


def _of_rows(spans: Sequence[tuple[int, int]], rows: Sequence[str]) -> list[tuple[int, int]]:
    """Columns apart by one blank are one where none of the rows has anything in the first, so that only a name of two
    words does, and where they are the thousands of amounts and the rest."""
    found: list[tuple[int, int]] = []
    for start, end in spans:
        if found and start - found[-1][1] == 1:
            first = [row for row in rows if row[slice(*found[-1])].strip()]
            grouped = [row for row in first if _GROUPED.fullmatch(row[found[-1][0] : end].strip())]
            if len(grouped) >= ALIGNED * len(first):
                found[-1] = found[-1][0], end
                continue
        found.append((start, end))
    return found


def _stand_apart(rows: Sequence[str], heads: Sequence[str]) -> tuple[int, int]:
    """How many texts stand apart by two blanks and more on the names or on nearly every row; and how many do at the
    most, names being apart by one."""

    def parts(line: str) -> int:
        return len(re.split(r" {2,}", line.strip()))

    usual = int(np.quantile(list(map(parts, rows)), ALIGNED)) if rows else 0
    named = max(map(parts, heads), default=0)
    return max(named, usual), max([usual, *(len(head.split()) for head in heads)])


def _cut_between(found: _Columns, one: tuple[int, int], two: tuple[int, int]) -> int:
    """Where one column is cut from the next: what is aligned to the right grows to the left, all else to the right;
    amounts that few rows have, or that are as long as one another, may do either."""
    rows, used, end, (after, last) = found.rows, found.used, one[1], two
    ends, begins = (used[:, place].mean() >= ALIGNED for place in (last - 1, after))
    own = np.asarray(used[:, after:last].any(axis=1))
    texts = [row[after:last].strip() for row, filled in zip(rows, own, strict=True) if filled]
    may = used[own, last - 1].mean() >= ALIGNED and _are_amounts(texts)
    cut = end if ends and not begins else (end + after - 1) // 2 if may else after - 1
    # As few lines as can be have a letter there.
    return min(range(end, after), key=lambda place: (used[:, place].sum(), abs(place - cut)))


def _are_amounts(texts: Sequence[str]) -> bool:
    return sum(_AMOUNT.fullmatch(text) is not None for text in texts) >= MOSTLY * len(texts)


def long_lines(filled: Sequence[str]) -> list[str]:
    """Lines about as long as most: no headings, and no further lines of a text."""
    usual = sorted(len(line.rstrip()) for line in filled)[len(filled) // 2] if filled else 0
    return [line for line in filled if len(line.rstrip()) >= 0.6 * usual]


def _begins_with_figure(line: str) -> bool:
    return line.lstrip()[:1].isdigit()


def _spans(used: Any) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[0], used.astype(np.int8), [0]])))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def _without_sums(rows: list[str]) -> list[str]:
    """Rows without the last few where these begin with a word, and nearly all others with a figure."""
    figures = [_begins_with_figure(line) for line in rows]
    if sum(figures) < ALIGNED * len(rows):
        return rows
    last = max(place for place, figure in enumerate(figures) if figure)
    return rows[: last + 1] if len(rows) - last - 1 <= MOST_SUMS else rows


def heads_of(lines: Sequence[str]) -> list[str]:
    """The lines of words just above the rows, which have figures one after another, rules apart: names, in one
    line or two."""
    found: list[str] = []
    some = [line for line in lines[:LOOKED_AT] if not is_rule(line.encode("utf-8", "replace"))]
    for place, line in enumerate(some):
        if not any(map(str.isdigit, line)):
            found = [*found, line] if line.strip() else []
            continue
        rows = [row for row in some[place:] if row.strip()][:LEAST_LINES]
        if found and sum(any(map(str.isdigit, row)) for row in rows) >= len(rows) - 1:
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


@dataclass(frozen=True)
class Rows:
    """How the rows of a text begin: ``money`` is where their first column of amounts does, 0 where none is;
    ``figures`` whether each begins with a figure, so that what begins with a word is a heading or a sum."""

    money: int = 0
    figures: bool = False


_AMOUNT = re.compile(r"[-(]?[0-9][0-9.,' ]*[.,][0-9]{2}(?:[-)]| ?(?:[CD]R?|[SH]))?")


def rows_of(lines: Sequence[str], cuts: Sequence[int]) -> Rows:
    """How rows begin, by the lines that run over no place between columns."""
    filled = [
        line for line in map(str.expandtabs, lines) if line.strip() and not run_over(line, cuts)
    ]
    figures = [line for line in filled if _begins_with_figure(line)]
    numbered = len(figures) >= MOSTLY * len(filled)
    chosen = figures if numbered else filled
    rows = [cells_of(line, cuts) for line in chosen]
    for place, cells in enumerate(zip(*rows, strict=True)):
        some = [cell for cell in cells if any(map(str.isdigit, cell))]
        if place and some and _are_amounts(some):
            after = cuts[place - 1] + 1
            starts = [
                len(line) - len(line[after:].lstrip()) for line in chosen if line[after:].strip()
            ]
            return Rows(min(starts), numbered)
    return Rows(0, numbered)


_WORDS = re.compile(r" *([^\W\d_]\S*(?: \S+)*)")


def spread(line: str, cuts: Sequence[int], rows: Rows) -> list[str] | None:
    """The cells of a line whose words run over places before the amounts, as those of headings and sums do; None
    of any other. Words with one blank between are not apart, be it where one column ends.

    Examples
    --------
    >>> rows = Rows(24, figures=True)
    >>> spread("Client: 17  Ann Lee & Co", (10, 14), rows), spread("Closing balance         12.00", (10, 14), rows)
    (['Client: 17 Ann Lee & Co', '', ''], ['Closing balance', '', '12.00'])
    """
    plain = line.expandtabs().rstrip()
    words, over = _WORDS.match(plain), run_over(plain, cuts) > 0
    if rows.figures and words is not None:
        over = over or any(words.start(1) < cut < words.end() for cut in cuts)
    if not over or not rows.money:
        return None
    if len(plain) <= rows.money:
        return [re.sub(" +", " ", plain.strip()), *[""] * len(cuts)]
    if words is None or words.end() >= rows.money or not rows.figures:
        return None
    rest = " " * words.end() + plain[words.end() :]
    return None if run_over(rest, cuts) else [words[1], *cells_of(rest, cuts)[1:]]


def alone(line: str, cuts: Sequence[int], rows: Rows) -> list[str] | None:
    """The one text of a line that ends before the amounts begin, in one cell; None of any other."""
    cells = spread(line, cuts, rows)
    return None if cells is None or any(cells[1:]) else cells[:1]


def run_over(line: str, cuts: Sequence[int]) -> int:
    """How many places between columns a line runs over, as a title does, and a long name may."""
    line = line.expandtabs()
    return sum(place < len(line) and line[place] != " " for place in cuts)


def parts_of(line: str, cuts: Sequence[int]) -> list[str] | None:
    """What stands apart on a line that runs over places between columns, where that is as much as there are columns,
    each above some of its own: names that somebody put there by eye; None of any other.

    Examples
    --------
    >>> parts_of("DATE    INV NO  AMOUNT", (5, 12)), parts_of("DATE INVOICE  AMOUNT", (5, 12))
    (['DATE', 'INV NO', 'AMOUNT'], None)
    """
    plain = line.expandtabs()
    parts = list(re.finditer(r"\S+(?: \S+)*", plain))
    edges = [-1, *cuts, max(len(plain), cuts[-1] + 1 if cuts else 0)]
    if len(parts) != len(cuts) + 1 or not run_over(line, cuts):
        return None
    above = (
        part.start() < b and part.end() > a + 1
        for part, (a, b) in zip(parts, pairwise(edges), strict=True)
    )
    return [part.group() for part in parts] if all(above) else None


def names_of(line: str, cuts: Sequence[int]) -> list[str]:
    """The names above columns: words belong to the column that they stand above most."""
    if (parts := parts_of(line, cuts)) is not None:
        return parts
    edges = [-1, *cuts, 10**6]
    names = [""] * (len(cuts) + 1)
    for word in re.finditer(r"\S+", line.expandtabs()):
        over = [min(word.end(), b) - max(word.start(), a + 1) for a, b in pairwise(edges)]
        place = int(np.argmax(over))
        names[place] = f"{names[place]} {word.group()}".strip()
    return names
