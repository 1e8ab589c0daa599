"""Rows that repeat one another: same party and amount, close in time or of one document."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from math import log2
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field, field_validator

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.population import Population, Reason, missing, zero
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table, money
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.finding import Caution, Finding, Flags
from sabueso.screens.grouping import UNITS, Grouping, named_by
from sabueso.screens.interface import Screen
from sabueso.screens.limits import table as lim
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of
from sabueso.screens.repeats.clusters import (
    Candidate,
    Found,
    by_chance,
    clusters,
    without_reversed,
)
from sabueso.screens.repeats.result import RepeatGroup
from sabueso.screens.repeats.view import RepeatsView
from sabueso.screens.settings import Settings, listed
from sabueso.screens.subject import Cluster, Subject

if TYPE_CHECKING:
    from sabueso.stats.description import Description

MOST_CANDIDATES = 500_000
SIZE = "size"


class RepeatsSettings(Settings):
    """Settings of ``repeats``."""

    on: str | None = Field(None, description="the measure: a number column (default: role amount)")
    same: list[str] = Field(
        default_factory=list,
        description="columns that are the same beside the amount (default: role party)",
    )
    within: int | None = Field(
        14, ge=0, le=3660, description="days that repeated rows lie apart at most"
    )
    document: str | None = Field(
        None,
        description="column of document numbers: the same one repeats at any distance (default: role document)",
    )
    alpha: float = Field(
        0.05, gt=0, le=1, description="chance of the coincidence above which it is no finding"
    )

    _listed = field_validator("same", mode="before")(listed)


class Repeats(Screen):
    """Clusters of rows that are the same thing recorded again."""

    name = "repeats"
    summary = "rows of one party and amount that repeat: close in time, or of one document"
    reference = (
        "none: counting; the coincidences that chance gives after Diaconis, P. and Mosteller, F. (1989), "
        "Journal of the American Statistical Association 84, 853-861"
    )
    settings = RepeatsSettings
    group = RepeatGroup
    view = RepeatsView
    place = 75
    examples = (
        "sabueso try repeats payments",
        'sabueso try repeats payments --within 31 --where "importe > 100"',
        "sabueso try repeats payments --same proveedor,cuenta --document factura",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        party, date = population.table.role("party"), population.table.role("date")
        if "amount" not in population.table.roles:
            yield Suit(self.name, "no", "the table has no amount")
        elif party is None:
            yield Suit(
                self.name, "no", "the table names no party: say with --same what is the same"
            )
        elif date is None:
            yield Suit(self.name, "with care", f"by {party.name} and amount, at any time: no dates")
        else:
            yield Suit(self.name, "yes", f"by {party.name} and amount, close in {date.name}")

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        table = population.table
        party, date = table.role("party"), table.role("date")
        if described is None or party is None or date is None or is_budget(table):
            return
        if described.n >= LEAST_ROWS:
            yield Proposal(
                f"repeats of {table.name}",
                settings_of(),
                "The same thing recorded twice.",
                f"{party.name}, amount and {date.name} are there; habits and reversals are taken out",
            )

    def run(self, population: Population, settings: RepeatsSettings) -> Finding[RepeatGroup]:
        table = population.table
        measure = table.measure(settings.on)
        grouping = Grouping.of(
            settings.same
            or [named_by(table, "party", "say with --same which columns are the same")],
            table,
        )
        date, document = table.role("date"), _document(table, settings)
        if date is not None and date.type not in ("date", "timestamp"):
            date = None
        reasons = [
            missing(measure),
            zero(measure),
            Reason("missing_key", exp.or_(*(sql.is_missing(t.copy()) for t in grouping.trees))),
        ]
        within = settings.within if date is not None else None
        search = _Search(population, grouping, measure, date, document, reasons)
        found = search.candidates(within)
        account = population.account(measure, reasons)
        share = _share(within, account.first_date, account.last_date)
        counts = search.counts()
        rows, flags, tally = _judged(found, grouping, settings, within, share, counts, account.used)
        group = RepeatGroup(
            group={},
            same=[*grouping.labels, measure.name],
            within=within,
            looked_at=tally["looked_at"],
            clusters=len(flags),
            rows=rows,
            expected_clusters=search.expected(share) if share < 1 else None,
            excess=money(tally["excess"], measure.scale),
            usual=tally["usual"],
            reversed=tally["reversed"],
            reversed_rows=tally["reversed_rows"],
            flagged=len(flags),
        )
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=[],
            settings=settings.model_dump(),
            solved={"same": list(grouping.labels), "document": document.name if document else None},
            population=account,
            groups=[group],
            flags=_flags(flags, found, table, measure),
            tests_made=0,
            subjects=tally["looked_at"],
            cautions=_cautions(group, date, document),
            not_tested=[],
            currency=table.currency,
            scale=measure.scale,
        )


def _document(table: Table, settings: RepeatsSettings) -> Column | None:
    if settings.document is not None:
        return table.column(settings.document)
    return table.role("document")


def _share(within: int | None, first: str | None, last: str | None) -> float:
    """The share of the period that lies within so many days of a row, on either side."""
    if within is None or first is None or last is None:
        return 1.0
    days = (np.datetime64(last) - np.datetime64(first)).astype(int) + 1
    return min((2 * within + 1) / max(int(days), 1), 1.0)


def _text(column: Column) -> Tree:
    return sql.cast(sql.column(column.name), "TEXT")


def _coarse(document: Tree) -> Tree:
    """A document's number without case, marks and any zero: numbers that are the same are so in this
    form, and few others."""
    tree: Tree = exp.Upper(this=document)
    for mark in (" ", "-", "/", ".", "_", "#", "0"):
        tree = sql.call("REPLACE", tree, sql.text(mark), sql.text(""))
    return tree


class _Search:
    """What the engine finds: rows of which there is more than one of their keys and size."""

    def __init__(
        self,
        population: Population,
        grouping: Grouping,
        measure: Column,
        date: Column | None,
        document: Column | None,
        reasons: list[Reason],
    ) -> None:
        self._population = population
        self._grouping = grouping
        self._columns = lim.RowColumns.of(population.table, measure)
        units = sql.minor_units(measure)
        self._values: dict[str, Tree] = {
            **grouping.values(),
            UNITS: units,
            SIZE: exp.Abs(this=units.copy()),
            **self._columns.trees(),
            "day": exp.null() if date is None else sql.cast(sql.column(date.name), "DATE"),
            "document": exp.null() if document is None else _text(document),
            "coarse": exp.null() if document is None else _coarse(_text(document)),
        }
        self._reasons = reasons

    def _base(self, *names: str) -> exp.Select:
        wanted = {name: tree for name, tree in self._values.items() if not names or name in names}
        return self._population.base(wanted, self._reasons)

    def candidates(self, within: int | None) -> pa.Table:
        """Rows of one key and size, of which some lie close together or share a document.

        Raises
        ------
        UserError
            If they are too many to be repeats: the columns do not tell a thing from another.
        """
        keys = [*self._grouping.names, SIZE]
        several = exp.select(*(sql.column(name, "b") for name in keys))
        several = several.from_(self._base(*keys).subquery("b"))
        several = several.group_by(*(sql.column(name, "b") for name in keys))
        several = several.having(exp.GTE(this=sql.count(), expression=sql.integer(2)))
        same = sql.both(sql.same(sql.column(name, "b"), sql.column(name, "m")) for name in keys)
        rows = exp.select(*(sql.column(name, "b") for name in self._values))
        rows = rows.from_(self._base().subquery("b"))
        rows = rows.join(several.subquery("m"), on=same, join_type="inner")
        if within is not None:
            rows = self._near(rows, keys, within)
        wanted = exp.select(*(sql.column(name, "r") for name in self._values))
        wanted = wanted.from_(rows.subquery("r")).order_by(
            *(sql.ordered(sql.column(name, "r")) for name in keys),
            sql.ordered(sql.column("day", "r")),
            sql.ordered(sql.column("row_file", "r")),
            sql.ordered(sql.column("row_line", "r")),
        )
        found = self._population.query(wanted.limit(MOST_CANDIDATES + 1))
        if found.num_rows > MOST_CANDIDATES:
            raise UserError(
                f"more than {MOST_CANDIDATES:,} rows share {', '.join(self._grouping.labels)} and amount "
                "with a row close by: these do not tell one thing from another; add columns with --same, "
                "or look at fewer days with --within"
            )
        return found

    def _near(self, rows: exp.Select, keys: list[str], within: int) -> exp.Select:
        """Of these rows the groups in which two lie so close, or have one document."""

        def over(this: exp.Expr, by: list[str], *, ordered: bool) -> exp.Window:
            order = [sql.ordered(sql.column(n, "k")) for n in ("day", "row_file", "row_line")]
            return exp.Window(
                this=this,
                partition_by=[sql.column(name, "k") for name in by],
                order=exp.Order(expressions=order) if ordered else None,
            )

        before = over(exp.Lag(this=sql.column("day", "k")), keys, ordered=True)
        twice = over(exp.Count(this=sql.column("coarse", "k")), [*keys, "coarse"], ordered=False)
        marked = exp.select(
            *(sql.column(name, "k") for name in self._values),
            exp.alias_(before, "before"),
            exp.alias_(twice, "times"),
        ).from_(rows.subquery("k"))
        apart = exp.DateDiff(
            this=sql.column("day", "k"), expression=sql.column("before", "k"), unit=exp.var("DAY")
        )
        near = exp.or_(
            exp.LTE(this=apart, expression=sql.integer(within)),
            exp.GTE(this=sql.column("times", "k"), expression=sql.integer(2)),
        )
        hit = exp.Case().when(near, sql.integer(1)).else_(sql.integer(0))
        each = exp.select(
            *(sql.column(name, "k") for name in self._values),
            exp.alias_(over(exp.Max(this=hit), keys, ordered=False), "hits"),
        ).from_(marked.subquery("k"))
        kept = exp.select(*(sql.column(name, "h") for name in self._values))
        return kept.from_(each.subquery("h")).where(
            exp.EQ(this=sql.column("hits", "h"), expression=sql.integer(1))
        )

    def counts(self) -> _Counts:
        """Rows of each party, and of each amount in the whole population."""
        grouping, base = self._grouping, self._base(*self._grouping.names)
        fields = [*grouping.columns(), exp.alias_(sql.count(), "n")]
        select = exp.select(*fields).from_(base.subquery("b")).group_by(*grouping.columns())
        found = self._population.query(select)
        parties = {
            tuple(key.values()): n
            for key, n in zip(grouping.keys(found), found.column("n").to_pylist(), strict=True)
        }
        return _Counts(self, parties)

    def of_sizes(self, sizes: list[int]) -> dict[int, int]:
        """How many rows of the population have each of some sizes."""
        asked = pa.table({"size": pa.array(sorted(set(sizes)), pa.int64())})
        select = exp.select(sql.column(SIZE, "b"), exp.alias_(sql.count(), "n"))
        select = select.from_(self._base(SIZE).subquery("b"))
        on = exp.EQ(this=sql.column(SIZE, "b"), expression=sql.column("size", "asked"))
        select = select.join("asked", on=on, join_type="inner").group_by(sql.column(SIZE, "b"))
        found = self._population.query(select, asked=asked).to_pylist()
        return {int(row[SIZE]): row["n"] for row in found}

    def expected(self, share: float) -> float:
        """Pairs of one party and amount within the days, where amounts are drawn from all rows alike:
        Σ over parties of C(n, 2), times the chance that two rows have one amount, times the share."""
        sizes = exp.select(exp.alias_(sql.count(), "n")).from_(self._base(SIZE).subquery("b"))
        sizes = sizes.group_by(sql.column(SIZE, "b"))
        pairs = self._pairs(sizes)
        parties = exp.select(exp.alias_(sql.count(), "n"))
        parties = parties.from_(self._base(*self._grouping.names).subquery("b"))
        parties = parties.group_by(*self._grouping.columns("b"))
        among = self._pairs(parties)
        n = among[1]
        return share * among[0] * 2 * pairs[0] / (n * (n - 1)) if n > 1 else 0.0

    def _pairs(self, counted: exp.Select) -> tuple[int, int]:
        """Σ n(n - 1)/2 and Σ n of some counts."""
        n = sql.column("n", "c")
        less = exp.paren(exp.Sub(this=n.copy(), expression=sql.integer(1)))
        select = exp.select(
            exp.alias_(sql.exact_sum(exp.Mul(this=n.copy(), expression=less)), "pairs"),
            exp.alias_(sql.exact_sum(n.copy()), "n"),
        ).from_(counted.subquery("c"))
        row = self._population.query(select).to_pylist()[0]
        return int(row["pairs"] or 0) // 2, int(row["n"] or 0)


class _Counts:
    """How often parties and amounts occur."""

    def __init__(self, search: _Search, parties: dict[tuple[Any, ...], int]) -> None:
        self._search = search
        self.parties = parties
        self._sizes: dict[int, int] = {}

    def prepare(self, sizes: list[int]) -> None:
        self._sizes = self._search.of_sizes(sizes) if sizes else {}

    def size(self, units: int) -> int:
        return self._sizes.get(units, 0)


Judged = tuple[Found, float, tuple[Any, ...], int]
"""A cluster, its chance, its key, and its excess in minor units."""


def _judged(
    found: pa.Table,
    grouping: Grouping,
    settings: RepeatsSettings,
    within: int | None,
    share: float,
    counts: _Counts,
    used: int,
) -> tuple[int, list[Judged], dict[str, int]]:
    """Clusters that are no habit of their party, the least likely first."""
    tally = dict.fromkeys(("looked_at", "usual", "reversed", "reversed_rows", "excess"), 0)
    counts.prepare(found.column(SIZE).to_pylist())
    judged: list[Judged] = []
    for key, candidates in _groups(found, grouping):
        party = counts.parties[key[:-1]]
        kept, undone = without_reversed(candidates)
        if undone:
            tally["reversed"] += 1
            tally["reversed_rows"] += 2 * undone
        for cluster in clusters(kept, within):
            tally["looked_at"] += 1
            # Beside two of them: what repeats a third time and more is a habit, or nearly one.
            own, others = len(kept) - 2, max(counts.size(key[-1]) - 2, 0)
            p = by_chance(cluster, party, own, others, used, share)
            if p >= settings.alpha:
                tally["usual"] += 1
                continue
            judged.append((cluster, p, key, (len(cluster.rows) - 1) * cluster.rows[0].units))
    judged.sort(key=lambda item: (item[1], -abs(item[3]), item[0].rows[0].place))
    tally["excess"] = sum(item[3] for item in judged)
    return sum(len(item[0].rows) for item in judged), judged, tally


def _groups(
    found: pa.Table, grouping: Grouping
) -> Iterator[tuple[tuple[Any, ...], list[Candidate]]]:
    """Candidates of each key and size, in the order of their days."""
    names = [*grouping.names, SIZE, UNITS, "day", "document"]
    columns = [found.column(name).to_pylist() for name in names]
    many = len(grouping.names) + 1
    held: tuple[Any, ...] | None = None
    rows: list[Candidate] = []
    for place, values in enumerate(zip(*columns, strict=True)):
        key = values[:many]
        if key != held:
            if held is not None:
                yield held, rows
            held, rows = key, []
        units, day, document = values[many:]
        rows.append(Candidate(place, int(units), day, document))
    if held is not None:
        yield held, rows


def _flags(judged: list[Judged], found: pa.Table, table: Table, measure: Column) -> Flags:
    """Clusters as flags, with their rows."""
    identity = table.role("id")
    names = ["row_file", "row_line", *(["row_id"] if identity is not None else [])]
    chosen = found.take(pa.array([r.place for c, *_ in judged for r in c.rows], pa.int64()))
    places = iter(chosen.select(names).to_pylist())
    rows: list[Cells] = []
    for cluster, p, key, excess in judged:
        own = [next(places) for _ in cluster.rows]
        first = own[0].get("row_id")
        first = first if first is not None else f"{own[0]['row_file']}:{own[0]['row_line']}"
        parts = [str(value) for value in key[:-1]]
        amount = money(cluster.rows[0].units, measure.scale)
        rows.append(
            {
                "subject": {
                    "party": " / ".join(parts), "amount": format(amount, "f"), "first": str(first),
                },
                "score": -log2(p),
                "limit": None,
                "direction": "repeated",
                "p": p,
                "p_adjusted": None,
                "amount": money(excess, measure.scale),
                "rows": len(cluster.rows),
                "excess": money(excess, measure.scale),
                "days": cluster.days,
                "differs": _differs(cluster),
                "reversed": False,
                "members": [
                    {
                        "file": each["row_file"], "line": int(each["row_line"]),
                        "id": None if each.get("row_id") is None else str(each["row_id"]),
                        "day": None if row.day is None else str(row.day),
                        "document": row.document,
                    }
                    for each, row in zip(own, cluster.rows, strict=True)
                ],
            }
        )  # fmt: skip
    return Flags("cluster", pa.Table.from_pylist(rows) if rows else pa.table({}), make=_subject)


def _subject(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    members = tuple((m["file"], m["line"]) for m in flag["members"])
    return Cluster(flag["subject"], members)


def _differs(cluster: Found) -> list[str]:
    """What tells the rows of a cluster apart."""
    days = cluster.days
    found = [] if days is None else ["same day" if not days else f"{num.many(days, 'day')} apart"]
    known = [row.document for row in cluster.rows if row.document]
    if cluster.likeness:
        found.append(cluster.likeness)
    elif len(known) > 1:
        found.append("documents differ")
    return found


def _cautions(group: RepeatGroup, date: Column | None, document: Column | None) -> list[Caution]:
    found = []
    if date is None:
        found.append(
            Caution(
                "no_dates",
                "the table has no dates: rows are repeated whenever they were recorded, and how close they "
                "lie tells nothing",
                {},
            )
        )
    if document is None:
        found.append(
            Caution(
                "no_documents",
                "the table names no documents: two purchases of one amount look the same as one paid twice",
                {},
            )
        )
    if group.usual:
        text = (
            f"{group.usual:,} of {group.looked_at:,} clusters are habits of their party or common amounts, and "
            "no finding: rows of those amounts lie as close by chance"
        )
        found.append(Caution("usual", text, {"clusters": group.usual}))
    if group.reversed:
        text = (
            f"{num.many(group.reversed_rows, 'row')} were taken out first: an equal opposite amount of the same "
            "party reversed them"
        )
        found.append(Caution("reversed", text, {"rows": group.reversed_rows}))
    return found
