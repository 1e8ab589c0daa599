"""Amounts of one kind that end sharply where those of other kinds go on, as they are proposed: cash up to a limit, what each
approver may approve."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.plain import Values
from sabueso.base.words import listed
from sabueso.population import expressions, sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Role
from sabueso.screens.first_rows import Coded, first_of_both
from sabueso.screens.proposal import Proposal, is_budget, settings_of, texts_without
from sabueso.stats.ending import LEAST, End, sharp_end

MOST_SEEN = 50_000
"""Rows by which it is judged."""
MOST_COLUMNS, MOST_KINDS = 8, 30
"""Columns of kinds, and kinds of one of them."""
FEW, FEW_OF_ALL, MOST_ABOVE = 3, 0.01, 10
"""Rows of a kind that may be above its limit, however few and however many it has, and their share."""
MOST_PROPOSED = 2
_NO_KIND: tuple[Role, ...] = ("id", "document", "text", "party")


class _Ending(NamedTuple):
    """Kinds of a column that end, each with its limit and its rows."""

    kind: str
    ends: Mapping[str, End]
    rows: int

    @property
    def limit(self) -> str:
        """The limit of each row that has one, as SQL."""
        each = " ".join(
            f"WHEN {literal(value)} THEN {end.limit:.12g}" for value, end in self.ends.items()
        )
        return f"CASE {quoted_name(self.kind)} {each} END"

    def settings(self, on: str) -> Values:
        """The plain limit of one kind, or that of each of several."""
        if len(self.ends) > 1:
            return settings_of(on=on, not_above=self.limit)
        ((value, end),) = self.ends.items()
        of_it = f"{quoted_name(self.kind)} = {literal(value)}"
        return settings_of(where=of_it, on=on, greatest=f"{end.limit:.12g}")

    @property
    def told(self) -> str:
        """``3,000 (Cash) and 500 (Voucher)``."""
        return listed([f"{end.limit:,.12g} ({value})" for value, end in self.ends.items()])


def proposed_ends(population: Population) -> Iterator[Proposal]:
    """The amounts of a table by a column of kinds, some of which end."""
    table = population.table
    amount = table.role("amount")
    if amount is None or is_budget(table) or population.where:
        return
    if population.account(None).used < 2 * LEAST:
        return
    kinds = texts_without(table, _NO_KIND)[:MOST_COLUMNS]
    if not kinds:
        return
    numbers, coded = first_of_both(
        population, {amount.name: sql.column(amount.name)}, kinds, MOST_SEEN
    )
    found = [
        ending
        for name in kinds
        if 2 <= len(coded[name].values) <= MOST_KINDS
        and (ending := _ending(name, coded[name], numbers[amount.name]))
    ]
    left = MOST_PROPOSED
    for ending in sorted(found, key=lambda each: -each.rows):
        proposal = _as_proposed(population, amount, ending)
        if left and proposal is not None:
            left -= 1
            yield proposal


def _ending(name: str, kinds: Coded, amounts: np.ndarray) -> _Ending | None:
    known = (amounts > 0) & (kinds.codes >= 0)
    ends: dict[str, End] = {}
    rows = 0
    for value, code in sorted((value, code) for code, value in enumerate(kinds.values)):
        own = known & (kinds.codes == code)
        n = int(own.sum())
        few = min(max(FEW, int(FEW_OF_ALL * n)), MOST_ABOVE)
        if n < LEAST:
            continue
        end = sharp_end(amounts[own], amounts[known & ~own], few)
        if end is not None:
            ends[value] = end
            rows += n
    return _Ending(name, ends, rows) if ends else None


def _as_proposed(population: Population, amount: Column, ending: _Ending) -> Proposal | None:
    """The limits held against all rows; None where more are above them than a few of each kind."""
    table = population.table
    limit, own = expressions.scalar(ending.limit, table, "--not-above"), sql.column(amount.name)
    fields = {
        "n": exp.Count(this=exp.Add(this=own, expression=limit.copy())),
        "out": sql.only(sql.count(), exp.GT(this=own.copy(), expression=limit)),
    }
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
    (row,) = population.query(population.used(select)).to_pylist()
    n, out = int(row["n"]), int(row["out"])
    if not 0 < out <= len(ending.ends) * MOST_ABOVE:
        return None
    one = next(iter(ending.ends)) if len(ending.ends) == 1 else None
    whose = f"its {ending.kind}" if one is None else f"{ending.kind} {one}"
    return Proposal(
        f"{amount.name} of {table.name} above where those of {whose} end",
        ending.settings(amount.name),
        f"Amounts of some kinds of {ending.kind} end sharply where others go on, as those do that have a limit.",
        f"{n - out:,} of {n:,} rows are within {ending.told}, and {out:,} above",
    )
