"""Matches that a case's links speak for: paid without attendance, one account on two masters."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

import sqlglot.expressions as exp

from sabueso.base.words import listed
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
SURELY = 0.99
"""Share of rows that tell the same as the table they are linked with, from which to tell something else is odd."""
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
    if not _is_master(population, table):
        return
    for name, other in sorted(population.tables.items()):
        if name < table.name or not _is_master(population, other):
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
    return named and all(link.table.name == table.name for link in table.links.values())


def _absent(population: Population) -> Iterator[Proposal]:
    """Rows whose party, or order, is not in the table that nearly all of them are found in, or of which that table
    tells something else than they do."""
    table = population.table
    if "amount" not in table.roles or is_budget(table):
        return
    for other, link in _linked_tables(table):
        if is_budget(other):
            continue
        n, known = _met_keys(population, other, {link: table.links[link].key})
        if n == 0 or known < USUAL * n:
            continue
        told = _told_by_both(population, link, n)
        keys = {link: table.links[link].key, **told}
        rows, found = _met_keys(population, other, keys) if told else (n, known)
        on, at = [[quoted_name(each) for each in side] for side in (keys, keys.values())]
        settings = settings_of(other=other.name, on=on, other_on=[] if at == on else at)
        if told and rows - found > n - known:
            yield Proposal(
                f"{listed(list(told))} of {table.name} other than in {other.name}",
                settings,
                f"Rows of what {other.name} does not know, or knows otherwise by {link}.",
                f"{rows - found:,} of {rows:,} rows are not found there as they are",
            )
        elif known < n:
            settings["on"], settings["other_on"] = on[:1], [] if at[:1] == on[:1] else at[:1]
            yield Proposal(
                f"{link} of {table.name} not in {other.name}",
                settings_of(**settings),
                f"Rows of what {other.name} does not know.",
                f"{n - known:,} of {n:,} rows are not found there",
            )


def _linked_tables(table: Table) -> Iterator[tuple[Table, str]]:
    """Other tables with the column by which rows name a row of theirs: the party, or what tells their rows apart."""
    named: dict[str, list[str]] = {}
    for column, link in table.links.items():
        if link.table.name != table.name:
            named.setdefault(link.table.name, []).append(column)
    for columns in named.values():
        other = table.links[columns[0]].table

        def rank(column: str, other: Table = other) -> tuple[bool, bool, str]:
            key = other.role("id") or other.role("party")
            first = key is not None and table.links[column].key == key.name
            return column != table.roles.get("party"), not first, column

        yield other, min(columns, key=rank)


def _told_by_both(population: Population, link: str, n: int) -> dict[str, str]:
    """What rows and the table they are linked with both tell, each with its column there, where nearly all rows tell
    the same: fewer may of what each there has alone, such as a bank account."""
    table = population.table
    other, key = table.links[link].table, table.links[link].key
    alone = {name for names in _singular(population, other, {key}) for name in names}
    told: dict[str, str] = {}
    for own, theirs in _called_alike(table, link):
        rows, found = _met_keys(population, other, {link: key, own: theirs})
        if 2 * rows > n and found >= (USUAL if theirs in alone else SURELY) * rows:
            told[own] = theirs
    return told


def _called_alike(table: Table, link: str) -> Iterator[tuple[str, str]]:
    """Columns of rows and of the table they are linked with that are linked, called alike, or the prices of both;
    amounts and quantities are added up by what they are of."""
    other, key = table.links[link].table, table.links[link].key
    named = {(c.type, c.name.casefold()): c.name for c in other.columns if not c.is_place}
    prices = table.roles.get("price"), other.roles.get("price")
    added = {table.roles.get("amount"), table.roles.get("quantity")}
    for own in table.columns:
        if own.type not in ("text", "number") or own.is_place:
            continue
        if own.name in (link, *added, *_named(table)):
            continue
        to = table.links.get(own.name)
        if to is not None and to.table.name == other.name:
            theirs: str | None = to.key
        elif own.name == prices[0] and prices[1] is not None:
            theirs = prices[1]
        else:
            theirs = named.get((own.type, own.name.casefold()))
        if theirs is not None and theirs != key and theirs != other.roles.get("amount"):
            yield own.name, theirs


def _named(table: Table) -> set[str]:
    """Columns that tell a row, or its paper, and nothing of its party."""
    return {c.name for role in ("id", "document") if (c := table.role(role)) is not None}


def _met_keys(population: Population, other: Table, keys: Mapping[str, str]) -> tuple[int, int]:
    """How many rows state all of some columns, and how many of them are found with them in another table."""
    beside = Population(population.engine, other, tables=population.tables)
    names = [f"key{place}" for place in range(len(keys))]
    mine = [exp.alias_(sql.column(each), name) for each, name in zip(keys, names, strict=True)]
    theirs = [
        exp.alias_(sql.column(each), name) for each, name in zip(keys.values(), names, strict=True)
    ]
    stated = sql.both(
        exp.Not(
            this=exp.paren(exp.or_(sql.is_missing(sql.column(c)), states_nothing(sql.column(c))))
        )
        for c in keys
    )
    rows = population.used(exp.select(*mine)).where(stated)
    return met(population, rows, beside.used(exp.select(*theirs)).distinct(), names)


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
