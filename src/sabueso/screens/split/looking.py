"""Rows around a limit as the engine counts them, and the pieces that may have been one amount."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.nothing import is_nothing
from sabueso.population.population import Population, Reason, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.runs import run_starts
from sabueso.stats.bundles import Amounts
from sabueso.stats.threshold import Below, excess_below

LIMIT, PART = "at_limit", "part"
FROM, TO = 600, 1500
"""Thousandths of a limit between which amounts are compared with those just below it."""
LEAST_AROUND = 100
NEAR, LEAST_NEAR = 750, 10
"""Rows that must lie from this place up to the band: a curve says nothing of where hardly anything lies."""
WIDEST = Decimal("0.13")
"""Part of a limit up to which bins of that width beside it are enough for a curve."""
MOST_LIMITS, MOST_PIECES = 12, 3_000_000


@dataclass(frozen=True)
class Pieces:
    """Amounts below a limit, by who they are of and day: the i-th are those of ``keys[i]``; and how many rows say
    nothing of whose they are, such as n/a."""

    keys: list[tuple[Any, ...]]
    amounts: Amounts
    unnamed: int


class Around:
    """Queries on the rows around a limit.

    Parameters
    ----------
    limit : str
        An expression: a number, a fact of the plan, or what gives each row its own.
    """

    def __init__(self, population: Population, measure: Column, limit: str) -> None:
        self._population, self._measure = population, measure
        tree = expressions.scalar(limit, population.table, "--limit")
        scale = f"DECIMAL(38,{measure.scale})"
        self._limit = sql.units(sql.cast(tree, scale), measure.scale)
        self.reasons = [
            missing(measure),
            Reason("no_limit", exp.Not(this=exp.paren(exp.Coalesce(
                this=exp.GT(this=sql.cast(tree.copy(), scale), expression=sql.integer(0)),
                expressions=[exp.false()],
            )))),
        ]  # fmt: skip

    def _base(self, **more: Tree) -> exp.Select:
        units = sql.minor_units(self._measure)
        # Thousandths in floats: whole ones are exact, and every engine cuts alike.
        share = exp.Div(
            this=exp.Mul(this=sql.cast(units, "DOUBLE"), expression=sql.integer(1000)),
            expression=sql.cast(self._limit.copy(), "DOUBLE"),
        )
        values: dict[str, Tree] = {
            LIMIT: self._limit.copy(),
            UNITS: units.copy(),
            PART: sql.cast(exp.Floor(this=share), "BIGINT"),
            **more,
        }
        return self._population.base(values, self.reasons)

    def limits(self) -> list[tuple[int, int]]:
        """Each limit with its rows.

        Raises
        ------
        UserError
            If there are many: the expression gives no limits.
        """
        select = exp.select(sql.column(LIMIT), exp.alias_(sql.count(), "n"))
        select = select.from_(self._base().subquery("b")).group_by(sql.column(LIMIT))
        ordered = select.order_by(sql.ordered(sql.column(LIMIT))).limit(MOST_LIMITS + 1)
        found = self._population.query(ordered).to_pylist()
        if len(found) > MOST_LIMITS:
            raise UserError(f"--limit gives more than {MOST_LIMITS} limits; expected a few")
        return [(int(row[LIMIT]), int(row["n"])) for row in found]

    def _near(self, base: exp.Select, low: int, high: int) -> exp.Select:
        part = sql.column(PART, "b")
        inside = exp.and_(
            exp.GTE(this=part, expression=sql.integer(low)),
            exp.LT(this=part.copy(), expression=sql.integer(high)),
        )
        return exp.select().from_(base.subquery("b")).where(inside)

    def counts(self, limit: int) -> np.ndarray:
        """Rows at each thousandth of a limit, from FROM up to TO."""
        select = self._near(self._base(), FROM, TO)
        own = exp.EQ(this=sql.column(LIMIT, "b"), expression=sql.integer(limit))
        select = select.select(sql.column(PART, "b"), exp.alias_(sql.count(), "n")).where(own)
        found = self._population.query(select.group_by(sql.column(PART, "b")))
        counts = np.zeros(TO - FROM, dtype=np.int64)
        places = found.column(PART).to_numpy() - FROM
        counts[places.astype(np.int64)] = found.column("n").to_numpy()
        return counts

    def by_whom(self, column: str, limit: int, low: int) -> pa.Table:
        """Of each value of a column its rows around a limit, those in the band, and their sum."""
        who = expressions.scalar(column, self._population.table, "--by-whom")
        select = self._near(self._base(who=who), FROM, TO)
        part = sql.column(PART, "b")
        band = exp.and_(
            exp.GTE(this=part, expression=sql.integer(low)),
            exp.LT(this=part.copy(), expression=sql.integer(1000)),
        )
        own = exp.and_(
            exp.EQ(this=sql.column(LIMIT, "b"), expression=sql.integer(limit)),
            exp.Not(this=sql.is_missing(sql.column("who", "b"))),
        )
        fields = {
            "n": sql.count(),
            "inside": sql.only(sql.count(), band),
            "total": sql.exact_sum(exp.Case().when(band.copy(), sql.column(UNITS, "b"))),
            "distinct": exp.Count(
                this=exp.Distinct(
                    expressions=[exp.Case().when(band.copy(), sql.column(UNITS, "b"))]
                )
            ),
        }
        select = select.select(
            sql.column("who", "b"),
            *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items()),
        ).where(own)
        grouped = select.group_by(sql.column("who", "b"))
        every = exp.select("*").from_(grouped.subquery("w"))
        return self._population.query(every.order_by(sql.ordered(sql.column("who"))))

    def pieces(self, grouping: Grouping, date: Column, piece: int) -> Pieces:
        """Rows from a part of their limit up to it, by who they are of and day.

        Raises
        ------
        UserError
            If they are too many to be looked at.
        """
        day = sql.cast(sql.column(date.name), "DATE")
        base = self._base(**grouping.values(), day=day)
        names = [*grouping.names, LIMIT, "day", UNITS]
        select = self._near(base, piece, 1000)
        known = [exp.Not(this=sql.is_missing(sql.column(n, "b"))) for n in (*grouping.names, "day")]
        select = select.select(*(sql.column(name, "b") for name in names)).where(*known)
        ordered = exp.select("*").from_(select.subquery("p"))
        ordered = ordered.order_by(*(sql.ordered(sql.column(name)) for name in names))
        found = self._population.query(ordered.limit(MOST_PIECES + 1))
        if found.num_rows > MOST_PIECES:
            raise UserError(
                f"more than {MOST_PIECES:,} rows may be pieces of an amount: take fewer with --where, or larger "
                "ones with --piece"
            )
        (rows,) = found.combine_chunks().to_batches() or [
            pa.RecordBatch.from_pylist([], found.schema)
        ]
        starts = run_starts(rows, (*grouping.names, LIMIT))
        first = rows.take(pa.array(starts))
        keys = list(zip(*(first.column(n).to_pylist() for n in grouping.names), strict=True))
        sizes = np.diff(np.append(starts, rows.num_rows))
        named = np.array([not _says_nothing(key) for key in keys], dtype=bool)
        of_somebody = np.repeat(named, sizes)
        return Pieces(
            keys=[key for key, own in zip(keys, named, strict=True) if own],
            amounts=Amounts(
                starts=np.concatenate([[0], np.cumsum(sizes[named])]),
                days=found.column("day").cast(pa.int32()).to_numpy().astype(np.int64)[of_somebody],
                units=found.column(UNITS).to_numpy().astype(np.int64)[of_somebody],
                limits=first.column(LIMIT).to_numpy().astype(np.int64)[named],
            ),
            unnamed=int(sizes[~named].sum()),
        )


def _says_nothing(key: Sequence[Any]) -> bool:
    """Whether no part of a key says whose rows are."""
    return all(isinstance(part, str) and is_nothing(part) for part in key)


def excess_of(counts: np.ndarray, low: int) -> Below | None:
    """The band against the bins around it; None where these, or those below it, hold too few rows."""
    near = counts[NEAR - FROM : low - FROM]
    if int(counts.sum()) < LEAST_AROUND or int(near.sum()) < LEAST_NEAR:
        return None
    edges = edges_of(low)
    return excess_below(binned(counts, edges), (edges[:-1] >= low) & (edges[:-1] < 1000))


def binned(counts: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """Rows between each edge and the next, from those at each thousandth."""
    before = np.concatenate([[0], np.cumsum(counts)])
    return np.diff(before[edges - FROM])


def edges_of(low: int) -> np.ndarray:
    """Bins as wide as the band, one of which is the band; narrower ones at the two ends are left out."""
    width = 1000 - low
    down = np.arange(low, FROM - 1, -width)[::-1]
    return np.concatenate([down, np.arange(1000, TO + 1, width)])
