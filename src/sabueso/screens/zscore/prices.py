"""Prices, and quantities, beside those of the same thing, as they are proposed: by the column that says most of what
one is, or by two, such as where a journey begins and ends."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import codes_of
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of
from sabueso.stats.moments import absolute_deviation

MOST_SEEN = 50_000
"""Rows, the first, by which it is judged what prices are of."""
CLOSER, CLOSER_OF_COUNTS = 0.7, 0.3
"""How much of the spread in all prices, and quantities, may have within their things, at most, to be told by them."""
ONE_LEVEL = 0.2
"""Spread of the logarithms of prices that are of one thing."""
COVERED = 0.5
"""Share of the rows that are of things with rows enough."""
MOST_COLUMNS, MOST_PAIRED = 8, 5
CLOSE, MOST_MEASURES = 0.15, 6
"""The same share for numbers that are neither, and how many columns of such are looked at."""
FAR = 10
"""Modified deviate from which such a number is far: of a thing that has nearly one, few rows tell how nearly."""


def proposed_prices(population: Population, least: int) -> Iterator[Proposal]:
    """Prices far from the others of their thing; ``least`` are the rows of a thing from which they are compared."""
    table = population.table
    price = table.role("price")
    if price is None or is_budget(table) or population.account(None).used < LEAST_ROWS:
        return
    found = _of_one_thing(population, price, [(c,) for c in _things(table)], least, CLOSER)
    if found is None:
        return
    of, because = found
    yield _proposal(
        table, price, of, because, least,
        f"A price far from the others{f' of its {of[0].name}' if of else ''}: a wrong one, or one that was agreed "
        "with somebody.",
    )  # fmt: skip


def proposed_counts(population: Population, least: int) -> Iterator[Proposal]:
    """Quantities far from the others of their thing, such as the kilometres between the same two places."""
    table = population.table
    quantity = table.role("quantity")
    if quantity is None or is_budget(table) or population.account(None).used < LEAST_ROWS:
        return
    things = _things(table)
    pairs = combinations(things[:MOST_PAIRED], 2)
    each = [*((c,) for c in things), *pairs]
    found = _of_one_thing(population, quantity, each, least, CLOSER_OF_COUNTS)
    if found is not None and found[0]:
        of, because = found
        yield _proposal(
            table, quantity, of, because, least,
            f"A quantity far from the others of its {' and '.join(c.name for c in of)}.",
        )  # fmt: skip


def proposed_measures(population: Population, least: int) -> Iterator[Proposal]:
    """Numbers that are nearly the same of one thing, and no amounts, prices or quantities, such as what a vehicle weighs
    empty: far from the others of theirs."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_ROWS:
        return
    taken = {*table.roles.values(), *table.links}
    numbers = table.numbers
    things = [(c,) for c in _things(table)]
    for value in [c for c in numbers if c.name not in taken][:MOST_MEASURES]:
        found = _of_one_thing(population, value, things, least, CLOSE)
        if found is not None and found[0]:
            of, because = found
            yield _proposal(
                table, value, of, because, least,
                f"A number far from the others of its {of[0].name}, which has nearly the same in all its rows.", FAR,
            )  # fmt: skip


def _proposal(
    table: Table,
    value: Column,
    of: tuple[Column, ...],
    because: str,
    least: int,
    purpose: str,
    limit: int | None = None,
) -> Proposal:
    name, things = quoted_name(value.name), " and ".join(c.name for c in of)
    unlike = f"unlike the {things}'s others" if of else "far from the rest"
    return Proposal(
        f"{value.name} of {table.name} {unlike}",
        settings_of(
            on=value.name, by=[quoted_name(c.name) for c in of], method="modified",
            min_group=least, scale="log", where=f"{name} > 0", limit=limit,
        ),
        purpose,
        because,
        tuned=limit is None,
    )  # fmt: skip


def _things(table: Table) -> list[Column]:
    """Texts that may say what was bought: no papers, and nobody who writes them."""
    none = {table.roles.get(r) for r in ("id", "document", "preparer", "approver", "date", "text")}
    texts = [c for c in table.columns if c.type == "text" and not c.is_place]
    return [c for c in texts if c.name not in none][:MOST_COLUMNS]


def _of_one_thing(
    population: Population,
    value: Column,
    each: Sequence[tuple[Column, ...]],
    least: int,
    closer: float,
) -> tuple[tuple[Column, ...], str] | None:
    """The columns within whose things values spread the least, by the median absolute deviation of their logarithms, and
    what speaks for them; none where all are of one level. None where neither is so, or values mostly are the same
    within their things, and no spread can be told."""
    columns = list(dict.fromkeys(column for things in each for column in things))
    fields = [exp.alias_(sql.cast(sql.column(value.name), "DOUBLE"), "value")]
    fields += [exp.alias_(sql.column(c.name), f"t{place}") for place, c in enumerate(columns)]
    positive = exp.GT(this=sql.column(value.name), expression=sql.integer(0))
    rows = population.used(exp.select(*fields)).where(positive)
    seen = population.query(rows.limit(MOST_SEEN))
    if seen.num_rows < LEAST_ROWS:
        return None
    log = np.log(seen.column("value").to_numpy(zero_copy_only=False).astype(float))
    whole = absolute_deviation(log)
    best: tuple[float, tuple[Column, ...]] = (closer * whole, ())
    known = {c: codes_of(seen.column(f"t{place}")) for place, c in enumerate(columns)}
    for things in each:
        codes = known[things[0]].astype(np.int64)
        for other in things[1:]:
            codes = codes * (known[other].max() + 2) + known[other] + 1
        order = np.argsort(codes, kind="stable")
        parts = np.split(log[order], np.flatnonzero(np.diff(codes[order])) + 1)
        large = [part for part in parts if len(part) >= least]
        if len(large) < 2 or sum(map(len, large)) < COVERED * len(log):
            continue
        within = float(np.median(np.concatenate([abs(p - np.median(p)) for p in large])))
        # Two say more than one of itself, where there are fewer of each.
        if within < best[0] * (1.0 if len(things) == 1 else CLOSER):
            best = within, things
    spread, of = best
    if of:
        name = " and ".join(c.name for c in of)
        told = f"the logarithms of {value.name} deviate by a median of {spread:.3f} within one {name}, and of {whole:.3f} in all"
        return (of, told) if spread > 0 else None
    told = f"the logarithms of {value.name} deviate by a median of {whole:.3f}"
    return ((), told) if 0 < whole <= ONE_LEVEL else None
