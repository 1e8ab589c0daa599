"""Amounts of a fixed part and so much for each of other numbers of the row, as they are proposed: a fare of 3.50, 1.20 a kilometre and
0.40 a minute; a litre's price by its fat and its protein."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations
from typing import NamedTuple

import numpy as np

from sabueso.base.words import listed
from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.proposal import Proposal
from sabueso.screens.recompute.one_rate import as_written, at_least, floor_of, floor_told
from sabueso.screens.recompute.priced import held, is_rule
from sabueso.stats.additive import HOLDS
from sabueso.stats.exact_line import LEAST, exact_line

MOST_SEEN, MOST_AMOUNTS = 1_000, 6
"""Rows by which it is judged before it is counted in all, and amounts that may be made so."""
MOST_NUMBERS, MOST_MONEY, MOST_COUNTS = 7, 3, 4
"""Numbers that an amount may be made of, how many of these may be amounts themselves, and how many of the others may be taken times
one another."""
DIFFERENT = 20
"""Different amounts that there must be."""


class _Part(NamedTuple):
    """Something that an amount may have so much for each of: what it is called, none of the fixed part, and the columns that it is,
    one times the other where there are two."""

    told: str
    names: tuple[str, ...]

    @property
    def sql(self) -> str:
        return " * ".join(map(quoted_name, self.names))

    def values(self, seen: Mapping[str, np.ndarray], n: int) -> np.ndarray:
        found: np.ndarray = np.prod([seen[name] for name in self.names], axis=0) * np.ones(n)
        return found


class _Made(NamedTuple):
    """The parts of an amount, each with what it is taken times, the quantity that all of it is for each of, and the least."""

    parts: tuple[tuple[_Part, str], ...]
    each: str | None
    floor: float | None

    @property
    def expression(self) -> str:
        """What the amount should be."""
        found = []
        for part, text in self.parts:
            times = [
                *([text] if text != "1" or not part.names else []),
                *([part.sql] if part.names else []),
            ]
            found.append(" * ".join(times))
        made = " + ".join(found).replace("+ -", "- ")
        made = made if self.each is None else f"{quoted_name(self.each)} * ({made})"
        return at_least(made, self.floor)

    @property
    def told(self) -> str:
        """``3.5, 1.2 times Km and 0.4 times Minutes``."""
        made = listed(
            [f"{text} times {part.told}" if part.names else text for part, text in self.parts]
        )
        made = made if self.each is None else f"{self.each} times ({made})"
        return f"{made}{floor_told(self.floor)}"


def fixed_and_each(
    population: Population,
    amounts: Sequence[Column],
    known: Mapping[str, str],
    summed: Sequence[str],
) -> Iterator[Proposal]:
    """The first of the amounts that are made so; ``known`` are those that another rule makes, each with its SQL, and ``summed`` is
    what columns come to together."""
    table = population.table
    mine = [c for c in amounts if c.name not in known][:MOST_AMOUNTS]
    numbers = _numbers(table, amounts)
    if not (mine and numbers) or population.account(None).used < LEAST:
        return
    quantity = table.role("quantity")
    every = {
        c.name: sql.column(c.name) for c in (*mine, *numbers, *([quantity] if quantity else []))
    }
    seen = first_numbers(population, every, MOST_SEEN)
    for own in mine:
        # What is made of the amount tells nothing of how that is made.
        name = quoted_name(own.name)
        of = [c for c in numbers if c != own and name not in known.get(c.name, "")]
        # Nor does what comes to something together with it.
        apart = [each for each in summed if name in each]
        of = [c for c in of if not any(quoted_name(c.name) in each for each in apart)]
        of = [c for c in of if _tells(seen[c.name])]
        made = next(
            (way for way in _ways(own, of, amounts, seen, quantity) if way is not None), None
        )
        if made is None:
            continue
        found = held(population, own, made.expression, made.told)
        if is_rule(found) and found.differing and found.hardly_differs:
            yield found.proposal(own.name, table.name, "what these make")
            return


def _numbers(table: Table, amounts: Sequence[Column]) -> list[Column]:
    """Numbers that an amount may be made of: those that are no amounts first."""
    none = {table.roles.get(role) for role in ("id", "document", "debit", "credit")}
    found = [c for c in table.numbers if c.name not in none]
    rest = [c for c in found if c not in amounts]
    return [*rest, *[c for c in found if c in amounts][:MOST_MONEY]][:MOST_NUMBERS]


def _tells(values: np.ndarray) -> bool:
    """Whether nearly all rows have a number, and not all the same."""
    known = ~np.isnan(values)
    return bool(known.mean() >= HOLDS and np.unique(values[known]).size > 1)


def _ways(
    own: Column,
    of: Sequence[Column],
    amounts: Sequence[Column],
    seen: Mapping[str, np.ndarray],
    quantity: Column | None,
) -> Iterator[_Made | None]:
    """How an amount is made of numbers: each by itself, for each of a quantity, or with two that count something times one another."""
    alone = [_Part(c.name, (c.name,)) for c in of]
    yield _made(own, alone, seen, None)
    if quantity is not None:
        yield _made(own, [part for part in alone if part.told != quantity.name], seen, quantity)
    counts = [c.name for c in of if c not in amounts][:MOST_COUNTS]
    both = [_Part(f"{a} times {b}", (a, b)) for a, b in combinations(counts, 2)]
    if both:
        yield _made(own, [*alone, *both], seen, None)


def _made(
    own: Column, of: Sequence[_Part], seen: Mapping[str, np.ndarray], each: Column | None
) -> _Made | None:
    """How an amount is made of these; None where it is by one of them alone, or a plain sum."""
    values = seen[own.name]
    floor = floor_of(values)
    rows = np.ones(len(values), dtype=bool) if floor is None else values > floor
    if not of or np.unique(values[rows & ~np.isnan(values)]).size < DIFFERENT:
        return None
    parts = [_Part("", ()), *of]
    columns = np.column_stack([part.values(seen, len(values)) for part in parts])
    if each is not None:
        columns *= seen[each.name][:, None]
    line = exact_line(values[rows], columns[rows], own.scale)
    if line is None:
        return None
    found = tuple(
        (part, as_written(taken))
        for part, taken in zip(parts, line.coefficients, strict=True)
        if taken
    )
    plain = all(part.names and text in ("1", "-1") for part, text in found)
    if len(found) < 2 or plain:
        return None
    return _Made(found, None if each is None else each.name, floor)
