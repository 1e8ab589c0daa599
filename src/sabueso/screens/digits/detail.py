"""What lies behind the classes of a digit test: values, repeated amounts, a second set of digits."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Protocol

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.plain import ByColumn, Cells
from sabueso.population import expressions, sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column, money
from sabueso.screens.digits.classes import class_text
from sabueso.screens.digits.result import (
    Behind,
    ChangedClass,
    DigitChange,
    DigitClass,
    DigitGroup,
    Repeated,
)
from sabueso.screens.digits.suitability import STAGED
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.stats.adjust import Method, adjust
from sabueso.stats.digit_change import compare_digits
from sabueso.stats.digit_law import DigitTest
from sabueso.stats.digits import DigitFit
from sabueso.stats.hypergeometric import upper_tail

MOST_REPEATED, MOST_IN_CLASS = 10, 3


class Asked(Protocol):
    """What the settings of a digit test say about who is behind a class."""

    @property
    def digits(self) -> DigitTest: ...
    @property
    def by_whom(self) -> str | None: ...
    @property
    def adjust(self) -> Method: ...


def who_is_behind(
    population: Population,
    base: exp.Select,
    values: dict[str, Tree],
    reasons: list[Reason],
    groups: Grouping,
    keys: list[ByColumn],
    fit: DigitFit,
    settings: Asked,
    scale: int,
) -> list[list[Behind]]:
    """For each group, who stands behind each class flagged as too frequent.

    The upper tail is hypergeometric: of N rows, K are of this value; the class took k of its n.
    p is adjusted over all values of all flagged classes.
    """
    who = expressions.scalar(settings.by_whom or "", population.table, "by_whom")
    inner = population.base({**values, "who": who}, reasons)
    digit = sql.digit_class(sql.column(UNITS, "b"), settings.digits)
    named = exp.select(
        *(sql.column(name, "b") for name in groups.names),
        sql.column("who", "b"),
        sql.column(UNITS, "b"),
        exp.alias_(digit, "digit"),
    ).from_(inner.subquery("b"))
    fields: list[Tree] = [*groups.columns(), sql.column("who"), sql.column("digit")]
    select = exp.select(
        *fields,
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.exact_sum(sql.column(UNITS, "c")), "total"),
    ).from_(named.subquery("c"))
    counted = population.query(select.group_by(*fields))
    index = {tuple(key.values()): i for i, key in enumerate(keys)}
    per_who: list[dict[Any, int]] = [{} for _ in keys]
    per_class: list[dict[tuple[Any, int], int]] = [{} for _ in keys]
    totals: dict[tuple[int, Any, int], int] = {}
    for key, row in zip(groups.keys(counted), counted.to_pylist(), strict=True):
        i = index.get(tuple(key.values()))
        if i is not None:
            per_who[i][row["who"]] = per_who[i].get(row["who"], 0) + row["n"]
            per_class[i][row["who"], row["digit"]] = row["n"]
            totals[i, row["who"], row["digit"]] = int(row["total"] or 0)
    found: list[tuple[int, int, Any, int, int, float]] = []
    for i, k in np.argwhere(fit.flagged & (fit.share > fit.expected)).tolist():
        label, n = int(fit.labels[k]), int(fit.n[i])
        inside = round(float(fit.share[i, k]) * n)
        for value, of_all in per_who[i].items():
            count = per_class[i].get((value, label), 0)
            if count:
                found.append((i, k, value, count, of_all, upper_tail(count, n, of_all, inside)))
    adjusted = adjust([each[-1] for each in found], settings.adjust)
    behind: list[list[Behind]] = [[] for _ in keys]
    for (i, k, value, count, of_all, p), p_adjusted in zip(found, adjusted, strict=True):
        n = int(fit.n[i])
        behind[i].append(
            Behind(
                digits=class_text(settings.digits, int(fit.labels[k])),
                value=value,
                count=count,
                share_of_class=count / round(float(fit.share[i, k]) * n),
                share_of_population=of_all / n,
                p=p,
                p_adjusted=float(p_adjusted),
                amount=money(totals[i, value, int(fit.labels[k])], scale),
            )
        )
    for items in behind:
        items.sort(key=lambda item: (item.p, -item.count))
    return behind


def carrier(item: DigitClass, behind: Sequence[Behind], n: int, alpha: float) -> Behind | None:
    """Who alone makes at least half of what a class has beyond its expectation, significantly; None
    where nobody does. Of the rest of a class nothing is said by then.

    Parameters
    ----------
    n : int
        Rows of the group.
    """
    beyond = item.count - item.expected * n
    found = [
        (each.count - each.share_of_population * n * item.expected, each)
        for each in behind
        if each.digits == item.digits and each.p_adjusted < alpha and each.value is not None
    ]
    most = max(found, key=lambda pair: pair[0], default=None)
    return most[1] if most is not None and beyond > 0 and most[0] >= beyond / 2 else None


def repeated_amounts(
    population: Population, measure: Column, fit: DigitFit, test: DigitTest
) -> tuple[list[Repeated], dict[str, list[Repeated]]]:
    """The most frequent amounts of all rows, and of each flagged class.

    Read from the distinct amounts that are staged.
    """
    units, rows = sql.column(UNITS, "a"), sql.column("n", "a")
    order = [sql.ordered(rows, descending=True), sql.ordered(units)]
    every = exp.select(units, rows).from_(exp.alias_(exp.to_table(STAGED), "a"))
    n = int(fit.n[0])

    def listed(found: list[Cells], of: int) -> list[Repeated]:
        return [
            Repeated(money(int(row[UNITS]), measure.scale), int(row["n"]), int(row["n"]) / of)
            for row in found
            if row["n"] > 1
        ]

    top = population.query(every.order_by(*order).limit(MOST_REPEATED)).to_pylist()
    within: dict[str, list[Repeated]] = {}
    flagged = [int(label) for label in fit.labels[fit.flagged[0]]]
    if flagged:
        digit = sql.digit_class(units.copy(), test)
        classed = exp.select(units.copy(), rows.copy(), exp.alias_(digit, "digit", quoted=True))
        classed = classed.from_(exp.alias_(exp.to_table(STAGED), "a"))
        place = exp.Window(
            this=exp.RowNumber(),
            partition_by=[sql.column("digit", "c")],
            order=exp.Order(
                expressions=[
                    sql.ordered(sql.column("n", "c"), descending=True),
                    sql.ordered(sql.column(UNITS, "c")),
                ]
            ),
        )
        chosen = exp.In(
            this=sql.column("digit", "c"), expressions=[sql.integer(d) for d in flagged]
        )
        ranked = exp.select(
            *(sql.column(name, "c") for name in (UNITS, "n", "digit")), exp.alias_(place, "place")
        )
        ranked = ranked.from_(classed.subquery("c")).where(chosen)
        first = exp.LTE(this=sql.column("place"), expression=sql.integer(MOST_IN_CLASS))
        select = exp.select("*").from_(ranked.subquery("r")).where(first)
        found = population.query(
            select.order_by(sql.ordered(sql.column("digit")), sql.ordered(sql.column("place")))
        ).to_pylist()
        counts = dict(zip(fit.labels.tolist(), np.rint(fit.share[0] * n).tolist(), strict=True))
        for label in flagged:
            mine = [row for row in found if row["digit"] == label]
            within[class_text(test, label)] = listed(mine, int(counts[label]))
    return listed(top, n), within


def changed_classes(described: list[DigitGroup], alpha: float, adjustment: Method) -> DigitChange:
    """How the digits of the second group differ from those of the first."""
    first, second = ([c.count for c in group.classes] for group in described)
    change = compare_digits(first, second, adjustment)
    return DigitChange(
        before=described[0].group,
        after=described[1].group,
        chi_square=change.chi_square,
        chi_square_df=change.chi_square_df,
        chi_square_p=change.chi_square_p,
        classes=[
            ChangedClass(
                digits=c.digits,
                before=float(change.before[i]),
                after=float(change.after[i]),
                difference=100 * float(change.after[i] - change.before[i]),
                z=float(change.z[i]),
                p=float(change.p[i]),
                p_adjusted=float(change.p_adjusted[i]),
                flagged=bool(change.p_adjusted[i] < alpha),
            )
            for i, c in enumerate(described[0].classes)
        ],
    )
