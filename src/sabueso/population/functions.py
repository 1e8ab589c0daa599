"""Functions of this program's own that an expression may call: digit classes, bands, ageing, words.

Each becomes a tree of plain SQL that means the same on every engine.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from itertools import pairwise

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.moments import days_between, seconds_between, seconds_of_clock
from sabueso.population.sql import Tree
from sabueso.population.table import Table

_DIGITS = {
    "first_digit": "first",
    "second_digit": "second",
    "first_two": "first-two",
    "first_three": "first-three",
    "last_two": "last-two",
}
MOST_ZEROS = 12


@dataclass(frozen=True)
class Call:
    """A call as it stands in an expression.

    ``checked`` gives the tree of an argument: its columns resolved, its functions allowed.
    """

    node: exp.Anonymous
    table: Table
    what: str
    checked: Callable[[Tree], Tree]

    @property
    def name(self) -> str:
        return str(self.node.name).lower()

    @property
    def arguments(self) -> Sequence[Tree]:
        return list(self.node.expressions)

    def wrong(self, expected: str) -> UserError:
        given = self.node.sql(dialect="duckdb")
        return UserError(f"{self.what}: {given} expected as {self.name}({expected})")


def expand(call: Call) -> Tree:
    """The plain SQL of a call of one of :data:`NAMES`.

    Raises
    ------
    UserError
        If its arguments are not those it takes.
    """
    return _FUNCTIONS[call.name](call)


def own_order(node: Tree, table: Table) -> list[str] | None:
    """The values of a call in their own order, from its text: bands from the lowest, ages from the
    youngest. None where values have no order of their own.
    """
    top = node.unnest()
    if isinstance(top, exp.Anonymous) and top.name.lower() in ("band", "age_band"):
        call = Call(top, table, "", lambda tree: tree)
        if call.name == "band":
            return _band_labels(call)
        return _age_labels(_whole_edges(call, call.arguments[2:]))
    if isinstance(top, exp.Anonymous) and top.name.lower().endswith("_of"):
        return list(sql.WEEKDAYS) if top.name.lower() == "weekday_of" else []
    return None


def _digit_class(call: Call) -> Tree:
    arguments = call.arguments
    if len(arguments) != 1 or not isinstance(arguments[0], exp.Column):
        raise UserError(f"{call.what}: {call.node.name}() takes one number column")
    measure = call.table.number(arguments[0].name, what=f"argument of {call.node.name}()")
    units = sql.minor_units(measure)
    test = _DIGITS[call.name]
    given = sql.digit_class(units, test)
    if test == "last-two":
        return given
    # Zero has no leading digit: its class is missing, not an error.
    return exp.Case().when(exp.NEQ(this=units.copy(), expression=sql.integer(0)), given)


def _band(call: Call) -> Tree:
    """The band that a value lies in, from an edge up to below the next."""
    edges = _band_edges(call)
    labels = _band_labels(call)
    value = exp.paren(call.checked(call.arguments[0]))
    choice = exp.Case().when(sql.is_missing(value.copy()), exp.null(), copy=False)
    for edge, label in zip(edges, labels, strict=False):
        below = exp.LT(this=value.copy(), expression=sql.number(edge))
        choice = choice.when(below, sql.text(label), copy=False)
    return choice.else_(sql.text(labels[-1]), copy=False)


def _band_edges(call: Call) -> list[Decimal]:
    usage = "value, edge, edge, …"
    if len(call.arguments) < 2:
        raise call.wrong(usage)
    edges = [_number(call, each, usage) for each in call.arguments[1:]]
    if any(low >= high for low, high in pairwise(edges)):
        raise UserError(f"{call.what}: the edges of {call.name}() rise from the lowest")
    return edges


def _band_labels(call: Call) -> list[str]:
    """Labels of the bands: of a column the last value within, else the edge it stays below."""
    edges = _band_edges(call)
    value = call.arguments[0].unnest()
    unit = None
    if isinstance(value, exp.Column) and not value.args.get("table"):
        try:
            unit = Decimal(1).scaleb(-call.table.number(value.name).scale)
        except UserError:
            unit = None

    def upper(edge: Decimal) -> str:
        return f"below {edge:f}" if unit is None else f"{edge - unit:f}"

    middle = [f"{low:f} to {upper(high)}" for low, high in pairwise(edges)]
    return [f"below {edges[0]:f}", *middle, f"{edges[-1]:f} and more"]


def _age_band(call: Call) -> Tree:
    """How old a date is at a reference, in bands of days."""
    if len(call.arguments) < 3:
        raise call.wrong("date, reference, days, days, …")
    edges = _whole_edges(call, call.arguments[2:])
    labels = _age_labels(edges)
    age = _days_between(call, call.arguments[1], call.arguments[0])
    choice = exp.Case().when(sql.is_missing(age.copy()), exp.null(), copy=False)
    for edge, label in zip([-1, *edges], labels, strict=False):
        within = exp.LTE(this=age.copy(), expression=sql.integer(edge))
        choice = choice.when(within, sql.text(label), copy=False)
    return choice.else_(sql.text(labels[-1]), copy=False)


def _age_labels(edges: Sequence[int]) -> list[str]:
    low = [0, *(edge + 1 for edge in edges[:-1])]
    middle = [f"{a} to {b} days" for a, b in zip(low, edges, strict=True)]
    return ["after the reference", *middle, f"over {edges[-1]} days"]


def _whole_edges(call: Call, given: Sequence[Tree]) -> list[int]:
    usage = "date, reference, days, days, …"
    edges = [_number(call, each, usage) for each in given]
    rising = all(low < high for low, high in pairwise(edges))
    if not edges or not rising or edges[0] < 0 or any(edge != int(edge) for edge in edges):
        raise UserError(f"{call.what}: the days of {call.name}() are whole numbers that rise")
    return [int(edge) for edge in edges]


def _period_of(call: Call) -> Tree:
    """The period of any date, or the hour of any time, as that of the date role is named."""
    period = call.name.removesuffix("_of")
    wanted = "a column with a time of day" if period == sql.HOUR else "a column of dates"
    if len(call.arguments) != 1:
        raise call.wrong(wanted)
    bare = call.arguments[0].unnest()
    given = call.checked(call.arguments[0])
    if isinstance(bare, exp.Column) and not bare.table:
        kinds = ("timestamp", "time") if period == sql.HOUR else ("date", "timestamp")
        column = call.table.column(bare.name)
        if column.type not in kinds:
            raise UserError(
                f"{call.what}: {call.name}() expected {wanted}, but {column.name} is {column.type}"
            )
    if period == sql.HOUR:
        return sql.hour(given)
    return sql.period(sql.cast(given, "DATE"), period, call.table.fiscal_year_starts)


def _days(call: Call) -> Tree:
    """Days from the earlier date to the later."""
    if len(call.arguments) != 2:
        raise call.wrong("later, earlier")
    return _days_between(call, *call.arguments)


def _days_between(call: Call, later: Tree, earlier: Tree) -> Tree:
    return days_between(_date(call, later), _date(call, earlier))


def _hours(call: Call) -> Tree:
    """Hours from the earlier moment to the later, to the second; of times of day, which may be the next day's."""
    if len(call.arguments) != 2:
        raise call.wrong("later, earlier")
    kinds = {_moment(call, each) for each in call.arguments}
    if len(kinds) != 1:
        raise UserError(f"{call.what}: {call.name}() takes two moments, or two times of day")
    between = seconds_of_clock if kinds == {"time"} else seconds_between
    seconds = between(*(call.checked(each) for each in call.arguments))
    return exp.Div(
        this=sql.cast(exp.paren(seconds), "DOUBLE"), expression=sql.integer(3600), typed=False
    )


