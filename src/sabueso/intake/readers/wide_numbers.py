"""Numbers that are wider than their column of text at fixed places, told by where the column's figures end."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise

from sabueso.intake.readers.place_cuts import cells_of, run_over

LEAST_FIGURES, ONE_EDGE = 5, 0.8
NO_EDGE = -1
_NUMBER = re.compile(r"[-+(]?[0-9][0-9.,']*\)?-?")


def right_edges(lines: Sequence[str], cuts: Sequence[int]) -> tuple[int, ...]:
    """The place behind the last figure of each column, by lines that run over no place between columns; ``NO_EDGE``
    where figures do not end one below the other.

    Examples
    --------
    >>> right_edges([f"N{i}  {10**i:8}" for i in range(6)], (3,))
    (2, 12)
    """
    edges = [-1, *cuts, 10**6]
    ends: list[Counter[int]] = [Counter() for _ in range(len(cuts) + 1)]
    for line in lines:
        plain = line.expandtabs()
        if run_over(plain, cuts):
            continue
        for own, (start, stop) in zip(ends, pairwise(edges), strict=True):
            cell = plain[start + 1 : stop].rstrip()
            if cell[-1:].isdigit():
                own[start + 1 + len(cell)] += 1
    return tuple(map(_edge, ends))


def _edge(ends: Counter[int]) -> int:
    """The place at which nearly all figures end."""
    ((place, many),) = ends.most_common(1) or [(NO_EDGE, 0)]
    return place if many >= max(LEAST_FIGURES, ONE_EDGE * ends.total()) else NO_EDGE


def cells_by_edges(line: str, cuts: Sequence[int], edges: Sequence[int]) -> list[str] | None:
    """The cells of a line whose numbers alone run over places between columns, each ending where the figures of its
    column do; None of any other, and where it may be the numbers of two columns.

    Examples
    --------
    >>> cells_by_edges("A1   28 -12750", (3, 9), (2, 7, 14))
    ['A1', '28', '-12750']
    >>> cells_by_edges("A1     2812750", (3, 9), (2, 10, 14)) is None
    True
    """
    if not run_over(line, cuts):
        return None
    plain = line.expandtabs()
    wide: dict[int, str] = {}
    rest = plain
    for token in re.finditer(r"\S+", plain):
        start, end = token.span()
        if not any(start <= cut < end for cut in cuts):
            continue
        column = sum(cut < end for cut in cuts)
        between = any(start < edge < end for edge in edges)
        if column in wide or edges[column] != end or between or not _NUMBER.fullmatch(token[0]):
            return None
        wide[column] = token[0]
        rest = rest[:start] + " " * (end - start) + rest[end:]
    cells = cells_of(rest, cuts)
    if any(cells[column] for column in wide):
        return None
    return [wide.get(column, cell) for column, cell in enumerate(cells)]
