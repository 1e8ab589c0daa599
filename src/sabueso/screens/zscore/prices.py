"""Prices beside those of the same thing, as they are proposed: by the column that says most of what a price is."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import codes_of
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of

MOST_SEEN = 50_000
"""Rows, the first, by which it is judged what prices are of."""
CLOSER = 0.7
"""How much of the spread in all prices may have within their things, at most, to be told by them."""
ONE_LEVEL = 0.2
"""Spread of the logarithms of prices that are of one thing."""
COVERED = 0.5
"""Share of the rows that are of things with rows enough."""
MOST_COLUMNS = 8


def proposed_prices(population: Population, least: int) -> Iterator[Proposal]:
    """Prices far from the others of their thing; ``least`` are the rows of a thing from which they are compared."""
    table = population.table
    price = table.role("price")
    if price is None or is_budget(table) or population.account(None).used < LEAST_ROWS:
        return
    found = _of_one_thing(population, price, _things(table), least)
    if found is None:
        return
    column, because = found
    name = quoted_name(price.name)
    unlike = f"unlike the {column}'s others" if column else "far from the rest"
    yield Proposal(
        f"{price.name} of {table.name} {unlike}",
        settings_of(
            on=price.name, by=[quoted_name(column)] if column else [], method="modified",
            min_group=least, scale="log", where=f"{name} > 0",
        ),
        f"A price far from the others{f' of its {column}' if column else ''}: a wrong one, or one that was agreed "
        "with somebody.",
        because,
        tuned=True,
    )  # fmt: skip


def _things(table: Table) -> list[Column]:
    """Texts that may say what was bought: no papers, and nobody who writes them."""
    none = {table.roles.get(r) for r in ("id", "document", "preparer", "approver", "date", "text")}
    texts = [c for c in table.columns if c.type == "text" and not c.is_place]
    return [c for c in texts if c.name not in none][:MOST_COLUMNS]


def _of_one_thing(
    population: Population, price: Column, things: list[Column], least: int
) -> tuple[str | None, str] | None:
    """The column within whose things prices spread the least, by the median absolute deviation of their logarithms, and
    what speaks for it; no column where all are of one level. None where neither is so, or prices mostly are the same
    within their things, and no spread can be told."""
    fields = [exp.alias_(sql.cast(sql.column(price.name), "DOUBLE"), "price")]
    fields += [exp.alias_(sql.column(c.name), f"t{place}") for place, c in enumerate(things)]
    value = sql.column(price.name)
    rows = population.used(exp.select(*fields)).where(exp.GT(this=value, expression=sql.integer(0)))
    seen = population.query(rows.limit(MOST_SEEN))
    if seen.num_rows < LEAST_ROWS:
        return None
    log = np.log(seen.column("price").to_numpy(zero_copy_only=False).astype(float))
    whole = float(np.median(np.abs(log - np.median(log))))
    best = CLOSER * whole, ""
    for place, column in enumerate(things):
        codes = codes_of(seen.column(f"t{place}"))
        order = np.argsort(codes, kind="stable")
        parts = np.split(log[order], np.flatnonzero(np.diff(codes[order])) + 1)
        large = [part for part in parts if len(part) >= least]
        if len(large) < 2 or sum(map(len, large)) < COVERED * len(log):
            continue
        within = float(np.median(np.concatenate([abs(p - np.median(p)) for p in large])))
        if within < best[0]:
            best = within, column.name
    spread, name = best
    if name:
        told = f"the logarithms of {price.name} deviate by a median of {spread:.3f} within one {name}, and of {whole:.3f} in all"
        return (name, told) if spread > 0 else None
    told = f"the logarithms of {price.name} deviate by a median of {whole:.3f}"
    return (None, told) if 0 < whole <= ONE_LEVEL else None
