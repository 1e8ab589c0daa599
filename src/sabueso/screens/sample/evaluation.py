"""What the reviews of a sample say of all that it was drawn of."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from math import ceil
from typing import Any

import numpy as np

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.screens.drawn import Judged
from sabueso.screens.finding import Caution, Finding
from sabueso.screens.sample.result import Draw, SampleGroup
from sabueso.screens.sample.settings import share_of
from sabueso.stats.projection import (
    Estimate,
    MoneyProjection,
    Rate,
    Stratum,
    estimates,
    exact_rate,
    stringer,
)

JUDGED = ("cleared", "error")
LEAST_ERRORS = 20
"""Errors below which an interval of their differences rests on too few of them."""


@dataclass(frozen=True)
class Money:
    """A sample of money units: errors found in what was taken whole, and projected from the rest.

    ``upper`` is the upper limit of the error, ``known`` included; where recorded amounts are too low,
    ``low_known``, ``low_projected`` and ``low_upper`` are the same of those, never set off.
    """

    known: Decimal
    projected: float
    upper: float
    precision: float
    low_known: Decimal
    low_projected: float
    low_upper: float


@dataclass(frozen=True)
class Evaluation:
    """The state of a sample, and what it says once all of it is judged.

    ``conclusion`` is None until then, and where no limit follows; ``lacking`` says why.
    """

    method: str
    items: int
    judged: int
    waiting: Mapping[str, int]
    errors: int
    error_total: Decimal | None
    without_amount: tuple[str, ...]
    confidence: float
    conclusion: str | None
    lacking: str
    money: Money | None = None
    rate: Rate | None = None
    estimates: tuple[Estimate, ...] = ()
    tolerable: Decimal | float | None = None
    within: bool | None = None
    cautions: tuple[Caution, ...] = field(default=())


def evaluate(finding: Finding[SampleGroup], judged: Sequence[Judged]) -> Evaluation:
    """Project the errors found in a sample, once each of its items is cleared or called an error.

    Parameters
    ----------
    finding : Finding
        The sample as it was drawn.
    judged : sequence of Judged
        Its items, in the order of its flags.

    References
    ----------
    Stringer (1963); Clopper & Pearson (1934); Buonaccorsi (1987); Cochran (1977).
    """
    draw: Draw = finding.more
    level = float(share_of(str(finding.settings["confidence"]), "a confidence"))
    measured = finding.on is not None
    waiting: dict[str, int] = {}
    for item in judged:
        if item.status not in JUDGED:
            waiting[item.status] = waiting.get(item.status, 0) + 1
    wrong = [item for item in judged if item.status == "error"]
    without = tuple(item.identity for item in wrong if item.error is None) if measured else ()
    total = sum((item.error for item in wrong if item.error is not None), Decimal(0))
    state: dict[str, Any] = {
        "method": draw.method, "items": len(judged), "judged": len(judged) - sum(waiting.values()),
        "waiting": waiting, "errors": len(wrong), "error_total": total if measured else None,
        "without_amount": without, "confidence": level,
    }  # fmt: skip
    lacking = _lacking(waiting, len(judged), without)
    if lacking:
        return Evaluation(**state, conclusion=None, lacking=lacking)
    flags = list(finding.flags.rows())
    if draw.method == "money":
        return _of_money(finding, draw, flags, judged, level, state)
    return _of_items(finding, draw, flags, judged, level, state)


def _lacking(waiting: Mapping[str, int], items: int, without: Sequence[str]) -> str:
    """Why there is no conclusion yet; empty where all is judged."""
    if waiting:
        each = ", ".join(f"{count:,} {status}" for status, count in waiting.items())
        return f"{num.many(sum(waiting.values()), 'item')} of {items:,} not judged yet ({each})"
    if without:
        return (
            f"{num.many(len(without), 'error')} without an amount ({', '.join(without[:3])}"
            f"{', …' if len(without) > 3 else ''}): record it with sabueso review ID --error --amount N"
        )
    return ""


def _recorded(flag: Cells) -> Decimal:
    return Decimal(flag["amount"])


def _of_money(
    finding: Finding[SampleGroup],
    draw: Draw,
    flags: Sequence[Cells],
    judged: Sequence[Judged],
    level: float,
    state: dict[str, Any],
) -> Evaluation:
    errors = [
        (flag, item.error)
        for flag, item in zip(flags, judged, strict=True)
        if item.status == "error" and item.error
    ]
    whole = [error for flag, error in errors if flag["whole"]]
    taints = [float(error / _recorded(flag)) for flag, error in errors if not flag["whole"]]
    high = _projected(draw, [t for t in taints if t > 0], level)
    low = _projected(draw, [-t for t in taints if t < 0], level)
    known = sum((e for e in whole if e > 0), Decimal(0))
    low_known = -sum((e for e in whole if e < 0), Decimal(0))
    money = Money(
        known, high.projected, float(known) + high.upper, high.precision,
        low_known, low.projected, float(low_known) + low.upper,
    )  # fmt: skip
    cautions = []
    if any(abs(t) > 1 for t in taints):
        cautions.append(
            Caution(
                "error_above_amount",
                f"{sum(abs(t) > 1 for t in taints):,} of the errors are larger than the amount recorded: the "
                "limit supposes that none is",
            )
        )
    unit = f" {finding.currency}" if finding.currency else ""
    base = sum((g.total for g in finding.groups if g.total is not None), Decimal(0))
    upper = num.amount(up(money.upper, finding.scale), finding.scale)
    told = (
        f"with {_level(level)} confidence, the {num.amount(base, finding.scale)}{unit} that could be drawn are "
        f"recorded too high by no more than {upper}{unit}"
    )
    within = None
    if draw.tolerable_amount is not None:
        within = money.upper <= float(draw.tolerable_amount)
        told += _beside(within, f"{num.amount(draw.tolerable_amount, finding.scale)}{unit}")
    if money.low_known or money.low_projected:
        told += (
            f"; amounts recorded too low were found as well, by no more than "
            f"{num.amount(up(money.low_upper, finding.scale), finding.scale)}{unit} in all, and are not set off"
        )
    return Evaluation(
        **state, conclusion=told, lacking="", money=money, tolerable=draw.tolerable_amount, within=within,
        cautions=tuple(cautions),
    )  # fmt: skip


def _projected(draw: Draw, taints: Sequence[float], level: float) -> MoneyProjection:
    if draw.interval is None:  # all was taken whole: nothing is projected
        return MoneyProjection(0.0, 0.0, 0.0, 0.0)
    return stringer(float(draw.interval), taints, level)


def _of_items(
    finding: Finding[SampleGroup],
    draw: Draw,
    flags: Sequence[Cells],
    judged: Sequence[Judged],
    level: float,
    state: dict[str, Any],
) -> Evaluation:
    cautions: list[Caution] = []
    found: tuple[Estimate, ...] = ()
    everything = all(g.whole for g in finding.groups)
    if finding.on is not None:
        strata = _strata(finding, flags, judged)
        total = sum((g.total for g in finding.groups if g.total is not None), Decimal(0))
        found = tuple(estimates(strata, float(total), level))
        few = sum(1 for item in judged if item.status == "error" and item.error)
        if few < LEAST_ERRORS and not everything:
            cautions.append(
                Caution(
                    "few_errors",
                    f"{num.many(few, 'item')} in error: fewer than {LEAST_ERRORS} carry no interval of the "
                    "amount of errors; a sample in proportion to the amounts gives a limit that holds",
                    {"errors": few},
                )
            )
    if draw.method == "strata":
        return _of_strata(finding, draw, found, cautions, everything, state)
    n = sum(g.n for g in finding.groups)
    if everything:
        rate = Rate(*[state["errors"] / n] * 4)
        told = f"all {n:,} were looked at: {num.many(state['errors'], 'item')} in error"
    else:
        rate = exact_rate(state["errors"], len(judged), level, n)
        most = round(rate.upper * n)
        told = (
            f"with {_level(level)} confidence, no more than {num.percent(up(rate.upper, 4), 2)} of the {n:,} rows are in "
            f"error, which is {num.many(most, 'row')}"
        )
    within = None
    if draw.tolerable_rate is not None:
        within = rate.upper <= draw.tolerable_rate
        told += _beside(within, num.percent(draw.tolerable_rate, 2))
    return Evaluation(
        **state, conclusion=told, lacking="", rate=rate, estimates=found, tolerable=draw.tolerable_rate,
        within=within, cautions=tuple(cautions),
    )  # fmt: skip


def _of_strata(
    finding: Finding[SampleGroup],
    draw: Draw,
    found: tuple[Estimate, ...],
    cautions: Sequence[Caution],
    everything: bool,
    state: dict[str, Any],
) -> Evaluation:
    """By differences, where enough of them were found to carry an interval."""
    if cautions:
        return Evaluation(
            **state, conclusion=None, lacking=cautions[0].text, estimates=found,
            tolerable=draw.tolerable_amount,
        )  # fmt: skip
    best, unit = found[0], f" {finding.currency}" if finding.currency else ""
    low, high = (num.amount(each, finding.scale) for each in (best.low, best.high))
    told = (
        f"all was looked at: the recorded amounts are too high by {num.amount(best.error, finding.scale)}{unit}"
        if everything
        else f"with {_level(state['confidence'])} confidence, the recorded amounts are too high by {low} to "
        f"{high}{unit} (below 0: too low), by the differences found"
    )
    within = None
    if draw.tolerable_amount is not None:
        within = max(abs(best.low), abs(best.high)) <= float(draw.tolerable_amount)
        told += _beside(
            within, f"{num.amount(draw.tolerable_amount, finding.scale)}{unit} either way"
        )
    return Evaluation(
        **state,
        conclusion=told,
        lacking="",
        estimates=found,
        tolerable=draw.tolerable_amount,
        within=within,
    )


def _strata(
    finding: Finding[SampleGroup], flags: Sequence[Cells], judged: Sequence[Judged]
) -> list[Stratum]:
    """The items of each stratum with what is recorded of them and what is right."""
    pairs = list(zip(flags, judged, strict=True))
    found = []
    for place, group in enumerate(finding.groups):
        own = [
            (float(_recorded(flag)), float(item.error or 0) if item.status == "error" else 0.0)
            for flag, item in pairs
            if int(flag.get("stratum") or 0) == place
        ]
        recorded = np.array([amount for amount, _ in own], np.float64)
        wrong = np.array([error for _, error in own], np.float64)
        if group.n:
            found.append(Stratum(group.n, recorded, recorded - wrong))
    return found


def up(limit: float, places: int) -> float:
    """A limit as it can be printed: rounded up, since what is no more than it is no more than that."""
    return ceil(round(limit * 10**places, 6)) / 10**places


def _level(level: float) -> str:
    return num.percent(level, 0 if round(level * 100, 6) == round(level * 100) else 1)


def _beside(within: bool, tolerable: str) -> str:
    """How a limit stands beside what can be tolerated."""
    if within:
        return f": within the tolerable {tolerable}"
    return f": above the tolerable {tolerable}, so that the sample does not show that the error is tolerable"
