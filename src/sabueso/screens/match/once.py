"""What has one row a day, or a month, as it is proposed: who or what nearly never has a second one in it."""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of

ONCE, FEW = 0.99, 10
"""Share of the rows that are alone in their day or month, and how many may not be however few rows there are."""
OF_CHANCE = 0.1
"""Share, of the pairs that rows on any days would make, up to which one a day is the rule."""
MOST_COLUMNS = 4


def proposed_once(population: Population) -> Iterator[Proposal]:
    """A second fill of a vehicle on one day, a second wage of somebody in one month."""
    table = population.table
    date = table.dated()
    if date is None or "amount" not in table.roles or is_budget(table):
        return
    if population.account(None).used < LEAST_ROWS:
        return
    for column in _whose(table):
        # A supplier may well be paid, or ordered from, twice on a day.
        for part in ("month",) if column == table.roles.get("party") else ("month", "day"):
            found = _alone(population, column, date, part)
            if found is None:
                continue
            n, more = found
            yield Proposal(
                f"{column} of {table.name} twice in a {part}",
                settings_of(other=table.name, on=[quoted_name(column)], when=part, find="present"),
                f"Nearly each has one row in a {part}, and some have more.",
                f"{more:,} of {n:,} rows are not alone in their {part}",
            )
            break


def _whose(table: Table) -> list[str]:
    """The party, and what rows name in other tables."""
    party = table.roles.get("party")
    named = [
        column for column, link in sorted(table.links.items()) if link.table.name != table.name
    ]
    return list(dict.fromkeys([*([party] if party else []), *named]))[:MOST_COLUMNS]


def _alone(population: Population, column: str, date: Column, part: str) -> tuple[int, int] | None:
    """Rows, and how many of them are not alone in their day or month, where that is the exception; None where it is
    not, or comes of rows being few."""
    key, when = sql.column(column), sql.column(date.name)
    period: Tree = sql.cast(when, "DATE")
    if part != "day":
        period = sql.period(when, part, population.table.fiscal_year_starts)
    named = {"who": key, "period": period}
    each = exp.select(*(exp.alias_(tree, name) for name, tree in named.items()))
    known = [exp.Not(this=sql.is_missing(tree.copy())) for tree in (key, when)]
    rows = population.used(each).where(sql.both(known)).subquery("r")
    cells = exp.select(sql.column("who", "r"), exp.alias_(sql.count(), "n")).from_(rows)
    cells = cells.group_by(sql.column("who", "r"), sql.column("period", "r"))
    n = sql.column("n", "c")
    several = exp.GT(this=n.copy(), expression=sql.integer(1))
    pairs = exp.Mul(
        this=n.copy(), expression=exp.paren(exp.Sub(this=n.copy(), expression=sql.integer(1)))
    )
    fields = {"n": n.copy(), "more": exp.Case().when(several, n.copy()), "pairs": pairs}
    by_whom = exp.select(
        sql.column("who", "c"), *(exp.alias_(exp.Sum(this=t), k) for k, t in fields.items())
    )
    by_whom = by_whom.from_(cells.subquery("c")).group_by(sql.column("who", "c"))
    own = sql.cast(sql.column("n", "w"), "DOUBLE")
    could = exp.Mul(
        this=own, expression=exp.paren(exp.Sub(this=own.copy(), expression=sql.integer(1)))
    )
    total = {
        "n": sql.column("n", "w"), "more": sql.column("more", "w"),
        "pairs": sql.column("pairs", "w"), "could": could,
    }  # fmt: skip
    select = exp.select(*(exp.alias_(exp.Sum(this=tree), name) for name, tree in total.items()))
    (row,) = population.query(select.from_(by_whom.subquery("w"))).to_pylist()
    if not row["more"]:
        return None
    spans = exp.select(exp.alias_(exp.Count(this=exp.Distinct(expressions=[period.copy()])), "n"))
    (span,) = population.query(population.used(spans)).to_pylist()
    rows_, more = int(row["n"]), int(row["more"])
    expected = float(row["could"]) / max(int(span["n"]), 1)
    few = more <= max(FEW, (1 - ONCE) * rows_)
    return (rows_, more) if few and float(row["pairs"]) <= OF_CHANCE * expected else None
