"""Matches that a case's links speak for: paid without attendance, one account on two masters."""

from __future__ import annotations

import re
from collections.abc import Iterator

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.nothing import states_nothing
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.proposal import Proposal, is_budget, met, settings_of

LONG = 8
"""Letters of a value from which two masters do not share it by chance."""
USUAL = 0.9
"""Share of those paid in a month who have a row elsewhere in it, from which to have none is odd."""
SINGULAR = 0.9
"""Share of distinct values from which a column is of each row's own."""
_ADDRESS = re.compile(
    r"addr|street|direcci|domicilio|calle|anschrift|adress|stra(?:ß|ss)e|\brue\b|indirizzo|endere|morada|osoite|adres",
    re.IGNORECASE,
)
_NO_ADDRESS = re.compile(r"mail|\bip\b|\bmac\b|web|url|wallet", re.IGNORECASE)

_POSTAL = re.compile(
    r"\bzip|plz|postal|post ?code|postleitzahl|\bcap\b|\bcp\b|\bcep\b|psč|irányítószám",
    re.IGNORECASE,
)
_TOWN = re.compile(
    r"\bcity|town|\bort\b|stadt|\bville\b|ciudad|localidad|poblaci|municip|comune|citt|cidade|plaats|gemeente|miasto",
    re.IGNORECASE,
)


def proposed_matches(population: Population) -> Iterator[Proposal]:
    """What two tables must, or must not, have in common."""
    table = population.table
    yield from _absent(population)
    yield from _without_attendance(population)
    yield from _beside_orders(population)
    if "amount" in table.roles or table.role("date") is not None:
        return
    for name, other in sorted(population.tables.items()):
        if name < table.name or "amount" in other.roles or other.role("date") is not None:
            continue
        for mine, theirs in _shared(population, other):
            own = name == table.name
            what, called = "twice" if own else f"among {name} too", " and ".join(mine)
            yield Proposal(
                f"{called} of {table.name} {what}",
                settings_of(
                    other=name, on=[quoted_name(each) for each in mine],
                    other_on=[] if mine == theirs else [quoted_name(each) for each in theirs],
                    find="present", keys="normalised",
                ),
                "Two names behind one thing that each should have alone.",
                f"values of {called} are each row's own, and some are met again",
            )  # fmt: skip


def _absent(population: Population) -> Iterator[Proposal]:
    """Rows whose party, or order, is not in the table that nearly all of them are found in."""
    table = population.table
    if "amount" not in table.roles or is_budget(table):
        return
    for column, link in sorted(table.links.items()):
        if link.table.name == table.name or is_budget(link.table):
            continue
        value = sql.column(column)
        stated = exp.Not(
            this=exp.paren(exp.or_(sql.is_missing(value), states_nothing(value.copy())))
        )
        rows = population.used(exp.select(exp.alias_(value.copy(), "key"))).where(stated)
        other = Population(population.engine, link.table, tables=population.tables)
        keys = other.used(exp.select(exp.alias_(sql.column(link.key), "key"))).distinct()
        n, found = met(population, rows, keys, ("key",))
        if 0 < n - found <= (1 - USUAL) * n:
            yield Proposal(
                f"{column} of {table.name} not in {link.table.name}",
                settings_of(
                    other=link.table.name, on=[quoted_name(column)],
                    other_on=[] if link.key == column else [quoted_name(link.key)],
                ),
                f"Rows of what {link.table.name} does not know.",
                f"{n - found:,} of {n:,} rows are not found there",
            )  # fmt: skip


def _without_attendance(population: Population) -> Iterator[Proposal]:
    """Who is paid in a month without a row of another dated table of the same people."""
    table = population.table
    party, date = table.role("party"), table.dated()
    if party is None or date is None or "amount" not in table.roles or is_budget(table):
        return
    master = table.links.get(party.name)
    if master is None:
        return
    for name, other in sorted(population.tables.items()):
        seen = other.dated()
        if name == table.name or "amount" in other.roles or seen is None:
            continue
        beside = Population(population.engine, other, tables=population.tables)
        for column, link in other.links.items():
            if link.table.name != master.table.name:
                continue
            if _is_usual(
                _by_month(population, party.name, date), _by_month(beside, column, seen), population
            ):
                yield Proposal(
                    f"{party.name} of {table.name} without {name}",
                    settings_of(
                        other=name, on=[quoted_name(party.name)], other_on=[quoted_name(column)],
                        when="month",
                    ),
                    f"Paid in a month without a row in {name}.",
                    f"both are linked with {master.table.name}, and dated",
                )  # fmt: skip


