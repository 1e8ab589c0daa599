"""Who prepares the entries of a table."""

from __future__ import annotations

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import Column

MOST_APPROVERS = 10_000
PARTIES = 0.5
"""Share of the approvers that are parties themselves from which the parties hand the entries in, as claims are."""


def preparer_of(population: Population) -> Column | None:
    """The role preparer; else the party, where those who approve are parties too: an employee who claims expenses."""
    table = population.table
    preparer, party, approver = (table.role(r) for r in ("preparer", "party", "approver"))
    if preparer is not None or party is None or approver is None:
        return preparer
    if party.type != "text" or approver.type != "text":
        return None
    approvers = population.used(exp.select(exp.alias_(sql.column(approver.name), "a")))
    approvers = approvers.where(exp.Not(this=sql.is_missing(sql.column(approver.name)))).distinct()
    parties = population.used(exp.select(exp.alias_(sql.column(party.name), "p"))).distinct()
    same = exp.EQ(this=sql.column("a", "x"), expression=sql.column("p", "y"))
    there = exp.Not(this=sql.is_missing(sql.column("p", "y")))
    fields = [exp.alias_(sql.count(), "n"), exp.alias_(sql.only(sql.count(), there), "met")]
    select = exp.select(*fields).from_(approvers.limit(MOST_APPROVERS).subquery("x"))
    select = select.join(parties.subquery("y"), on=same, join_type="left")
    (row,) = population.query(select).to_pylist()
    return party if 0 < row["n"] < MOST_APPROVERS and row["met"] >= PARTIES * row["n"] else None
