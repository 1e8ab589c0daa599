"""How many rows of a table break a rule that looks at other rows too."""

from __future__ import annotations

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree


def count_broken(population: Population, column: str, broken: Tree) -> tuple[int, int]:
    """Rows with a value in a column, and those that break the rule."""
    asked = exp.select(exp.alias_(broken, "broken"), exp.alias_(sql.column(column), "own"))
    fields = [
        exp.alias_(exp.Count(this=sql.column("own", "r")), "n"),
        exp.alias_(sql.only(sql.count(), sql.column("broken", "r")), "out"),
    ]
    select = exp.select(*fields).from_(population.used(asked).subquery("r"))
    (row,) = population.query(select).to_pylist()
    return int(row["n"]), int(row["out"])
