"""A rate times hours, and the hours beyond them at more than the rate: what wages and bills of time are made of."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.proposal import LEAST_ROWS
from sabueso.screens.recompute.priced import DISCOUNT, TAX, Priced, held, is_rule
from sabueso.screens.recompute.sums import HOLDS

TIMES = (0.5, 1.0, 1.25, 1.5, 1.75, 2.0, 2.5, 3.0)
"""How many rates an hour beyond the usual is paid."""
MOST_HOURS, MOST_COLUMNS, MOST_SEEN = 3, 8, 2_000
LEAST_MADE = 5
"""Rows that a further column must make up."""
Part = tuple[int, float]
"""The place of a column of hours, and how many rates each is paid."""


def waged(population: Population, price: Column, amount: Column) -> Priced | None:
    """The way that holds for nearly all rows; None where none does."""
    table = population.table
    taken = {name for role, name in table.roles.items() if role != "quantity"} | {amount.name}
    hours = [
        c.name
        for c in table.columns
        if c.type == "number"
        and c.name not in taken
        and not (DISCOUNT.search(c.name) or TAX.search(c.name))
    ][:MOST_COLUMNS]
    parts = _parts(population, price, amount, hours) if hours else None
    if parts is None:
        return None
    rate = quoted_name(price.name)
    each = [
        f"coalesce({quoted_name(hours[at])}, 0)" + ("" if times == 1 else f" * {times:g}")
        for at, times in parts
    ]
    told = f"{price.name} times " + " and ".join(
        hours[at] if times == 1 else f"{times:g} {hours[at]}" for at, times in parts
    )
    ways = [f"{rate} * ({' + '.join(each)})"]
    if len(parts) > 1:
        # Each kind of hours may have been rounded by itself.
        ways.append(" + ".join(f"round({rate} * {one}, {amount.scale})" for one in each))
    found = min((held(population, amount, way, told) for way in ways), key=lambda p: p.differing)
    return found if is_rule(found) else None


def _parts(
    population: Population, price: Column, amount: Column, hours: Sequence[str]
) -> list[Part] | None:
    """Columns whose sum, some of them so many times, is the amount over the rate in nearly all of some rows."""
    fields = [
        exp.alias_(sql.cast(sql.column(name), "DOUBLE"), f"c{place}")
        for place, name in enumerate((amount.name, price.name, *hours))
    ]
    seen = population.query(population.used(exp.select(*fields)).limit(MOST_SEEN))
    amounts, rates, *rest = (
        np.nan_to_num(seen.column(f"c{place}").to_numpy().astype(float))
        for place in range(len(hours) + 2)
    )
    used = rates != 0
    if used.sum() < LEAST_ROWS:
        return None
    paid, near = amounts[used] / rates[used], (10.0**-amount.scale + 1e-9) / np.abs(rates[used])
    columns = [column[used] for column in rest]
    if (np.abs(paid - 1) <= near).mean() > 1 - HOLDS:
        return None  # the rate is the amount
    found: tuple[float, list[Part]] | None = None
    for place, column in enumerate(columns):
        share, parts = _added(paid, near, columns, (place, 1.0), column)
        if share >= HOLDS and (found is None or (share, -len(parts)) > (found[0], -len(found[1]))):
            found = share, parts
    return None if found is None else found[1]


def _added(
    paid: np.ndarray,
    near: np.ndarray,
    columns: Sequence[np.ndarray],
    first: Part,
    column: np.ndarray,
) -> tuple[float, list[Part]]:
    """A column with those that are most of what it lacks, and the share of rows that they make up."""
    parts, left = [first], paid - column

    def off(rest: np.ndarray) -> int:
        return int((np.abs(rest) > near).sum())

    while len(parts) < MOST_HOURS:
        others = set(range(len(columns))) - {at for at, _ in parts}
        ways = [(off(left - times * columns[at]), at, times) for at in others for times in TIMES]
        if not ways or min(ways)[0] > off(left) - LEAST_MADE:
            break
        _, at, times = min(ways)
        parts.append((at, times))
        left = left - times * columns[at]
    return float((np.abs(left) <= near).mean()), parts
