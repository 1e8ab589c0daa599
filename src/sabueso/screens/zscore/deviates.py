"""Sums, order statistics and spread of each group of a test by deviates, in passes over the rows."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from math import log10, sqrt
from typing import NamedTuple, Protocol

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.plain import ByColumn
from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.screens import grouping as grp
from sabueso.screens.finding import NotTested
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.limits import table as lim
from sabueso.screens.limits.effects import MIDDLE, Effect, by_position
from sabueso.screens.limits.scales import WORTH
from sabueso.stats.moments import moments

SHAPE = ("0.01", "0.1", "0.25", "0.5", "0.75", "0.9", "0.99")
"""Shares of the order statistics that tell whether the middle of a group is normal."""
NORMAL_TAIL = 1.9000  # (q90 - q10)/(q75 - q25) of a normal law
NORMAL_ENDS = 3.4490  # (q99 - q01)/(q75 - q25) of it
LEAST_WITH_ENDS = 1_000
"""Rows from which the hundredths tell."""
LEAST_JUDGED = 30


def normal_middle(n: int, quantiles: Sequence[float]) -> bool:
    """Whether the middle four fifths of a group look normal: as symmetric, and as wide at the tenths
    against the quarters, as chance leaves it to samples of n; of many rows at the hundredths too, since what
    has a normal middle may have wider ends."""
    q01, q10, q25, q50, q75, q90, q99 = quantiles
    width = q75 - q25
    if n < LEAST_JUDGED or width <= 0:
        return False
    leaning = abs(q75 + q25 - 2 * q50) / width
    tail = abs((q90 - q10) / width - NORMAL_TAIL)
    ends = abs((q99 - q01) / width - NORMAL_ENDS) if n >= LEAST_WITH_ENDS else 0.0
    allowed = 1 / sqrt(n)
    return (
        leaning <= 0.05 + 2.5 * allowed
        and tail <= 0.15 + 4 * allowed
        and ends <= 0.15 + 12 * allowed
    )


class Asked(Protocol):
    """What the settings of a test by deviates say about the figures of its groups."""

    @property
    def method(self) -> str: ...
    @property
    def scale(self) -> str: ...


class DeviateGroup(NamedTuple):
    """One group's sums and order statistics, in minor units of the scale used.

    ``effect`` describes its amounts, whatever the scale, ``least`` and ``greatest`` too. ``cubes`` and
    ``fourths`` are Σz³ and Σz⁴. ``middle_normal`` is judged where a modified deviate needs it.
    """

    key: ByColumn
    n: int
    total: int
    squares: int
    median: Fraction
    ends: list[int]
    effect: Effect
    mad: Fraction = Fraction(0)
    deviation2: int = 0
    cubes: float = 0.0
    fourths: float = 0.0
    least: int = 0
    greatest: int = 0
    middle_normal: bool = False


class Tested(NamedTuple):
    group: DeviateGroup
    least: int
    greatest: int
    centre: float
    unit: float

    @property
    def key(self) -> ByColumn:
        return self.group.key


def group_figures(
    population: Population, base: exp.Select, groups: Grouping, asked: Asked, used: int
) -> list[DeviateGroup]:
    """Sums and order statistics of each group, in one pass."""
    units, worth = sql.column(UNITS, "b"), sql.column(WORTH, "b")
    shares = lim.ends_of(groups)
    fields = {
        "n": exp.Count(this=worth),
        "total": sql.exact_sum(worth),
        "squares": sql.exact_square_sum(worth),
        "middle": sql.quantiles(worth, (*MIDDLE, *shares)),
        "least": exp.Min(this=worth.copy()),
        "greatest": exp.Max(this=worth.copy()),
    }
    if asked.method == "modified":
        fields["shape"] = sql.quantiles(units, SHAPE)
    if asked.scale == "log":
        fields |= {
            "log_total": sql.exact_sum(units),
            "log_squares": sql.exact_square_sum(units),
            "log_middle": sql.quantiles(units, ("0.5", *shares)),
        }
    result = grp.order_statistics(population, base, groups, fields, used)
    found = []
    for key, row in zip(groups.keys(result), result.to_pylist(), strict=True):
        if not row["n"]:
            continue
        middle, ends = row["middle"][: len(MIDDLE)], row["middle"][len(MIDDLE) :]
        effect = Effect.of(row["n"], int(row["total"]), int(row["squares"]), middle)
        median = effect.median
        total, squares = effect.total, effect.squares
        if asked.scale == "log":
            log_median, *ends = row["log_middle"]
            median = sql.exact_quantile(log_median, "0.5")
            total, squares = int(row["log_total"]), int(row["log_squares"])
        found.append(
            DeviateGroup(
                key,
                effect.n,
                total,
                squares,
                median,
                list(map(round, ends)),
                effect,
                least=int(row["least"]),
                greatest=int(row["greatest"]),
                middle_normal="shape" in row and normal_middle(effect.n, row["shape"]),
            )
        )
    return found


def testable(found: list[DeviateGroup], least: int) -> tuple[list[DeviateGroup], list[NotTested]]:
    small = [
        NotTested(
            g.key, f"only {g.n} row{'s' if g.n != 1 else ''}; at least {least} are needed", g.n
        )
        for g in found
        if g.n < least
    ]
    return [g for g in found if g.n >= least], small


def with_spread(
    population: Population, base: exp.Select, groups: Grouping, tested: list[Tested]
) -> list[Tested]:
    """Add the absolute deviations from the median, and the standardised third and fourth powers.

    The powers are rounded to steps so fine that it does not show and so coarse that the greatest
    fits 64 bits; their sums are then whole numbers and the same in any order of rows.
    """
    if not tested:
        return []
    found = [t.group for t in tested]
    fits = [moments(g.n, g.total, g.squares) for g in found]
    figures = grp.key_table(
        groups,
        found,
        {
            "position": pa.array(range(len(found)), pa.int64()),
            "median2": pa.array([int(2 * g.median) for g in found], pa.int64()),
            "mean": pa.array([m.mean for m in fits], pa.float64()),
            "sd": pa.array([m.sd or None for m in fits], pa.float64()),
            "step": pa.array([float(step_of(g.n)) for g in found], pa.float64()),
        },
    )
    units = sql.column(UNITS, "b")
    doubled = exp.Mul(this=sql.integer(2), expression=units)
    off = exp.Abs(this=exp.Sub(this=doubled, expression=sql.column("median2", "limits")))
    centred = exp.Sub(
        this=sql.cast(units.copy(), "DOUBLE"), expression=sql.column("mean", "limits")
    )
    z = exp.Div(this=exp.paren(centred), expression=sql.column("sd", "limits"))
    square = exp.paren(exp.Mul(this=sql.column("z"), expression=sql.column("z")))

    def power(rest: Tree) -> Tree:
        raised = exp.paren(exp.Mul(this=square.copy(), expression=rest))
        steps = exp.Mul(this=raised, expression=sql.column("step"))
        return sql.exact_sum(sql.cast(exp.Round(this=steps), "BIGINT"))

    values: dict[str, Tree] = {
        "deviation": off,
        "z": z,
        "step": sql.column("step", "limits"),
    }
    fields = {
        "middle": sql.quantiles(sql.column("deviation"), ["0.5"]),
        "deviations": sql.exact_sum(sql.column("deviation")),
        "cubes": power(sql.column("z")),
        "fourths": power(square.copy()),
    }
    used = sum(g.n for g in found)
    result = by_position(population, base, groups, figures, values, fields, used)
    spread = list(tested)
    for row in result.to_pylist():
        t = tested[row["g0"]]
        g = t.group._replace(
            mad=sql.exact_quantile(row["middle"][0], "0.5") / 2,
            deviation2=int(row["deviations"]),
            cubes=int(row["cubes"] or 0) / step_of(t.group.n),
            fourths=int(row["fourths"] or 0) / step_of(t.group.n),
        )
        spread[row["g0"]] = t._replace(group=g)
    return spread


def limits_of(groups: Grouping, tested: Sequence[Tested]) -> pa.Table:
    """The input table ``limits`` of groups with a centre and a unit."""
    return lim.limit_table(
        groups,
        tested,
        [(t.least, t.greatest) for t in tested],
        [(t.centre, t.centre, t.unit) for t in tested],
    )


def step_of(n: int) -> int:
    """Steps that 1 is cut into: a power of ten with n² steps, the bound of z⁴, within 64 bits."""
    return int(10 ** max(min(int(18.9 - 2 * log10(max(n, 2))), 12), 0))