def _is_usual(mine: exp.Select, theirs: exp.Select, population: Population) -> bool:
    """Whether nearly all who are paid in a month have a row of the other table in it: else to have none is
    nothing to ask about."""
    n, found = met(population, mine, theirs, ("who", "month"))
    return found >= USUAL * n > 0


def _by_month(population: Population, who: str, date: Column) -> exp.Select:
    """Everybody with the months in which they have a row."""
    month = sql.period(sql.column(date.name), "month", population.table.fiscal_year_starts)
    names = exp.alias_(sql.column(who), "who"), exp.alias_(month, "month")
    missing = exp.Not(this=sql.is_missing(sql.column(who)))
    return population.used(exp.select(*names)).where(missing).distinct()


def _beside_orders(population: Population) -> Iterator[Proposal]:
    """Invoices whose order is known, where receipts of the same orders are there too."""
    table = population.table
    if not {"quantity", "amount"} <= table.roles.keys() or is_budget(table):
        return
    for column, orders in sorted(table.links.items()):
        told = orders.table.roles.keys()
        if "quantity" not in told or not {"amount", "price"} & told:
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


Key = tuple[str, ...]
"""Columns that are met together: one, or an address and its place."""


def _shared(population: Population, other: Table) -> Iterator[tuple[Key, Key]]:
    """Columns of each row's own of which two rows, of one master or two, share a value."""
    table = population.table
    identity = {c.name for c in (table.role("id"), other.role("id")) if c is not None}
    mine = _singular(population, table, identity)
    theirs = mine if other.name == table.name else _singular(population, other, identity)
    # A street and number is one of many towns: with its place where both name theirs.
    placed = any(len(k) > 1 for k in mine) and any(len(k) > 1 for k in theirs)
    for one, values in mine.items():
        for two, others in theirs.items():
            if len(one) != len(two) or (placed and len(one) == 1 and _is_address(one[0])):
                continue
            if other.name == table.name:
                if one == two and len(set(values)) < len(values):
                    yield one, one
            elif set(values) & set(others):
                yield one, two


def _is_address(name: str) -> bool:
    return _ADDRESS.search(name) is not None and not _NO_ADDRESS.search(name)


def _place_of(table: Table) -> str | None:
    """The column of a table that tells the place of its addresses, the postal code before the town."""
    for called in (_POSTAL, _TOWN):
        for column in table.columns:
            if column.type in ("text", "number") and called.search(column.name):
                return column.name
    return None


def _singular(population: Population, table: Table, without: set[str]) -> dict[Key, list[str]]:
    """Long texts that nearly every row has for itself, normalised, by their columns."""
    from sabueso.stats.alike import normalised

    found: dict[Key, list[str]] = {}
    own = Population(population.engine, table, tables=population.tables)
    place = _place_of(table)
    for column in table.columns:
        if column.type != "text" or column.name in without or column.is_place:
            continue
        value = sql.column(column.name)
        stated = exp.Not(this=exp.paren(states_nothing(value)))
        address = _is_address(column.name)
        beside = place if address and place != column.name else None
        fields: dict[str, Tree] = {"v": value.copy()}
        if beside is not None:
            fields["place"] = sql.cast(sql.column(beside), "TEXT")
        select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
        rows = own.query(own.used(select).where(stated).limit(200_000)).to_pydict()
        texts = rows["v"]
        # A name is many words; what tells one from all others is mostly digits, or where somebody lives.
        least = 0.0 if address else 0.5
        digits = sum(sum(c.isdigit() for c in v) > least * len(v.replace(" ", "")) for v in texts)
        alone = [normalised(v) for v in texts]
        keys: dict[Key, list[str]] = {(column.name,): alone}
        if beside is not None:
            places = (normalised(each or "") for each in rows["place"])
            keys[column.name, beside] = [" ".join(each) for each in zip(alone, places, strict=True)]
        for key, folded in keys.items():
            long = [v for v in folded if len(v) >= LONG]
            own_each = folded and len(set(folded)) >= SINGULAR * len(folded)
            if own_each and min(digits, len(long)) > 0.8 * len(folded):
                found[key] = long
    return found
