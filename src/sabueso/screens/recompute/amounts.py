"""The amounts of two tables that may be the same, how these are asked for, and those of a table beside its own."""

from __future__ import annotations

from collections.abc import Iterator

from sabueso.base.plain import Values
from sabueso.population.table import Column, Role, Table
from sabueso.screens.no_amounts import is_no_amount
from sabueso.screens.proposal import settings_of
from sabueso.screens.recompute.totals import Sides

FEW, LACKING = 20, 0.01
"""Groups that one table lacks, and their share, up to which they are differences as well."""
NEED_NONE = 0.1
"""Share of the rows with nothing of an amount from which it is one that not all rows need."""
MOST_FURTHER = 4
"""Further amounts of a table that are compared."""


def among_both(n: int, both: int) -> str | None:
    """That groups which one side lacks are left out, where they are many, such as bills that are not paid yet."""
    return "both" if n - both > max(FEW, LACKING * n) else None


def tied_by(sides: Sides, among: str | None, where: str | None = None) -> Values:
    """The settings of sums that are to tie."""
    by, other_on = list(sides.by), list(sides.other_on)
    return settings_of(
        where=where, what="totals", by=by, equals=sides.equals, expect=sides.expect, other=sides.other,
        other_on=[] if by == other_on else other_on, among=among,
    )  # fmt: skip


def figures(table: Table, other: Table, role: Role) -> Iterator[tuple[str, str]]:
    """What may be the same of both: what has the role in each, and of money what has it in one and each further
    amount of the other, as an invoice has one before tax and one with it."""
    mine, theirs = table.role(role), other.role(role)
    if mine is None or theirs is None:
        return
    yield mine.name, theirs.name
    if role == "amount":
        for each in _with_fewer(other, theirs):
            yield mine.name, each.name
        for each in _with_fewer(table, mine):
            yield each.name, theirs.name


def further(table: Table, amount: Column, most: int = MOST_FURTHER) -> list[Column]:
    """Numbers with the decimals of the amount and no role, the first few; no rates or hours, whatever decimals they have."""
    free = _free(table)
    return [c for c in free if c.scale == amount.scale > 0 and not is_no_amount(c.name)][:most]


def _with_fewer(table: Table, amount: Column) -> list[Column]:
    """The same, and then those with fewer decimals, such as fees that are all whole."""
    alike = further(table, amount)
    fewer = [c for c in _free(table) if c.scale < amount.scale and not is_no_amount(c.name)]
    return [*alike, *fewer][:MOST_FURTHER]


def _free(table: Table) -> list[Column]:
    taken = set(table.roles.values())
    numbers = table.numbers
    return [c for c in numbers if c.name not in taken]
