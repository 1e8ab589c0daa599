"""Numbers within texts, such as those of invoices: the last digits, with what stands before and after them."""

from __future__ import annotations

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.sql import Tree

_REST, _ONLY = "[0-9]{1,18}[^0-9]*$", "^[0-9]+"
"""The last digits of a text with what stands after them; of these the digits."""


def has_digits(text: Tree) -> Tree:
    return exp.RegexpLike(this=text.copy(), expression=sql.text("[0-9]"))


def length(text: Tree) -> Tree:
    return sql.call("LENGTH", text.copy())


def last_digits(text: Tree) -> Tree:
    """The last digits of a text, and what stands after them: what is searched for in each text once."""
    return _extracted(text.copy(), _REST)


def apart(text: Tree, size: Tree, rest: Tree) -> tuple[Tree, Tree, Tree]:
    """What stands before the last digits, they as a whole number, and what stands after them.

    Parameters
    ----------
    size, rest : Tree
        The text's :func:`length`, and its :func:`last_digits`.
    """
    number = _extracted(rest.copy(), _ONLY)
    before = exp.Sub(this=size.copy(), expression=length(rest))
    after = exp.Add(this=length(number), expression=sql.integer(1))
    return (
        sql.call("LEFT", text.copy(), sql.cast(before, "INTEGER")),
        sql.cast(exp.Nullif(this=number.copy(), expression=sql.text("")), "BIGINT"),
        sql.call("SUBSTR", rest.copy(), sql.cast(after, "INTEGER")),
    )


def _extracted(text: Tree, pattern: str) -> Tree:
    return exp.RegexpExtract(this=text, expression=sql.text(pattern), group=sql.integer(0))
