"""Leading digits of a measure against their expected proportions."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field

from sabueso.population import expressions, sql
from sabueso.population.population import Population, Reason, missing, zero
from sabueso.population.sql import Tree
from sabueso.population.table import Column, money
from sabueso.screens import grouping as grp
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.interface import GROUP, SUBJECT, Finding, Flags, NotTested
from sabueso.screens.settings import MeasureSettings
from sabueso.screens.suitability import (
    STAGED,
    AmountFacts,
    Amounts,
    digit_cautions,
    distinct_amounts,
)
from sabueso.stats.adjust import adjust
from sabueso.stats.digits import DigitFit, DigitTest, fit_digits, mantissa_arc
from sabueso.stats.hypergeometric import upper_tail

# Cosines are summed in whole steps: the same sum in any order, and on engines whose cosines differ in
# the last bit. What that rounds off is far below the chance of the test.
MANTISSA_STEPS = 10**7
CLASS_FUNCTION = {
    "first": "first_digit",
    "second": "second_digit",
    "first-two": "first_two",
    "first-three": "first_three",
    "last-two": "last_two",
}


class DigitsSettings(MeasureSettings):
    """Settings of ``digits``."""

    digits: DigitTest = Field("first", description="which digits are counted")
    z_limit: Decimal | None = Field(
        None, gt=0, description="a flagged class must also pass this |z| (for example 1.96)"
    )
    alpha: float = Field(
        0.05, gt=0, lt=1, description="a flagged class has an adjusted p below this"
    )
    tolerance: float | None = Field(
        None, gt=0, description="band of ± this per cent of the expected share, not the default"
    )
    by_whom: str | None = Field(
        None, description="column whose values may be behind a flagged class: preparer, supplier"
    )
    min_group: int = Field(50, ge=1, description="rows below which a group is not tested")


class Digits:
    """First, second, first-two, first-three and last-two digits."""

    name = "digits"
    summary = "leading digits that occur more or less often than they should"
    reference = (
        "Benford, F. (1938), Proceedings of the American Philosophical Society 78, 551-572; "
        "Nigrini, M. J. (2012), Benford's Law, Wiley; Fleiss, J. L. (1981), Statistical Methods "
        "for Rates and Proportions"
    )
    settings = DigitsSettings

    def run(self, population: Population, settings: DigitsSettings) -> Finding:
        table = population.table
        measure = table.measure(settings.on)
        groups = Grouping.of(settings.by, table)
        reasons = [missing(measure), zero(measure)]
        if settings.digits == "last-two":
            reasons.append(_below_ten(measure))
        account = population.account(measure, reasons)
        values = {**groups.values(), UNITS: sql.minor_units(measure)}
        base = population.base(values, reasons)
        with population.staged(STAGED, distinct_amounts(base)):
            counted = _count(population, base, measure, groups, settings)
            cautions = digit_cautions(
                population, measure, base, account, settings.digits, counted.facts
            )
        keys = counted.keys
        described: list[dict[str, Any]] = []
        fit: DigitFit | None = None
        if keys:
            fit = fit_digits(
                counted.classes,
                settings.digits,
                z_limit=None if settings.z_limit is None else float(settings.z_limit),
                alpha=settings.alpha,
                tolerance=settings.tolerance,
                adjustment=settings.adjust,
            )
            described = _described(counted, fit, measure.scale)
        flags = _flags(keys, fit, described, settings.digits, measure)
        if settings.by_whom and fit is not None and len(flags):
            behind = _behind(population, base, values, reasons, groups, keys, fit, settings)
            for group, classes_behind in zip(described, behind, strict=True):
                group["behind"] = classes_behind
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=list(groups.labels),
            settings=settings.model_dump(),
            population=account,
            groups=described,
            flags=flags,
            tests_made=0 if fit is None else fit.z.size,
            cautions=cautions,
            not_tested=counted.not_tested,
            currency=table.currency,
            scale=measure.scale,
        )


def class_text(test: str, value: int) -> str:
    """A class as it is written: 07 among the last two digits."""
    return f"{value:02d}" if test == "last-two" else str(value)


def _below_ten(measure: Column) -> Reason:
    size = exp.Abs(this=sql.column(measure.name))
    return Reason("below_10", exp.LT(this=size, expression=sql.integer(10)))


@dataclass(frozen=True)
class _Counted:
    """Classes of the groups tested.

    ``classes`` (groups, classes) are counts, ``amounts`` the exact sums of minor units as Python
    integers, ``mantissa`` (groups, 2) the sums of cosines and sines. ``facts`` are of all rows
    used, whatever their group.
    """

    keys: list[dict[str, Any]]
    classes: np.ndarray
    amounts: np.ndarray
    mantissa: np.ndarray
    facts: AmountFacts
    not_tested: list[NotTested]


CLASS_RANGE = {
    "first": (1, 9),
    "second": (0, 10),
    "first-two": (10, 90),
    "first-three": (100, 900),
    "last-two": (0, 100),
}
"""The least class of each test, and how many there are."""


def _count(
    population: Population,
    base: exp.Select,
    measure: Column,
    groups: Grouping,
    settings: DigitsSettings,
) -> _Counted:
    """Everything of a class in one pass over the rows; groups and cautions are made from that."""
    units, size = sql.column(UNITS), sql.column("size")
    if groups.labels:
        sized = exp.select(*groups.columns(), units, exp.alias_(sql.magnitude(units), "size"))
        amounts = Amounts(sized.from_(base.subquery("a")).subquery("s"), distinct=False)
    else:
        amounts = Amounts(exp.to_table(STAGED), distinct=True)
    digit = exp.alias_(sql.digit_class(units.copy(), settings.digits), "digit", quoted=True)
    carried = [units.copy(), size, *([sql.column("n")] if amounts.distinct else [])]
    inner = exp.select(*groups.columns(), *carried, digit).from_(amounts.source)
    fields = {"total": amounts.sum(units.copy()), **amounts.facts(measure.scale)}
    fields |= {name: amounts.sum(_steps(name, size)) for name in ("cos", "sin")}
    keys = [*groups.columns(), sql.column("digit")]
    select = exp.select(
        *keys, *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items())
    )
    select = select.from_(inner.subquery("b")).group_by(*(key.copy() for key in keys))
    found = population.query(select.order_by(*(sql.ordered(key.copy()) for key in keys)))

    group = grp.runs(found, groups.names)
    n = np.array(grp.integers(found, "n"), dtype=np.int64)
    starts = np.flatnonzero(np.diff(group, prepend=-1))
    sizes = np.add.reduceat(n, starts) if len(n) else np.empty(0, np.int64)
    names = groups.keys(found.take(pa.array(starts)))
    least = settings.min_group if groups.labels else 1
    tested = np.flatnonzero(sizes >= least)
    not_tested = [
        NotTested(names[i], f"only {sizes[i]} rows; at least {least} are needed", int(sizes[i]))
        for i in np.flatnonzero(sizes < least).tolist()
    ]
    first, count = CLASS_RANGE[settings.digits]
    classes = np.zeros((len(names), count), dtype=np.int64)
    totals = np.zeros((len(names), count), dtype=object)
    at = group, found.column("digit").to_numpy() - first
    classes[at] = n
    totals[at] = grp.integers(found, "total")
    mantissa = [
        np.add.reduceat(np.array(grp.integers(found, name)), starts) / MANTISSA_STEPS
        if len(n)
        else np.empty(0)
        for name in ("cos", "sin")
    ]
    return _Counted(
        [names[i] for i in tested.tolist()],
        classes[tested],
        totals[tested],
        np.column_stack(mantissa)[tested],
        AmountFacts.of(found),
        not_tested,
    )


def _steps(function: str, size: Tree) -> Tree:
    """cos or sin of 2π·log10 |x|, in whole steps."""
    turn = exp.Literal.number(repr(2 * np.pi))
    angle = exp.Mul(this=turn, expression=sql.call("LOG10", sql.cast(size.copy(), "DOUBLE")))
    scaled = exp.Mul(this=sql.call(function, angle), expression=sql.integer(MANTISSA_STEPS))
    return sql.cast(exp.Round(this=scaled), "BIGINT")


def _described(counted: _Counted, fit: DigitFit, scale: int) -> list[dict[str, Any]]:
    """The groups in the JSON contract's shape."""
    labels = [class_text(fit.test, int(label)) for label in fit.labels]
    expected = fit.expected.tolist()
    difference = (100 * (fit.share - fit.expected)).tolist()
    ratio = (fit.share / fit.expected).tolist()
    columns = [
        values.tolist()
        for values in (
            counted.classes, fit.share, fit.z, fit.p, fit.p_adjusted, fit.band_low, fit.band_high,
            counted.amounts, fit.flagged,
        )
    ]  # fmt: skip
    described = []
    for i, key in enumerate(counted.keys):
        n = int(fit.n[i])
        l2, l2_p = mantissa_arc(n, *counted.mantissa[i].tolist())
        total = sum(columns[7][i])
        rows = zip(labels, expected, difference[i], ratio[i], *(c[i] for c in columns), strict=True)
        described.append(
            {
                "group": key,
                "n": n,
                "chi_square": float(fit.chi_square[i]),
                "chi_square_df": fit.chi_square_df,
                "chi_square_p": float(fit.chi_square_p[i]),
                "mad": float(fit.mad[i]),
                "mad_expected": float(fit.mad_expected[i]),
                "conformity": fit.conformity[i],
                "ks": float(fit.ks[i]),
                "ks_limit": float(fit.ks_limit[i]),
                "mantissa_l2": l2,
                "mantissa_p": l2_p,
                "classes": [
                    {
                        "digits": label,
                        "count": count,
                        "share": share,
                        "expected": wanted,
                        "difference": points,
                        "ratio": times,
                        "z": z,
                        "p": p,
                        "p_adjusted": p_adjusted,
                        "band_low": low,
                        "band_high": high,
                        "amount": money(amount, scale),
                        "amount_share": amount / total if total else None,
                        "flagged": flagged,
                    }
                    for (
                        label, wanted, points, times, count, share, z, p, p_adjusted, low, high,
                        amount, flagged,
                    ) in rows
                ],
            }
        )  # fmt: skip
    return described


