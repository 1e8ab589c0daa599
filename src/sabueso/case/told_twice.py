"""Screens that would tell twice what two tables of the same amounts have in common: an order, and the bill of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sabueso.population.table import Table
from sabueso.screens import find_screen
from sabueso.screens.proposal import Proposal

Found = tuple[str, str, Proposal]
"""A test, a table and what is proposed of it."""


def asked_elsewhere(found: Sequence[Found], tables: Mapping[str, Table]) -> dict[int, str]:
    """Of which places among what is proposed another table is asked the same, and why.

    A test of amounts, by itself or by party, is asked of the table whose rows name the other's: it is the later of the
    two, and nearer to what was paid.
    """
    asked: dict[str, str] = {}
    for _, table, proposal in found:
        if proposal.alike and _same_parties(tables[table], tables[proposal.alike]):
            kept, left = _later(tables[table], tables[proposal.alike])
            asked.setdefault(left, kept)
    told: dict[int, str] = {}
    for place, (test, table, proposal) in enumerate(found):
        kept = _last(asked, table)
        if kept == table or not find_screen(test).same_again:
            continue
        party = tables[table].roles.get("party")
        columns = [
            column
            for name in ("by", "per", "by_whom", "quantity")
            for column in _listed(proposal.settings.get(name))
        ]
        if set(columns) <= {party} and any(t == test and own == kept for t, own, _ in found):
            told[place] = f"asked of {kept}, whose rows have the same amounts"
    return told


def _last(asked: Mapping[str, str], table: str) -> str:
    seen = [table]
    while (after := asked.get(seen[-1])) is not None and after not in seen:
        seen.append(after)
    return seen[-1]


def _listed(value: object) -> list[object]:
    return value if isinstance(value, list) else [] if value is None else [value]


def _later(table: Table, other: Table) -> tuple[str, str]:
    """Of two linked tables the one whose rows name the other's, and that other."""
    names = any(
        link.table.name == other.name and link.key == other.roles.get("id")
        for link in table.links.values()
    )
    return (table.name, other.name) if names else (other.name, table.name)


def _same_parties(table: Table, other: Table) -> bool:
    """Whether two tables are of the same parties, by the same names."""
    mine, theirs = table.role("party"), other.role("party")
    if mine is None or theirs is None:
        return mine is theirs
    one, two = table.links.get(mine.name), other.links.get(theirs.name)
    if one is not None and two is not None:
        return (one.table.name, one.key) == (two.table.name, two.key)
    return mine.name.casefold() == theirs.name.casefold()
