"""All that ``range`` proposes to declare, in its order: loaded where tests are proposed, and not where one is run."""

from __future__ import annotations

from collections.abc import Iterator

from sabueso.population.population import Population
from sabueso.screens.proposal import Proposal
from sabueso.screens.range.apart import proposed_apart
from sabueso.screens.range.best import proposed_best
from sabueso.screens.range.caps import proposed_caps
from sabueso.screens.range.discounts import proposed_discounts
from sabueso.screens.range.far import proposed_far
from sabueso.screens.range.kinds_ending import proposed_ends
from sabueso.screens.range.kinds_lacking import proposed_of_kinds
from sabueso.screens.range.nights import proposed_nights
from sabueso.screens.range.odd_number import proposed_odd_numbers
from sabueso.screens.range.orders import proposed_orders
from sabueso.screens.range.overdrawn import proposed_overdrawn
from sabueso.screens.range.people import proposed_people
from sabueso.screens.range.proposed import proposed_range
from sabueso.screens.range.readings import proposed_readings
from sabueso.screens.range.resting import proposed_resting
from sabueso.screens.range.same import proposed_same
from sabueso.screens.range.seldom import proposed_seldom
from sabueso.screens.range.shares import proposed_shares
from sabueso.screens.range.states import proposed_states
from sabueso.screens.range.terms import proposed_terms
from sabueso.screens.range.unique import proposed_unique


def proposals(population: Population) -> Iterator[Proposal]:
    """Screens with rules that a table's own rows, or what they name, suggest."""
    yield from proposed_range(population)
    yield from proposed_of_kinds(population)
    yield from proposed_orders(population)
    yield from proposed_terms(population)
    yield from proposed_caps(population)
    yield from proposed_ends(population)
    yield from proposed_far(population)
    yield from proposed_shares(population)
    yield from proposed_readings(population)
    yield from proposed_overdrawn(population)
    yield from proposed_same(population)
    yield from proposed_unique(population)
    yield from proposed_states(population)
    yield from proposed_resting(population)
    yield from proposed_nights(population)
    yield from proposed_discounts(population)
    yield from proposed_apart(population)
    yield from proposed_people(population)
    yield from proposed_best(population)
    yield from proposed_seldom(population)
    yield from proposed_odd_numbers(population)
