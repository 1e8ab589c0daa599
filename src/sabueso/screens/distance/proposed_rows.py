"""Rows of a table that is little else than measures: what is unlike all others in many of them together."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from sabueso.base.plain import Values
from sabueso.base.words import first_few
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.distance.proposed import (
    LEAST_ROWS_OF_ONE,
    Means,
    entities_of,
    independent,
    scores_of,
)
from sabueso.screens.interface import Screen
from sabueso.screens.measured import measured_subjects
from sabueso.screens.proposal import LISTED, TAX, Proposal, most_reviewed, settings_of

LEAST_MEASURES, MOST_MEASURES = 5, 50
"""Measures that the others do not tell from which rows are compared by all of them."""
ROWS_OF_ONE, MOST_ROWS = 20, 1_000_000
"""Rows for each measure, and in all."""
MOST_UNLIKE = 0.01
IN_ORDER = 0.95
"""Correlation with the lines from which a measure is their order."""
CHANCE = 0.05
"""Rows that chance may flag in all, of measures that are normal together."""


def proposed_rows(population: Population, measures: Sequence[Column]) -> Iterator[Proposal]:
    """The rows of a table by the ranks of their measures, where there are many of these, and nobody whose rows could
    be taken together."""
    table = population.table
    free = [m for m in measures if not TAX.search(m.name)][:MOST_MEASURES]
    party = table.role("party") or table.role("preparer") or table.role("account")
    rows = population.account(None).used
    if len(free) < LEAST_MEASURES or not ROWS_OF_ONE * len(free) <= rows <= MOST_ROWS:
        return
    if party is not None:
        entities, named = entities_of(population, party)
        if entities and named >= LEAST_ROWS_OF_ONE * entities:
            return
    subjects, _ = measured_subjects(population, Means([quoted_name(m.name) for m in free], [], []))
    place = np.arange(subjects.num_rows)
    scores = scores_of(subjects, [place])
    if scores is None:
        return
    # What goes up with the lines is a clock or a count of them.
    counted = [abs(np.corrcoef(column, place)[0, 1]) > IN_ORDER for column in scores.T]
    free = [m for m, clock in zip(free, counted, strict=True) if not clock]
    chosen = independent(free, scores[:, ~np.array(counted)])
    if len(chosen) < LEAST_MEASURES:
        return
    told = [m.name for m in free if m not in chosen]
    without = f"; without {first_few(told, 3)}, which the others tell" if told else ""
    names = first_few([m.name for m in chosen], 3)
    yield Proposal(
        f"rows of {table.name} unlike others",
        settings_of(measures=[quoted_name(m.name) for m in chosen], transform="rank"),
        f"What is ordinary in each of {names} and not in all of them together.",
        f"{subjects.num_rows:,} rows by {len(chosen)} measures together{without}",
        tuned=True,
        share=MOST_UNLIKE,
    )


def tuned_level(
    screen: Screen, population: Population, settings: Mapping[str, Any], capacity: int
) -> Values:
    """Settings with the level at which chance flags next to none of all rows; where more are beyond it than can be
    reviewed, or than are the exception, the measures hang together in other ways, and the few that are furthest are asked for."""
    rows = population.account(None).used
    level = {**settings, "alpha": float(f"{CHANCE / max(rows, 1):.0e}")}
    found = screen.run(population, screen.settings.from_plan(dict(level), screen.name))
    if len(found.flags) <= most_reviewed(rows, capacity):
        return level
    return {**settings, "aim": min(capacity, LISTED)}
