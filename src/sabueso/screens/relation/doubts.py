"""What a reader must know before a correlation."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import sqlglot.expressions as exp

from sabueso.population import expressions
from sabueso.population.table import Table
from sabueso.report import numbers as num
from sabueso.screens.finding import Caution
from sabueso.screens.measured import Measured
from sabueso.screens.relation.result import RelationGroup
from sabueso.screens.relation.words import of_group, r_text

FEW = 10
MOVED = 0.2
"""A change of r that one subject alone must not make."""
BENT_P, BENT_SHARE = 0.01, 0.05
SIGNIFICANT = 0.05
UNEVEN, UNEVEN_P = 0.3, 0.001
"""Rank correlation of the size of residuals with x, and its p, from which they spread unevenly."""


def relation_cautions(
    groups: Sequence[RelationGroup], settings: Measured, table: Table
) -> list[Caution]:
    """Cautions of the whole and of each group, and of what the measures are made of."""
    found = [caution for group in groups for caution in _of_group(group)]
    if (shared := _shared(settings, table)) and groups:
        names = ", ".join(sorted(shared))
        text = (
            f"both measures are made of {names}: they go together, or against each other, for that "
            "alone; r says nothing of anything else"
        )
        found.append(Caution("shared_divisor", text, {"columns": sorted(shared)}))
    return found


def is_bent(g: RelationGroup) -> bool:
    """Whether a curve says clearly more than the line."""
    if g.bend_p is None or g.bend_share is None:
        return False
    return g.bend_p < BENT_P and g.bend_share >= BENT_SHARE


def is_uneven(g: RelationGroup) -> bool:
    """Whether residuals are larger, or smaller, with x."""
    if g.spread_rho is None or g.spread_p is None:
        return False
    return abs(g.spread_rho) >= UNEVEN and g.spread_p < UNEVEN_P


def rests_on_one(g: RelationGroup) -> bool:
    """Whether one subject alone makes or hides the correlation."""
    one = g.most_influential
    if one is None or g.r is None:
        return False
    if one.r_without is None or abs(g.r - one.r_without) > MOVED:
        return True
    if None in (g.r_p, one.p_without):
        return False
    before, after = g.r_p < SIGNIFICANT, one.p_without < SIGNIFICANT  # type: ignore[operator]
    return before != after or (before and g.r * one.r_without < 0)


def _of_group(g: RelationGroup) -> Iterator[Caution]:
    where, one = of_group(g), g.most_influential
    figures = {"group": g.group}
    if g.fitted_on is not None:
        text = (
            f"the line by the median of slopes and the points of a figure are of {g.fitted_on:,} of the "
            f"{g.n:,} rows, chosen by the numbers of their lines; every other figure is of all"
        )
        yield Caution("sampled_fit", text, {"fitted_on": g.fitted_on, "n": g.n})
    if g.n < FEW:
        yield Caution("too_few", f"{g.n} subjects{where}: r of so few says little", figures)
    if one is not None and rests_on_one(g):
        left = (
            "there is no correlation to speak of, as a measure does not vary"
            if one.r_without is None
            else f"r is {r_text(one.r_without)}, p {num.p_value(one.p_without)}"
        )
        text = (
            f"r {r_text(g.r)}, p {num.p_value(g.r_p)}{where} rests on one subject: without {one.name} "
            f"{left}"
        )
        yield Caution("one_point", text, figures | {"r_without": one.r_without})
    pulls = [m for m in g.movers if m.leverage > 0.5]
    if pulls:
        text = (
            f"{pulls[0].name} lies so far out{where} that the line goes where it is (leverage "
            f"{pulls[0].leverage:.2f}); its residual is small for that reason"
        )
        yield Caution("leverage", text, figures | {"leverage": pulls[0].leverage})
    if is_bent(g):
        text = (
            f"the relation{where} bends: a square of {g.measures[0]} adds {num.percent(g.bend_share)} of "
            f"the variance of {g.measures[1]} (p {num.p_value(g.bend_p)}); residuals from a line are large "
            "at its ends for that alone"
        )
        yield Caution("not_linear", text, figures | {"bend_p": g.bend_p})
    elif g.rho is not None and g.r is not None and abs(g.rho) - abs(g.r) > MOVED:
        text = (
            f"by ranks they go together closer than along a line{where}: rho {r_text(g.rho)}, r "
            f"{r_text(g.r)}"
        )
        yield Caution("not_linear", text, figures)
    if is_uneven(g):
        size = "larger" if (g.spread_rho or 0) > 0 else "smaller"
        text = (
            f"residuals{where} are {size} where {g.measures[0]} is larger (rank "
            f"correlation of their size with it {r_text(g.spread_rho)}, p {num.p_value(g.spread_p)}): the p of a "
            f"residual supposes one spread for all, and where it is wide more are flagged than it says"
        )
        yield Caution("uneven_spread", text, figures | {"rho": g.spread_rho, "p": g.spread_p})
    if g.changes is not None:
        beside = (
            "cannot be correlated"
            if g.changes.r is None
            else f"have r {r_text(g.changes.r)}, p {num.p_value(g.changes.p)}, n {g.changes.n:,}"
        )
        text = (
            f"the subjects{where} follow one another in time: two series that both grow go together for "
            f"that alone, and p does not hold; their changes {beside}"
        )
        yield Caution("two_trends", text, figures)


def _shared(settings: Measured, table: Table) -> set[str]:
    """Columns that both measures are made of."""
    made = [_columns(text, table, bool(settings.per)) for text in settings.measures]
    return made[0] & made[1]


def _columns(text: str, table: Table, aggregated: bool) -> set[str]:
    """Columns of a measure; of a derived one, those that it is made of."""
    if aggregated:
        names = {c.name for c in expressions.aggregate(text, table).find_all(exp.Column)}
    else:
        names = {table.column(text).name}
    formulas = {each.column.name: each for each in table.derived}
    found: set[str] = set()
    for name in names:
        if name in formulas:
            tree = formulas[name].tree
            found |= {name, *(c.name for c in tree.find_all(exp.Column))}
        else:
            found.add(name)
    return found
