"""Numbers by which the rows of one file name those of another: codes, whatever they are called, such as the headings of a tariff
(6109.10).

By itself a column of numbers may count something. Where the first column of a file has another in each row, and
another file has a column that is called the same and holds such numbers, they tell which row is meant.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import permutations
from typing import NamedTuple

from sabueso.base.errors import UserError
from sabueso.case.found_files import Kind
from sabueso.intake.formats.called import folded
from sabueso.intake.formats.detection import Prior, detect
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.intake.formats.serial import are_parted, may_be_codes
from sabueso.intake.interface import Layout
from sabueso.intake.readers.cells import SAMPLE_ROWS
from sabueso.intake.settings import ReadSettings

LEAST = 5
"""Rows of a file of things that are named, and rows that name some."""
KNOWN = 0.9
"""Share of the numbers that must be among those of a file of which all rows are seen."""
LEAST_DIGITS = 3
"""Digits of numbers that are held to be of one series where not all rows are seen."""


class _Numbers(NamedTuple):
    """A column of whole numbers, in a file's first rows."""

    kind: Kind
    name: str
    values: list[str]
    is_list: bool
    """Whether it stands first and tells every row apart."""


def shared_codes(layouts: Mapping[Kind, Layout]) -> dict[Kind, dict[str, str]]:
    """Of each file the columns that are codes, and would be read as numbers, with the type that they are read as."""
    called: dict[str, list[_Numbers]] = {}
    for kind, layout in layouts.items():
        for place, name in enumerate(layout.on_lines):
            found = _numbers(kind, layout, name, place)
            if found is not None:
                called.setdefault(folded(name), []).append(found)
    codes: dict[Kind, list[str]] = {}
    for columns in called.values():
        for one, other in permutations(columns, 2):
            if one.is_list and other.kind != one.kind and _names(other, one):
                for each in (one, other):
                    codes.setdefault(each.kind, []).append(each.name)
    read = {kind: _read_as_numbers(layouts[kind], names) for kind, names in codes.items()}
    return {kind: dict.fromkeys(names, "text") for kind, names in read.items() if names}


def _numbers(kind: Kind, layout: Layout, name: str, place: int) -> _Numbers | None:
    every = [(value or "").strip() for value in layout.sample.column(name).to_pylist()]
    values = [value for value in every if value]
    if len(values) < LEAST or not (may_be_codes(name, values) or are_parted(name, values)):
        return None
    is_list = place == 0 and len(set(values)) == len(every)
    return _Numbers(kind, name, values, is_list)


def _names(many: _Numbers, of: _Numbers) -> bool:
    """Whether numbers are those of a list's rows: found among them where all are seen, else as long as they are."""
    numbers, known = set(many.values), set(of.values)
    if len(of.values) < SAMPLE_ROWS:
        # Rows that are numbered from one on name nothing by it, in either file.
        counted = many.is_list and numbers <= set(map(str, range(len(numbers) + 1)))
        return not counted and len(numbers & known) >= KNOWN * len(numbers)
    lengths = {len(value) for value in known}
    return min(lengths) >= LEAST_DIGITS and {len(value) for value in numbers} <= lengths


def _read_as_numbers(layout: Layout, names: Sequence[str]) -> list[str]:
    """The columns that would be read as numbers: what one is called makes a code of it as well."""
    try:
        formats, _ = detect(layout, ReadSettings(), Prior())
    except UserError:  # said where the file is taken in
        return list(dict.fromkeys(names))
    return [name for name in dict.fromkeys(names) if isinstance(formats[name], NumberFormat)]
