"""Amounts in several currencies are refused: each beside its digits, or in the formats of a workbook's cells."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Mapping
from typing import NoReturn

from sabueso.base.currencies import of_one_currency
from sabueso.base.errors import UserError
from sabueso.base.words import listed
from sabueso.intake.formats.numbers import units_of
from sabueso.intake.interface import Layout
from sabueso.intake.settings import ReadSettings
from sabueso.population.table import Role


def refuse_currencies(name: str, values: list[str], settings: ReadSettings) -> None:
    """Refuse amounts that each state another currency.

    Raises
    ------
    UserError
        If most of them do, and no type is given.
    """
    units = units_of(Counter(values))
    several = len(units) > 1 and not of_one_currency(units)
    if several and 2 * units.total() > len(values) and name not in settings.types:
        refuse_units(name, units, len(values), "text")


def refuse_shown(layout: Layout, roles: Mapping[Role, str], settings: ReadSettings) -> None:
    """Refuse amounts whose cells are shown in several currencies, where no column names the currency of each.

    Raises
    ------
    UserError
        If they are, and no type is given.
    """
    if "currency" in roles or settings.rates:
        return
    for role in ("amount", "debit", "credit"):
        name = roles.get(role, "")
        shown = layout.units.get(name, {})
        if shown and not of_one_currency(shown) and name not in settings.types:
            refuse_units(name, Counter(shown), sum(shown.values()), "number")


def refuse_units(name: str, units: Counter[str], many: int, kind: str) -> NoReturn:
    """Refuse amounts in several currencies; as a column of ``kind`` they would be taken."""
    shown = listed([f"{unit} ({count} of {many})" for unit, count in units.most_common(3)])
    else_ = "keep the column as text" if kind == "text" else "say that they are in one"
    raise UserError(
        f"column {name!r} holds amounts in {shown}: amounts of several currencies are never added up; give "
        f"the currency a column of its own, or {else_}: "
        f'types = {{ {json.dumps(name, ensure_ascii=False)} = "{kind}" }} under read'
    )
