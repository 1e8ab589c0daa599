"""Leading digits of a measure against their expected proportions."""

from __future__ import annotations

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
from sabueso.screens.suitability import digit_cautions
from sabueso.stats.adjust import adjust
from sabueso.stats.digits import DigitFit, DigitTest, fit_digits, mantissa_arc
from sabueso.stats.hypergeometric import upper_tail

MANTISSA_STEPS = 10**9  # cosines are summed in whole steps: the same sum in any order
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

        keys, n, not_tested, mantissa = _groups(population, base, groups, settings.min_group)
        classes, amounts = _class_counts(population, base, groups, keys, settings.digits)
        described: list[dict[str, Any]] = []
        fit: DigitFit | None = None
        if keys:
            fit = fit_digits(
                classes,
                settings.digits,
                z_limit=None if settings.z_limit is None else float(settings.z_limit),
                alpha=settings.alpha,
                tolerance=settings.tolerance,
                adjustment=settings.adjust,
            )
            described = [
                _described(i, key, fit, classes[i], amounts[i], mantissa[i], measure.scale)
                for i, key in enumerate(keys)
            ]
        cautions = digit_cautions(population, measure, base, account, settings.digits, n)
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
            not_tested=not_tested,
            currency=table.currency,
            scale=measure.scale,
        )


def class_text(test: str, value: int) -> str:
    """A class as it is written: 07 among the last two digits."""
    return f"{value:02d}" if test == "last-two" else str(value)


def _below_ten(measure: Column) -> Reason:
    size = exp.Abs(this=sql.column(measure.name))
    return Reason("below_10", exp.LT(this=size, expression=sql.integer(10)))


def _groups(
    population: Population, base: exp.Select, groups: Grouping, least: int
) -> tuple[list[dict[str, Any]], int, list[NotTested], list[tuple[float, float]]]:
    """Keys of the groups tested, all rows used, groups not tested, mantissa sums of the tested."""
    angle = exp.Mul(
        this=exp.Literal.number(repr(2 * np.pi)),
        expression=sql.call("LOG10", sql.cast(sql.magnitude(sql.column(UNITS, "b")), "DOUBLE")),
    )

    def steps(function: str) -> Tree:
        scaled = exp.Mul(
            this=sql.call(function, angle.copy()), expression=sql.integer(MANTISSA_STEPS)
        )
        return sql.exact_sum(sql.cast(exp.Round(this=scaled), "BIGINT"))

    fields = {"n": sql.count(), "cos": steps("COS"), "sin": steps("SIN")}
    result = population.query(grp.per_group(base, groups, fields))
    keys, not_tested, mantissa, total = [], [], [], 0
    for key, row in zip(groups.keys(result), result.to_pylist(), strict=True):
        n = row["n"]
        total += n
        if n == 0:
            continue
        if groups.labels and n < least:
            not_tested.append(NotTested(key, f"only {n} rows; at least {least} are needed", n))
            continue
        keys.append(key)
        mantissa.append((int(row["cos"]) / MANTISSA_STEPS, int(row["sin"]) / MANTISSA_STEPS))
    return keys, total, not_tested, mantissa


def _class_counts(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    keys: list[dict[str, Any]],
    test: DigitTest,
) -> tuple[np.ndarray, list[list[int]]]:
    """Count and exact sum of minor units of each class, one row a group."""
    first, size = {
        "first": (1, 9),
        "second": (0, 10),
        "first-two": (10, 90),
        "first-three": (100, 900),
        "last-two": (0, 100),
    }[test]
    index = {tuple(key.values()): i for i, key in enumerate(keys)}
    counts = np.zeros((len(keys), size), dtype=np.int64)
    amounts = [[0] * size for _ in keys]
    digit = exp.alias_(sql.digit_class(sql.column(UNITS), test), "digit", quoted=True)
    inner = exp.select(*groups.columns(), digit, sql.column(UNITS)).from_(base.subquery("a"))
    wanted: list[Tree] = [*groups.columns(), sql.column("digit")]
    wanted += [
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.exact_sum(sql.column(UNITS)), "total"),
    ]
    select = exp.select(*wanted).from_(inner.subquery("b"))
    result = population.query(select.group_by(*groups.columns(), sql.column("digit")))
    for key, row in zip(groups.keys(result), result.to_pylist(), strict=True):
        place = index.get(tuple(key.values()))
        if place is not None:
            counts[place, row["digit"] - first] = row["n"]
            amounts[place][row["digit"] - first] = int(row["total"])
    return counts, amounts


def _described(
    i: int,
    key: dict[str, Any],
    fit: DigitFit,
    counts: np.ndarray,
    amounts: list[int],
    mantissa: tuple[float, float],
    scale: int,
) -> dict[str, Any]:
    n = int(fit.n[i])
    l2, l2_p = mantissa_arc(n, *mantissa)
    total = sum(amounts)
    classes = [
        {
            "digits": class_text(fit.test, int(label)),
            "count": int(counts[k]),
            "share": float(fit.share[i, k]),
            "expected": float(fit.expected[k]),
            "difference": 100 * float(fit.share[i, k] - fit.expected[k]),
            "ratio": float(fit.share[i, k] / fit.expected[k]),
            "z": float(fit.z[i, k]),
            "p": float(fit.p[i, k]),
            "p_adjusted": float(fit.p_adjusted[i, k]),
            "band_low": float(fit.band_low[i, k]),
            "band_high": float(fit.band_high[i, k]),
            "amount": money(amounts[k], scale),
            "amount_share": amounts[k] / total if total else None,
            "flagged": bool(fit.flagged[i, k]),
        }
        for k, label in enumerate(fit.labels)
    ]
    return {
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
        "classes": classes,
    }


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
