"""Where the records of a JSON file begin, and in which form they stand."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import islice
from typing import Any

from sabueso.base.plain import Json
from sabueso.intake.readers.json_columns import columns_in, is_column

_BLANK = re.compile(r"[ \t\r\n]*")
_DECODER = json.JSONDecoder(parse_float=str, parse_int=str)
DEEPEST = 4
LOOKED_AT = 20
_ARRAYS = "JSON, arrays of values"


class SeveralLists(ValueError):
    """A file has more than one list of records, and either may be the one that is meant."""


@dataclass(frozen=True)
class Start:
    """How records stand in a file.

    ``characters`` before the first of them are passed over, as are those of ``between``; ``end`` closes
    them, empty where nothing does. ``names`` are those of arrays of values; ``key`` the column of the
    keys that the records stand under. ``within`` are the keys of the object whose members are columns, where they are.
    """

    characters: int = 0
    between: str = " \t\r\n,[]"
    end: str = ""
    names: tuple[str, ...] = ()
    key: str = ""
    within: tuple[str, ...] | None = None
    first_array: int | None = None
    """Where the array begins that the names are taken from."""
    described: str = "JSON"
    notes: tuple[str, ...] = ()

    def record(self, decoder: json.JSONDecoder, text: str, at: int) -> tuple[Json, int]:
        """A record as an object, and where it ends.

        Raises
        ------
        json.JSONDecodeError
            If there is none, or not all of it.
        """
        if self.key:
            key, end = decoder.raw_decode(text, at)
            colon = _past_blank(text, end)
            if not isinstance(key, str) or text[colon : colon + 1] != ":":
                raise json.JSONDecodeError("no key", text, at)
            at = _past_blank(text, colon + 1)
            value, end = decoder.raw_decode(text, at)
            if isinstance(value, dict):
                value[self.key] = key  # in place: it may be one that has a key twice
                return value, end
        else:
            value, end = decoder.raw_decode(text, at)
            if self.names and isinstance(value, list):
                if len(value) != len(self.names):
                    reason = f"an array of {len(value)} values, expected {len(self.names)}"
                    raise json.JSONDecodeError(reason, text, at)
                return dict(zip(self.names, value, strict=True)), end
            if not self.names and isinstance(value, dict):
                return value, end
        raise json.JSONDecodeError("not an object", text, at)


def find_start(head: str) -> Start:
    """The start of the records, by the first megabyte of a file.

    Raises
    ------
    SeveralLists
        If two lists of records stand beside each other.
    """
    at = _past_blank(head, 0)
    if head.startswith("[", at):
        inner = _past_blank(head, at + 1)
        return _arrays(head, at + 1) if head.startswith("[", inner) else Start()
    if not head.startswith("{", at):
        return Start()
    try:
        _, end = _DECODER.raw_decode(head, at)
    except (json.JSONDecodeError, RecursionError):
        end = len(head)  # not whole within the head
    if head[end:].strip():
        return Start()  # one object after another
    found = _columns(head, at, DEEPEST, ()) or _keyed(head, at)
    return found or _envelope(head, at, DEEPEST, ()) or Start()


def _past_blank(text: str, at: int) -> int:
    return _BLANK.match(text, at).end()  # type: ignore[union-attr]


def _members(text: str, at: int) -> Iterator[tuple[str, int, Any]]:
    """(key, where its value begins, the value or None where it is not whole) of an object."""
    at += 1
    while True:
        at = _past_blank(text, at)
        if text.startswith(",", at):
            at = _past_blank(text, at + 1)
        if not text.startswith('"', at):
            return
        try:
            key, end = _DECODER.raw_decode(text, at)
        except json.JSONDecodeError:
            return
        at = _past_blank(text, end)
        if not text.startswith(":", at):
            return
        begin = _past_blank(text, at + 1)
        try:
            value, at = _DECODER.raw_decode(text, begin)
        except (json.JSONDecodeError, RecursionError):
            yield key, begin, None
            return
        yield key, begin, value


def _columns(text: str, at: int, deep: int, path: tuple[str, ...]) -> Start | None:
    """An object whose members are columns, alone or within others."""
    members = list(_members(text, at))
    lists = [begin for _, begin, _ in members if text.startswith("[", begin)]
    if any(text[_past_blank(text, begin + 1)] in "[{" for begin in lists if begin + 1 < len(text)):
        return None
    if columns_in(members, text):
        beside = [key for key, begin, value in members if not is_column(text, begin, value)]
        return Start(
            within=path, described="JSON, columns one after another", notes=_beside(beside)
        )
    inner = [(key, begin) for key, begin, _ in members if text.startswith("{", begin)]
    if len(inner) != 1 or not deep or lists:
        return None
    key, begin = inner[0]
    return _columns(text, begin, deep - 1, (*path, key))


def _beside(keys: list[str]) -> tuple[str, ...]:
    """What is said of members that are no records."""
    if not keys:
        return ()
    shown = ", ".join(repr(each) for each in keys[:6])
    were = "was" if len(keys) == 1 else "were"
    return (f"beside the records the file has {shown}, which {were} not read",)


def _keyed(text: str, at: int) -> Start | None:
    """Objects of the same keys, each under a key of its own."""
    members = list(islice(_members(text, at), LOOKED_AT))
    whole = [value for _, _, value in members if value is not None]
    if len(whole) < 2 or not all(isinstance(value, dict) and value for value in whole):
        return None
    common = set.intersection(*(set(value) for value in whole))
    if 2 * len(common) < max(len(value) for value in whole):
        return None
    name = next(n for n in ("key", "record key", "key of the record") if n not in common)
    return Start(
        at + 1, " \t\r\n,", "}", key=name, described="JSON, records under keys",
        notes=(f"each record stands under a key, which became the column {name!r}",),
    )  # fmt: skip


def _envelope(text: str, at: int, deep: int, path: tuple[str, ...]) -> Start | None:
    """An array of objects, or of arrays, among the members of an object: the longest."""
    found: list[tuple[float, str, Start]] = []
    beside: list[str] = []
    labels: list[tuple[str, tuple[str, ...]]] = []
    for key, begin, value in _members(text, at):
        here: Start | None = None
        size = float("inf") if value is None else len(value) if isinstance(value, list) else 1
        labels += [(key, names) for names in _labels(value)]
        if text.startswith("[", begin):
            inner = _past_blank(text, begin + 1)
            where = ".".join((*path, key))
            if text.startswith("{", inner):
                here = Start(begin + 1, " \t\r\n,", "]", described=f"JSON, records of {where!r}")
            elif text.startswith("[", inner):
                here = _arrays(text, begin + 1)
        elif text.startswith("{", begin) and deep:
            here = _envelope(text, begin, deep - 1, (*path, key))
            size = float("inf") if value is None else len(json.dumps(value)) / 100
        if here is not None:
            found.append((size, key, here))
        else:
            beside.append(key)
    # A list that names the columns of another is none of records, however few those are.
    naming = {
        key
        for key, names in labels
        for _, other, start in found
        if other != key and _are_names(names, text, start)
    }
    beside += [key for _, key, _ in found if key in naming]
    found = [each for each in found if each[1] not in naming]
    if not found:
        return None
    found.sort(key=lambda each: -each[0])
    size, key, start = found[0]
    if len(found) > 1 and found[1][0] >= max(size / 10, 2):
        raise SeveralLists(key, found[1][1])
    beside += [each for _, each, _ in found[1:]]
    fitting = [(of, names) for of, names in labels if _are_names(names, text, start)]
    if start.names and fitting:
        of, names = fitting[0]
        start = _named(text, start, names)
        start = replace(start, notes=(f"the names of the columns stand under {of!r}",))
        beside = [each for each in beside if each != of]
    return replace(start, notes=(*start.notes, *_beside(beside)))


def _are_names(names: tuple[str, ...], text: str, start: Start) -> bool:
    """Whether texts name the columns of records: as many as an array has, or the keys of the first object."""
    if start.names:
        return len(names) == len(start.names) == len(set(names))
    try:
        first, _ = _DECODER.raw_decode(text, _past_blank(text, start.characters))
    except (json.JSONDecodeError, RecursionError):
        return False
    return isinstance(first, dict) and set(names) == set(first)


def _named(text: str, start: Start, names: tuple[str, ...]) -> Start:
    """Arrays of values under names that stand elsewhere: the first is a row, unless it has the same."""
    if start.first_array is None or set(start.names) == set(names):
        return replace(start, names=names)
    return replace(start, names=names, characters=start.first_array)


def _labels(value: Any, deep: int = DEEPEST) -> Iterator[tuple[str, ...]]:
    """Texts in a list, or names of the objects in one: what the columns of a table may be called."""
    if isinstance(value, list) and value:
        if all(isinstance(each, str) for each in value):
            yield tuple(value)
        elif all(isinstance(each, dict) for each in value):
            for name in ("name", "id", "field", "title", "label"):
                texts = [each.get(name) for each in value]
                if all(isinstance(text, str) and text for text in texts):
                    yield tuple(texts)
    elif isinstance(value, dict) and deep:
        for each in value.values():
            yield from _labels(each, deep - 1)


def _arrays(text: str, at: int) -> Start:
    """Arrays of values, the first of them the names where all of it are texts that come but once, and none looks as
    the value below it does."""
    first = _past_blank(text, at)
    values: list[Any] = []
    end, following = first, None
    try:
        values, end = _DECODER.raw_decode(text, first)
        following, _ = _DECODER.raw_decode(text, _past_blank(text, _past_blank(text, end) + 1))
    except (json.JSONDecodeError, RecursionError):
        pass  # none follows, or what does is not whole
    texts = all(isinstance(value, str) and value for value in values)
    # Numbers are read as texts; as they are written they begin with no quotation mark.
    quoted = text[first:end].count('"') >= 2 * len(values)
    named = values and texts and quoted and len(set(values)) == len(values)
    if named and isinstance(following, list) and len(following) == len(values):
        alike = any(_shape(a) == _shape(b) for a, b in zip(values, following, strict=True))
        if not alike:
            return Start(
                end, " \t\r\n,", "]", tuple(values), first_array=at, described=_ARRAYS,
                notes=("the first array gives the names of the columns",),
            )  # fmt: skip
    names = tuple(f"column {n}" for n in range(1, len(values) + 1))
    return Start(at, " \t\r\n,", "]", names or ("column 1",), described=_ARRAYS)


def _shape(value: Any) -> object:
    """What a text with figures looks like: each figure as 0. Nothing else is like a text without any."""
    text = str(value)
    return re.sub("[0-9]", "0", text) if re.search("[0-9]", text) else object()
