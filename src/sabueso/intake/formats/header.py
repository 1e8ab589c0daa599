"""Which row of a file is its header: told by what the rows below it hold."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sabueso.intake.formats.numbers import BLANK, CURRENCY

LOOKED_AT = 60
"""Rows among which the header is looked for."""
_NUMBER = re.compile(
    rf"[+\-(]?{BLANK}?(?:(?:{CURRENCY}){BLANK}?|[A-Z]{{3}} )?[+-]?[0-9][0-9.,' \u00a0]*[)%-]?"
    rf"(?:{BLANK}?(?:{CURRENCY}|[A-Z]{{2,3}}))?"
)
_DATE = re.compile(
    r"[0-9]{1,4}[-/.][0-9]{1,2}[-/.][0-9]{1,4}(?:[T ][0-9:.]+(?:Z|[+-][0-9:]+)?)?"
    r"|[0-9]{1,2}:[0-9]{2}(?::[0-9]{2})?"
)
_DAY = re.compile(r"[0-9]{1,2}[ ./-]?[^\W\d_]{3,9}\.?(?:[ ./-]?(?:[0-9]{2}|[0-9]{4}))?")
_YEAR = re.compile(r"(?:19|20)[0-9]{2}")
DATA_SHARE = 0.8


@dataclass(frozen=True)
class Found:
    """The row of the header, from 0, and how many cells a row has; ``none`` where the first row is
    one of the table's own; ``above`` is the row before it that its names belong under."""

    row: int
    width: int
    none: bool = False
    above: int | None = None


def find_header(rows: Sequence[Sequence[str]]) -> Found | None:
    """The header among the first rows of a file.

    Parameters
    ----------
    rows : sequence of sequences of str
        Cells, trimmed; a row without any is blank.

    Returns
    -------
    Found or None
        None where no row holds anything.
    """
    filled = [i for i, row in enumerate(rows) if any(row)]
    if not filled:
        return None
    width = _width([rows[i] for i in filled])
    first = next((i for i in filled if _may_head(rows[i], width)), filled[0])
    if width < 2:
        return Found(first, width, none=_is_shaped_alike([rows[i] for i in filled if i >= first]))
    if len(rows[first]) < width:
        first = _wider(rows, filled, first, width)
    below = [rows[i] for i in filled if i > first and len(rows[i]) == len(rows[first])]
    if below and _is_data(rows[first], below):
        return Found(first, width, none=True)
    at = filled.index(first)
    if at + 1 < len(filled) and _goes_on(rows, first, filled[at + 1], filled[at + 2 :]):
        return Found(filled[at + 1], width, above=first)
    if at and filled[at - 1] == first - 1 and _stands_above(rows[first - 1], rows[first]):
        return Found(first, width, above=first - 1)
    return Found(first, width)


def _wider(rows: Sequence[Sequence[str]], filled: Sequence[int], first: int, width: int) -> int:
    """A row further down that is as wide as the table and names its columns of data: what stands before it
    says something of the table, such as whose account it is."""
    for place, at in enumerate(filled):
        row = rows[at]
        if at <= first or len(row) != width or not all(row):
            continue
        below = [rows[i] for i in filled[place + 1 :] if len(rows[i]) == width]
        data = [i for i in range(width) if below and _holds_data(below, i)]
        named = data and all(_kind(row[i]) == "text" for i in data)
        return at if named else first
    return first


def joined_names(above: Sequence[str], names: Sequence[str]) -> list[str]:
    """Names of two rows: what stands above goes for the columns to its right up to the next.

    Examples
    --------
    >>> joined_names(["", "2023", "", "2024", ""], ["Account", "Debit", "Credit", "Debit", "Credit"])
    ['Account', '2023 Debit', '2023 Credit', '2024 Debit', '2024 Credit']
    >>> joined_names(["Account", "Amount", ""], ["", "Debit", "Credit"])
    ['Account', 'Amount Debit', 'Amount Credit']
    """
    found, last = [], ""
    for place, name in enumerate(names):
        own = above[place].strip() if place < len(above) else ""
        last = own or last
        plain = " ".join(name.split())
        found.append(own if not plain else f"{last} {plain}".strip() if last != plain else plain)
    return found


