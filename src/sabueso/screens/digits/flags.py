"""Flagged classes: their key, their figures and the condition of their rows."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa

from sabueso.base.plain import ByColumn, Cells
from sabueso.population.calendar import Span
from sabueso.population.expressions import equals, label, quoted_name
from sabueso.population.table import Column, Table
from sabueso.screens.digits.classes import (
    asked_conditions,
    class_condition,
)
from sabueso.screens.digits.detail import carrier
from sabueso.screens.digits.result import DigitChange, DigitGroup
from sabueso.screens.digits.settings import DigitsSettings
from sabueso.screens.finding import Flags
from sabueso.screens.subject import Class, own_key, own_name
from sabueso.stats.digits import DigitFit


def flagged_classes(
    keys: list[ByColumn],
    fit: DigitFit | None,
    described: list[DigitGroup],
    settings: DigitsSettings,
    measure: Column,
    table: Table,
) -> Flags:
    """Flagged classes, largest |z| first; of a class that somebody carries, his rows."""
    rows, test = [], settings.digits
    by_whom = label(settings.by_whom, table) if settings.by_whom else ""
    if fit is not None:
        where = np.argwhere(fit.flagged)
        strength = np.abs(fit.z[fit.flagged])
        for i, k in where[np.argsort(-strength, kind="stable")].tolist():
            item = described[i].classes[k]
            who = carrier(item, described[i].behind or [], described[i].n, settings.alpha)
            named = {} if who is None else {by_whom: who.value}
            own = class_key(measure.name, test, item.digits, {**keys[i], **named})
            row: Cells = {"subject": own, "who": named}
            if keys[i]:
                row["group"] = keys[i]
            low, high = item.band_low, item.band_high
            row |= {
                "score": item.z,
                "limit": (high if item.share > high else low),
                "direction": "high" if item.share > item.expected else "low",
                "p": item.p,
                "p_adjusted": item.p_adjusted,
                "amount": item.amount if who is None else who.amount,
                "count": item.count if who is None else who.count,
                "share": item.share,
                "expected": item.expected,
            }
            rows.append(row)
    if not any(row["who"] for row in rows):
        rows = [{name: value for name, value in row.items() if name != "who"} for row in rows]
    found = pa.Table.from_pylist(rows) if rows else pa.table({})
    return Flags("class", found, partial(class_subject, measure.name, settings))


def change_flags(
    described: list[DigitGroup],
    change: DigitChange | None,
    settings: DigitsSettings,
    measure: Column,
) -> Flags:
    """Classes of the second period whose share changed, largest |z| first."""
    if change is None:
        return Flags("class", pa.table({}))
    second = settings.compare[1]
    counts = {c.digits: c for c in described[1].classes}
    rows = []
    changed = [c for c in change.classes if c.flagged]
    for item in sorted(changed, key=lambda c: -abs(c.z)):
        now = counts[item.digits]
        rows.append(
            {
                "subject": class_key(
                    measure.name, settings.digits, item.digits, {"period": second}
                ),
                "group": {"period": second},
                "score": item.z,
                "limit": item.before,
                "direction": "high" if item.z > 0 else "low",
                "p": item.p,
                "p_adjusted": item.p_adjusted,
                "amount": now.amount,
                "count": now.count,
                "share": item.after,
                "expected": item.before,
            }
        )
    found = pa.Table.from_pylist(rows) if rows else pa.table({})
    return Flags("class", found, partial(class_subject, measure.name, settings))


def class_key(on: str, test: str, digits: str, group: Mapping[str, Any]) -> ByColumn:
    """The key of a class: the column measured, the class, and the group it is of."""
    return {own_name("on", group): on, own_name(test, group): digits, **group}


def class_subject(
    on: str, settings: DigitsSettings, flag: Mapping[str, Any], where: str | None, table: Table
) -> Class:
    """The subject of a flagged class, with the condition of its rows."""
    named, group = flag["subject"], flag.get("group") or {}
    digits = named[own_key(settings.digits, named)]
    # A class that nobody carries alone has no such part in its key.
    without = {n for n, v in (flag.get("who") or {}).items() if v is None}
    key = {name: value for name, value in named.items() if name not in without}
    columns = [c.name for c in table.columns]
    parts = [class_condition(on, settings.digits, digits)]
    for name, value in group.items():
        if settings.compare:
            span = Span.of(value, table.fiscal_year_starts)
            parts.append(span.condition(quoted_name(table.roles["date"])))
        else:
            parts.append(equals(name, value, columns))
    who = {name: value for name, value in (flag.get("who") or {}).items() if value is not None}
    parts += [equals(name, value, columns) for name, value in who.items()]
    parts += asked_conditions(on, settings.model_dump())
    parts += [f"({where})"] if where else []
    name = f"{settings.digits} {digits} · {on}"
    return Class(key, name, {**group, **who}, " and ".join(parts))
