"""A user's text read as one SQL expression, and never as a statement: a column may be called as one begins."""

from __future__ import annotations

from functools import cache
from itertools import groupby, zip_longest

import sqlglot
import sqlglot.expressions as exp
from sqlglot.errors import ParseError, SqlglotError
from sqlglot.tokens import Token, TokenType

from sabueso.base.errors import UserError
from sabueso.population.sql import Tree
from sabueso.population.table import Table

_STATEMENTS = frozenset(
    ["alter", "analyze", "attach", "begin", "call", "checkpoint", "comment", "commit", "copy", "create", "delete",
     "describe", "detach", "drop", "execute", "explain", "export", "grant", "import", "insert", "install", "load",
     "merge", "pragma", "prepare", "revoke", "rollback", "select", "set", "show", "summarize", "truncate", "update",
     "use", "vacuum", "values", "with"]
)  # fmt: skip


def too_deep(what: str) -> UserError:
    return UserError(f"{what} is nested too deeply to be read")


def read_expression(text: str) -> Tree:
    """One expression, as it stands.

    Raises
    ------
    SqlglotError
        If it is none.
    """
    return _read(text, sqlglot.tokenize(text, dialect="duckdb"))


def _read(text: str, tokens: list[Token]) -> Tree:
    """The same of a text whose tokens are known."""
    for token, then in zip_longest(tokens, tokens[1:]):
        word = token.token_type == TokenType.VAR and token.text.casefold() == "if"
        # Elsewhere than before its arguments it is read as the beginning of a statement.
        if word and (then is None or then.token_type != TokenType.L_PAREN):
            raise ParseError("a word of the language", [{"highlight": token.text}])
    return sqlglot.parse_one(text, into=exp.Condition, dialect="duckdb")


def parsed(text: str, what: str, table: Table) -> Tree:
    """One expression of a user.

    Raises
    ------
    UserError
        If it is none, more than one, or holds a comment.
    """
    tokens: list[Token] = []
    try:
        tokens = sqlglot.tokenize(text, dialect="duckdb")
        # What a comment hides would be dropped in silence.
        if any(token.comments for token in tokens):
            raise UserError(
                f"{what} {text!r} holds a comment (after -- or within /* */); expected one SQL "
                "expression and nothing else"
            )
        parts = groupby(tokens, lambda token: token.token_type == TokenType.SEMICOLON)
        if (several := sum(not between for between, _ in parts)) != 1:
            raise UserError(f"{what} {text!r} holds {several} expressions; expected one")
        tree = _read(text, tokens)
    except SqlglotError as error:
        raise UserError(f"{what} {text!r} {_unread(error, text, tokens, table)}") from None
    except RecursionError:
        raise too_deep(what) from None
    if not isinstance(tree, (exp.Condition, exp.Paren, exp.Tuple, exp.Filter)):
        raise UserError(f"{what} {text!r} is a statement; expected one SQL expression")
    return tree


def _unread(error: SqlglotError, text: str, tokens: list[Token], table: Table) -> str:
    """Why a text is no expression, and how a column is written whose name is none of one word, or a word of the language."""
    details = getattr(error, "errors", None) or [{}]
    near = str(details[0].get("highlight") or "").strip()
    begins = tokens[0].text.casefold() if tokens else ""
    # What cannot be read begins there, or a little before.
    at = next((i for i, token in enumerate(tokens) if token.text == near.strip("'\"")), -1)
    words = {token.text.casefold() for token in tokens[max(at - 2, 0) : at + 1]} | {begins}
    told = [
        c.name
        for c in sorted(table.columns, key=lambda c: -len(c.name))
        if c.name.casefold() in text.casefold()
        and words & {c.name.casefold(), *c.name.casefold().split()}
        and needs_quotes(c.name)
    ]
    where = f" near {near!r}" if near else ""
    if told:
        return f"cannot be read{where}; the column is written {quoted(told[0])}, in double quotes"
    if begins in _STATEMENTS:
        return "is a statement; expected one SQL expression"
    return f"cannot be read{where}; expected one SQL expression"


def quoted(name: str) -> str:
    """A name in the quotes of names."""
    return '"' + name.replace('"', '""') + '"'


@cache
def needs_quotes(name: str) -> bool:
    """Whether a column of a name stands in quotes in an expression: as no one word, or as a word of the language."""
    return not (name.isidentifier() and name.isascii() and _reads_as(name))


def _reads_as(name: str) -> bool:
    """Whether a bare word is read as a column of that name, and not as a word of the language."""
    try:
        tree = read_expression(f"{name} = 1 and x > {name}")
    except SqlglotError:
        return False
    return sum(column.name == name for column in tree.find_all(exp.Column)) == 2
