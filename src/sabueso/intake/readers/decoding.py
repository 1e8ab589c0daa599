"""Bytes of text decoded: what is in another encoding than was taken for granted is said with its place."""

from __future__ import annotations

import codecs
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from sabueso.base.errors import UserError
from sabueso.intake.interface import OtherEncoding
from sabueso.intake.readers.source import (
    CHUNK,
    other_encoding,
)
from sabueso.intake.settings import ReadSettings


def decoded(head: bytes, encoding: str, path: Path, whole: bool) -> str:
    decoder = codecs.getincrementaldecoder(encoding)("strict")
    try:
        return decoder.decode(head, final=whole).removeprefix("\ufeff")
    except UnicodeDecodeError as error:
        line = head[: error.start].count(b"\n") + 1
        raise UserError(
            f"{path}, line {line}: byte {head[error.start]:#04x} is not {encoding}; "
            "set read.encoding of the table in case.toml"
        ) from None


def utf8(file: IO[bytes], encoding: str, path: Path, settings: ReadSettings) -> Iterator[bytes]:
    """The file as UTF-8 chunks without a byte-order mark.

    Raises
    ------
    OtherEncoding
        If what was taken for UTF-8 is not.
    UserError
        If it is not in the encoding given.
    """
    if encoding in ("utf-8", "ascii"):
        yield from _checked(file, path, given=settings.encoding is not None)
        return
    decoder = codecs.getincrementaldecoder(encoding)("strict")
    start, done = True, False
    while not done:
        chunk = file.read(CHUNK)
        done = not chunk
        try:
            text = decoder.decode(chunk, final=done)
        except UnicodeDecodeError as error:
            raise UserError(
                f"{path}: {error.reason} near byte {file.tell() - len(chunk) + error.start}: the "
                f"file is not {encoding}; set read.encoding of the table in case.toml"
            ) from None
        if start and text:
            text, start = text.removeprefix("\ufeff"), False
        if text:
            yield text.encode("utf-8")


def _checked(file: IO[bytes], path: Path, *, given: bool) -> Iterator[bytes]:
    """UTF-8 as it is, once it is seen to be that."""
    decoder = codecs.getincrementaldecoder("utf-8")("strict")
    done = False
    while not done:
        chunk = file.read(CHUNK)
        done = not chunk
        try:
            # A chunk of ASCII needs no decoding, unless a letter is still open before it.
            if done or not chunk.isascii() or decoder.getstate()[0]:
                decoder.decode(chunk, final=done)
        except UnicodeDecodeError:
            if not given:
                raise OtherEncoding(other_encoding(path)[0]) from None
            raise UserError(
                f"{path} is not utf-8; set read.encoding of the table in case.toml"
            ) from None
        if chunk:
            yield chunk
