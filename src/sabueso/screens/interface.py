"""The one shape that every test takes and the one it returns."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Literal, Protocol

import pyarrow as pa

from sabueso.population.population import Account, Population
from sabueso.population.table import exact_total
from sabueso.screens.settings import Settings

SubjectKind = Literal["row", "entity", "line", "class"]
SUBJECT, CONTEXT, GROUP = "subject.", "context.", "group."
"""Prefixes of a flag table's columns: what is flagged, what helps to recognise it, its group."""


@dataclass(frozen=True)
class Caution:
    """What a reader must know before the verdict: a stable code and a sentence with figures."""

    code: str
    text: str
    figures: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class NotTested:
    """A group that a test could not judge, with the reason."""

    group: dict[str, Any]
    reason: str
    rows: int = 0


@dataclass(frozen=True)
class Flags:
    """What a test flagged, strongest first, as an Arrow table.

    Columns ``subject.*`` identify a subject, ``context.*`` describe it; the others are
    ``score, limit, direction, p, p_adjusted, amount`` and what a test adds. ``tests`` names the
    screen's own columns beyond those.
    """

    kind: SubjectKind
    table: pa.Table

    def __len__(self) -> int:
        return int(self.table.num_rows)

    def total(self) -> Decimal | None:
        """The exact sum of the flagged amounts; None where flags have none."""
        if "amount" not in self.table.column_names:
            return None
        amounts = self.table.column("amount")
        if not pa.types.is_decimal(amounts.type):
            return None
        return exact_total(amounts)

    def rows(self, limit: int | None = None) -> Iterator[dict[str, Any]]:
        """Flags as dictionaries in the JSON contract's shape."""
        if not len(self):
            return
        table = self.table if limit is None else self.table.slice(0, limit)
        places: list[tuple[str, str]] = []
        for name in table.column_names:
            part, dot, key = name.partition(".")
            inner = dot and part + dot in (SUBJECT, CONTEXT, GROUP)
            places.append((part, key) if inner else ("", name))
        for values in zip(*(column.to_pylist() for column in table.columns), strict=True):
            flag: dict[str, Any] = {"subject": {}}
            for (part, key), value in zip(places, values, strict=True):
                (flag.setdefault(part, {}) if part else flag)[key] = value
            yield flag


@dataclass(frozen=True)
class Finding:
    """The result of one test on one population. ``more`` are keys that some tests add."""

    test: str
    table: str
    on: str | None
    by: list[str]
    settings: dict[str, Any]
    population: Account
    groups: list[dict[str, Any]]
    flags: Flags
    tests_made: int
    cautions: list[Caution]
    not_tested: list[NotTested]
    currency: str = ""
    scale: int = 2
    more: dict[str, Any] = field(default_factory=dict)

    def as_json(self, limit: int | None = None) -> dict[str, Any]:
        """The JSON contract: exact decimals as strings, no NaN."""
        account = self.population
        return {
            "test": self.test,
            "table": self.table,
            "on": self.on,
            "by": self.by,
            "currency": self.currency,
            "settings": plain(self.settings),
            "population": account.as_json()
            | {
                "left_out_totals": plain(account.left_out_totals),
                "first_date": account.first_date,
                "last_date": account.last_date,
            },
            "groups": plain(self.groups),
            "flags": [plain(flag) for flag in self.flags.rows(limit)],
            "flag_count": len(self.flags),
            "flag_total": plain(self.flags.total()),
            "tests_made": self.tests_made,
            "cautions": [
                {"code": c.code, "text": c.text, **plain(c.figures)} for c in self.cautions
            ],
            "not_tested": [
                {"group": plain(t.group), "reason": t.reason, "rows": t.rows}
                for t in self.not_tested
            ],
            **plain(self.more),
        }


_PLAIN = frozenset((str, int, float, bool, type(None)))


def plain(value: Any) -> Any:
    """A value as JSON can hold it: decimals and dates as text, NumPy scalars as Python's."""
    if type(value) in _PLAIN:
        return value
    if isinstance(value, dict):
        return {str(k): v if type(v) in _PLAIN else plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [v if type(v) in _PLAIN else plain(v) for v in value]
    if isinstance(value, Decimal):
        return format(value, "f")
    if hasattr(value, "isoformat"):
        return value.isoformat()
    if hasattr(value, "item"):
        return value.item()
    return value


class Screen(Protocol):
    """A test: a name, a sentence, its settings, and the calculation."""

    name: str
    summary: str
    reference: str
    settings: type[Settings]

    def run(self, population: Population, settings: Any) -> Finding:
        """Screen a population.

        Raises
        ------
        UserError
            If the settings do not fit the table.
        """
