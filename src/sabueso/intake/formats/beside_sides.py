"""An amount that stands beside a debit and a credit: their difference, or another figure of the row."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from typing import NamedTuple

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.intake.formats.deciding import Format
from sabueso.population.table import Role

NEARLY = 0.9
"""Share of the rows in which an amount is the difference of the sides from which it is that."""


class Beside(NamedTuple):
    """Of the first rows with a debit or a credit, in how many the amount is the debit less the credit, and in how many
    the credit less the debit."""

    rows: int
    same: int
    turned: int

    @classmethod
    def of(
        cls, roles: Mapping[Role, str], formats: Mapping[str, Format], sample: pa.Table
    ) -> Beside:
        debit, credit, amount = (
            _values(formats[roles[role]], sample.column(roles[role]))
            for role in ("debit", "credit", "amount")
        )
        differences = [
            ((d or 0) - (c or 0), a)
            for d, c, a in zip(debit, credit, amount, strict=True)
            if d is not None or c is not None
        ]
        same = sum(difference == a for difference, a in differences)
        turned = sum(a is not None and difference == -a for difference, a in differences)
        return cls(len(differences), same, turned)

    @property
    def is_difference(self) -> bool:
        return max(self.same, self.turned) >= NEARLY * self.rows


def _values(format: Format, texts: pa.ChunkedArray) -> list[Decimal | None]:
    trimmed = pc.utf8_trim_whitespace(texts.combine_chunks())
    empty = pc.equal(trimmed, "")
    found: list[Decimal | None] = format.read(
        pc.if_else(empty, pa.scalar(None, pa.string()), trimmed)
    ).to_pylist()
    return found


def leave_another_figure(
    guessed: dict[Role, str], formats: Mapping[str, Format], sample: pa.Table
) -> None:
    """Give the role amount to no figure that is not what a debit and a credit come to, such as one with its tax, where
    their difference can be made."""
    if not {"debit", "credit", "amount"} <= guessed.keys():
        return
    if any(name.lower() == "amount" for name in sample.column_names):
        return  # the difference would be called so
    if not Beside.of(guessed, formats, sample).is_difference:
        del guessed["amount"]
