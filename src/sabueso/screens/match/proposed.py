"""Matches that a case's links speak for: paid without attendance, one account on two masters."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role, Table
from sabueso.screens.match.absent import proposed_absent
from sabueso.screens.match.dated import proposed_dated
from sabueso.screens.match.during import proposed_during
from sabueso.screens.match.either import proposed_either
from sabueso.screens.match.further import proposed_further
from sabueso.screens.match.lists import proposed_lists
from sabueso.screens.match.of_kinds import proposed_of_kinds_told
from sabueso.screens.match.once import proposed_once
from sabueso.screens.match.persons import proposed_persons
from sabueso.screens.match.shared import proposed_shared
from sabueso.screens.match.singular import Key, is_address, singular
from sabueso.screens.match.spellings import proposed_spellings
from sabueso.screens.match.two_ways import proposed_two_ways
from sabueso.screens.match.unnamed import proposed_unnamed
from sabueso.screens.proposal import Proposal, few_of, is_budget, met, settings_of

REGULAR = 0.4
"""Share of all months in which those who are paid are so, on average, from which it is month by month."""
TIMES_CHANCE, SPARSE = 5, 20
"""How many times as many numbers must be met again as would be by chance, and room for how many there is for each where they
are not numbered one after another."""
USUAL = 0.9
"""Share of those paid in a month who have a row elsewhere in it, from which to have none is odd."""


def proposed_matches(population: Population) -> Iterator[Proposal]:
    """What two tables must, or must not, have in common."""
    table = population.table
    yield from proposed_absent(population)
    yield from proposed_further(population)
    yield from proposed_either(population)
    yield from proposed_two_ways(population)
    yield from proposed_of_kinds_told(population)
    yield from proposed_shared(population)
    yield from proposed_unnamed(population)
    yield from _without_attendance(population)
    yield from proposed_during(population)
    yield from proposed_dated(population)
    yield from proposed_lists(population)
    yield from _beside_orders(population)
    yield from proposed_once(population)
    yield from proposed_persons(population)
    yield from proposed_spellings(population)
    if not _is_master(population, table):
        yield from _twice_in_a_ledger(population)
        return
    for name, other in sorted(population.tables.items()):
        if name < table.name or not _is_master(population, other):
            continue
        for mine, theirs in _shared(population, other):
            own = name == table.name
            what, called = "twice" if own else f"among {name} too", " and ".join(mine)
            because = f"values of {called} are each row's own, and some are met again"
            yield _met_again(f"{called} of {table.name} {what}", name, mine, theirs, because)


def _met_again(name: str, other: str, mine: Key, theirs: Key, because: str) -> Proposal:
    """Rows of which another has what each should have alone."""
    return Proposal(
        name,
        settings_of(
            other=other, on=[quoted_name(each) for each in mine],
            other_on=[] if mine == theirs else [quoted_name(each) for each in theirs],
            find="present", keys="normalised",
        ),
        "Two names behind one thing that each should have alone.",
        because,
    )  # fmt: skip


def _twice_in_a_ledger(population: Population) -> Iterator[Proposal]:
    """Of rows that each are of somebody else, such as loans, where two live at one address, or have one account."""
    table = population.table
    if is_budget(table):
        return
    roles: tuple[Role, ...] = ("id", "document", "text")
    own = {table.roles[role] for role in roles if role in table.roles}
    found = singular(population, table, own | set(table.links))
    placed = any(len(key) > 1 for key in found)
    for key, values in found.items():
        again, where = len(values) - len(set(values)), is_address(key[0])
        if placed and len(key) == 1 and where:
            continue
        chance = 0.0 if where else _met_by_chance(values)
        if not TIMES_CHANCE * chance < again <= few_of(len(values)):
            continue
        called = " and ".join(key)
        because = f"values of {called} are nearly each row's own, and {again:,} are met again"
        yield _met_again(f"{called} of {table.name} twice", table.name, key, key, because)


def _met_by_chance(values: Sequence[str]) -> float:
    """How many of some numbers would be met again if they were any between the least and the greatest; of those that lie
    closer, one after another, none."""
    figures = [int("".join(filter(str.isdigit, value)) or 0) for value in values]
    room = max(figures) - min(figures) + 1
    return len(values) ** 2 / 2 / room if room > SPARSE * len(values) else 0.0


def _is_master(population: Population, table: Table) -> bool:
    """Whether a table lists what others name: it has no amounts, and no days but those of a list, on which somebody
    was taken on."""
    if "amount" in table.roles:
        return False
    if table.role("date") is None:
        return True
    named = any(
        link.table.name == table.name
        for name, each in population.tables.items()
        if name != table.name
        for link in each.links.values()
    )
    # It may name what is in lists, such as a tariff, and nothing that happened.
    return named and all(
        link.table.name == table.name or link.table.role("date") is None
        for link in table.links.values()
    )


def _without_attendance(population: Population) -> Iterator[Proposal]:
    """Who is paid in a month, or recorded rows on a day, without a row of another dated table of the same people."""
    table = population.table
    date = table.dated()
    if date is None or "amount" not in table.roles or is_budget(table):
        return
    party, preparer = table.role("party"), table.role("preparer")
    if party is not None:
        said = "Paid in a month without a row in {}."
        yield from _without_rows(population, party, date, "month", said)
    if preparer is not None:
        said = "Rows of somebody who has no row in {} that day."
        yield from _without_rows(population, preparer, date, "day", said)


def _without_rows(
    population: Population, who: Column, date: Column, unit: str, said: str
) -> Iterator[Proposal]:
    """Somebody's rows in a month, or on a day, in which another table of the same people has none of theirs."""
    table = population.table
    master = table.links.get(who.name)
    if master is None:
        return
    for name, other in sorted(population.tables.items()):
        seen = other.dated()
        if name == table.name or "amount" in other.roles or seen is None:
            continue
        beside = population.beside(other)
        for column, link in other.links.items():
            if link.table.name != master.table.name:
                continue
            mine = _by_time(population, who.name, date, unit)
            if unit == "month" and not _is_regular(mine, population):
                continue
            theirs = _by_time(beside, column, seen, unit)
            if not _is_covered(mine, theirs, population):
                continue
            if _is_usual(mine, theirs, population):
                yield Proposal(
                    f"{who.name} of {table.name} without {name}",
                    settings_of(
                        other=name, on=[quoted_name(who.name)], other_on=[quoted_name(column)],
                        when=unit,
                    ),
                    said.format(name),
                    f"both are linked with {master.table.name}, and dated",
                )  # fmt: skip


