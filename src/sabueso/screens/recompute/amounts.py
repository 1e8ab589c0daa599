"""The amounts of two tables that may be the same, and those of a table beside its own."""

from __future__ import annotations

from collections.abc import Iterator

from sabueso.base.words import CalledSo
from sabueso.population.table import Column, Role, Table

_RATE = CalledSo(
    r"%|\brate\b|perc|\bpct\b|ratio\b|\btasa\b|porcen|prozent|zinssatz|steuersatz|\btaux\b|pourc|aliquota|tarief|stawka"
)
_HOURS = CalledSo(
    r"stunden$|\bhours?\b|\bhrs\b|\bheures\b|\bhoras\b|\buren\b|\bdays\b|\btage\b|\bjours\b|\bd[ií]as\b|\bgiorni\b|\bkm\b|\bkg\b"
)
FEW, LACKING = 20, 0.01
"""Groups that one table lacks, and their share, up to which they are differences as well."""
MOST_FURTHER = 4
"""Further amounts of a table that are compared."""


def figures(table: Table, other: Table, role: Role) -> Iterator[tuple[str, str]]:
    """What may be the same of both: what has the role in each, and of money what has it in one and each further
    amount of the other, as an invoice has one before tax and one with it."""
    mine, theirs = table.role(role), other.role(role)
    if mine is None or theirs is None:
        return
    yield mine.name, theirs.name
    if role == "amount":
        for each in further(other, theirs):
            yield mine.name, each.name
        for each in further(table, mine):
            yield each.name, theirs.name


def further(table: Table, amount: Column, most: int = MOST_FURTHER) -> list[Column]:
    """Numbers with the decimals of the amount and no role, the first few; no rates or hours, whatever decimals they have."""
    taken = set(table.roles.values())
    alike = [c for c in table.columns if c.type == "number" and c.scale == amount.scale > 0]
    free = [c for c in alike if c.name not in taken]
    return [c for c in free if not (_RATE.search(c.name) or _HOURS.search(c.name))][:most]
