"""A source file as a stream of bytes, unpacked where it is compressed."""

from __future__ import annotations

import bz2
import codecs
import gzip
import io
import lzma
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

from sabueso.base.errors import UserError
from sabueso.intake.formats.encodings import gathered, tell
from sabueso.intake.formats.wide_encodings import tell_wide
from sabueso.intake.interface import Assumed

PACKED = (".gz", ".zip", ".bz2", ".xz")
_STREAMS: dict[str, Any] = {".gz": gzip.open, ".bz2": bz2.open, ".xz": lzma.open}
_DAMAGED = (
    EOFError, gzip.BadGzipFile, zipfile.BadZipFile, zlib.error, lzma.LZMAError, NotImplementedError,
)  # fmt: skip


def plain_suffix(path: Path) -> str:
    """The suffix of what the file holds: of ``pagos.csv.gz`` it is .csv.

    Raises
    ------
    UserError
        If a zip archive does not hold exactly one file.
    """
    suffix = path.suffix.lower()
    if suffix in _STREAMS:
        return Path(path.stem).suffix.lower()
    if suffix == ".zip":
        return Path(_only_member(path).filename).suffix.lower()
    return suffix


@contextmanager
def opened(path: Path) -> Iterator[IO[bytes]]:
    """The file's content, unpacked as it is read.

    Raises
    ------
    UserError
        If a packed file is damaged, encrypted, or packed twice.
    """
    try:
        unpack = _STREAMS.get(path.suffix.lower())
        if unpack is not None:
            with unpack(path, "rb") as file:
                yield file
        elif path.suffix.lower() == ".zip":
            member = _only_member(path)
            with zipfile.ZipFile(path) as archive, archive.open(member) as file:
                yield file
        else:
            with path.open("rb") as file:
                yield file
    except _DAMAGED as error:
        raise _damaged(path, error) from error
    except OSError as error:
        if error.errno is not None:
            raise
        raise _damaged(path, error) from error  # of the library that unpacks, not of the system


def _damaged(path: Path, error: Exception) -> UserError:
    reason = str(error) or "it ends too early"
    return UserError(f"{path}: the packed file is damaged: {reason[:1].lower()}{reason[1:]}")


def _only_member(path: Path) -> zipfile.ZipInfo:
    try:
        with zipfile.ZipFile(path) as archive:
            members = [m for m in archive.infolist() if not m.is_dir()]
    except (*_DAMAGED, UnicodeDecodeError) as error:
        raise _damaged(path, error) from None
    if len(members) != 1:
        raise UserError(
            f"{path}: the archive holds {len(members)} files; expected one, unpack it to take several"
        )
    member = members[0]
    if member.flag_bits & 1:
        raise UserError(f"{path}: {member.filename} in the archive is encrypted; unpack it first")
    if Path(member.filename).suffix.lower() in PACKED:
        raise UserError(f"{path}: the archive holds an archive, {member.filename}; unpack it first")
    return member


def is_text(path: Path) -> bool:
    """Whether a file begins as text does, whatever its suffix says."""
    with opened(path) as file:
        head = file.read(4096)
    if head.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)) or _utf_16_without_mark(head):
        return True
    return bool(head) and not set(head) & {0, 1, 2, 3, 4, 5, 6, 7, 8} and head[:2] != b"PK"


LONGEST_LINE = 16 << 20
LOOKED_AT = 1 << 16
"""Bytes of lines with other letters than ASCII's that tell an encoding of two bytes."""
CHUNK = 10 << 20


def text_lines(path: Path, encoding: str | None = None) -> Iterator[str]:
    """Lines of a text without their ends, in the encoding given or the one that it tells.

    Raises
    ------
    UserError
        If a line does not end within 16 MB, or the encoding given does not fit.
    """
    known = encoding or ("utf-8-sig" if _is_utf8(path) else other_encoding(path)[0])
    with opened(path) as file:
        # Windows-1252 leaves five bytes without a letter; those become the mark of a letter lost.
        strict = "strict" if encoding else "replace"
        text = io.TextIOWrapper(file, encoding=known, errors=strict, newline=None)
        number = 0
        try:
            while line := text.readline(LONGEST_LINE):
                number += 1
                if len(line) == LONGEST_LINE:
                    raise UserError(f"{path}, line {number}: the line is longer than 16 MB")
                yield line.rstrip("\n")
        except UnicodeDecodeError as error:
            raise UserError(
                f"{path}, near line {number + 1}: the file is not {known}: {error.reason}"
            ) from None


def _is_utf8(path: Path) -> bool:
    decoder = codecs.getincrementaldecoder("utf-8")()
    with opened(path) as file:
        try:
            while chunk := file.read(1 << 20):
                decoder.decode(chunk)
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            return False
    return True


def detect_encoding(path: Path, head: bytes, *, whole: bool) -> tuple[str, str]:
    """The encoding that a file begins in, and the language whose letters tell it: UTF-16 or UTF-8 by mark
    or by validity, else a single byte. That the rest is UTF-8 too shows as it is read."""
    if head.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return "utf-16", ""
    if head.startswith(codecs.BOM_UTF8):
        return "utf-8-sig", ""
    if wide := _utf_16_without_mark(head):
        return wide, ""
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head, final=whole)
    except UnicodeDecodeError:
        return other_encoding(path)
    return "utf-8", ""


def _utf_16_without_mark(head: bytes) -> str:
    """UTF-16 by the zeros of its Latin letters: nearly every second byte, and no other."""
    part = head[:4096]
    even, odd = part[::2].count(0), part[1::2].count(0)
    half = len(part) // 2
    if half >= 8 and max(even, odd) > 0.7 * half and min(even, odd) == 0:
        return "utf-16-le" if odd else "utf-16-be"
    return ""


def other_encoding(path: Path) -> tuple[str, str]:
    """The encoding of a file that is not UTF-8, of two bytes a letter or of one, and the language that tells
    it."""
    lines: list[bytes] = []
    size = 0
    with opened(path) as file:
        while size < LOOKED_AT and (chunk := file.readlines(LOOKED_AT)):
            wide = [line for line in chunk if not line.isascii()]
            lines += wide
            size += sum(map(len, wide))
    return tell_wide(b"".join(lines)) or single_byte(path)


def single_byte(path: Path) -> tuple[str, str]:
    """The single-byte encoding of a file and the language whose letters tell it.

    Windows-1252 is called Latin-1 where no byte is one of those that the two differ in: 80-9F are
    letters and quotes in one, control codes in the other.
    """
    controls = False

    def chunks() -> Iterator[bytes]:
        nonlocal controls
        with opened(path) as file:
            while chunk := file.read(CHUNK):
                controls = controls or bool(chunk.translate(None, delete=_NOT_CONTROL))
                yield chunk

    told = tell(*gathered(chunks()))
    western = told.encoding == "cp1252" and not controls
    encoding = "latin-1" if western else told.encoding
    return encoding, told.language if told.told else UNTOLD


UNTOLD = "?"
"""The language of a text whose letters no encoding makes words of."""


def assumed_encoding(encoding: str, language: str) -> Assumed:
    """What is said of an encoding that nothing but the letters of a text tell."""
    if language == UNTOLD:
        text = f"the encoding cannot be told from the letters; the text is read as {encoding}"
        return Assumed(text, "read.encoding")
    return Assumed(
        f"the encoding is assumed to be {encoding}: its letters are then {language}",
        "read.encoding",
    )


_NOT_CONTROL = bytes(b for b in range(256) if not 0x80 <= b <= 0x9F)
