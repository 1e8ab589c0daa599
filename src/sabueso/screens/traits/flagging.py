"""Which entries are flagged by their traits, and as what: alone, or as what one preparer made."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from itertools import accumulate
from operator import itemgetter
from typing import Any, Protocol

from sabueso.base.plain import Cells
from sabueso.population import expressions
from sabueso.population.table import Column, money
from sabueso.screens.subject import own_name
from sabueso.screens.traits.entries import MOST_KEPT, Entries, Pattern

MOST_NAMED = 1_000
NEAR = 10
"""Times the share asked for within which entries are looked at that a preparer made with the same traits."""
ALONE = {"turned_back": 1, "same_person": NEAR}
"""Traits that are enough by themselves, and of how many times the share asked for: two entries make each of the one, and
where nobody else does it who prepares and approves alone breaks a rule of the house."""
BY_FEW = "same_person"
"""A trait that is enough alone where few of a house's people have it: of so many at least this part, in entries that
are no more than this part of all."""
LEAST_PEOPLE, FEW_PEOPLE, FEW_ENTRIES = 5, 0.2, 0.05


class Asked(Protocol):
    """Settings that say how rare is rare enough."""

    @property
    def share(self) -> float: ...
    @property
    def least(self) -> int: ...


Bits = Mapping[str | None, Mapping[str, float]]
"""By source, what each trait counts; without sources there is one, None."""


def _score(pattern: Pattern, bits: Bits) -> float:
    return sum(bits[pattern.source][name] for name in pattern.traits)


@dataclass
class Series:
    """Entries of one preparer with the same traits, which are one matter; of nobody each entry is its own."""

    pattern: Pattern
    score: float
    rows: list[Cells]


def rarity_of(patterns: Sequence[Pattern], bits: Bits) -> dict[Pattern, float]:
    """Each pattern's share of all entries with at least its score, the rarest first: counted and not multiplied,
    since traits go together."""
    whole = sum(p.count for p in patterns) or 1
    scored = sorted(((-_score(p, bits), p) for p in patterns), key=itemgetter(0))
    falling, entries = [s for s, _ in scored], [0, *accumulate(p.count for _, p in scored)]
    return {p: entries[bisect_right(falling, s + 1e-9)] / whole for s, p in scored}


def chosen_of(
    entries: Entries, rarity: dict[Pattern, float], bits: Bits, settings: Asked
) -> list[Series]:
    """What is rare enough: as rare as asked for, where what one preparer made with the same traits counts once, so
    that a series does not hide itself by its own number; and what is enough alone."""
    whole = sum(p.count for p in rarity) or 1
    alone = {
        p
        for p in rarity
        if any(
            2 ** -bits[p.source][n] <= times * settings.share
            for n, times in ALONE.items()
            if n in p.traits
        )
    }
    near = {
        p
        for p, share in rarity.items()
        if len(p.traits) >= settings.least
        and (share <= settings.share or share <= min(NEAR * settings.share, MOST_KEPT / whole))
    }
    by_few = {p for p in rarity if BY_FEW in p.traits}
    if sum(p.count for p in by_few) > min(FEW_ENTRIES * whole, MOST_KEPT / 2):
        by_few = set()
    looked_at = near | alone | by_few
    of = {(entries.number_of(p.traits), p.source): p for p in rarity if p in looked_at}
    found: dict[tuple[Any, ...], Series] = {}
    for place, row in enumerate(entries.of(list(of.values()))):
        who = row.get("who")
        pattern = of[int(row["bits"]), row.get("source")]
        key = pattern, who if who is not None else place
        found.setdefault(key, Series(pattern, _score(pattern, bits), [])).rows.append(row)

    def is_rare(series: Series) -> bool:
        others = round(rarity[series.pattern] * whole) - len(series.rows)
        return (others + 1) / whole <= settings.share

    people = {s.rows[0]["who"] for s in found.values() if s.pattern in by_few}
    among = entries.preparers() if by_few - alone else 0
    if among < LEAST_PEOPLE or len(people) > FEW_PEOPLE * among:
        by_few = set()
    sure = alone | by_few
    return [s for s in found.values() if s.pattern in sure or is_rare(s)]


def flags_of(
    entries: Entries,
    chosen: Sequence[Series],
    every: Bits,
    rarity: dict[Pattern, float],
    measure: Column | None,
) -> list[Cells]:
    found: list[Cells] = []
    for each in chosen:
        rows, source, bits = each.rows, each.pattern.source, every[each.pattern.source]
        ordered = sorted(each.pattern.traits, key=lambda name: -bits[name])
        units = sum(int(row["total"] or 0) or int(row["largest"] or 0) for row in rows)
        several = len(rows) > 1 and entries.preparer is not None
        subject = (
            {
                entries.preparer: rows[0]["who"],
                own_name("traits", [entries.preparer]): ", ".join(ordered),
            }
            if several and entries.preparer is not None
            else entries.key(rows[0])
        )
        found.append(
            {
                "subject": subject,
                "score": each.score,
                "limit": None,
                "direction": "rare",
                "p": None,
                "p_adjusted": None,
                "amount": None if measure is None else money(units, measure.scale),
                "entries": len(rows),
                "rows": sum(int(row["n"]) for row in rows),
                "bits": each.score,
                "as_rare_as": rarity[each.pattern],
                **({} if source is None else {"source": source}),
                "traits": ordered,
                "each": [bits[name] for name in ordered],
                "selects": _condition([entries.key(row) for row in rows], entries.grouping.known),
                "keys": [
                    " · ".join(map(str, entries.key(row).values())) for row in rows[:MOST_NAMED]
                ],
            }
        )
    found.sort(key=lambda f: (-f["score"], -abs(f["amount"] or 0), str(f["subject"])))
    return found


def _condition(keys: Sequence[Cells], columns: Collection[str]) -> str:
    """The rows of some entries, as a user types them."""
    if len(keys[0]) == 1:
        (name,) = keys[0]
        listed = ", ".join(expressions.literal(key[name]) for key in keys)
        texts = all(isinstance(key[name], str) for key in keys)
        own = expressions.operand(name, columns)
        column = own if texts else f"cast({own} as text)"
        return (
            f"{column} in ({listed})"
            if texts
            else f"{column} in ({', '.join(repr(str(k[name])) for k in keys)})"
        )
    every = (
        " and ".join(expressions.equals(*item, columns) for item in key.items()) for key in keys
    )
    return " or ".join(f"({each})" for each in every)