def _flags(
    keys: list[dict[str, Any]],
    fit: DigitFit | None,
    described: list[dict[str, Any]],
    test: str,
    measure: Column,
) -> Flags:
    """Flagged classes, largest |z| first."""
    rows = []
    if fit is not None:
        where = np.argwhere(fit.flagged)
        strength = np.abs(fit.z[fit.flagged])
        for i, k in where[np.argsort(-strength, kind="stable")].tolist():
            item = described[i]["classes"][k]
            row = {f"{SUBJECT}on": measure.name, SUBJECT + test: item["digits"]}
            row |= {SUBJECT + label: value for label, value in keys[i].items()}
            row |= {GROUP + label: value for label, value in keys[i].items()}
            low, high = item["band_low"], item["band_high"]
            row |= {
                "score": item["z"],
                "limit": (high if item["share"] > high else low),
                "direction": "high" if item["share"] > item["expected"] else "low",
                "p": item["p"],
                "p_adjusted": item["p_adjusted"],
                "amount": item["amount"],
                "count": item["count"],
                "share": item["share"],
                "expected": item["expected"],
            }
            rows.append(row)
    return Flags("class", pa.Table.from_pylist(rows) if rows else pa.table({}))


def _behind(
    population: Population,
    base: exp.Select,
    values: dict[str, Tree],
    reasons: list[Reason],
    groups: Grouping,
    keys: list[dict[str, Any]],
    fit: DigitFit,
    settings: DigitsSettings,
) -> list[list[dict[str, Any]]]:
    """For each group, who stands behind each class flagged as too frequent.

    The upper tail is hypergeometric: of N rows, K are of this value; the class took k of its n.
    p is adjusted over all values of all flagged classes.
    """
    who = expressions.scalar(settings.by_whom or "", population.table, "by_whom")
    inner = population.base({**values, "who": who}, reasons)
    digit = sql.digit_class(sql.column(UNITS, "b"), settings.digits)
    named = exp.select(
        *(sql.column(name, "b") for name in groups.names),
        sql.column("who", "b"),
        exp.alias_(digit, "digit"),
    ).from_(inner.subquery("b"))
    fields: list[Tree] = [*groups.columns(), sql.column("who"), sql.column("digit")]
    select = exp.select(*fields, exp.alias_(sql.count(), "n")).from_(named.subquery("c"))
    counted = population.query(select.group_by(*fields))
    index = {tuple(key.values()): i for i, key in enumerate(keys)}
    per_who: list[dict[Any, int]] = [{} for _ in keys]
    per_class: list[dict[tuple[Any, int], int]] = [{} for _ in keys]
    for key, row in zip(groups.keys(counted), counted.to_pylist(), strict=True):
        i = index.get(tuple(key.values()))
        if i is not None:
            per_who[i][row["who"]] = per_who[i].get(row["who"], 0) + row["n"]
            per_class[i][row["who"], row["digit"]] = row["n"]
    found: list[list[dict[str, Any]]] = [[] for _ in keys]
    for i, k in np.argwhere(fit.flagged & (fit.share > fit.expected)).tolist():
        label, n = int(fit.labels[k]), int(fit.n[i])
        inside = round(float(fit.share[i, k]) * n)
        for value, of_all in per_who[i].items():
            count = per_class[i].get((value, label), 0)
            if count:
                found[i].append(
                    {
                        "digits": class_text(settings.digits, label),
                        "value": value,
                        "count": count,
                        "share_of_class": count / inside,
                        "share_of_population": of_all / n,
                        "p": upper_tail(count, n, of_all, inside),
                    }
                )
    family = [item for items in found for item in items]
    for item, p in zip(family, adjust([f["p"] for f in family], settings.adjust), strict=True):
        item["p_adjusted"] = float(p)
    for items in found:
        items.sort(key=lambda item: (item["p"], -item["count"]))
    return found
