"""How many rows break each rule that is declared."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Rule:
    """A rule in words, and the rows that break it."""

    rule: str
    flagged: int


@dataclass(frozen=True)
class Rules:
    """All rules of a table."""

    group: dict[str, Any]
    n: int
    rules: list[Rule]
    flagged: int
