"""What is proposed to be computed again: what holds for nearly every row of a table, and the terms of the plan."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations
from typing import TYPE_CHECKING

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import HEADING, Column, Table
from sabueso.screens.proposal import LEAST_ROWS, Proposal, settings_of
from sabueso.screens.recompute.products import Comparison, balances, products, wide

if TYPE_CHECKING:
    from sabueso.stats.description import Description

MOST_TRIED, MOST_ADDED = 4, 6
"""Columns that are tried for a balance, and for one that is the sum of two others."""
HOLDS = 0.9
"""Share of rows for which a product must hold to be proposed."""


def proposed_recomputations(
    population: Population, described: Description | None
) -> Iterator[Proposal]:
    """Instalments by the terms of the plan, products, balances that run, and sums of two columns."""
    table = population.table
    for name in loans_of(table):
        yield Proposal(
            f"instalments of {table.name} by the terms of {name}",
            settings_of(what="instalments", terms=name),
            "Instalments that are not those of the terms.",
            f"the terms of {name} stand in the plan",
        )
    quantity, price, amount = (table.role(r) for r in ("quantity", "price", "amount"))
    if amount is not None and described is not None:
        yield from _running(population, amount)
        yield from _sums(population, amount)
    if quantity is None or price is None or amount is None or described is None:
        return
    found = products(population, amount, None, None)
    if found.checked >= LEAST_ROWS and found.differing <= (1 - HOLDS) * found.checked:
        yield Proposal(
            f"{quantity.name} times {price.name} of {table.name}",
            settings_of(what="product"),
            "Amounts that are not their quantity times their price.",
            f"it holds for {found.checked - found.differing:,} of {found.checked:,} rows",
        )


def _running(population: Population, amount: Column) -> Iterator[Proposal]:
    """Numbers beside the amounts that are what an account stands at after each row, of all rows, by account or
    under each heading: as they hold for the most."""
    table = population.table
    used = set(table.roles.values())
    others = [c for c in table.columns if c.type == "number" and c.name not in used]
    account = table.role("account")
    owners = [account.name] if account is not None else []
    owners += [c.name for c in table.columns if c.name == HEADING and c.name not in owners]
    for column in (c for c in others[:MOST_TRIED] if c.scale == amount.scale):
        best: tuple[Comparison, list[str]] | None = None
        for per in ([], *([quoted_name(name)] for name in owners)):
            found, _ = balances(population, amount, column, per, None)
            if best is None or found.differing < best[0].differing:
                best = found, per
            if not best[0].differing:
                break
        assert best is not None
        found, per = best
        if found.checked >= LEAST_ROWS and found.differing <= (1 - HOLDS) * found.checked:
            yield Proposal(
                f"{column.name} of {table.name} carried forward",
                settings_of(what="balance", balance=column.name, per=per or None),
                "Balances that do not follow from the one before: rows left out, put in or altered.",
                f"it holds for {found.checked - found.differing:,} of {found.checked:,} rows",
            )


def _sums(population: Population, amount: Column) -> Iterator[Proposal]:
    """Amounts of a row that are the sum of two others, such as net, tax and gross."""
    table = population.table
    # What was made of two columns is their sum by its making.
    made = {each.column.name for each in table.derived}
    made |= {amount.name} if {"debit", "credit"} <= table.roles.keys() else set()
    names = [
        c.name
        for c in table.columns
        if c.type == "number" and c.scale == amount.scale and c.scale and c.name not in made
    ][:MOST_ADDED]
    triples = [
        (whole, one, other)
        for one, other in combinations(names, 2)
        for whole in names
        if whole not in (one, other)
    ]
    if not triples:
        return
    fields = []
    for place, (whole, one, other) in enumerate(triples):
        kind = wide(amount)
        exact = {name: sql.cast(sql.column(name), kind) for name in (whole, one, other)}
        both = [exp.NEQ(this=sql.column(name), expression=sql.integer(0)) for name in (one, other)]
        same = exp.EQ(
            this=exact[whole], expression=exp.Add(this=exact[one], expression=exact[other])
        )
        known = exp.Not(this=sql.is_missing(exp.paren(same.copy())))
        # That a column is another where the third is nothing makes no sum of them; nor are they one that
        # only holds where all three are something.
        counted = {
            "all": known, "held": same, "both": exp.and_(*both), "same": exp.and_(*both, same),
        }  # fmt: skip
        fields += [
            exp.alias_(sql.only(sql.count(), condition.copy()), f"{name}{place}")
            for name, condition in counted.items()
        ]
    row = population.query(population.used(exp.select(*fields))).to_pylist()[0]
    best = max(range(len(triples)), key=lambda place: row[f"same{place}"])
    n, holding, both_there, alike = (row[f"{k}{best}"] for k in ("all", "held", "both", "same"))
    if both_there >= LEAST_ROWS and alike >= HOLDS * both_there and holding >= HOLDS * n:
        whole, one, other = triples[best]
        yield Proposal(
            f"{whole} of {population.table.name} is {one} and {other}",
            settings_of(
                what="product", on=whole, expect=f"{quoted_name(one)} + {quoted_name(other)}"
            ),
            f"Rows whose {whole} is not what it is made of.",
            f"it holds for {holding:,} of {n:,} rows, in {both_there:,} of which both are something",
        )


def loans_of(table: Table) -> list[str]:
    """Names of facts that are terms of a loan whose instalments a table has: called as the table is, or
    naming it."""
    groups = {name.rpartition(".")[0] for name in table.facts if "." in name}
    found = []
    for name in sorted(groups):
        facts = {
            k.removeprefix(f"{name}."): v
            for k, v in table.facts.items()
            if k.startswith(f"{name}.")
        }
        terms = {"principal", "rate", "periods"} & set(facts)
        if len(terms) >= 2 and facts.get("table", name) == table.name:
            found.append(name)
    return found if table.dated() is not None and "amount" in table.roles else []
