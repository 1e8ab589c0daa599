"""The population of a screen: a table, a condition, and an exact account of what was left out."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Hashable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any, TypeVar

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError, nearest
from sabueso.base.exact import exactly
from sabueso.population import expressions, sql
from sabueso.population.accounting import Account, Counting, Reason, counted
from sabueso.population.engines import Engine, QueryError
from sabueso.population.figures import figures
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table

T = TypeVar("T")
SET_ASIDE = "set_aside"


@dataclass(frozen=True)
class Defined:
    """A population that the plan names: a condition on a table's rows, and why the others are left
    out."""

    name: str
    where: str
    reason: str


@dataclass(frozen=True)
class Population:
    """Rows of one table that a screen or drill-down looks at.

    ``set_aside`` are row conditions that reviewers took out of later statistics; ``tables`` are
    the case's other tables, for tests that compare with one. ``known`` keeps what populations of
    one programme share; ``given`` are inputs of every query; ``defined`` is the named population.
    """

    engine: Engine
    table: Table
    where: str | None = None
    set_aside: tuple[str, ...] = ()
    tables: dict[str, Table] = field(default_factory=dict)
    known: dict[Any, Any] = field(default_factory=dict, repr=False, compare=False)
    given: dict[str, pa.Table] = field(default_factory=dict, repr=False, compare=False)
    defined: Defined | None = None

    @property
    def asked(self) -> str | None:
        """The condition that rows must meet: the named population's, the given one, or both."""
        return expressions.all_of(self.defined.where if self.defined else None, self.where)

    def conditions(self) -> list[Reason]:
        """Reasons that come before those of any test."""
        reasons = []
        if self.defined is not None:
            try:
                held = expressions.condition(self.defined.where, self.table)
            except UserError as error:
                raise UserError(f"population {self.defined.name!r}: {error}") from None
            reasons.append(Reason("outside_population", _not_true(held)))
        if self.where:
            chosen = expressions.condition(self.where, self.table)
            reasons.append(Reason("outside_where", _not_true(chosen)))
        if self.set_aside:
            aside = [expressions.condition(c, self.table, "set-aside") for c in self.set_aside]
            reasons.append(Reason(SET_ASIDE, exp.or_(*aside)))
        return reasons

    def base(
        self, values: dict[str, Tree], reasons: Sequence[Reason] = (), *, rows: bool = False
    ) -> exp.Select:
        """SELECT the named values of the rows used; with ``rows``, their file and line too."""
        wanted = [exp.alias_(tree, name, quoted=True) for name, tree in values.items()]
        if rows:
            wanted += [sql.column(FILE_COLUMN), sql.column(LINE_COLUMN)]
        return self.used(exp.select(*wanted, copy=False), reasons)

    def used(self, select: exp.Select, reasons: Sequence[Reason] = ()) -> exp.Select:
        """A SELECT from the rows used; the one that is given becomes it, and is nobody else's."""
        kept = [_kept(r.condition) for r in [*self.conditions(), *reasons]]
        # Nobody else holds what is begun here, nor changes a part of it: it need not be copied at each step.
        select = select.from_(self.source(), copy=False)
        return select.where(sql.both(kept), copy=False) if kept else select

    def distinct(self, measure: Column, reasons: Sequence[Reason]) -> exp.Select:
        """SELECT each value of a measure in the rows used, and how many have it, as ``n``.

        What looks at the measure alone, of conditions and reasons, is asked of each value once.
        """
        of_rows, of_values = list[Tree](), list[Tree]()
        for reason in (*self.conditions(), *reasons):
            alone = _looks_at(reason.condition, measure)
            (of_values if alone else of_rows).append(_kept(reason.condition))
        value = sql.column(measure.name)
        each = exp.select(value, exp.alias_(sql.count(), "n", quoted=True)).from_(self.source())
        each = each.where(sql.both(of_rows), copy=False) if of_rows else each
        every = each.group_by(value.copy()).subquery("v")
        kept = exp.select(value.copy(), sql.column("n")).from_(every)
        return kept.where(sql.both(of_values), copy=False) if of_values else kept

    def figures(self, fields: Sequence[Tree]) -> dict[str, Any]:
        """What some aggregates of the rows used are, by their aliases."""
        return figures(fields, self.used, self.query)

    def source(self) -> exp.Table:
        return exp.Table(this=exp.to_identifier(self.table.name, quoted=True))

    def beside(self, other: Table) -> Population:
        """All rows of another table of the case."""
        return Population(self.engine, other, tables=self.tables, known=self.known)

    def rows_of(self, name: str, where: str | None = None, *, to: str) -> Population:
        """The rows of a table of the case that meet a condition; ``to`` says what they are asked for.

        Raises
        ------
        UserError
            If there is no such table, or the condition does not fit it.
        """
        if name not in self.tables:
            raise UserError(f"there is no table {name!r} {to}{nearest(name, self.tables)}")
        other = replace(self.beside(self.tables[name]), where=where)
        other.conditions()
        return other

    @exactly
    def account(self, measure: Column | None, reasons: Sequence[Reason] = ()) -> Account:
        """Count and sum the rows used and left out, by the first reason that applies."""
        key = self.counted_as(Counting(measure, reasons))
        found: Account | None = self.known.get(key)
        if found is None:
            found = counted(self, measure, [*self.conditions(), *reasons])
            # Without reasons of a test's own it is the same for all that look at these rows.
            if not reasons:
                self.known[key] = found
        return replace(
            found, left_out=dict(found.left_out), left_out_totals=dict(found.left_out_totals)
        )

    def counted_as(self, counting: Counting) -> Hashable:
        """What an account of these rows is kept by in ``known``."""
        measure, reasons = counting
        told = tuple((reason.code, reason.condition.sql()) for reason in reasons)
        return self._shared(("account", measure.name if measure is not None else None, told))

    def once(self, about: Hashable, work: Callable[[], T]) -> T:
        """What is worked out of these rows, the first time that one of those who share ``known`` asks for it."""
        key = self._shared(about)
        if key not in self.known:
            self.known[key] = work()
        found: T = self.known[key]
        return found

    def _shared(self, about: Hashable) -> Hashable:
        """What is known of something about these rows is kept by: all that look at them have it."""
        return about, self.table.name, self.where, self.set_aside, self.defined

    def stage(self, name: str, tree: exp.Expr, **inputs: pa.Table) -> None:
        """Keep a result in the engine as long as that is open; ``inputs`` as of :meth:`query`."""
        inputs = {**self.given, **inputs}
        own = {f"_{known}": data for known, data in inputs.items()}
        with self._one_sentence():
            self.engine.stage(name, _own_inputs(tree, inputs) if inputs else tree, **own)

    @contextmanager
    def staged(self, name: str, tree: exp.Expr, **inputs: pa.Table) -> Iterator[None]:
        """A result kept in the engine while several queries use it; ``inputs`` as of :meth:`query`."""
        self.stage(name, tree, **inputs)
        try:
            yield
        finally:
            self.engine.unstage(name)

    def query(self, tree: exp.Expr, **inputs: pa.Table) -> pa.Table:
        """Run a tree; what the data do not allow becomes one sentence.

        ``inputs`` are known to the engine under a name that no table of a case can have: a client's
        table may be called as one of them is.
        """
        inputs = {**self.given, **inputs}
        own = {f"_{name}": data for name, data in inputs.items()}
        with self._one_sentence():
            return self.engine.query(_own_inputs(tree, inputs) if inputs else tree, **own)

    def stream(self, tree: exp.Expr, **inputs: pa.Table) -> Iterator[pa.RecordBatch]:
        """The same as :meth:`query`, batch by batch."""
        inputs = {**self.given, **inputs}
        own = {f"_{name}": data for name, data in inputs.items()}
        with self._one_sentence():
            yield from self.engine.stream(_own_inputs(tree, inputs) if inputs else tree, **own)

    @contextmanager
    def _one_sentence(self) -> Iterator[None]:
        try:
            yield
        except RecursionError:
            raise UserError(
                f"table {self.table.name!r}: an expression is nested too deeply"
            ) from None
        except QueryError as error:
            part = f" (--where {self.where!r})" if self.where else ""
            said = self._too_large() if re.search("INT64|verflow", str(error)) else None
            if said:
                raise TooLargeError(said) from error
            raise UserError(f"table {self.table.name!r}{part}: {error}") from error

    def _too_large(self) -> str | None:
        """What is said where amounts, of this table or of those beside it, are too large to be counted in their last
        decimal; None where none are."""
        others = (t for t in self.tables.values() if t.name != self.table.name)
        return next(filter(None, map(self._too_large_in, (self.table, *others))), None)

    def _too_large_in(self, table: Table) -> str | None:
        for column in table.stored:
            most = most_exact(column.scale)
            if column.type != "number" or self._largest(table, column) <= most:
                continue
            of = f"{column.name} has {column.scale} decimals" if column.scale else column.name
            told = f"table {table.name!r}: {of}, of which figures up to {most:,} are computed with"
            name = expressions.quoted_name(column.name)
            where = f"[tables.{table.name}.columns]"
            if column.scale > _FINE:
                return f"{told}; make a column with fewer, such as less = 'round({name}, 4)' under {where}, and give it the role"
            return (
                f'{told}, and some are beyond; where these are slips, leave them out (--where "{within_exact(column)}"), or set them '
                f"aside by a rule; where they are numbers of something, read it as text by read.types; else make a column of larger units, "
                f"such as thousands = 'cast({name} * 0.001 as decimal(38, 2))' under {where}, and give it the role"
            )
        return None

    def _largest(self, table: Table, column: Column) -> Decimal:
        """The largest figure of a column, whatever its sign; of none, 0."""
        largest = exp.Max(this=exp.Abs(this=sql.column(column.name)))
        select = exp.select(exp.alias_(largest, "largest", quoted=True))
        select = select.from_(exp.table_(table.name, quoted=True))
        return self.engine.query(select).column("largest")[0].as_py() or Decimal(0)


