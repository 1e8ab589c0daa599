"""Screens that would tell twice what two tables of the same amounts have in common: an order, and the bill of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sabueso.population.table import Table
from sabueso.screens import find_screen
from sabueso.screens.proposal import Proposal

Found = tuple[str, str, Proposal]
"""A test, a table and what is proposed of it."""


def asked_elsewhere(found: Sequence[Found], tables: Mapping[str, Table]) -> dict[int, str]:
    """Of which places among what is proposed another table, or another screen, is asked the same, and why.

    A test of amounts, by itself or by party, is asked of the table whose rows name the others', as payments name bills
    and bills orders: it is the last, and nearest to what was paid.
    """
    groups = _groups([(table, p.alike) for _, table, p in found if p.alike])
    asked = {name: _asked(name, group, tables) for group in groups for name in group}
    told: dict[int, str] = {}
    knowing = {(table, p.knows): p.name for _, table, p in found if p.knows}
    for place, (test, table, proposal) in enumerate(found):
        # What nearly all rows of one thing have alike is what that is told to have.
        column = proposal.settings.get("on" if find_screen(test).same_again else "same")
        knows = knowing.get((table, str(column).strip('"')))
        if knows is not None:
            told[place] = f"{knows} tells what each row should have"
            continue
        kept = asked.get(table, table)
        if kept == table or not find_screen(test).same_again:
            continue
        # Its own day is held against when a payee was known, which is another day than the other table's.
        if not {"created", "closed"}.isdisjoint(proposal.settings):
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


def _groups(alike: Sequence[tuple[str, str]]) -> list[list[str]]:
    """Tables that have the same amounts, each with all that it has them in common with."""
    groups: list[set[str]] = []
    for pair in alike:
        met = [group for group in groups if not group.isdisjoint(pair)]
        groups = [group for group in groups if group not in met] + [set(pair).union(*met)]
    return [sorted(group) for group in groups]


def _asked(name: str, group: Sequence[str], tables: Mapping[str, Table]) -> str:
    """The table of a group that is asked for one of them."""
    table = tables[name]
    same = [each for each in group if each == name or _same_parties(table, tables[each])]
    depth = {each: _named(each, group, tables) for each in same}
    lacks = table.role("party") is None
    others = [each for each in same if tables[each].role("party") is not None] if lacks else same
    return max(others or same, key=lambda each: (depth[each], each == name, each))


def _named(name: str, group: Sequence[str], tables: Mapping[str, Table]) -> int:
    """How many others of a group the rows of a table name, or those of what they name."""
    reached, new = {name}, [name]
    while new:
        links = [link for each in new for link in tables[each].links.values()]
        keys = {(link.table.name, link.key) for link in links}
        new = [
            other
            for other, key in sorted(keys)
            if other in group and other not in reached and key == tables[other].roles.get("id")
        ]
        reached.update(new)
    return len(reached) - 1


def _listed(value: object) -> list[object]:
    return value if isinstance(value, list) else [] if value is None else [value]


def _same_parties(table: Table, other: Table) -> bool:
    """Whether two tables are of the same parties, by the same names, as far as the first names any."""
    mine, theirs = table.role("party"), other.role("party")
    if mine is None or theirs is None:
        return mine is None
    one, two = table.links.get(mine.name), other.links.get(theirs.name)
    if one is not None and two is not None:
        return (one.table.name, one.key) == (two.table.name, two.key)
    return mine.name.casefold() == theirs.name.casefold()
