"""JSON: an array of objects, JSON Lines, and objects in an envelope, under keys, or as arrays of values.
Numbers keep every digit they are written with."""

from __future__ import annotations

import codecs
import json
from collections.abc import Collection, Generator, Iterator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Json
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
from sabueso.intake.readers.json_columns import records_of
from sabueso.intake.readers.json_start import SeveralLists, Start, find_start
from sabueso.intake.readers.source import opened
from sabueso.intake.settings import ReadSettings

CHUNK = 1 << 20
LONGEST = (
    8 << 20
)  # characters of one object; an opening brace without an end would swallow the file


class _Twice(Json):
    """An object that has a key more than once: one of its values would be lost."""


def _object(pairs: list[tuple[str, Any]]) -> Json:
    found = dict(pairs)
    return found if len(found) == len(pairs) else _Twice(found)


_DECODER = json.JSONDecoder(parse_float=str, parse_int=str, object_pairs_hook=_object)


@dataclass(frozen=True)
class _Records(Layout):
    keys: dict[str, str]  # to the names of their columns
    start: Start


class JsonReader:
    """Objects with the same keys, one after another or in one array."""

    suffixes = (".json", ".jsonl", ".ndjson")
    unit = "records"

    def takes(self, path: Path) -> bool:
        return True

    def layout(self, path: Path, settings: ReadSettings) -> Layout:
        try:
            start = find_start(_head(path))
        except SeveralLists as error:
            first, second = error.args
            raise UserError(
                f"{path}: holds records in {first!r} and in {second!r}; expected one list, write each "
                "to a file of its own"
            ) from None
        head = list(islice(_objects(path, start), SAMPLE_ROWS))
        sample = [item[1] for item in head if not isinstance(item, Damaged)]
        if not sample:
            reason = head[0].reason if head and isinstance(head[0], Damaged) else "it holds none"
            raise UserError(f"{path}: expected JSON objects, one a line or in an array: {reason}")
        keys = list(dict.fromkeys(key for values in sample for key in values))
        names = column_names(keys)
        named = [by_column(values, dict(zip(keys, names, strict=True))) for values in sample]
        return _Records(
            header=names,
            header_line=0,
            described={"form": start.described},
            sample=text_table(names, named),
            notes=(*start.notes, *name_notes(keys, names)),
            keys=dict(zip(keys, names, strict=True)),
            start=start,
        )

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        assert isinstance(layout, _Records)
        known = layout.keys

        def checked() -> Iterator[Record | Damaged]:
            for item in _objects(path, layout.start):
                if not isinstance(item, Damaged):
                    surplus = [key for key in item[1] if key not in known]
                    if surplus:
                        text = json.dumps(item[1], ensure_ascii=False)
                        reason = "a key that the first records lack"
                        item = Damaged(item[0], surplus[0], "", reason, text)
                    else:
                        item = item[0], by_column(item[1], known)
                yield item

        yield from batches_of(layout.header, checked())


def _head(path: Path) -> str:
    with opened(path) as file:
        return codecs.getincrementaldecoder("utf-8-sig")("replace").decode(file.read(CHUNK))


def _objects(path: Path, start: Start) -> Iterator[Record | Damaged]:
    """Records with the line each begins on, those of columns with their number; what is none is damaged, to the end
    of its line."""
    if start.within is not None:
        for number, row in records_of(path, start.within, _DECODER):
            yield _flat(row, number, str(row))
        return
    line, buffer, at, ended = 1, "", 0, False
    skip = start.characters
    with opened(path) as file:
        decode = codecs.getincrementaldecoder("utf-8-sig")("strict").decode
        while True:
            while at < len(buffer) and (skip > 0 or buffer[at] in start.between):
                line += buffer[at] == "\n"
                at += 1
                skip -= 1
            if at < len(buffer) and buffer[at] == start.end:
                return
            if at == len(buffer) or (not ended and len(buffer) - at < CHUNK):
                chunk = b"" if ended else file.read(CHUNK)
                try:
                    more = decode(chunk, final=not chunk)
                except UnicodeDecodeError as error:
                    raise UserError(
                        f"{path}, near line {line}: the file is not utf-8: {error.reason}"
                    ) from None
                ended = not chunk
                buffer, at = buffer[at:] + more, 0
                if ended and not buffer.strip(start.between):
                    if start.end:
                        yield Damaged(
                            line, "", "", "the records are not closed: the file is cut", ""
                        )
                    return
                if not ended:
                    continue
            try:
                value, end = start.record(_DECODER, buffer, at)
            except (json.JSONDecodeError, RecursionError) as error:
                if not ended and len(buffer) - at < LONGEST:
                    # It may go on beyond what was read so far.
                    more = decode(chunk := file.read(CHUNK), final=not chunk)
                    ended = not chunk
                    buffer, at = buffer[at:] + more, 0
                    continue
                end = buffer.find("\n", at)
                end = len(buffer) if end < 0 else end
                reason = (
                    "is no JSON object: " + str(getattr(error, "msg", "nested too deeply")).lower()
                )
                yield Damaged(line, "", "", reason, buffer[at:end][:2000])
            else:
                yield _flat(value, line, buffer[at:end])
            line += buffer.count("\n", at, end)
            at = end


def _flat(value: Json, line: int, text: str) -> Record | Damaged:
    """An object within an object as columns ``outer.inner``; deeper ones and lists as their text."""
    found: Json = {}
    twice = "a key stands twice" if isinstance(value, _Twice) else ""
    for key, item in value.items():
        inside = {f"{key}.{inner}": each for inner, each in item.items()} if (
            isinstance(item, dict) and item
        ) else {key: item}  # fmt: skip
        if isinstance(item, _Twice) or found.keys() & inside.keys():
            twice = "a key stands twice"
        found |= inside
    return Damaged(line, "", "", twice, text[:2000]) if twice else (line, found)