def _moment(call: Call, given: Tree) -> str:
    """Whether a column holds moments or times of day.

    Raises
    ------
    UserError
        If it holds neither.
    """
    bare = given.unnest()
    if not isinstance(bare, exp.Column) or bare.args.get("table"):
        return "timestamp"
    column = call.table.column(bare.name)
    if column.type not in ("timestamp", "time"):
        raise UserError(
            f"{call.what}: {call.name}() takes columns with a time of day; {column.name!r} holds {column.type}"
        )
    return column.type


def _date(call: Call, given: Tree) -> Tree:
    """A date's tree. A text that is no date is refused: engines give an error or a missing value."""
    bare = given.unnest()
    if isinstance(bare, exp.Literal):
        from datetime import date

        try:
            date.fromisoformat(str(bare.this))
        except ValueError:
            raise UserError(
                f"{call.what}: {call.name}() got {bare.sql()}; expected a date such as '2025-12-31'"
            ) from None
        return sql.text(str(bare.this))
    if isinstance(bare, exp.Column) and not bare.args.get("table"):
        column = call.table.column(bare.name)
        if column.type not in ("date", "timestamp"):
            raise UserError(
                f"{call.what}: {call.name}() takes dates; column {column.name!r} holds {column.type}"
            )
    return call.checked(given)


