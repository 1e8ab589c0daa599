"""The one shape that every test returns: what it found, of which rows, with what doubts."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, fields
from decimal import Decimal
from typing import Any, Generic, TypeVar

import numpy as np
import pyarrow as pa

from sabueso.base.plain import ByColumn, Cells, Json, Values, plain, restored
from sabueso.base.visible import clipped
from sabueso.population.population import Account
from sabueso.population.table import Table, exact_total
from sabueso.screens.settings import Settings
from sabueso.screens.subject import Row, Sampled, Subject, of_flag, of_key

R = TypeVar("R")
WIDEST_HEADING = 16
ROW = "row"
"""The column of flags that names a row where a flag of another kind is one's."""
UNLAWFUL = frozenset({"not_normal", "no_p", "copied_rows", "truncated", "narrow_range"})
"""Cautions that say that a p ranks and does not prove."""
Make = Callable[[Mapping[str, Any], str | None, Table], Subject]
"""Makes the subject of a flag, from the flag, the condition of the test, and the table."""


@dataclass(frozen=True)
class Caution:
    """What a reader must know before the verdict: a stable code and a sentence with figures."""

    code: str
    text: str
    figures: Values = field(default_factory=dict)


@dataclass(frozen=True)
class NotTested:
    """A group that a test could not judge, with the reason."""

    group: ByColumn
    reason: str
    rows: int = 0


@dataclass(frozen=True)
class Recorded:
    """The strongest flags of a finding as a run kept them, and how many there were in all."""

    flags: list[Cells]
    count: int
    total: Decimal | None
    with_p: int | None = None


