"""Values that a few rows lack, as they are proposed to be looked for."""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import Role
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal

ROLES: tuple[Role, ...] = ("date", "account", "party", "preparer", "approver", "document")
MOST_MISSING = 0.01
"""Share of the rows without a value up to which it is the exception to have none."""


def proposed_range(population: Population) -> Iterator[Proposal]:
    """Columns in a role that nearly every row fills."""
    table = population.table
    columns = [column for role in ROLES if (column := table.role(role)) is not None]
    if not columns or "amount" not in table.roles:
        return
    fields = [
        exp.alias_(sql.only(sql.count(), sql.is_missing(sql.column(c.name))), f"m{i}")
        for i, c in enumerate(columns)
    ]
    select = exp.select(exp.alias_(sql.count(), "rows"), *fields)
    row = population.query(population.used(select)).to_pylist()[0]
    lacking = [
        (c.name, row[f"m{i}"])
        for i, c in enumerate(columns)
        if 0 < (row[f"m{i}"] or 0) <= MOST_MISSING * row["rows"]
    ]
    if lacking and row["rows"] >= LEAST_OF_RULE:
        shown = ", ".join(f"{name} in {n:,}" for name, n in lacking)
        yield Proposal(
            f"values missing in {table.name}", {"required": [name for name, _ in lacking]},
            "What a complete entry has.",
            f"nearly every row has them, and a few do not: {shown}",
        )  # fmt: skip
