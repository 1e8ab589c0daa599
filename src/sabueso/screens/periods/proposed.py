"""Comparisons of periods, as they are proposed: the last two years, and a budget where there is one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_codes
from sabueso.screens.proposal import Proposal, is_budget, settings_of

PERCENT, PRICE_PERCENT = "20", "10"
AGAIN, MOST_SEEN = 1.5, 20_000
"""Rows that each must have on average for its years to be compared, by so many of the first rows."""
COVERED = 0.9
"""Share of a budget's accounts that a table has, from which the two are compared."""


def proposed_periods(population: Population, years: Sequence[int]) -> Iterator[Proposal]:
    """Account totals of the last two years, and of the last against the budget."""
    table = population.table
    account = table.role("account") or table.role("party")
    if account is None or "amount" not in table.roles or is_budget(table):
        return
    if not _come_again(population, account):
        return  # a list of those who were taken on in some years
    if len(years) >= 2:
        base, current = years[-2:]
        quantity = table.role("quantity")
        yield Proposal(
            f"{account.name} totals of {table.name}, by year",
            settings_of(
                per=[account.name], base=str(base), current=str(current), percent_limit=PERCENT,
                quantity=None if quantity is None else quantity.name,
            ),
            "Accounts that moved by more than trade explains.",
            f"two years of each {account.name}; small changes, a twentieth of all together, are left out",
            tuned=True,
        )  # fmt: skip
        if quantity is not None:
            yield Proposal(
                f"price per {quantity.name} of {table.name} by {account.name}",
                settings_of(
                    per=[account.name], base=str(base), current=str(current),
                    percent_limit=PRICE_PERCENT, quantity=quantity.name, flag_by="rate",
                ),
                f"Prices per {quantity.name} that moved, however much was bought.",
                f"rows with a {quantity.name}; small changes, a twentieth of all together, are left out",
                tuned=True,
            )  # fmt: skip
        party = table.role("party")
        if party is not None and party.name != account.name:
            yield Proposal(
                f"{table.name} of a {party.name} moved to another {account.name}",
                settings_of(
                    per=[party.name, account.name], base=str(base), current=str(current),
                    percent_limit=PERCENT, flag_by="moved",
                ),
                f"What was booked on one {account.name} of a {party.name}, and is on a new one since.",
                f"two years, with a {party.name} and a {account.name} of each row",
                tuned=True,
            )  # fmt: skip
    budget = _budget_of(population) if years else None
    if budget is not None:
        yield Proposal(
            f"{account.name} totals of {table.name} against {budget.name}",
            settings_of(
                per=[account.name], against=budget.name, current=str(years[-1]),
                percent_limit=PERCENT,
            ),
            f"What {budget.name} did not foresee.",
            f"{budget.name} has the same {account.name}; small differences, a twentieth of all together, are left out",
            tuned=True,
        )  # fmt: skip


def _come_again(population: Population, account: Column) -> bool:
    """Whether accounts, or parties, have several rows each on average."""
    codes = first_codes(population, [account.name], MOST_SEEN)[account.name]
    known = codes[codes >= 0]
    return bool(len(known)) and len(known) >= AGAIN * (int(known.max()) + 1)


def proposed_months(population: Population) -> Iterator[Proposal]:
    """Of figures by the month, the latest against the month before."""
    table = population.table
    account = table.role("account")
    if account is None or "amount" not in table.roles or is_budget(table):
        return
    yield Proposal(
        f"{account.name} of {table.name}, latest month against the one before",
        settings_of(
            per=[account.name], base="prior", current="latest-month", percent_limit=PERCENT
        ),
        "What moved since the report of the month before.",
        f"one figure of each {account.name} for each month; small changes, a twentieth of all together, are left "
        "out",
        tuned=True,
    )


def _budget_of(population: Population) -> Table | None:
    """Another table of amounts by account and date whose name, or whose measure's, is a budget's."""
    account = population.table.role("account")
    for name, other in sorted(population.tables.items()):
        amount, key = other.role("amount"), other.role("account")
        if name == population.table.name or account is None or amount is None or key is None:
            continue
        dated = other.role("date") is not None
        if is_budget(other) and dated and _covers(population, account, other, key):
            return other
    return None


def _covers(population: Population, account: Column, budget: Table, key: Column) -> bool:
    """Whether the table has nearly every account that a budget foresees: of one that holds a part of the
    books the rest would seem to have ceased."""
    own = population.used(exp.select(sql.column(account.name))).distinct()
    known = exp.In(this=sql.column("k", "b"), query=own.subquery())
    each = exp.select(exp.alias_(sql.column(key.name), "k")).from_(
        exp.Table(this=exp.to_identifier(budget.name, quoted=True))
    ).distinct().subquery("b")  # fmt: skip
    found = population.query(exp.select(exp.alias_(sql.count(), "n")).from_(each).where(known))
    every = population.query(exp.select(exp.alias_(sql.count(), "n")).from_(each.copy()))
    return bool(found.column("n")[0].as_py() >= COVERED * every.column("n")[0].as_py())