def _is_usual(mine: exp.Select, theirs: exp.Select, population: Population) -> bool:
    """Whether nearly all who are paid in a month have a row of the other table in it: else to have none is
    nothing to ask about."""
    n, found = met(population, mine, theirs, ("who", "time"))
    return found >= USUAL * n > 0


def _is_covered(mine: exp.Select, theirs: exp.Select, population: Population) -> bool:
    """Whether the other table has a row of somebody in each month, or on each day: else it does not go so far."""
    own, other = (
        exp.select(sql.column("time", "t")).from_(each.subquery("t")).distinct()
        for each in (mine, theirs)
    )
    n, found = met(population, own, other, ("time",))
    return found == n


def _is_regular(mine: exp.Select, population: Population) -> bool:
    """Whether people are paid in most months, as staff are: whoever is so now and then may have been served, or have
    delivered, in the month before."""
    fields = [exp.alias_(sql.count(), "n")]
    fields += [
        exp.alias_(exp.Count(this=exp.Distinct(expressions=[sql.column(name, "p")])), name)
        for name in ("who", "time")
    ]
    (row,) = population.query(exp.select(*fields).from_(mine.subquery("p"))).to_pylist()
    return int(row["n"]) >= REGULAR * int(row["who"]) * int(row["time"])


def _by_time(population: Population, who: str, date: Column, unit: str) -> exp.Select:
    """Everybody with the months, or days, in which they have a row."""
    if unit == "day":
        time: Tree = sql.cast(sql.column(date.name), "DATE")
    else:
        time = sql.period(sql.column(date.name), unit, population.table.fiscal_year_starts)
    names = exp.alias_(sql.column(who), "who"), exp.alias_(time, "time")
    missing = exp.Not(this=sql.is_missing(sql.column(who)))
    return population.used(exp.select(*names)).where(missing).distinct()


def _beside_orders(population: Population) -> Iterator[Proposal]:
    """Invoices whose order is known, where receipts of the same orders are there too."""
    table = population.table
    if not {"quantity", "amount"} <= table.roles.keys() or is_budget(table):
        return
    for column, orders in sorted(table.links.items()):
        told = orders.table.roles.keys()
        # What is ordered is so on some day; a list of articles, with what each weighs, has none.
        if not {"quantity", "date"} <= told or not {"amount", "price"} & told:
            continue
        for name, receipts in sorted(population.tables.items()):
            if name in (table.name, orders.table.name) or "amount" in receipts.roles:
                continue
            theirs = [
                c for c, link in receipts.links.items() if link.table.name == orders.table.name
            ]
            if theirs and "quantity" in receipts.roles:
                yield Proposal(
                    f"{table.name} beside {orders.table.name} and {name}",
                    settings_of(
                        other=orders.table.name, receipts=name, on=[quoted_name(column)],
                        other_on=[quoted_name(orders.key)], receipts_on=[quoted_name(theirs[0])],
                    ),
                    "More is invoiced than was ordered or came, or at a higher price.",
                    f"each row names its order, and {name} name theirs",
                )  # fmt: skip


def _shared(population: Population, other: Table) -> Iterator[tuple[Key, Key]]:
    """Columns of each row's own of which two rows, of one master or two, share a value."""
    table = population.table
    identity = {c.name for c in (table.role("id"), other.role("id")) if c is not None}
    mine = singular(population, table, identity)
    theirs = mine if other.name == table.name else singular(population, other, identity)
    # A street and number is one of many towns: with its place where both name theirs.
    placed = any(len(k) > 1 for k in mine) and any(len(k) > 1 for k in theirs)
    for one, values in mine.items():
        for two, others in theirs.items():
            if len(one) != len(two) or (placed and len(one) == 1 and is_address(one[0])):
                continue
            if other.name == table.name:
                if one == two and len(set(values)) < len(values):
                    yield one, one
            elif set(values) & set(others):
                yield one, two
