"""Candidate rows put into clusters: reversals taken out, then what lies close together."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date

from sabueso.screens.repeats.documents import certain, folded


@dataclass(frozen=True)
class Candidate:
    """A row that may repeat another: its place among the rows found, signed units, day, document, and what it is to
    differ in."""

    place: int
    units: int
    day: date | None
    document: str | None
    other: str | None = None


@dataclass(frozen=True)
class Found:
    """Rows that repeat one another. ``likeness`` says that two of them are of one document."""

    rows: tuple[Candidate, ...]
    likeness: str | None

    @property
    def days(self) -> int | None:
        known = [row.day for row in self.rows if row.day is not None]
        return (max(known) - min(known)).days if known else None


def without_reversed(rows: Sequence[Candidate]) -> tuple[list[Candidate], int]:
    """Rows of one party and size that no equal opposite amount undid, and how many pairs were.

    The commoner sign is what is repeated; each row of the other takes out the latest that came
    before it, or the earliest of all where none did.
    """
    positive = [row for row in rows if row.units > 0]
    negative = [row for row in rows if row.units < 0]
    kept, undoing = (positive, negative) if len(positive) >= len(negative) else (negative, positive)
    kept, undone = list(kept), 0
    for each in undoing:
        if not kept:
            break
        before = [
            i
            for i, row in enumerate(kept)
            if row.day is None or each.day is None or row.day <= each.day
        ]
        kept.pop(before[-1] if before else 0)
        undone += 1
    return kept, undone


def clusters(rows: Sequence[Candidate], within: int | None) -> Iterator[Found]:
    """What of rows of one party and amount, in the order of their days, repeats.

    Rows belong together that lie ``within`` days of the next one, however many there are in the chain,
    or that have one document whatever their days; without ``within``, all.
    """
    if within is None:
        if len(rows) > 1:
            yield Found(tuple(rows), certain([row.document for row in rows]))
        return
    parent = list(range(len(rows)))

    def root(i: int) -> int:
        while parent[i] != i:
            parent[i] = parent[parent[i]]
            i = parent[i]
        return i

    by_document: dict[str, int] = {}
    for i, row in enumerate(rows):
        before = rows[i - 1].day if i else None
        if row.day is not None and before is not None and (row.day - before).days <= within:
            parent[root(i)] = root(i - 1)
        name = folded(row.document) if row.document else ""
        if name:
            if name in by_document:
                parent[root(i)] = root(by_document[name])
            by_document[name] = i
    found: dict[int, list[Candidate]] = {}
    for i, row in enumerate(rows):
        found.setdefault(root(i), []).append(row)
    for members in found.values():
        if len(members) > 1:
            yield Found(tuple(members), certain([row.document for row in members]))


def by_chance(
    cluster: Found, party_rows: int, own: int, others: int, population: int, share: float
) -> float:
    """How likely a row of such an amount finds another of its party as close, where nothing repeats.

    A row meets ``party_rows`` × ``share`` others of its party within the days looked at. Each has the
    amount with the larger of two shares: that of the party's rows beside the two, which is large for a
    standing order or a price, and that of all rows, which is so for round amounts. Where
    a document is the same, it must coincide as well.

    Parameters
    ----------
    own, others : int
        Rows of this amount beside two of the cluster: of the party, and of all.
    share : float
        Share of the period that the days looked at are.
    """
    met = max(party_rows - 1, 1) * share
    chance = max(own / max(party_rows - 1, 1), (others + 0.5) / (population + 1))
    p = 1 - (1 - min(chance, 1.0)) ** met
    if cluster.likeness is not None:
        p /= party_rows + 1
    return float(min(max(p, 1e-12), 1.0))