@dataclass(frozen=True)
class Flags:
    """What a test flagged, strongest first, as an Arrow table.

    Its columns ``subject``, ``context`` and ``group`` are structs: what identifies a subject, what
    helps to recognise it, the group it was judged in. A client's columns lie in these alone; the
    others are ``score, limit, direction, p, p_adjusted, amount`` and what a test adds. ``make``
    makes subjects where a kind needs more than its key. ``sparse`` subjects have each some of the columns,
    and no missing value. ``recorded`` are those that a run kept,
    with the number and the amount of all.
    """

    kind: str
    table: pa.Table
    make: Make | None = None
    recorded: Recorded | None = None
    sparse: bool = False

    def __len__(self) -> int:
        return int(self.table.num_rows) if self.recorded is None else self.recorded.count

    def total(self) -> Decimal | None:
        """The exact sum of the flagged amounts; None where flags have none."""
        if self.recorded is not None:
            return self.recorded.total
        if "amount" not in self.table.column_names:
            return None
        amounts = self.table.column("amount")
        if not pa.types.is_decimal(amounts.type):
            return None
        return exact_total(amounts)

    def with_p(self) -> int | None:
        """How many flags have a p; None where it is not known."""
        if self.recorded is not None:
            return self.recorded.with_p
        if "p" not in self.table.column_names:
            return 0
        p = self.table.column("p")
        if not pa.types.is_floating(p.type):
            return 0  # all of them missing
        every = (chunk.to_numpy(zero_copy_only=False) for chunk in p.chunks)
        return sum(int(np.isfinite(part).sum()) for part in every)

    def rows(self, limit: int | None = None) -> Iterator[Cells]:
        """Flags as dictionaries in the JSON contract's shape."""
        if self.recorded is not None:
            yield from self.recorded.flags[:limit]
            return
        if not len(self):
            return  # a table without columns would take a limit for its length
        table = self.table if limit is None else self.table.slice(0, limit)
        for batch in table.to_batches(max_chunksize=10_000):
            for row in batch.to_pylist():
                if self.sparse:
                    row["subject"] = {k: v for k, v in row["subject"].items() if v is not None}
                yield row

    def row_keys(self) -> pa.ChunkedArray | None:
        """Structs of what names each flagged row, None where no flag is one of a row. A test whose flags are
        of rows here and there has these in ``row``."""
        place = "subject" if self.kind in (Row.kind, Sampled.kind) else ROW
        if place not in self.table.column_names or not len(self.table):
            return None
        keys = self.table.column(place)
        return keys if pa.types.is_struct(keys.type) else None

    def named(self, flag: Mapping[str, Any]) -> Subject:
        """The subject of one of the flags as its key tells it."""
        return of_key(self.kind, flag["subject"])

    def subject(self, flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
        """The subject of one of the flags, with the condition of its rows."""
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
class Aim:
    """The limit solved for so that no more rows are flagged than can be reviewed, among others."""

    capacity: int
    limit: Decimal
    ladder: list[Rung]


@dataclass(frozen=True)
class Rung:
    """What a limit near the one solved for would flag."""

    limit: Decimal
    flagged: int
    amount: Decimal


@dataclass(frozen=True)
class Beside:
    """The same finding with the rows that reviewers set aside.

    ``groups`` are figures of the groups that differ, as the test names them.
    """

    rows: int
    used: int
    used_total: Decimal | None
    flag_count: int
    groups: list[Json]


@dataclass(frozen=True)
class Points:
    """Quantiles of a group for a figure: its amounts at 0.5 %, 1.5 %, … 99.5 %."""

    group: ByColumn
    n: int
    points: list[float | None]


@dataclass(frozen=True)
class Finding(Generic[R]):
    """The result of one test on one population.

    ``settings`` are those given, ``solved`` what the test found for some of them: a limit aimed at,
    a period named in full. ``groups`` are of the test's own type; ``more`` is what it says of all of
    them together, its fields keys of the JSON. ``tests_made`` counts hypotheses, 0 where a declared
    limit is compared and nothing is tested; ``subjects`` what was looked at, by default as many.
    ``named`` is the plan's population that it was run on, where it was one of these.
    ``columns`` are the names of the table's, which tell a name from an expression.
    ``flags_by_chance`` is how many flags chance alone would give on conforming data of this size with
    these settings, where that is known; of a test that gives some of its flags a p, how many of these.
    """

    test: str
    table: str
    on: str | None
    by: list[str]
    settings: Values
    population: Account
    groups: list[R]
    flags: Flags
    tests_made: int
    cautions: list[Caution]
    not_tested: list[NotTested]
    currency: str = ""
    scale: int = 2
    named: str = ""
    named_reason: str = ""
    subjects: int | None = None
    flags_by_chance: float | None = None
    solved: Values = field(default_factory=dict)
    aim: Aim | None = None
    with_set_aside: Beside | None = None
    points: list[Points] | None = None
    more: Any = None
    columns: tuple[str, ...] | None = None

    @property
    def used(self) -> Values:
        """The settings that the test went by."""
        return {**self.settings, **self.solved}

    @property
    def source(self) -> str:
        """What it was run on: a named population, or the table."""
        return self.named or self.table

    @property
    def unit(self) -> str:
        """What its figures are of: a currency, or the measure where that is not known for money."""
        return self.currency or self.on or ""

    @property
    def measured(self) -> str:
        """The measure with its currency, where it has one."""
        return ", ".join(filter(None, (self.on, self.currency)))

    @property
    def heading(self) -> str:
        """What stands above its figures: amounts are called so, all else by its name, as far as there is room."""
        return "amount" if self.currency or self.on is None else clipped(self.on, WIDEST_HEADING)

    @property
    def lawful(self) -> bool:
        """Whether no caution puts the law of its p in doubt."""
        return not any(caution.code in UNLAWFUL for caution in self.cautions)

    @property
    def looked_at(self) -> int:
        """How many rows, entities, classes or lines were judged."""
        return self.tests_made if self.subjects is None else self.subjects

    def as_json(self, limit: int | None = None) -> Json:
        """The JSON contract: exact decimals as strings, no NaN."""
        content = self.as_stream(limit)
        return {**content, "flags": list(content["flags"])}

    def as_stream(self, limit: int | None = None) -> Json:
        """The same with ``flags`` as an iterator, for whoever writes them and keeps none."""
        account = self.population
        return {
            "test": self.test,
            "table": self.table,
            "on": self.on,
            "by": self.by,
            **(
                {"population_name": self.named, "population_reason": self.named_reason}
                if self.named
                else {}
            ),
            "currency": self.currency,
            "scale": self.scale,
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
            "flags_with_p": self.flags.with_p(),
            "tests_made": self.tests_made,
            "subjects": self.looked_at,
            "flags_by_chance": plain(self.flags_by_chance),
            "cautions": [
                {"code": c.code, "text": c.text, **plain(c.figures)} for c in self.cautions
            ],
            "not_tested": [
                {"group": plain(t.group), "reason": t.reason, "rows": t.rows}
                for t in self.not_tested
            ],
            **{
                name: plain(value)
                for name in ("aim", "with_set_aside", "points")
                if (value := getattr(self, name)) is not None
            },
            **(plain(self.more) if self.more is not None else {}),
        }


def recorded_finding(
    content: Mapping[str, Any], settings: type[Settings], group: Any, more: Any = None
) -> Finding[Any]:
    """A finding from its JSON.

    Parameters
    ----------
    settings, group, more : type
        The test's settings, the type of its groups, and that of what it says of all of them.

    Raises
    ------
    ValueError
        If the content is no finding of such a test.
    """
    known = settings.model_fields
    account = content["population"]
    names = ("rows", "used", "left_out", "total", "used_total", "left_out_totals")
    total = content.get("flag_total")
    flags = Recorded(
        content["flags"], content["flag_count"], None if total is None else Decimal(total),
        content.get("flags_with_p"),
    )  # fmt: skip
    cautions = [
        Caution(c["code"], c["text"], {k: v for k, v in c.items() if k not in ("code", "text")})
        for c in content["cautions"]
    ]
    return Finding(
        test=content["test"],
        table=content["table"],
        on=content["on"],
        by=list(content["by"]),
        settings=settings(
            **{k: v for k, v in content["settings"].items() if k in known}
        ).model_dump(),
        solved={
            k: restored(known[k].annotation, v) if k in known else v
            for k, v in content.get("solved", {}).items()
        },
        population=restored(
            Account,
            {name: account[name] for name in names}
            | {name: account.get(name) for name in ("first_date", "last_date")},
        ),
        groups=restored(list[group], content["groups"]),
        flags=Flags(content["kind"], pa.table({}), recorded=flags),
        tests_made=content["tests_made"],
        cautions=cautions,
        not_tested=restored(list[NotTested], content["not_tested"]),
        currency=content["currency"],
        scale=content.get("scale", 2),
        named=content.get("population_name", ""),
        named_reason=content.get("population_reason", ""),
        subjects=content.get("subjects"),
        flags_by_chance=content.get("flags_by_chance"),
        aim=restored(Aim | None, content.get("aim")),
        with_set_aside=restored(Beside | None, content.get("with_set_aside")),
        points=restored(list[Points] | None, content.get("points")),
        more=None if more is None else restored(more | None, _part(content, more)),
    )


def _part(content: Mapping[str, Any], kind: Any) -> Json | None:
    """What a type's fields are named, of a finding; None where it has none of them."""
    names = [f.name for f in fields(kind)]
    found = {name: content[name] for name in names if name in content}
    return found or None
