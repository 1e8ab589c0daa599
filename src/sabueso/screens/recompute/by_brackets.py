"""Amounts by brackets of another number, as they are proposed: a commission of 25 per cent up to a limit and 20 of what is above, a
price by how many are bought, a fee that is never more than so much."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from sabueso.base.words import listed
from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, settings_of
from sabueso.screens.recompute.one_rate import CLEAN, as_written, one_rate
from sabueso.screens.recompute.priced import Priced, held, is_rule
from sabueso.stats.additive import same_but_rounded
from sabueso.stats.brackets import Bracket, brackets

MOST_SEEN, FIRST = 20_000, 1_000
"""Rows in which brackets are looked for before they are counted in all, and those by which it is judged whether to."""
DIFFERENT = 20
"""Different numbers that there must be."""
MOST_AMOUNTS, MOST_BASES = 8, 10
"""Amounts that may be by brackets, and numbers that these may be of."""
A_PART = 0.5
"""Rate up to which an amount is rather a part of a number than what is left of it."""


class ByBrackets(NamedTuple):
    """An amount, the number that it is by brackets of, these, and whether rows with nothing of the number have another."""

    own: Column
    of: Column
    brackets: Sequence[Bracket]
    some: bool = False

    @property
    def where(self) -> str | None:
        """The rows that this is said of."""
        return f"{quoted_name(self.of.name)} > 0" if self.some else None

    @property
    def _is_whole(self) -> bool:
        """Whether each bracket goes on where the one before it ends, so that what is above alone has its rate."""
        return all(
            abs(a.rate * a.up_to + a.fixed - b.rate * a.up_to - b.fixed)
            < 10.0**-self.own.scale / 1000
            for a, b in pairwise(self.brackets)
        )

    @property
    def expression(self) -> str:
        """What the amount should be."""
        of = quoted_name(self.of.name)
        first, *_, last = self.brackets
        # A row without the number has no amount by it, whatever the least of nothing and a limit is.
        if not self._is_whole or not last.rate:
            *each, before = self.brackets[:-1]
            ways = [
                f"WHEN {of} <= {as_written(b.up_to)} THEN {_made(b, of)}" for b in (*each, before)
            ]
            return f"CASE {' '.join(ways)} WHEN {of} > {as_written(before.up_to)} THEN {_made(last, of)} END"
        ends = [f"least({of}, {as_written(b.up_to)})" for b in self.brackets[:-1]]
        steps = [ends[0], *(f"({b} - {a})" for a, b in pairwise([*ends, of]))]
        made = [
            f"{as_written(b.rate)} * {step}"
            for b, step in zip(self.brackets, steps, strict=True)
            if b.rate
        ]
        return " + ".join([*made, as_written(first.fixed)] if first.fixed else made)

    @property
    def told(self) -> str:
        """``0.25 of Price up to 50,000 and 0.2 of what is above``."""
        first, *rest = self.brackets
        of = self.of.name
        if not self._is_whole or not rest[-1].rate:
            each = [f"{_told(b, of)} up to {as_written(b.up_to, ',')}" for b in self.brackets[:-1]]
            return listed([*each, f"{_told(rest[-1], of)} above"])
        begun = f"{as_written(first.rate)} of {of}" if first.rate else "nothing"
        each = [f"{begun} up to {as_written(first.up_to, ',')}"]
        each += [
            f"{as_written(b.rate)} of what is above up to {as_written(b.up_to, ',')}"
            for b in rest[:-1]
        ]
        each += [f"{as_written(rest[-1].rate)} of what is above"]
        fixed = f", with {as_written(first.fixed, ',')}" if first.fixed else ""
        return listed(each) + fixed

    def tells(self, own: Column, values: np.ndarray, of: np.ndarray, made: np.ndarray) -> bool:
        """Whether an amount that seems one multiple of the same number is not so beyond the first limit: what it is made of
        goes by brackets."""
        beyond = (of > self.brackets[0].up_to) & ~(np.isnan(values) | np.isnan(made))
        if not beyond.any():
            return False
        return bool(same_but_rounded(values, made, own.scale)[beyond].mean() < A_PART)


def _made(bracket: Bracket, of: str) -> str:
    fixed = f"{as_written(abs(bracket.fixed))}" if bracket.fixed or not bracket.rate else ""
    sign = "-" if bracket.fixed < 0 else "+"
    if not bracket.rate:
        return f"-{fixed}" if bracket.fixed < 0 else fixed
    made = of if bracket.rate == 1 else f"{as_written(bracket.rate)} * {of}"
    return f"{made} {sign} {fixed}" if fixed else made


def _told(bracket: Bracket, of: str) -> str:
    if not bracket.rate:
        return as_written(bracket.fixed, ",") if bracket.fixed else "nothing"
    times = f"{as_written(bracket.rate)} of {of}"
    if not bracket.fixed:
        return times
    word = "less" if bracket.fixed < 0 else "and"
    return f"{times} {word} {as_written(abs(bracket.fixed), ',')}"


def by_brackets(
    population: Population, amounts: Sequence[Column], rated: Sequence[str]
) -> Iterator[tuple[ByBrackets, Priced]]:
    """Amounts of a row that are one line up to a limit and another beyond it, along another of its numbers: one for each
    number. What is ``rated`` is told by something else."""
    table = population.table
    none = {table.roles.get(role) for role in ("id", "document", "price")}
    numbers = table.numbers
    others = [c for c in numbers if c.name not in none and c not in amounts]
    bases = [*amounts, *others][:MOST_BASES]
    mine = [c for c in amounts if c.name not in rated][:MOST_AMOUNTS]
    if not mine or population.account(None).used < LEAST_OF_RULE:
        return
    every = {c.name: sql.column(c.name) for c in (*mine, *bases)}
    seen = first_numbers(population, every, MOST_SEEN)
    parts = {own.name: _whole_of(own, bases, seen) for own in mine}
    found = [
        ByBrackets(own, of, made)
        for of in bases
        for own in mine
        if own.name != of.name
        and parts[own.name] <= {of.name}
        and (made := _brackets(seen[own.name], seen[of.name], own.scale))
        # Of an amount it is a part, and what that was a part of is told the other way round.
        and (of.scale < own.scale or max(abs(b.rate) for b in made) <= 1)
    ]

    def rank(way: ByBrackets) -> tuple[bool, float, float, int]:
        # Of a premium, its tax and what is left of the price the premium is what the brackets are of.
        steepest = max(abs(b.rate) for b in way.brackets)
        # And of the price and what is due the price has the plainer limits.
        digits = sum(len(as_written(b.up_to).strip("0")) for b in way.brackets[:-1])
        return steepest > A_PART, -steepest, -max(abs(b.fixed) for b in way.brackets), digits

    told: set[str] = set()
    for way in sorted(found, key=rank):
        if told & {way.own.name, way.of.name}:
            continue
        nothing = seen[way.of.name] <= 0
        some = bool((seen[way.own.name] != way.brackets[0].fixed)[nothing].any())
        way = way._replace(some=some)
        rows = replace(population, where=way.where) if some else population
        priced = held(rows, way.own, way.expression, way.told)
        if is_rule(priced) and priced.hardly_differs:
            told |= {way.own.name, way.of.name}
            yield way, priced


def _whole_of(own: Column, bases: Sequence[Column], seen: Mapping[str, np.ndarray]) -> set[str]:
    """The numbers of which an amount is one part nearly everywhere, a tax of its net: it goes by brackets of nothing else."""
    rates = ((of, one_rate(seen[own.name], seen[of.name], own.scale)) for of in bases if of != own)
    return {
        of.name for of, rate in rates if rate and rate.holds >= CLEAN and abs(float(rate.text)) <= 1
    }


def _brackets(own: np.ndarray, of: np.ndarray, scale: int) -> list[Bracket]:
    known = ~(np.isnan(own) | np.isnan(of)) & (of > 0)
    if known.sum() < LEAST_OF_RULE or np.unique(of[known]).size < DIFFERENT:
        return []
    if len(own) > FIRST and not brackets(own[:FIRST], of[:FIRST], scale):
        # The upper brackets may be of few rows, which are in none of the first ones.
        ordered = np.argsort(of[known])
        some = np.concatenate((ordered[:: max(len(ordered) // FIRST, 1)], ordered[-FIRST // 4 :]))
        if not brackets(own[known][some], of[known][some], scale):
            return []
    found = brackets(own, of, scale)
    # A minimum alone is told as such.
    if len(found) == 2 and not found[0].rate and found[0].fixed:
        return []
    return found


def bracketed(table: str, way: ByBrackets, priced: Priced) -> Proposal:
    """The screen of an amount that is by brackets of another number."""
    own = way.own.name
    return Proposal(
        f"{own} of {table} by brackets of {way.of.name}",
        settings_of(where=way.where, **priced.proposal(own, table, "").settings),
        f"Rows whose {own} is not what the brackets of {way.of.name} make it.",
        f"{priced.because}: {way.told}",
    )
