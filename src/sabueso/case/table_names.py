"""Names of tables that files, or sheets of them, may become."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path

from sabueso.intake.formats.called import folded
from sabueso.intake.readers.audit_export import described

_NUMBERED = re.compile(
    r"(?:table_)?(?:sheet|tabelle|hoja|feuil|feuille|foglio|planilha|folha|blad|ark|arkusz|list|munkalap)?_?[0-9]*"
)
_FIGURES = re.compile(r"[\W_]*(?![0-9]+[km](?![a-z0-9]))[0-9][0-9\W_]*", re.IGNORECASE)
"""Figures in the name of a file, such as its period; but for a limit, such as 25k."""


def named_after(files: Sequence[Path], root: Path) -> str:
    """A table's name: as an index beside the file has it, that of the folder that the files share, else what
    their names have in common."""
    said = described(files[0])
    if said is not None:
        return table_word(said.name)
    shared = Path(os.path.commonpath([path.parent for path in files]))
    if len(files) > 1 and shared != root and shared.is_relative_to(root):
        return table_word(shared.name)
    stems = {table_word(_FIGURES.sub(" ", path.name.split(".")[0])) for path in files}
    if len(stems) == 1:
        return stems.pop()
    shortest = min(stems, key=len)
    common = next(
        (
            shortest[:n]
            for n in range(len(shortest), 2, -1)
            if all(s.startswith(shortest[:n]) for s in stems)
        ),
        "",
    )
    return table_word(common) if len(common.strip("_")) > 2 else table_word(files[0].parent.name)


def named_after_sheet(sheet: str) -> str:
    """A table's name after its sheet; nothing where that is numbered alone."""
    word = table_word(sheet) if sheet else ""
    return "" if word == "table" or _NUMBERED.fullmatch(word) else word


def table_word(text: str) -> str:
    """Words as a table's name: small letters without accents, digits, underscores."""
    word = "_".join(word for word in folded(text).split() if word.isascii())
    word = re.sub(r"(?<=[0-9])_(?=[km](?:_|$))", "", word)  # 25k
    return word if word[:1].isalpha() else f"table_{word}".rstrip("_")


def free_name(name: str, taken: set[str]) -> str:
    names = (name, *(f"{name}_{n}" for n in range(2, 10_000)))
    return next(each for each in names if each.lower() not in taken)
