"""The one shape that every test takes and the one it returns."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Protocol

import pyarrow as pa

from sabueso.population.population import Account, Population
from sabueso.population.table import Table, exact_total
from sabueso.screens.settings import Settings
from sabueso.screens.subject import Subject, of_flag

Make = Callable[[Mapping[str, Any], str | None, Table], Subject]
"""Makes the subject of a flag, from the flag, the condition of the test, and the table."""


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

    Its columns ``subject``, ``context`` and ``group`` are structs: what identifies a subject, what
    helps to recognise it, the group it was judged in. A client's columns lie in these alone; the
    others are ``score, limit, direction, p, p_adjusted, amount`` and what a test adds. ``make``
    makes subjects where a kind needs more than its key.
    """

    kind: str
    table: pa.Table
    make: Make | None = None

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
            return  # a table without columns would take a limit for its length
        table = self.table if limit is None else self.table.slice(0, limit)
        for batch in table.to_batches(max_chunksize=10_000):
            yield from batch.to_pylist()

    def subject(self, flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
        """The subject of one of the flags."""
        if self.make is not None:
            return self.make(flag, where, table)
        return of_flag(self.kind, flag, where, table)


def with_structs(table: pa.Table, parts: Mapping[str, Mapping[str, str]]) -> pa.Table:
    """A table with some columns put together as structs, without copying a value.

    Parameters
    ----------
    parts : mapping
        Struct -> its fields -> the columns that they are made of. A struct without fields is left
        out.
    """
    made = {name: fields for name, fields in parts.items() if fields}
    used = {column for fields in made.values() for column in fields.values()}
    rest = [name for name in table.column_names if name not in used]

    def typed(fields: Mapping[str, str]) -> pa.StructType:
        return pa.struct([(field, table.schema.field(name).type) for field, name in fields.items()])

    kinds = [(name, typed(fields)) for name, fields in made.items()]
    schema = pa.schema([*kinds, *(table.schema.field(name) for name in rest)])
    batches = []
    for batch in table.to_batches():
        structs = [
            pa.StructArray.from_arrays(
                [batch.column(c) for c in fields.values()], names=list(fields)
            )
            for fields in made.values()
        ]
        arrays = [*structs, *(batch.column(name) for name in rest)]
        batches.append(pa.RecordBatch.from_arrays(arrays, schema=schema))
    return pa.Table.from_batches(batches, schema)


@dataclass(frozen=True)
class Finding:
    """The result of one test on one population.

    ``settings`` are those given, ``solved`` what the test found for some of them: a limit aimed at,
    a period named in full. ``more`` are keys that some tests add.
    """

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
    solved: dict[str, Any] = field(default_factory=dict)
    more: dict[str, Any] = field(default_factory=dict)

    @property
    def used(self) -> dict[str, Any]:
        """The settings that the test went by."""
        return {**self.settings, **self.solved}

    def as_json(self, limit: int | None = None) -> dict[str, Any]:
        """The JSON contract: exact decimals as strings, no NaN."""
        content = self.as_stream(limit)
        return {**content, "flags": list(content["flags"])}

    def as_stream(self, limit: int | None = None) -> dict[str, Any]:
        """The same with ``flags`` as an iterator, for whoever writes them and keeps none."""
        account = self.population
        return {
            "test": self.test,
            "table": self.table,
            "on": self.on,
            "by": self.by,
            "currency": self.currency,
            "settings": plain(self.settings),
            "solved": plain(self.solved),
            "population": account.as_json()
            | {
                "left_out_totals": plain(account.left_out_totals),
                "first_date": account.first_date,
                "last_date": account.last_date,
            },
            "groups": plain(self.groups),
            "kind": self.flags.kind,
            "flags": (plain(flag) for flag in self.flags.rows(limit)),
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
    """A test: a name, a sentence, its settings, and the calculation.

    What it has beside these is optional, and asked for by :func:`examples_of` and its kin: ``examples``
    on the sample case, ``figures`` that ``--figure`` chooses among, ``tables(settings)`` that it reads
    beside its own.
    """

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
