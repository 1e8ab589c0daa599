"""Keys of a table that another lacks, or has: exact, normalised, or nearly equal names."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal

import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field, field_validator, model_validator

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import Cells
from sabueso.population import expressions, sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table, money
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.finding import Caution, Finding, Flags, Make
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.match.proposed import proposed_matches
from sabueso.screens.match.result import MatchGroup, Side
from sabueso.screens.match.view import MatchView
from sabueso.screens.proposal import Proposal
from sabueso.screens.settings import Settings, listed
from sabueso.screens.subject import Cluster, Entity, Subject
from sabueso.stats.alike import alike, differs, normalised

if TYPE_CHECKING:
    from sabueso.stats.description import Description

MOST_KEYS = 3_000_000
MOST_PARTNERS = 5
Key = tuple[Any, ...]


class MatchSettings(Settings):
    """Settings of ``match``."""

    other: str = Field(description="the table that keys are looked for in; this one for its own")
    on: list[str] = Field(min_length=1, description="columns of the table that make the key")
    other_on: list[str] = Field(
        default_factory=list, description="columns of the other table (default: the same)"
    )
    find: Literal["absent", "present"] = Field(
        "absent", description="keys that the other table lacks, or that it has"
    )
    keys: Literal["exact", "normalised", "alike"] = Field(
        "exact",
        description="compare as they are; without case, accents, blanks, marks and zeros before numbers; or names "
        "that are nearly equal",
    )
    when: Literal["day", "month", "quarter", "year"] | None = Field(
        None, description="in the same day, month, quarter or year of the role date on both sides"
    )
    threshold: float = Field(
        90, ge=50, le=100, description="similarity from which names are alike, of 100"
    )
    other_where: str | None = Field(
        None, description="SQL condition on the rows of the other table"
    )

    _listed = field_validator("on", "other_on", mode="before")(listed)

    @model_validator(mode="after")
    def _fit(self) -> MatchSettings:
        if self.other_on and len(self.other_on) != len(self.on):
            raise ValueError("on and other-on name as many columns")
        if self.keys == "alike" and len(self.on) != 1:
            raise ValueError("alike compares one column, of names")
        return self


@dataclass
class _Keys:
    """Distinct keys of a table, with the period they are of, their rows, amount and first places."""

    labels: list[str]
    keys: list[Key]
    rows: list[int]
    units: list[int]
    ids: list[Any]
    places: list[tuple[str, int]]
    measure: Column | None
    matched: set[int] = field(default_factory=set)

    def side(self, table: str) -> Side:
        scale = self.measure.scale if self.measure is not None else 0

        def told(which: Sequence[int]) -> tuple[int, int, Any]:
            amount = None
            if self.measure is not None:
                amount = money(sum(self.units[i] for i in which), scale)
            return len(which), sum(self.rows[i] for i in which), amount

        every = range(len(self.keys))
        matched = sorted(self.matched)
        absent = [i for i in every if i not in self.matched]
        return Side(table, *told(every), *told(matched), *told(absent))


class Match(Screen):
    """Keys among those of another table."""

    name = "match"
    summary = "keys that another table lacks, or has: exact, normalised, or nearly equal names"
    reference = "none: comparison; names by the normalised indel similarity of their sorted words"
    settings = MatchSettings
    group = MatchGroup
    view = MatchView
    place = 90
    examples = (
        "sabueso try match payroll --other roster --on empleado --when month",
        "sabueso try match suppliers --other staff --on cuenta_bancaria --find present --keys normalised",
        "sabueso try match suppliers --other suppliers --on nombre --find present --keys alike",
    )

    def tables(self, settings: Mapping[str, Any]) -> tuple[str, ...]:
        other = settings.get("other")
        return (str(other),) if other else ()

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        party = population.table.role("party")
        link = None if party is None else population.table.links.get(party.name)
        if link is None:
            yield Suit(
                self.name, "with care", "no party is linked: say what to look for, and where"
            )
        else:
            options = f"--other {link.table.name} --on {party.name} --other-on {link.key}"  # type: ignore[union-attr]
            yield Suit(self.name, "yes", f"{party.name} among {link.table.name}", options)  # type: ignore[union-attr]

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        yield from proposed_matches(population)

    def run(self, population: Population, settings: MatchSettings) -> Finding[MatchGroup]:
        table = population.table
        other = _other(population, settings)
        own = settings.other == table.name
        if own and settings.find == "absent":
            raise UserError(
                f"every key of {table.name!r} is among its own: with --find present those are found that "
                "several rows have"
            )
        reasons = [_missing_key(settings.on, table)]
        left = _keys(population, settings.on, settings, reasons)
        right = (
            left
            if own and not settings.other_where and settings.other_on in ([], settings.on)
            else _keys(
                other,
                settings.other_on or settings.on,
                settings,
                [_missing_key(settings.other_on or settings.on, other.table)],
            )
        )
        pairs = _pairs(left, right, settings, own=own)
        for i, partners in pairs.items():
            left.matched.add(i)
            right.matched.update(k for k, _ in partners)
        flags = _flags(left, right, pairs, settings, own)
        make: Make | None = _cluster if own else None
        if settings.when is not None and not own:
            period = left.labels[-1]
            flags = [{**flag, "period": period} for flag in _together(flags, settings, left)]
            make = _in_periods
        amount = table.role("amount")
        group = MatchGroup(
            group={},
            n=len(left.keys),
            method=settings.keys,
            find=settings.find,
            left=left.side(table.name),
            right=right.side(settings.other),
            flagged=len(flags),
        )
        kind = "cluster" if own else "entity"
        return Finding(
            test=self.name,
            table=table.name,
            on=None,
            by=[],
            settings=settings.model_dump(),
            population=population.account(amount, reasons),
            groups=[group],
            flags=Flags(
                kind,
                pa.Table.from_pylist(flags) if flags else pa.table({}),
                make=make,
            ),
            tests_made=0,
            subjects=len(left.keys),
            cautions=_cautions(left, right, settings),
            not_tested=[],
            currency=table.currency,
            scale=amount.scale if amount is not None else 2,
        )


def _other(population: Population, settings: MatchSettings) -> Population:
    name = settings.other
    if name not in population.tables:
        raise UserError(f"there is no table {name!r} to look in{nearest(name, population.tables)}")
    other = Population(
        population.engine, population.tables[name], settings.other_where, tables=population.tables
    )
    other.conditions()
    return other


def _missing_key(on: Sequence[str], table: Table) -> Reason:
    trees = [expressions.scalar(text, table, "--on") for text in on]
    return Reason("missing_key", exp.or_(*(sql.is_missing(tree) for tree in trees)))


def _keys(
    population: Population, on: Sequence[str], settings: MatchSettings, reasons: list[Reason]
) -> _Keys:
    """Distinct keys of a table, and of its periods where these must agree."""
    table = population.table
    amount, identity = table.role("amount"), table.role("id")
    grouping = Grouping.of(
        [*on, *([settings.when] if settings.when not in (None, "day") else [])], table
    )
    values: dict[str, Tree] = {**grouping.values()}
    names = list(grouping.names)
    labels = list(grouping.labels)
    if settings.when == "day":
        date = table.role("date")
        if date is None:
            raise UserError(
                f"--when day needs a date in the role date; table {table.name!r} has none"
            )
        values["day"] = sql.cast(sql.cast(sql.column(date.name), "DATE"), "TEXT")
        names.append("day")
        labels.append(date.name)
    values[UNITS] = sql.integer(0) if amount is None else sql.minor_units(amount)
    values["identity"] = (
        exp.null() if identity is None else sql.cast(sql.column(identity.name), "TEXT")
    )
    place = sql.call(
        "LPAD", sql.cast(sql.column(LINE_COLUMN), "TEXT"), sql.integer(12), sql.text("0")
    )
    values["at"] = exp.DPipe(this=place, expression=sql.column(FILE_COLUMN))
    columns = [sql.column(name, "b") for name in names]
    select = exp.select(
        *columns,
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.exact_sum(sql.column(UNITS, "b")), "units"),
        exp.alias_(exp.Min(this=sql.column("identity", "b")), "identity"),
        exp.alias_(exp.Min(this=sql.column("at", "b")), "at"),
    ).from_(population.base(values, reasons).subquery("b"))
    select = select.group_by(*(c.copy() for c in columns))
    select = select.order_by(*(sql.ordered(c.copy()) for c in columns)).limit(MOST_KEYS + 1)
    found = population.query(select)
    if found.num_rows > MOST_KEYS:
        raise UserError(
            f"table {table.name!r} has more than {MOST_KEYS:,} distinct keys {', '.join(on)}: too many to be "
            "compared"
        )
    keys = list(zip(*(found.column(name).to_pylist() for name in names), strict=True))
    at = found.column("at").to_pylist()
    return _Keys(
        labels=labels,
        keys=keys,
        rows=found.column("n").to_pylist(),
        units=[int(value or 0) for value in found.column("units").to_pylist()],
        ids=found.column("identity").to_pylist(),
        places=[(each[12:], int(each[:12])) for each in at],
        measure=amount,
    )


Pairs = dict[int, list[tuple[int, float]]]
"""By the place of a key its partners on the other side, each with its similarity of 100."""


def _pairs(left: _Keys, right: _Keys, settings: MatchSettings, *, own: bool) -> Pairs:
    """Partners of each key; of a table with itself, other keys, or keys that several rows have."""
    if settings.keys == "alike":
        names = [str(key[0]) for key in left.keys]
        others = names if right is left else [str(key[0]) for key in right.keys]
        found: Pairs = {}
        for i, k, score in alike(names, others, settings.threshold):
            same = left.keys[i][1:] == right.keys[k][1:]
            if same and not (own and i == k):
                found.setdefault(i, []).append((k, score))
        return found
    parts = len(settings.on)

    def form(key: Key) -> Key:
        if settings.keys == "exact":
            return key
        return (*(normalised(part) for part in key[:parts]), *key[parts:])

    known: dict[Key, list[int]] = {}
    for k, key in enumerate(right.keys):
        known.setdefault(form(key), []).append(k)
    found = {}
    for i, key in enumerate(left.keys):
        partners = [k for k in known.get(form(key), ()) if not (own and k == i)]
        if own and not partners and left.rows[i] > 1:
            partners = [i]  # one spelling, several rows
        if partners:
            found[i] = [(k, 100.0) for k in partners]
    return found


def _flags(
    left: _Keys, right: _Keys, pairs: Pairs, settings: MatchSettings, own: bool
) -> list[Cells]:
    """Keys that are absent or present, the largest amounts first; within a table, pairs once."""
    rows: list[Cells] = []
    scale = left.measure.scale if left.measure is not None else 2
    seen: set[frozenset[int]] = set()
    for i, key in enumerate(left.keys):
        partners = pairs.get(i, [])
        if bool(partners) != (settings.find == "present"):
            continue
        if own and settings.find == "present":
            together = frozenset([i, *(k for k, _ in partners)])
            if together in seen:
                continue
            seen.add(together)
        row: Cells = {
            "subject": dict(zip(left.labels, key, strict=True)),
            "score": max((score for _, score in partners), default=None),
            "limit": None,
            "direction": settings.find,
            "p": None,
            "p_adjusted": None,
            "amount": None if left.measure is None else money(left.units[i], scale),
            "rows": left.rows[i],
            "similarity": max((score for _, score in partners), default=None),
            "partners": [
                {"key": " / ".join(map(str, right.keys[k])), "id": right.ids[k]}
                for k, _ in partners[:MOST_PARTNERS]
            ],
            "differs": sorted(
                {differs(key[0], right.keys[k][0]) for k, _ in partners} - {"nothing"}
            ),
        }
        if own:
            row["subject"] = {name: str(value) for name, value in row["subject"].items()}
            row["ids"] = [left.ids[i], *(right.ids[k] for k, _ in partners if k != i)]
            row["members"] = [
                {"file": file, "line": line}
                for file, line in [
                    left.places[i],
                    *(right.places[k] for k, _ in partners if k != i),
                ]
            ]
        rows.append(row)
    rows.sort(key=lambda r: (-(r["score"] or 0), -abs(r["amount"] or 0), str(r["subject"])))
    return rows


def _together(flags: list[Cells], settings: MatchSettings, left: _Keys) -> list[Cells]:
    """One flag for each key, with the periods that it is absent or present in."""
    period = left.labels[-1]
    found: dict[tuple[Any, ...], Cells] = {}
    for flag in flags:
        key = {name: value for name, value in flag["subject"].items() if name != period}
        own = found.setdefault(
            tuple(key.values()), {**flag, "subject": key, "rows": 0, "periods": []}
        )
        own["periods"].append(str(flag["subject"][period]))
        own["rows"] += flag["rows"]
        if own is not flag and len(own["periods"]) > 1 and flag["amount"] is not None:
            own["amount"] += flag["amount"]
    for flag in found.values():
        flag["periods"].sort()
    return sorted(found.values(), key=lambda f: (-abs(f["amount"] or 0), str(f["subject"])))


def _in_periods(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    return _Periods(
        flag["subject"], f"({where})" if where else "", flag["period"], tuple(flag["periods"])
    )


@dataclass(frozen=True)
class _Periods(Entity):
    """The rows of a key in some periods."""

    period: str = ""
    among: tuple[str, ...] = ()

    def rows(self, table: Table) -> str:
        listed = ", ".join(expressions.literal(each) for each in self.among)
        name = self.period
        if any(c.name == name for c in table.columns):
            name = f"cast({expressions.quoted_name(name)} as text)"
        return f"{super().rows(table)} and {name} in ({listed})"


def _cluster(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    members = tuple((m["file"], m["line"]) for m in flag["members"])
    if len(members) == 1:
        # One spelling on several rows: they are told by it.
        return _Shared(flag["subject"])
    return Cluster(flag["subject"], members)


class _Shared(Cluster):
    """Rows of one key."""

    def rows(self, table: Table) -> str:
        names = [c.name for c in table.columns]
        return " and ".join(expressions.equals(n, v, names) for n, v in self.clients().items())


def _cautions(left: _Keys, right: _Keys, settings: MatchSettings) -> list[Caution]:
    found = []
    if not right.keys:
        found.append(
            Caution(
                "nothing_there", f"no row of {settings.other} has such a key: all are absent", {}
            )
        )
    if settings.keys == "alike":
        text = (
            f"names from a similarity of {num.number(settings.threshold, 0)} of 100 are called alike: two firms of "
            "one family name are that too"
        )
        found.append(Caution("alike", text, {"threshold": settings.threshold}))
    if settings.find == "absent" and left.keys and len(left.matched) * 2 < len(left.keys):
        text = (
            f"{len(left.keys) - len(left.matched):,} of {len(left.keys):,} keys are absent: either the tables are not of "
            "the same, or the keys are written otherwise (--keys normalised)"
        )
        found.append(Caution("mostly_absent", text, {"absent": len(left.keys) - len(left.matched)}))
    return found
