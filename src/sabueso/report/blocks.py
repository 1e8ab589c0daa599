"""Blocks of a result: what a test has to show, whatever the form it is shown in."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

if TYPE_CHECKING:
    from matplotlib.figure import Figure

Tone = Literal["plain", "muted", "mark", "strong"]
"""How a text stands out: not at all, as an aside, as flagged, as what counts most."""


@dataclass(frozen=True)
class Marked:
    """A text of a cell with its tone."""

    text: str
    tone: Tone = "mark"


@dataclass(frozen=True)
class Bar:
    """An observed share beside the share expected and its band, on a scale up to ``largest``."""

    share: float
    expected: float
    low: float
    high: float
    largest: float
    flagged: bool


Cell = str | Marked | Bar


class Column(NamedTuple):
    """A column of a table.

    ``left`` and ``right`` are never cut; ``flex`` gives way where there is no room, ``wrap`` folds;
    ``bar`` holds pictures that a form without room for them leaves out.
    """

    name: str
    kind: Literal["left", "right", "flex", "wrap", "bar"] = "right"


@dataclass(frozen=True)
class Line:
    """A sentence, or several figures on one line."""

    text: str
    tone: Tone = "plain"


@dataclass(frozen=True)
class Gap:
    """A blank line where a form has such."""


@dataclass(frozen=True)
class Table:
    """A table of texts. ``strong`` are positions of rows that stand out; ``rest`` says what is not
    shown; ``flags`` tells a table of what was flagged, which a paper lists with its reviews."""

    columns: Sequence[Column]
    rows: Sequence[Sequence[Cell]]
    strong: frozenset[int] = frozenset()
    rest: str = ""
    flags: bool = False


Block = Line | Gap | Table


@dataclass(frozen=True)
class Sheet:
    """One table of raw cells with its header, for a data file."""

    name: str
    header: list[str]
    rows: list[list[Any]]


@dataclass(frozen=True)
class Drawing:
    """A figure: what draws it (and says whether there was anything to draw), and its height."""

    draw: Callable[[Figure], bool]
    height: float = 1.0


@dataclass(frozen=True)
class Suit:
    """Whether a test suits a table, why, and the options to try it with; ``ready`` where these are all it needs."""

    test: str
    verdict: Literal["yes", "with care", "no"]
    reason: str
    options: str = field(default="")
    ready: bool = field(default=True)