def most_exact(scale: int) -> int:
    """The largest whole amount that is counted in its last decimal, in 64 bits."""
    return int((2**63 - 1) // 10**scale)


def within_exact(column: Column) -> str:
    """The condition, as a user types it, of rows whose amount is counted so."""
    return f"abs({expressions.quoted_name(column.name)}) <= {most_exact(column.scale)}"


class TooLargeError(UserError):
    """Amounts beyond what is counted in their last decimal."""


_FINE = 6
"""Decimals beyond which amounts of some size have no room in 64 bits."""


def _own_inputs(tree: exp.Expr, names: Collection[str]) -> exp.Expr:
    """A tree that reads its inputs under their own names. They stand in it without quotes, the
    tables of the case with them."""
    tree = tree.copy()
    for table in list(tree.find_all(exp.Table)):
        if table.name in names and not table.this.args.get("quoted"):
            alias = table.alias or table.name
            table.set("this", exp.to_identifier(f"_{table.name}"))
            table.set("alias", exp.TableAlias(this=exp.to_identifier(alias)))
    return tree


def missing(column: Column) -> Reason:
    """Rows where the column has no value."""
    return Reason("missing", sql.is_missing(sql.column(column.name)))


def zero(column: Column) -> Reason:
    """Rows where the measure is 0."""
    return Reason("zero", exp.EQ(this=sql.column(column.name), expression=sql.integer(0)))


def _looks_at(tree: Tree, column: Column) -> bool:
    """Whether a condition says nothing of any other column."""
    names = {found.name for found in tree.find_all(exp.Column)}
    return names <= {column.name} and tree.find(exp.Query) is None


def _kept(reason: Tree) -> Tree:
    """What WHERE asks of rows that a reason does not leave out.

    Those outside a condition are left out where it is not true, as WHERE has it: asked for plainly, an engine can
    look up which parts of a file may hold any.
    """
    if isinstance(reason, exp.Not):
        inside = reason.this.this if isinstance(reason.this, exp.Paren) else None
        if isinstance(inside, exp.Coalesce) and inside.expressions == [exp.false()]:
            return exp.paren(inside.this)
    return _not_true(reason)


def _not_true(tree: Tree) -> Tree:
    """True where the tree is false or unknown."""
    return exp.Not(this=exp.paren(exp.Coalesce(this=tree, expressions=[exp.false()])))
