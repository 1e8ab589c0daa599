"""Who prepares the entries of a table."""

from __future__ import annotations

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.proposal import met

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
    named = exp.Not(this=sql.is_missing(sql.column(approver.name)))
    approvers = population.used(exp.select(exp.alias_(sql.column(approver.name), "who")))
    parties = population.used(exp.select(exp.alias_(sql.column(party.name), "who"))).distinct()
    some = approvers.where(named).distinct().limit(MOST_APPROVERS)
    n, found = met(population, some, parties, ("who",))
    return party if 0 < n < MOST_APPROVERS and found >= PARTIES * n else None
