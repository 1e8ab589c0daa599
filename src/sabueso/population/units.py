"""What a measure counts: money in the table's currency, or something else."""

from __future__ import annotations

import sqlglot.expressions as exp

from sabueso.population.table import Column, Role, Table

_MONEY: tuple[Role, ...] = ("amount", "debit", "credit", "price")


def unit_of(table: Table, measure: Column | None) -> str:
    """The currency of a measure; nothing of one that is not known for money.

    Amounts, their sides and prices are money by their role, and so is what the plan makes of them by sums,
    differences and rounding, by a factor, or by a quantity: a share of two amounts is none. Of rows without a
    measure it is the table's.
    """
    if measure is None:
        return table.currency
    named = {table.roles[role] for role in _MONEY if role in table.roles}
    for each in table.derived:
        if each.column.name not in named and _is_money(each.tree, named):
            named.add(each.column.name)
    return table.currency if measure.name in named else ""


def _is_money(tree: exp.Expr | None, named: set[str]) -> bool:
    """Whether values are money, where columns of these names are."""
    if isinstance(tree, exp.Column):
        return tree.name in named
    if isinstance(tree, (exp.Paren, exp.Neg, exp.Abs, exp.Round, exp.Cast, exp.Coalesce)):
        return _is_money(tree.this, named)
    if isinstance(tree, (exp.Add, exp.Sub)):
        return _is_money(tree.left, named) and _is_money(tree.right, named)
    if isinstance(tree, exp.Mul):
        return _is_money(tree.left, named) != _is_money(tree.right, named)
    if isinstance(tree, exp.Div):
        return _is_money(tree.left, named) and not _has_money(tree.right, named)
    if isinstance(tree, exp.Case):
        values = [*(each.args["true"] for each in tree.args["ifs"]), tree.args.get("default")]
        known = [v for v in values if v is not None and not isinstance(v, (exp.Null, exp.Literal))]
        return bool(known) and all(_is_money(value, named) for value in known)
    return False


def _has_money(tree: exp.Expr, named: set[str]) -> bool:
    return any(column.name in named for column in tree.find_all(exp.Column))
