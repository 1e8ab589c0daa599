"""Payees over time, as they are proposed to be looked at: with the days on which their master knew them."""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot.expressions as exp

from sabueso.base.words import CalledSo
from sabueso.population import expressions, sql
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.proposal import CLOSED, Proposal, is_budget, settings_of

_KNOWN = CalledSo(
    r"creat|opened|since|start|begin|hire|join|register|added|alta|inicio|ingreso|contrat|angelegt|eintritt|beginn|"
    r"eröffn|création|embauche|entrée|entrada|início|admiss|assunzione|inizio|apertura"
)
MOST_BEFORE = 0.05
"""Share of the rows before the day from which their payee was known, up to which that is such a day."""
RUN_OFF = 31
"""Days that are proposed: the last wage, and what was ordered before, are paid within a month."""


def proposed_payees(population: Population) -> Iterator[Proposal]:
    """Those of a table with days, or of the rows that it names."""
    table = population.table
    party, when = table.role("party"), table.dated()
    if when is None or is_budget(table):
        return
    if party is None:
        yield from _of_the_named(table, when)
        return
    created, closed = _known_of(table, party)
    if created is not None and _is_later(population, when, created):
        created = None
    told = [f"known since {created}"] if created else []
    told += [f"closed on {closed}"] if closed else []
    yield Proposal(
        f"{party.name} of {table.name} over time",
        settings_of(created=created, closed=closed, run_off=RUN_OFF if closed else None),
        "Payees who came back from a long silence, were paid once and much, or before or after they were known."
        if told
        else "Payees who came back from a long silence, or were paid once and much.",
        "; ".join([f"{party.name} and {when.name}", *told]),
    )


def _of_the_named(table: Table, when: Column) -> Iterator[Proposal]:
    """Rows with papers and without a party that name a row with one, as what was delivered names its order."""
    document = table.role("document")
    for column, link in sorted(table.links.items()) if document is not None else ():
        party = link.table.role("party")
        if link.table.name != table.name and party is not None and "amount" in link.table.roles:
            who = ".".join(map(expressions.quoted_name, (column, party.name)))
            yield Proposal(
                f"{column}.{party.name} of {table.name} over time",
                settings_of(per=[who]),
                "Payees who came back from a long silence, or were paid once and much.",
                f"{party.name} of the {link.table.name} that are named, and {when.name}",
            )
            return


def _is_later(population: Population, when: Column, created: str) -> bool:
    """Whether many rows are before the day from which their payee was known: it is another day than that."""
    day = sql.cast(sql.column(when.name), "DATE")
    known = expressions.scalar(created, population.table, "--created")
    before = exp.LT(this=day, expression=known)
    fields = (
        exp.alias_(exp.Count(this=known.copy()), "n"),
        exp.alias_(sql.only(sql.count(), before), "before"),
    )
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    return int(row["before"]) > MOST_BEFORE * int(row["n"])


def _known_of(table: Table, party: Column) -> tuple[str | None, str | None]:
    """The dates of a linked master from which a payee was known and on which it was closed: by their names, and
    where there is one alone that does not say the end of anything, that one."""
    link = table.links.get(party.name)
    if link is None:
        return None, None
    dates = [c.name for c in link.table.columns if c.type == "date"]
    ends = [name for name in dates if CLOSED.search(name)]
    rest = [name for name in dates if name not in ends]
    begins = rest if len(rest) == 1 else [name for name in rest if _KNOWN.search(name)]

    def whole(names: list[str]) -> str | None:
        if len(names) != 1:
            return None
        return ".".join(map(expressions.quoted_name, (party.name, names[0])))

    return whole(begins), whole(ends)
