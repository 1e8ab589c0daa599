"""What has one row a day, or a month, as it is proposed: who or what nearly never has a second one in it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of

ONCE, FEW = 0.99, 10
"""Share of the rows that are alone in their day or month, and how many may not be however few rows there are."""
OF_CHANCE = 0.1
"""Share, of the pairs that rows on any days would make, up to which one a day is the rule."""
MOST_COLUMNS = 4


def proposed_once(population: Population) -> Iterator[Proposal]:
    """A second fill of a vehicle on one day, a second wage of somebody in one month."""
    table = population.table
    date = table.dated()
    if date is None or is_budget(table):
        return
    if population.account(None).used < LEAST_OF_RULE:
        return
    singles = _whose(table)
    party = table.roles.get("party")
    told = False
    for column in singles:
        # A supplier may well be paid, or ordered from, twice on a day.
        for part in ("month",) if column == party and "amount" in table.roles else ("month", "day"):
            proposal = _of(population, [column], date, part)
            if proposal is not None:
                told = True
                yield proposal
                break
    # What is alone by itself is so with another as well.
    if party is None or told:
        return
    for column in singles:
        proposal = None if column == party else _of(population, [party, column], date, "day")
        if proposal is not None:
            yield proposal
            return


def _of(population: Population, columns: Sequence[str], date: Column, part: str) -> Proposal | None:
    found = _alone(population, columns, date, part)
    if found is None:
        return None
    n, more = found
    table = population.table
    return Proposal(
        f"{' and '.join(columns)} of {table.name} twice in a {part}",
        settings_of(other=table.name, on=[*map(quoted_name, columns)], when=part, find="present"),
        f"Nearly each has one row in a {part}, and some have more.",
        f"{more:,} of {n:,} rows are not alone in their {part}",
    )


def _whose(table: Table) -> list[str]:
    """The party, and what rows name in other tables."""
    party = table.roles.get("party")
    named = [
        column for column, link in sorted(table.links.items()) if link.table.name != table.name
    ]
    return list(dict.fromkeys([*([party] if party else []), *named]))[:MOST_COLUMNS]


def _alone(
    population: Population, columns: Sequence[str], date: Column, part: str
) -> tuple[int, int] | None:
    """Rows, and how many of them are not alone in their day or month, where that is the exception; None where it is
    not, or comes of rows being few."""
    keys, when = [sql.column(column) for column in columns], sql.column(date.name)
    period: Tree = sql.cast(when, "DATE")
    if part != "day":
        period = sql.period(when, part, population.table.fiscal_year_starts)
    named = {**{f"who{i}": key for i, key in enumerate(keys)}, "period": period}
    each = exp.select(*(exp.alias_(tree, name) for name, tree in named.items()))
    known = [exp.Not(this=sql.is_missing(tree.copy())) for tree in (*keys, when)]
    rows = population.used(each).where(sql.both(known)).subquery("r")
    whose = [f"who{i}" for i in range(len(keys))]
    cells = exp.select(
        *(sql.column(name, "r") for name in whose), exp.alias_(sql.count(), "n")
    ).from_(rows)
    cells = cells.group_by(*(sql.column(name, "r") for name in named))
    n = sql.column("n", "c")
    several = exp.GT(this=n.copy(), expression=sql.integer(1))
    pairs = exp.Mul(
        this=n.copy(), expression=exp.paren(exp.Sub(this=n.copy(), expression=sql.integer(1)))
    )
    fields = {"n": n.copy(), "more": exp.Case().when(several, n.copy()), "pairs": pairs}
    by_whom = exp.select(*(exp.alias_(exp.Sum(this=t), k) for k, t in fields.items()))
    by_whom = by_whom.from_(cells.subquery("c")).group_by(*(sql.column(k, "c") for k in whose))
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
    # What would be had each row been of any of them: pairs of one period, times how often two rows are of one.
    each_day = sql.column("n", "d")
    others = exp.paren(exp.Sub(this=each_day.copy(), expression=sql.integer(1)))
    at_once = exp.Mul(this=each_day, expression=others)
    periods = exp.select(exp.alias_(sql.count(), "n")).from_(rows.copy())
    periods = periods.group_by(sql.column("period", "r"))
    paired = exp.select(exp.alias_(exp.Sum(this=at_once), "pairs")).from_(periods.subquery("d"))
    (all_,) = population.query(paired).to_pylist()
    rows_, more = int(row["n"]), int(row["more"])
    expected = float(row["could"]) * float(all_["pairs"]) / max(rows_ * (rows_ - 1), 1)
    few = more <= max(FEW, (1 - ONCE) * rows_)
    return (rows_, more) if few and float(row["pairs"]) <= OF_CHANCE * expected else None
