"""XML in which an element that repeats is a row: exports of programs, payment files, open data."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Generator, Iterator
from dataclasses import dataclass, field
from functools import cache
from itertools import islice
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Json
from sabueso.base.words import listed
from sabueso.intake.interface import Batch, Damaged, Layout
from sabueso.intake.readers.cells import (
    SAMPLE_ROWS,
    Record,
    batches_of,
    by_column,
    column_names,
    name_notes,
    text_table,
)
from sabueso.intake.readers.xml_elements import events_of, root_name
from sabueso.intake.settings import ReadSettings

LOOKED_AT = 50_000
"""Elements by which it is told which of them are rows, and rows by which their columns are."""
Names = tuple[str, ...]


@dataclass(frozen=True)
class _Rows(Layout):
    element: Names  # from the root's down to the row's
    keys: dict[str, str]  # to the names of their columns


class XmlRowsReader:
    """The element that repeats is a row; its elements and attributes are columns, as are those that stand before the
    rows in the elements around them."""

    suffixes = (".xml",)
    unit = "records"
    reads_any = True

    def takes(self, path: Path) -> bool:
        return bool(root_name(path)[1])

    def layout(self, path: Path, settings: ReadSettings) -> Layout:
        element, beside = _row_element(path, settings.records)
        keys: dict[str, None] = {}
        head: list[Json] = []
        for _, values in islice(_rows(path, element), LOOKED_AT):
            keys |= dict.fromkeys(values)
            if len(head) < SAMPLE_ROWS:
                head.append(values)
        # What stands around a row comes behind what is its own.
        given = sorted(keys, key=lambda key: key.startswith(f"{_ABOVE}"))
        bare = [key.removeprefix(_ABOVE) for key in given]
        names = column_names(bare)
        known = dict(zip(given, names, strict=True))
        notes = list(name_notes(bare, names))
        if beside:
            shown = listed([repr(name) for name in beside[:6]])
            were = "was" if len(beside) == 1 else "were"
            notes.append(f"beside the rows the file has {shown}, which {were} not read")
        return _Rows(
            header=names,
            header_line=0,
            described={"form": f"XML, rows {element[-1]!r}"},
            sample=text_table(names, [by_column(values, known) for values in head]),
            notes=tuple(notes),
            element=element,
            keys=known,
        )

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        assert isinstance(layout, _Rows)
        known = layout.keys

        def checked() -> Iterator[Record | Damaged]:
            for number, values in _rows(path, layout.element):
                surplus = [key for key in values if key not in known]
                if surplus:
                    name = surplus[0].removeprefix(_ABOVE)
                    reason = f"an element that the first {LOOKED_AT:,} rows lack"
                    yield Damaged(number, name, str(values[surplus[0]]), reason, str(values))
                else:
                    yield number, by_column(values, known)

        yield from batches_of(layout.header, checked())


_ABOVE = "\ufdd0"
"""Before the name of what stands around a row, and not in it."""


@cache
def _local(name: str) -> str:
    return name.rpartition("}")[2]


@dataclass
class _Seen:
    """Elements by their names from the root down: how often each comes, how often in one other, and which have
    others in them, or attributes."""

    all_of: Counter[Names] = field(default_factory=Counter)
    often: Counter[Names] = field(default_factory=Counter)
    filled: set[Names] = field(default_factory=set)
    first: dict[str, None] = field(default_factory=dict)


def _seen(path: Path) -> _Seen:
    """What the first elements of a file are."""
    seen = _Seen()
    stack: list[tuple[str, Counter[str]]] = []
    with events_of(path, ("start", "end")) as events:
        for number, (kind, element) in enumerate(events):
            if kind == "end":
                stack.pop()
                element.clear()
                continue
            if number > 2 * LOOKED_AT:
                break
            name = _local(element.tag)
            here = (*(each for each, _ in stack), name)
            if stack:
                stack[-1][1][name] += 1
                times = stack[-1][1][name]
                seen.all_of[here] += 1
                if times > 1:
                    seen.often[here] = max(seen.often[here], times)
                seen.filled.add(here[:-1])
                if len(stack) == 1:
                    seen.first[name] = None
            if any(not str(key).startswith("{") for key in element.attrib):
                seen.filled.add(here)
            stack.append((name, Counter()))
    return seen


def _row_element(path: Path, said: str | None) -> tuple[Names, list[str]]:
    """The element whose repetitions are the rows, from the root down, and the names of others beside it.

    Raises
    ------
    UserError
        If no element repeats, or several that may be meant do.
    """
    seen = _seen(path)
    all_of = seen.all_of
    found = [names for names in seen.often if names in seen.filled]
    if said is not None:
        named = [names for names in all_of if names[-1] == said or ".".join(names[1:]) == said]
        if not named:
            raise UserError(
                f"{path}: has no element {said!r}, which read.records of the table names"
            )
        found = [max(named, key=lambda names: all_of[names])]
    if not found:
        raise UserError(
            f"{path}: no element with others in it, or with attributes, comes more than once; expected one that "
            "is a row"
        )
    found.sort(key=lambda names: -all_of[names])
    rows = found[0]
    rivals = [
        names for names in found[1:]
        if rows[: len(names)] == names or all_of[names] >= max(all_of[rows] / 10, 2)
        if names[: len(rows)] != rows
    ]  # fmt: skip
    if rivals:
        which = " or ".join(repr(".".join(names[1:])) for names in (rivals[0], rows))
        raise UserError(
            f"{path}: a row may be {which}, which both come more than once; say which with --records"
        )
    around = set(rows[1:])
    return rows, [
        name for name in seen.first if name not in around and (rows[0], name) in seen.filled
    ]


def _rows(path: Path, element: Names) -> Iterator[tuple[int, Json]]:
    """(number, values) of each row; a row is let go once it was handed out."""
    number = 0
    parent: Any = None
    before: Any = None
    around: Json = {}
    with events_of(path, ("end",), f"{{*}}{element[-1]}") as events:
        for _, row in events:
            above, previous = row.getparent(), row.getprevious()
            if above is None or above is not parent or previous is not before:
                # Another element around it, or something between: what stands there is looked at anew.
                if _path(row) != element:
                    continue
                around = _above(row)
            number += 1
            yield number, around | _values(row) if around else _values(row)
            row.clear()
            if before is not None and previous is before:
                above.remove(before)
            parent, before = above, row


def _path(element: Any) -> Names:
    return tuple(_local(each.tag) for each in (*reversed(list(element.iterancestors())), element))


def _above(row: Any) -> Json:
    """What stands in the elements around a row, and before it: values without elements of their own."""
    found: Json = {}
    around = list(row.iterancestors())
    for each in reversed(around):
        name = _local(each.tag)
        if each is not around[-1]:
            found |= {f"{_ABOVE}{name}.{key}": text for key, text in _attributes(each)}
        for inner in each:
            if inner.tag == row.tag or inner in around:
                break
            if not len(inner) and (inner.text or "").strip():
                found[f"{_ABOVE}{name}.{_local(inner.tag)}"] = inner.text.strip()
    return found


def _attributes(element: Any) -> list[tuple[str, str]]:
    return [pair for pair in element.items() if "{" not in pair[0]]


def _values(element: Any, before: str = "") -> Json:
    """Elements and attributes within an element, by their names from it down; what repeats as a list."""
    found: Json = {f"{before}{key}": text for key, text in _attributes(element)}
    children = list(element)
    tags = [child.tag for child in children]
    several = len(set(tags)) < len(tags)
    for tag, child in zip(tags, children, strict=True):
        key = f"{before}{_local(tag)}"
        text = child.text
        text = text.strip() if text else ""
        if several and tags.count(tag) > 1:
            found.setdefault(key, []).append(_values(child) or text)
        elif len(child) or child.items():
            if text:
                found[key] = text
            found |= _values(child, f"{key}.")
        else:
            found[key] = text or None
    if not before and not children and (own := (element.text or "").strip()):
        found["text"] = own
    return found
