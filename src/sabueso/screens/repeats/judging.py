"""Which clusters are no habit of their party."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from itertools import groupby
from typing import Any

import pyarrow as pa
from numpy.typing import ArrayLike

from sabueso.population.nothing import is_nothing
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.repeats.clusters import (
    Candidate,
    Found,
    by_chance,
    clusters,
    without_reversed,
)
from sabueso.screens.repeats.rhythm import Steps, makes_up, own_step, step_beyond
from sabueso.screens.repeats.search import SIZE


@dataclass(frozen=True)
class Frequencies:
    """How often parties occur, and amounts by their size; ``rows`` in all, and the ``share`` of the
    period that the days looked at are."""

    parties: Mapping[tuple[Any, ...], int]
    sizes: Mapping[int, int]
    rows: int
    share: float


@dataclass(frozen=True)
class Repeated:
    """A cluster that chance does not explain: its party, and what is beyond its first row, in minor
    units. Of rows that come in even steps, of which two are at one place, there is no chance, but a ``step``."""

    cluster: Found
    p: float | None
    party: tuple[Any, ...]
    excess: int
    step: float | None = None


@dataclass
class Judged:
    """The clusters, the least likely first, and how many there were of any kind; ``unnamed`` are rows that would
    repeat one another, of whom nobody says whose they are; ``in_step`` are clusters as far apart as their party's
    rows are from one to the next; ``beyond_steps`` are habits of which one place has two rows."""

    repeated: list[Repeated]
    beyond_steps: list[Repeated] = field(default_factory=list)
    looked_at: int = 0
    reversed: int = 0
    reversed_rows: int = 0
    unnamed: int = 0
    in_step: int = 0

    @property
    def usual(self) -> int:
        return self.looked_at - len(self.repeated)


def judged(
    found: pa.Table,
    grouping: Grouping,
    often: Frequencies,
    within: int | None,
    alpha: float,
    *,
    differing: bool = False,
) -> Judged:
    """Judge the clusters of some candidates, which come by party, size and day; where they are to be ``differing``,
    those of which two rows differ in what was asked for."""
    outcome = Judged([])
    for (*party, size), candidates in _groups(found, grouping):
        if any(isinstance(part, str) and is_nothing(part) for part in party):
            outcome.unnamed += len(candidates)
            continue
        kept, undone = without_reversed(candidates)
        outcome.reversed += bool(undone)
        outcome.reversed_rows += 2 * undone
        # Beside two of them: what repeats a third time and more is a habit, or nearly one.
        own, others = len(kept) - 2, max(often.sizes.get(size, 0) - 2, 0)
        rows = often.parties[tuple(party)]
        for cluster in clusters(kept, within):
            if differing and len({row.other for row in cluster.rows} - {None}) < 2:
                continue
            outcome.looked_at += 1
            p = by_chance(cluster, rows, own, others, often.rows, often.share)
            beyond = (len(cluster.rows) - 1) * cluster.rows[0].units
            if p < alpha:
                outcome.repeated.append(Repeated(cluster, p, tuple(party), beyond))
            elif (step := _step_of(cluster, kept)) is not None:
                outcome.beyond_steps.append(Repeated(cluster, None, tuple(party), beyond, step))
    outcome.repeated.sort(key=_order)
    return outcome


def _order(each: Repeated) -> tuple[float, int, int]:
    """The least likely first, then the largest."""
    return (1.0 if each.p is None else each.p, -abs(each.excess), each.cluster.rows[0].place)


def _step_of(cluster: Found, rows: Sequence[Candidate]) -> float | None:
    """The step in which rows of one amount come but for two of them."""
    days = [row.day.toordinal() for row in rows if row.day is not None]
    pair = [row.day.toordinal() for row in cluster.rows if row.day is not None]
    if len(pair) != 2 or len(cluster.rows) != 2 or len(days) != len(rows):
        return None
    return step_beyond(days, *pair)


def with_those_beyond(
    outcome: Judged, days: Mapping[tuple[Any, ...], tuple[ArrayLike, ArrayLike]]
) -> None:
    """Add habits of which one place has two rows, closer than the party's rows come otherwise, of which neither makes
    up for a place that has none.

    Parameters
    ----------
    days : mapping
        By party, the days of its rows, as numbers since 1970, and their sizes.
    """
    for each in outcome.beyond_steps:
        first, last = (row.day for row in each.cluster.rows)
        if each.party not in days or each.step is None or first is None or last is None:
            continue
        own, _ = days[each.party]
        usual = own_step(own)
        if usual and usual - 1 <= (last - first).days:
            continue
        pair = first.toordinal() - EPOCH, last.toordinal() - EPOCH
        if not makes_up(own, each.step, *pair):
            outcome.repeated.append(each)
    outcome.repeated.sort(key=_order)


EPOCH = date(1970, 1, 1).toordinal()


def without_rhythm(outcome: Judged, steps: Mapping[tuple[Any, ...], Steps]) -> None:
    """Take out what is as far apart as all rows of its party are, where their amounts are much the same."""
    kept = [
        each
        for each in outcome.repeated
        if each.party not in steps or not steps[each.party].explain(each.cluster)
    ]
    outcome.in_step = len(outcome.repeated) - len(kept)
    outcome.repeated = kept


def _groups(
    found: pa.Table, grouping: Grouping
) -> Iterator[tuple[tuple[Any, ...], Sequence[Candidate]]]:
    """Candidates of each party and size, in the order of their days."""
    many = len(grouping.names) + 1
    names = [*grouping.names, SIZE, UNITS, "day", "document", "other"]
    rows = zip(*(found.column(name).to_pylist() for name in names), strict=True)
    for key, members in groupby(enumerate(rows), key=lambda row: row[1][:many]):
        yield (
            key,
            [
                Candidate(
                    place,
                    int(units),
                    day,
                    None if is_nothing(document) else document,
                    None if is_nothing(other) else other,
                )
                for place, (*_, units, day, document, other) in members
            ],
        )
