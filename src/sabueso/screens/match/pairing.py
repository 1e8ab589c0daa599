"""Which keys of one side are met on the other, as they are compared."""

from __future__ import annotations

from typing import Protocol

from sabueso.screens.match.during import pairs_within
from sabueso.screens.match.flagging import Asked, Pairs
from sabueso.screens.match.keys import Key, Keys
from sabueso.stats.alike import alike, normalised


class Compared(Asked, Protocol):
    """What the settings say about how keys are compared."""

    @property
    def keys(self) -> str: ...
    @property
    def threshold(self) -> float: ...


def pairs_of(left: Keys, right: Keys, settings: Compared) -> Pairs:
    """Partners of each key; of keys among themselves, others, or those that several rows have."""
    own = right is left
    if settings.keys == "alike":
        names = [str(key[0]) for key in left.keys]
        others = names if right is left else [str(key[0]) for key in right.keys]
        found: Pairs = {}
        for i, k, score in alike(names, others, settings.threshold):
            same = left.keys[i][1:] == right.keys[k][1:]
            if same and not (own and i == k):
                found.setdefault(i, []).append((k, score))
        return found
    parts = len(settings.on)

    def form(key: Key) -> Key:
        if settings.keys == "exact":
            return key
        return (*(normalised(part) for part in key[:parts]), *key[parts:])

    if settings.during:
        return pairs_within(left, right, parts, form)
    known: dict[Key, list[int]] = {}
    for k, key in enumerate(right.keys):
        # Marks alone are no key, in whatever script.
        if "" not in form(key)[:parts]:
            known.setdefault(form(key), []).append(k)
    found = {}
    for i, key in enumerate(left.keys):
        partners = [k for k in known.get(form(key), ()) if not (own and k == i)]
        if own and not partners and left.rows[i] > 1:
            partners = [i]  # one spelling, several rows
        if partners:
            found[i] = [(k, 100.0) for k in partners]
    return found


def beyond_of(left: Keys, right: Keys, settings: Compared) -> frozenset[int]:
    """Places of keys of periods before the other table's first or after its last: nobody has a row there then."""
    if settings.when is None or settings.find != "absent" or not right.keys:
        return frozenset()
    periods = [str(key[-1]) for key in right.keys]
    first, last = min(periods), max(periods)
    return frozenset(i for i, key in enumerate(left.keys) if not first <= str(key[-1]) <= last)
