"""Counting the classes of a digit test: one pass over the rows, or over their distinct amounts."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.plain import ByColumn
from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.report import numbers as num
from sabueso.screens import grouping as grp
from sabueso.screens.digits.suitability import STAGED, AmountFacts, Amounts, facts_of_groups
from sabueso.screens.finding import NotTested
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.stats.digit_law import DigitTest
from sabueso.stats.significand import SIGNIFICAND_TESTS

# Cosines are summed in whole steps: the same sum in any order, and on engines whose cosines differ in
# the last bit. What that rounds off is far below the chance of the test.
STEPS = 10**7
CLASS_FUNCTION = {
    "first": "first_digit",
    "second": "second_digit",
    "first-two": "first_two",
    "first-three": "first_three",
    "last-two": "last_two",
}


class DigitCounting(Protocol):
    """What the settings of a digit test say about counting."""

    @property
    def digits(self) -> DigitTest: ...
    @property
    def min_group(self) -> int: ...


def least_units(test: str) -> int:
    """The fewest minor units that have as many significant digits as the test looks at."""
    return {"second": 10, "first-two": 10, "first-three": 100}.get(test, 1)


def class_text(test: str, value: int) -> str:
    """A class as it is written: 07 among the last two digits."""
    return f"{value:02d}" if test == "last-two" else str(value)


def class_condition(on: str, test: str, value: Any) -> str:
    """The rows of a class as an expression that a user can type."""
    return f"{CLASS_FUNCTION[test]}({quoted_name(on)}) = {int(value)}"


def asked_conditions(on: str, settings: Mapping[str, Any]) -> list[str]:
    """What a digit test asked of the amounts besides their digits, as such expressions."""
    sign, floor, name = settings.get("sign"), settings.get("at_least"), quoted_name(on)
    found = {"positive": [f"{name} > 0"], "negative": [f"{name} < 0"]}.get(str(sign), [])
    return found + ([f"abs({name}) >= {floor}"] if floor is not None else [])


@dataclass(frozen=True)
class Counted:
    """Classes of the groups tested.

    ``classes`` (groups, classes) are counts, ``amounts`` and ``sizes`` the exact sums of minor units
    and of their absolute values as Python integers, ``significands`` the sums of significands where
    the classes are ranges of them, ``mantissa`` (groups, 2) the sums of cosines and sines. ``facts``
    are of every group, tested or not; ``tested`` are the places of those that are.
    """

    keys: list[ByColumn]
    classes: np.ndarray
    amounts: np.ndarray
    sizes: np.ndarray
    significands: np.ndarray | None
    mantissa: np.ndarray
    facts: list[AmountFacts]
    tested: np.ndarray
    not_tested: list[NotTested]


CLASS_RANGE = {
    "first": (1, 9),
    "second": (0, 10),
    "first-two": (10, 90),
    "first-three": (100, 900),
    "last-two": (0, 100),
}
"""The least class of each test, and how many there are."""


def count_classes(
    population: Population,
    base: exp.Select,
    measure: Column,
    groups: Grouping,
    settings: DigitCounting,
) -> Counted:
    """Everything of a class in one pass over the rows; groups and cautions are made from that."""
    units, size = sql.column(UNITS), sql.column("size")
    if groups.labels:
        sized = exp.select(*groups.columns(), units, exp.alias_(sql.magnitude(units), "size"))
        amounts = Amounts(sized.from_(base.subquery("a")).subquery("s"), distinct=False)
    else:
        amounts = Amounts(exp.to_table(STAGED), distinct=True)
    digit = exp.alias_(sql.digit_class(units.copy(), settings.digits), "digit", quoted=True)
    carried = [units.copy(), size, *([sql.column("n")] if amounts.distinct else [])]
    inner = exp.select(*groups.columns(), *carried, digit).from_(amounts.source)
    fields = {"total": amounts.sum(units.copy()), **amounts.facts(measure.scale)}
    fields |= {name: amounts.sum(_steps(name, size)) for name in ("cos", "sin")}
    whole = settings.digits in SIGNIFICAND_TESTS
    if whole:
        scaled = exp.Mul(this=exp.paren(sql.significand(size)), expression=sql.integer(STEPS))
        fields["significand"] = amounts.sum(sql.cast(exp.Round(this=scaled), "BIGINT"))
    keys = [*groups.columns(), sql.column("digit")]
    select = exp.select(
        *keys, *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items())
    )
    select = select.from_(inner.subquery("b")).group_by(*(key.copy() for key in keys))
    found = population.query(select.order_by(*(sql.ordered(key.copy()) for key in keys)))

    group = grp.runs(found, groups.names)
    n = np.array(grp.integers(found, "n"), dtype=np.int64)
    starts = np.flatnonzero(np.diff(group, prepend=-1))
    sizes = np.add.reduceat(n, starts) if len(n) else np.empty(0, np.int64)
    # The compute library, a twentieth of a second, is loaded for groups only.
    heads = found.take(pa.array(starts)) if groups.labels else found.slice(0, 1)
    names = groups.keys(heads)
    least = settings.min_group if groups.labels else 1
    tested = np.flatnonzero(sizes >= least)
    not_tested = [
        NotTested(names[i], num.too_few(int(sizes[i]), least), int(sizes[i]))
        for i in np.flatnonzero(sizes < least).tolist()
    ]
    first, count = CLASS_RANGE[settings.digits]
    classes = np.zeros((len(names), count), dtype=np.int64)
    totals = np.zeros((len(names), count), dtype=object)
    at = group, found.column("digit").to_numpy() - first
    classes[at] = n
    totals[at] = grp.integers(found, "total")
    sizes_of = np.zeros((len(names), count), dtype=object)
    sizes_of[at] = grp.integers(found, "size")
    significands = np.zeros((len(names), count)) if whole else None
    if significands is not None:
        significands[at] = np.array(grp.integers(found, "significand")) / STEPS
    mantissa = [
        np.add.reduceat(np.array(grp.integers(found, name)), starts) / STEPS
        if len(n)
        else np.empty(0)
        for name in ("cos", "sin")
    ]
    return Counted(
        [names[i] for i in tested.tolist()],
        classes[tested],
        totals[tested],
        sizes_of[tested],
        None if significands is None else significands[tested],
        np.column_stack(mantissa)[tested],
        facts_of_groups(found, starts),
        tested,
        not_tested,
    )


def _steps(function: str, size: Tree) -> Tree:
    """cos or sin of 2π·log10 |x|, in whole steps."""
    turn = exp.Literal.number(repr(2 * np.pi))
    angle = exp.Mul(this=turn, expression=sql.call("LOG10", sql.cast(size.copy(), "DOUBLE")))
    scaled = exp.Mul(this=sql.call(function, angle), expression=sql.integer(STEPS))
    return sql.cast(exp.Round(this=scaled), "BIGINT")
