"""How many rows break each rule that is declared."""

from __future__ import annotations

from dataclasses import dataclass

from sabueso.base.plain import ByColumn


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
