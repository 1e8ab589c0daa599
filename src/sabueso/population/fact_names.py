"""Facts of the plan within expressions: ``facts.approval``, and lists after ``in``."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.errors import UserError, nearest
from sabueso.population import sql
from sabueso.population.sql import Tree
from sabueso.population.table import Table

FACTS = "facts"
_CHECKED = "fact"


def fact_named(node: exp.Column, table: Table, what: str) -> Any:
    """The fact of the plan that a name such as ``facts.approval`` stands for; None where it is none.

    Raises
    ------
    UserError
        If the plan has no such fact.
    """
    parts = [part.name for part in node.parts]
    if parts[0].lower() != FACTS or FACTS in {link.table.name for link in table.links.values()}:
        return None
    name = ".".join(parts[1:])
    if name not in table.facts:
        known = nearest(name, table.facts) or "; facts stand in case.toml under [facts]"
        raise UserError(f"{what}: there is no fact {name!r}{known}")
    return table.facts[name]


def fact_tree(value: Any) -> Tree:
    if isinstance(value, datetime):
        return sql.cast(sql.text(value.isoformat(" ")), "TIMESTAMP")
    if isinstance(value, date):
        return sql.cast(sql.text(value.isoformat()), "DATE")
    return sql.text(value) if isinstance(value, str) else sql.number(Decimal(value))


def with_lists(listed: list[Tree], table: Table, what: str) -> list[Tree]:
    """Values with those of a list of the plan in the place of its name."""
    spread: list[Tree] = []
    for each in listed:
        bare = each.unnest()
        named = isinstance(bare, exp.Column) and bool(bare.args.get("table"))
        fact = fact_named(bare, table, what) if named and isinstance(bare, exp.Column) else None
        if fact is None:
            spread.append(each)
        else:
            spread += map(of_fact, fact if isinstance(fact, list) else [fact])
    return spread


def spread_facts(node: exp.In, table: Table, what: str) -> None:
    """Put the values of a list in the place of its name: ``day in facts.holidays``."""
    listed = [*node.expressions, *([node.args["field"]] if node.args.get("field") else [])]
    spread = with_lists(listed, table, what)
    if any(is_fact(each) for each in spread):
        node.set("field", None)
        node.set("expressions", spread)


def of_fact(value: Any) -> Tree:
    """A fact's value, marked as checked: a class of its own could not be derived from the library's where
    that is compiled."""
    tree = exp.Paren(this=fact_tree(value))
    tree.meta[_CHECKED] = True
    return tree


def is_fact(tree: Tree) -> bool:
    return isinstance(tree, exp.Paren) and _CHECKED in tree.meta
