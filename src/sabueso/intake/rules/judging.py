"""The declared rules applied to what was read: rows set aside or marked, and the proof afterwards."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.hashing import file_hash
from sabueso.base.plain import Json
from sabueso.intake.interface import FileReport
from sabueso.intake.parquet import verify
from sabueso.intake.rules.rewriting import without_rows
from sabueso.population import sql
from sabueso.population.engines import Engine, QueryError
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Part, Table, money
from sabueso.screens.rules.breaches import NEW, breach, gaps
from sabueso.screens.rules.declared import AnyRule
from sabueso.screens.rules.declared import Sequence as NumberSequence

MOST_LISTED = 100_000
_ROW = pa.schema([(FILE_COLUMN, pa.string()), (LINE_COLUMN, pa.int64())])


@dataclass(frozen=True)
class Gap:
    """Numbers missing between two that are there, after a common beginning, of so many digits."""

    stem: str
    after: int
    before: int
    width: int

    @property
    def missing(self) -> int:
        return self.before - self.after - 1

    def __str__(self) -> str:
        first, last = self.after + 1, self.before - 1
        shown = f"{self.stem}{first:0{self.width}d}"
        return shown + (f" – {self.stem}{last:0{self.width}d}" if last > first else "")


@dataclass(frozen=True)
class Breach:
    """A row that breaks a rule: where it stands, and the texts of the columns judged."""

    file: str
    line: int
    value: str


@dataclass(frozen=True)
class RuleReport:
    """What a rule caught. ``left`` are the rows in the table that break it still, counted afterwards:
    none where every row could be set aside. ``amount`` is that of the rows set aside and left."""

    title: str
    rule: str
    columns: tuple[str, ...]
    then: str
    rows: int
    set_aside: int
    left: int
    amount: Decimal | None
    listed: list[Breach]
    gaps: list[Gap] = field(default_factory=list)

    @property
    def kept(self) -> bool:
        """Whether no row was found to break it, nor a number missing."""
        return not (self.set_aside or self.left or self.gaps)

    def as_json(self) -> Json:
        return {
            "title": self.title,
            "rule": self.rule,
            "columns": list(self.columns),
            "then": self.then,
            "rows": self.rows,
            "set_aside": self.set_aside,
            "left": self.left,
            "amount": None if self.amount is None else format(self.amount, "f"),
            "missing": sum(gap.missing for gap in self.gaps),
            "gaps": [str(gap) for gap in self.gaps[:100]],
        }


def judge(
    engine: Engine,
    table: Table,
    new: Sequence[Part],
    others: Mapping[str, Table],
    rules: Sequence[AnyRule],
    files: Sequence[tuple[FileReport, Path]],
) -> tuple[list[FileReport], list[RuleReport]]:
    """Apply the rules to files just read.

    Parameters
    ----------
    table : Table
        Columns and roles; its parts are those taken before.
    new : sequence of Part
        The files just read.
    others : mapping of str to Table
        Other tables with rows.
    files : sequence of (FileReport, Path)
        The reports of the files just read, and their Parquet, which is written again where rows
        are set aside.

    Raises
    ------
    UserError
        If a rule does not suit the table.
    """
    first = Judge(engine, table, new, others)
    aside = first.set_aside([rule for rule in rules if rule.then == "set aside"])
    reports = [
        without_rows(report, output, aside, table.roles, table.currency) for report, output in files
    ]
    for place, ((before, output), after) in enumerate(zip(files, reports, strict=True)):
        if after is not before:
            verify(Path(after.file), output, after.accepted, after.sums, engine)
            reports[place] = replace(after, parquet_sha256=file_hash(output))
    # The proof is made over what is now written, not over what was decided.
    proof = Judge(engine, table, new, others)
    return reports, [proof.report(rule, aside.get(rule)) for rule in rules]


class Judge:
    """Rules over a table as an engine sees it, less the rows set aside so far.

    Parameters
    ----------
    engine : Engine
        One that the table, and the other tables that rules name, may be attached to.
    table : Table
        Its columns and roles; ``parts`` are those taken before.
    new : sequence of Part
        What was just read: only rows of these are set aside.
    others : mapping of str to Table
        Other tables with rows, which rules may name.
    """

    def __init__(
        self, engine: Engine, table: Table, new: Sequence[Part], others: Mapping[str, Table]
    ) -> None:
        self._engine, self._table, self._others = engine, table, others
        self._aside = _ROW.empty_table()
        self._sources = {
            name: parts for name, parts in (("_old", table.parts), ("_read", new)) if parts
        }
        for name, parts in self._sources.items():
            engine.attach(replace(table, name=name, parts=tuple(parts)))
        for other in others.values():
            engine.attach(other)

    def set_aside(self, rules: Sequence[AnyRule]) -> dict[AnyRule, pa.Table]:
        """Rows of the new files that break a rule, until no rule finds another.

        A row is set aside for the first rule it breaks: those that judge it alone come first.
        """
        found: dict[AnyRule, list[pa.Table]] = {rule: [] for rule in rules}
        ordered = sorted(rules, key=lambda rule: rule.of_groups)
        # Setting a row aside can leave its entry out of balance, never mend a rule on one row.
        for turn in itertools.count():
            before = len(self._aside)
            for rule in ordered:
                if turn and not rule.of_groups:
                    continue
                condition = sql.both([sql.column(NEW), self._breach(rule)])
                rows = self._rows(rule, condition, None)
                if len(rows):
                    found[rule].append(rows)
                    self._aside = pa.concat_tables([self._aside, rows.select(_ROW.names)])
            if len(self._aside) == before:
                break
        return {rule: pa.concat_tables(tables) for rule, tables in found.items() if tables}

    def report(self, rule: AnyRule, aside: pa.Table | None) -> RuleReport:
        """What is left that breaks a rule, counted in the table as it now is."""
        condition = self._breach(rule)
        measure = self._table.role("amount")
        fields: list[Tree] = [exp.alias_(sql.only(sql.count(), condition), "left"),
                              exp.alias_(sql.count(), "rows")]  # fmt: skip
        if measure is not None:
            broken = exp.Case().when(condition.copy(), sql.minor_units(measure))
            fields.append(exp.alias_(sql.exact_sum(broken), "amount"))
        counted = self._query(exp.select(*fields).from_(self._name())).to_pylist()[0]
        amount = None
        if measure is not None:
            amount = money(int(counted["amount"] or 0), measure.scale)
            if aside is not None:
                amount += pc.sum(aside.column("_amount")).as_py() or 0
        listed = self._rows(rule, condition, MOST_LISTED) if counted["left"] else None
        missing = []
        if isinstance(rule, NumberSequence):
            query = gaps(rule, self._table).limit(MOST_LISTED)
            missing = [Gap(**row) for row in self._query(query).to_pylist()]
        return RuleReport(
            title=rule.title,
            rule=rule.rule,
            columns=tuple(c.name for c in rule.columns(self._table)),
            then=rule.then,
            rows=counted["rows"],
            set_aside=0 if aside is None else len(aside),
            left=counted["left"],
            amount=amount,
            listed=[] if listed is None else _breaches(listed),
            gaps=missing,
        )

    def _breach(self, rule: AnyRule) -> Tree:
        try:
            return breach(rule, self._table, self._others)
        except UserError as error:
            raise UserError(
                f"case.toml, tables.{self._table.name}.rules, {rule.title}: {error}"
            ) from None

    def _rows(self, rule: AnyRule, condition: Tree, most: int | None) -> pa.Table:
        """Place, judged texts and amount of the rows that meet a condition, as they stood."""
        columns = rule.columns(self._table)
        texts: list[Tree] = []
        for column in columns:
            shown = sql.cast(sql.column(column.name), "VARCHAR")
            texts += [sql.text(" | "), exp.Coalesce(this=shown, expressions=[sql.text("")])]
        value = texts[1]
        for text in texts[2:]:
            value = exp.DPipe(this=value, expression=text)
        measure = self._table.role("amount")
        amount: Tree = sql.cast(exp.Null(), "DECIMAL(18,2)")
        if measure is not None:
            amount = sql.column(measure.name)
        query = (
            exp.select(
                *map(sql.column, _ROW.names),
                exp.alias_(value, "_value"),
                exp.alias_(amount, "_amount"),
            )
            .from_(self._name())
            .where(condition)
            .order_by(*sql.place())
        )
        found = self._query(query if most is None else query.limit(most))
        return found.set_column(0, FILE_COLUMN, found.column(0).cast(pa.string()))

    def _name(self) -> Tree:
        return sql.column(self._table.name)

    def _query(self, query: exp.Select) -> pa.Table:
        """Run a query over the table's name, which stands for its rows less those set aside."""
        both: Tree | None = None
        for source in self._sources:
            new = exp.true() if source == "_read" else exp.false()
            rows = exp.select("*", exp.alias_(new, NEW)).from_(sql.column(source))
            both = rows if both is None else exp.union(both, rows, distinct=False)
        assert both is not None
        rest = exp.select("*").from_(exp.Subquery(this=both, alias=exp.to_identifier("_both")))
        if len(self._aside):
            row = exp.Tuple(expressions=[sql.column(name) for name in _ROW.names])
            gone = exp.select(*map(sql.column, _ROW.names)).from_("_aside")
            rest = rest.where(exp.Not(this=exp.In(this=row, query=gone.subquery())))
        name = exp.TableAlias(this=exp.to_identifier(self._table.name, quoted=True))
        cte = exp.CTE(this=rest, alias=name, materialized=False)
        query.set("with_", exp.With(expressions=[cte]))
        try:
            return self._engine.query(query, _aside=self._aside)
        except QueryError as error:
            raise UserError(
                f"the rules of table {self._table.name!r} cannot be judged: {error}"
            ) from None


def _breaches(rows: pa.Table) -> list[Breach]:
    named = rows.select([*_ROW.names, "_value"]).to_pylist()
    return [Breach(row[FILE_COLUMN], row[LINE_COLUMN], row["_value"]) for row in named]
