"""Keys that are absent or present as flags, and what their subjects are."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from sabueso.base.plain import Cells
from sabueso.population import expressions
from sabueso.population.table import Table, money
from sabueso.screens.match.keys import Key, Keys, Rows
from sabueso.screens.subject import Cluster, Entity, Subject
from sabueso.stats.alike import differs

MOST_PARTNERS = 5
MOST_NAMED = 2
ALIKE = " ~ "
"""What stands between two ways in which a key is written."""
OPEN = "–"
"""What stands for an end that a span has not."""


class Asked(Protocol):
    """What the settings say about flags."""

    @property
    def on(self) -> Sequence[str]: ...
    @property
    def find(self) -> str: ...
    @property
    def when(self) -> str | None: ...
    @property
    def during(self) -> Sequence[str]: ...


Pairs = dict[int, list[tuple[int, float]]]
"""By the place of a key its partners on the other side, each with its similarity of 100."""


def flags_of(
    left: Keys,
    right: Keys,
    pairs: Pairs,
    settings: Asked,
    columns: Sequence[str],
    beyond: Collection[int] = (),
) -> list[Cells]:
    """Keys that are absent or present, the largest amounts first; of keys among themselves pairs once. Where several
    columns together are absent, ``instead`` is what the other table has by the first of them, or by as many as it knows
    (``shared``). Of keys whose places are ``beyond`` none is a flag."""
    find = settings.find
    own = right is left
    rows: list[Cells] = []
    flagged = [
        i
        for i in range(len(left.keys))
        if bool(pairs.get(i)) == (find == "present") and i not in beyond
    ]
    mine, theirs = _looked_at(left, right, pairs, flagged)
    scale = left.measure.scale if left.measure is not None else 2
    at_any_time = settings.when is None and not settings.during
    several = find == "absent" and len(settings.on) > 1 and at_any_time and not own
    instead = _by_the_first(right, [left.keys[i] for i in flagged]) if several else None
    seen: set[frozenset[int]] = set()
    for i in flagged:
        key, partners = left.keys[i], pairs.get(i, [])
        if own:
            group = frozenset([i, *(k for k, _ in partners)])
            if group in seen:
                continue
            seen.add(group)
        row: Cells = {
            "subject": dict(zip(left.labels, key, strict=True)),
            "score": max((score for _, score in partners), default=None),
            "limit": None,
            "direction": find,
            "p": None,
            "p_adjusted": None,
            "amount": None if left.measure is None else money(left.units[i], scale),
            "rows": left.rows[i],
            "similarity": max((score for _, score in partners), default=None),
            "partners": [
                {
                    "key": _written(right.keys[k]),
                    "id": theirs[k].first_id,
                    **(_weight(right, k) if own else {}),
                }
                for k, _ in partners[:MOST_PARTNERS]
            ],
            "differs": sorted(
                {differs(key[0], right.keys[k][0]) for k, _ in partners} - {"nothing"}
            ),
            "ids": [mine[i].first_id],
        }
        if instead is not None:
            row["shared"], row["instead"] = _known(instead, key)
        if own:
            others = [k for k, _ in partners if k != i]
            row |= _together_with(left, i, others, mine, columns, settings.when == "day")
        rows.append(row)
    rows.sort(key=lambda r: (-(r["score"] or 0), -abs(r["amount"] or 0), str(r["subject"])))
    return rows


def _written(parts: Sequence[Any]) -> str:
    """A key as one text."""
    return " / ".join(OPEN if part is None else str(part) for part in parts)


def _weight(keys: Keys, place: int) -> Cells:
    """The rows of a key, and their amount."""
    amount = None if keys.measure is None else money(keys.units[place], keys.measure.scale)
    return {"rows": keys.rows[place], "amount": amount}


Beside = dict[tuple[str, ...], list[str]]


def _by_the_first(keys: Keys, wanted: Sequence[Key]) -> Beside:
    """What stands in another table beside the first parts of some keys, by these."""
    parts = len(keys.labels)
    asked = {tuple(map(str, key[:n])) for key in wanted for n in range(1, parts)}
    found: Beside = {}
    for key in keys.keys:
        told = tuple(map(str, key))
        for n in range(1, parts):
            if told[:n] in asked:
                found.setdefault(told[:n], []).append(" / ".join(told[n:]))
    return found


def _known(beside: Beside, key: Key) -> tuple[int, list[str]]:
    """How many of the first parts of a key another table knows together, one at least, and what it has beside them."""
    for n in range(len(key) - 1, 0, -1):
        found = beside.get(tuple(map(str, key[:n])))
        if found:
            return n, list(dict.fromkeys(found))
    return 1, []


def _together_with(
    keys: Keys,
    place: int,
    others: Sequence[int],
    looked: Mapping[int, Rows],
    columns: Sequence[str],
    by_day: bool,
) -> Cells:
    """A key with those that are alike in its own table: the rows and the amount of all of them. ``by_day`` says that
    its last part is a day, which dates may have a time of."""
    of = [place, *others]
    ids = (each for k in of for each in (looked[k].first_id, looked[k].last_id))
    found: Cells = {
        "subject": {n: str(v) for n, v in zip(keys.labels, keys.keys[place], strict=True)},
        "rows": sum(keys.rows[k] for k in of),
        "ids": list(dict.fromkeys(ids)),
        "members": [{"file": looked[k].place[0], "line": looked[k].place[1]} for k in of],
    }
    every = []
    for k in of:
        named = list(zip(keys.labels, map(str, keys.keys[k]), strict=True))
        date, day = named.pop() if by_day else ("", "")
        parts = [expressions.equals(name, value, columns) for name, value in named]
        parts += [f"{_day_of(date)} = {expressions.literal(day)}"] if by_day else []
        every.append(" and ".join(parts))
    found["selects"] = " or ".join(f"({one})" for one in every) if others or by_day else None
    if keys.measure is not None:
        found["amount"] = money(sum(keys.units[k] for k in of), keys.measure.scale)
    return found


def _looked_at(
    left: Keys, right: Keys, pairs: Pairs, flagged: Sequence[int]
) -> tuple[dict[int, Rows], dict[int, Rows]]:
    """The rows of flagged keys, and of their partners; of keys among themselves one for both."""
    partners = {k for i in flagged for k, _ in pairs.get(i, ())}
    if right is left:
        both = left.look(sorted(partners.union(flagged)))
        return both, both
    return left.look(flagged), right.look(sorted(partners))


def together(flags: Sequence[Cells], period: str) -> list[Cells]:
    """One flag for each key, with the periods that it is absent or present in."""
    found: dict[tuple[Any, ...], list[Cells]] = {}
    for flag in flags:
        key = tuple(value for name, value in flag["subject"].items() if name != period)
        found.setdefault(key, []).append(flag)
    joined = [
        {
            **own[0],
            "subject": {n: v for n, v in own[0]["subject"].items() if n != period},
            "amount": None if own[0]["amount"] is None else sum(flag["amount"] for flag in own),
            "rows": sum(flag["rows"] for flag in own),
            "period": period,
            "periods": sorted(str(flag["subject"][period]) for flag in own),
        }
        for own in found.values()
    ]
    return sorted(joined, key=lambda f: (-abs(f["amount"] or 0), str(f["subject"])))


def in_periods(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    return _Periods(
        flag["subject"], f"({where})" if where else "", flag["period"], tuple(flag["periods"])
    )


@dataclass(frozen=True)
class _Periods(Entity):
    """The rows of a key in some periods."""

    period: str = ""
    among: tuple[str, ...] = ()

    def rows(self, table: Table) -> str:
        listed = ", ".join(expressions.literal(each) for each in self.among)
        name = self.period
        if any(c.name == name for c in table.columns):
            name = _day_of(name)
        return f"{super().rows(table)} and {name} in ({listed})"


def _day_of(date: str) -> str:
    """The day of a date, whatever its time, as text."""
    return f"cast(cast({expressions.quoted_name(date)} as date) as text)"


def cluster_of(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    members = tuple((m["file"], m["line"]) for m in flag["members"])
    written = tuple(dict.fromkeys(p["key"] for p in flag["partners"]))
    if len(members) == flag["rows"] > 1:
        return _Written(flag["subject"], members, written)
    return _Shared(flag["subject"], members, written, flag.get("selects") or "", where or "")


@dataclass(frozen=True)
class _Written(Cluster):
    """Rows of one key with those of the ways in which it is ``written`` besides."""

    written: tuple[str, ...] = ()

    def label(self) -> str:
        own = _written(list(self.clients().values()))
        others = [each for each in self.written if each != own]
        return ALIKE.join([self.short(), *others[:MOST_NAMED]])


@dataclass(frozen=True)
class _Shared(_Written):
    """Rows of one key, or of all the ways in which it is written."""

    selects: str = ""
    asked: str = ""

    def rows(self, table: Table) -> str:
        names = [c.name for c in table.columns]
        own = " and ".join(expressions.equals(n, v, names) for n, v in self.clients().items())
        return f"({self.selects or own}) and ({self.asked})" if self.asked else self.selects or own