def _trailing_zeros(call: Call) -> Tree:
    """Zeros that a whole amount ends in; 0 where it has decimals, or is 0."""
    arguments = call.arguments
    if len(arguments) != 1 or not isinstance(arguments[0].unnest(), exp.Column):
        raise call.wrong("number column")
    measure = call.table.number(arguments[0].unnest().name, what=f"argument of {call.node.name}()")
    units = sql.minor_units(measure)
    choice = exp.Case().when(sql.is_missing(units.copy()), exp.null(), copy=False)
    none = exp.EQ(this=units.copy(), expression=sql.integer(0))
    choice = choice.when(none, sql.integer(0), copy=False)
    for zeros in range(min(MOST_ZEROS, 18 - measure.scale), 0, -1):
        size = sql.integer(10 ** (zeros + measure.scale))
        rest = exp.Mod(this=exp.paren(units.copy()), expression=size)
        even = exp.EQ(this=exp.paren(rest), expression=sql.integer(0))
        choice = choice.when(even, sql.integer(zeros), copy=False)
    return choice.else_(sql.integer(0), copy=False)


_ACCENTED = "áàâäãåāăąéèêëēėęěíìîïīįıóòôöõøōőúùûüūůűųýÿñńňçćčšśşșžźżďđğľĺłřŕťțţ"
_WITHOUT_PARTS = {"ı": "i", "ø": "o", "đ": "d", "ł": "l"}
_PLAIN = "".join(_WITHOUT_PARTS.get(c) or unicodedata.normalize("NFD", c)[0] for c in _ACCENTED)


def folded(text: str) -> str:
    """A text in small letters without accents, as :func:`folded_tree` has it."""
    return text.lower().translate(str.maketrans(_ACCENTED, _PLAIN))


def folded_tree(text: Tree) -> Tree:
    """A text in small letters without accents."""
    low = exp.Lower(this=sql.cast(text, "VARCHAR"))
    folded = sql.call("TRANSLATE", low, sql.text(_ACCENTED), sql.text(_PLAIN))
    # To look each letter up takes long: only where there is one beyond ASCII.
    beyond = exp.RegexpLike(this=low.copy(), expression=sql.text("[^ -~]"))
    return exp.Case().when(beyond, folded).else_(low.copy())


def _word_in(call: Call) -> Tree:
    """Whether a text holds one of some words, as whole words, case and accents apart."""
    words = [each.unnest() for each in call.arguments[1:]]
    listed = [str(each.this) for each in words if isinstance(each, exp.Literal) and each.is_string]
    if not listed or len(listed) != len(words) or not all(word.strip() for word in listed):
        raise call.wrong("text, 'word', 'word', …")
    # Whatever is no letter or digit ends a word; classes by property are in both engines' languages.
    choices = "|".join(
        "[^\\p{L}\\p{N}]+".join(map(re.escape, folded(word).split())) for word in listed
    )
    pattern = f"(^|[^\\p{{L}}\\p{{N}}])({choices})($|[^\\p{{L}}\\p{{N}}])"
    return exp.RegexpLike(
        this=folded_tree(call.checked(call.arguments[0])), expression=sql.text(pattern)
    )


def _number(call: Call, given: Tree, usage: str) -> Decimal:
    bare = given.unnest()
    negative = isinstance(bare, exp.Neg)
    inner = bare.this if negative else bare
    if not isinstance(inner, exp.Literal) or inner.is_string:
        raise call.wrong(usage)
    try:
        value = Decimal(str(inner.this))
    except InvalidOperation:
        raise call.wrong(usage) from None
    return -value if negative else value


_FUNCTIONS: dict[str, Callable[[Call], Tree]] = {
    **dict.fromkeys(_DIGITS, _digit_class),
    "band": _band,
    "age_band": _age_band,
    "days": _days,
    "hours": _hours,
    **{f"{period}_of": _period_of for period in (*sql.PERIODS, sql.HOUR)},
    "word_in": _word_in,
    "trailing_zeros": _trailing_zeros,
}
NAMES = tuple(_FUNCTIONS)
"""The names that an expression may call beside the plain functions of SQL."""
CONDITIONS = ("word_in",)
"""Those that are true or false."""
