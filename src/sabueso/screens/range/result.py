"""How many rows break each rule that is declared."""

from __future__ import annotations

from dataclasses import dataclass

from sabueso.base.plain import ByColumn

SIZES = {
    "days": "int64",
    "by": "float64",
    "others": "int64",
    "above": "float64",
    "short": "float64",
}
"""What a row may be out of its rule by, with the kind of number."""


@dataclass(frozen=True)
class Rule:
    """A rule in words, and the rows that break it."""

    rule: str
    flagged: int


@dataclass(frozen=True)
class Rules:
    """All rules of a table."""

    group: ByColumn
    n: int
    rules: list[Rule]
    flagged: int
