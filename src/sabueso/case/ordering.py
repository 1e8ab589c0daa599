"""In what order exceptions stand in the queue."""

from __future__ import annotations

from collections.abc import Mapping

Standing = tuple[int, int, int, float]
"""Of an exception: the families of tests that marked it, a bit for each; its best standing in a screen;
how many screens marked it; and the amount at stake."""

TURNS = ("entity", "cluster", "row", "cell", "line", "range", "class")
"""Kinds in the order in which they take turns."""


def in_turns(kinds: Mapping[str, Mapping[str, Standing]]) -> list[tuple[str, str]]:
    """Exceptions by id with their kind, the most telling first.

    The first of every kind comes before the second of any. After that each kind has as many turns as
    there are families of tests that speak of it: what ten tests find in ten ways is not kept waiting by
    what one finds. Within a kind: the number of families that marked an exception (two limits on one
    measure are one); its best standing in a screen (scores of different tests do not compare); the number
    of screens; the amount at stake; the id.

    Parameters
    ----------
    kinds : mapping
        Of each kind, the standing of its exceptions by id.

    Examples
    --------
    Two families speak of rows and one of entities, so that two rows follow for each entity:

    >>> rows = {"r1": (1, 1, 1, 9.0), "r2": (2, 1, 1, 5.0), "r3": (2, 2, 1, 5.0)}
    >>> [one for one, kind in in_turns({"row": rows, "entity": {"e1": (4, 1, 1, 0.0), "e2": (4, 2, 1, 0.0)}})]
    ['e1', 'r1', 'r2', 'e2', 'r3']
    """
    turns: list[tuple[float, int, str, str]] = []
    for kind, standings in kinds.items():
        items = sorted(
            (-marking.bit_count(), best, -many, -most, one)
            for one, (marking, best, many, most) in standings.items()
        )
        speaking = 0
        for marking, *_ in standings.values():
            speaking |= marking
        often = speaking.bit_count()
        turn = TURNS.index(kind) if kind in TURNS else len(TURNS)
        turns += [(place / often, turn, item[-1], kind) for place, item in enumerate(items)]
    turns.sort()
    return [(one, kind) for _, _, one, kind in turns]