def _goes_on(rows: Sequence[Sequence[str]], first: int, second: int, below: Sequence[int]) -> bool:
    """Whether a header goes on in a second row: names where it has none, above a column of data."""
    head, more = rows[first], rows[second]
    if len(head) != len(more) or any(_kind(cell) == "data" for cell in more):
        return False
    gaps = [i for i, cell in enumerate(more) if cell and not head[i]]
    named = [i for i, cell in enumerate(more) if cell]
    if not below or len(named) < (1 if gaps else 2):
        return False
    under = [rows[i] for i in below if len(rows[i]) == len(more)]
    if gaps and _are_parts(head, more):
        # Some of the names may be of texts; that of a number's column is no value of it.
        return any(_holds_data(under, place) for place in named)
    return all(_holds_data(under, place, or_days=not gaps) for place in named)


def _are_parts(head: Sequence[str], more: Sequence[str]) -> bool:
    """Whether the names of a second row stand under those of the first that go over several columns, each of
    these with all its parts, and nowhere else."""
    groups = [i for i, name in enumerate(head) if name]
    if not groups or groups[0]:
        return False
    ends = [*groups[1:], len(head)]
    parts = [[bool(cell) for cell in more[a:b]] for a, b in zip(groups, ends, strict=True)]
    return all(all(part) if len(part) > 1 else not any(part) for part in parts)


def _stands_above(above: Sequence[str], names: Sequence[str]) -> bool:
    """Whether the row before a header tells columns of one name apart."""
    if len(above) != len(names) or sum(map(bool, above)) < 2:
        return False
    repeated = {name for name in names if name and names.count(name) > 1}
    return bool(repeated) and all(
        len(
            {
                full
                for full, plain in zip(joined_names(above, names), names, strict=True)
                if plain == name
            }
        )
        > 1
        for name in repeated
    )


def _holds_data(rows: Sequence[Sequence[str]], place: int, *, or_days: bool = False) -> bool:
    """Whether a column holds numbers or dates; with ``or_days`` days such as 03 Jan are dates too."""
    cells = [row[place] for row in rows if row[place]]
    data = [
        _kind(cell) == "data" or (or_days and _DAY.fullmatch(cell) is not None) for cell in cells
    ]
    return bool(cells) and sum(data) >= DATA_SHARE * len(cells)


def _width(rows: Sequence[Sequence[str]]) -> int:
    """How many cells most rows have; of equally many the more, since titles are narrow."""
    sizes = Counter(len(row) for row in rows)
    return max(sizes, key=lambda size: (sizes[size] if size > 1 else 0, size))


def _is_shaped_alike(rows: Sequence[Sequence[str]]) -> bool:
    """Whether the first of some rows of one cell is written as most others are: then it is no name."""
    shapes = [re.sub("[0-9]+", "9", re.sub(r"[^\W\d_]+", "A", "".join(r))) for r in rows]
    return len(shapes) > 2 and "9" in shapes[0] and 2 * shapes.count(shapes[0]) > len(shapes)


def is_header(row: Mapping[str, str | None], header: Sequence[str]) -> bool:
    """Whether a row is the header once more, as a report prints it on each page.

    In a column without a name of its own something may have been put that stands above.
    """
    cells = [" ".join((row[name] or "").split()) for name in header]
    same = sum(cell == name for cell, name in zip(cells, header, strict=True))
    return same * 2 > len(header) and all(
        not cell or name.startswith(cell) or name == f"column {place}"
        for place, (cell, name) in enumerate(zip(cells, header, strict=True), 1)
    )


def _may_head(row: Sequence[str], width: int) -> bool:
    """About as many cells as the table has, most of them named."""
    named = sum(map(bool, row))
    return abs(len(row) - width) <= 1 and named >= max(0.6 * width, 1)


def _kind(cell: str) -> str:
    if not cell:
        return ""
    return "data" if _NUMBER.fullmatch(cell) or _DATE.fullmatch(cell) else "text"


def is_text(cell: str) -> bool:
    """Whether a cell holds words, and neither a number nor a date."""
    return _kind(cell) == "text" and any(map(str.isalpha, cell))


def _is_data(row: Sequence[str], below: Sequence[Sequence[str]]) -> bool:
    """Whether a row is one of the table's: dates and numbers where the rows below have such, and no
    name above a column of them. Years in their order are names."""
    years = [cell for cell in row if _YEAR.fullmatch(cell)]
    numbers = [cell for cell in row if _kind(cell) == "data"]
    if (
        len(years) > 1
        and years == numbers
        and years in (sorted(years), sorted(years, reverse=True))
    ):
        return False
    same = 0
    for place, cell in enumerate(row):
        kinds = [k for other in below if (k := _kind(other[place]))]
        if not kinds or kinds.count("data") < DATA_SHARE * len(kinds):
            continue
        if _kind(cell) == "text":
            return False
        same += _kind(cell) == "data"
    return same > 0
