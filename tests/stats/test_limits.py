"""Moments, deviates, quartiles, fences and changes: exact, against definitions and NumPy."""

from __future__ import annotations

from fractions import Fraction
from math import ceil, floor

import numpy as np
import pyarrow as pa
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from sabueso.screens.limits.effects import FlaggedSums, _exact_sums
from sabueso.screens.limits.table import with_amounts
from sabueso.stats.change import compare, rate_and_volume
from sabueso.stats.moments import deviate_limits, deviate_p, greatest_deviate, moments, shape
from sabueso.stats.quartiles import between, centred_limits, fences, quartile_positions, robust_unit

amounts = st.lists(st.integers(-(10**15), 10**15), min_size=2, max_size=40)


def test_classical_accuracy_case():
    # One amount of 10000000.2, then 500 pairs of .1 and .3: mean 10000000.2 and s 0.1, exactly.
    units = [100000002] + [100000001, 100000003] * 500
    found = moments(len(units), sum(units), sum(x * x for x in units), scale=1)
    assert (found.mean, found.sd) == (10000000.2, 0.1)


@given(amounts)
def test_moments_are_the_rounded_rationals(x):
    found = moments(len(x), sum(x), sum(v * v for v in x), scale=2)
    mean = Fraction(sum(x), len(x))
    variance = sum((v - mean) ** 2 for v in x) / (len(x) - 1)
    assert found.mean == float(mean / 100)
    assert found.sd == pytest.approx(float(variance / 10_000) ** 0.5, rel=1e-15)


@given(amounts, st.fractions(Fraction(1, 2), 4, max_denominator=20))
def test_deviate_limits_flag_exactly_what_is_beyond(x, limit):
    n, total, squares = len(x), sum(x), sum(v * v for v in x)
    least, greatest = deviate_limits(n, total, squares, limit)
    mean = Fraction(total, n)
    variance = sum((v - mean) ** 2 for v in x) / (n - 1)
    for value in [*x, least, least - 1, greatest, greatest + 1]:
        beyond = (value - mean) ** 2 > limit**2 * variance
        assert beyond == (value < least or value > greatest)


@given(st.lists(st.integers(-1000, 1000), min_size=3, max_size=50))
def test_no_deviate_exceeds_the_greatest(x):
    s = np.std(x, ddof=1)
    if s:
        assert np.abs((np.array(x) - np.mean(x)) / s).max() <= greatest_deviate(len(x)) + 1e-9


def test_shape_equals_scipy():
    x = np.random.default_rng(1).lognormal(size=200)
    z = (x - x.mean()) / x.std(ddof=1)
    found = shape(200, (z**3).sum(), (z**4).sum())
    assert found.skewness == pytest.approx(scipy.stats.skew(x, bias=False))
    assert found.kurtosis == pytest.approx(scipy.stats.kurtosis(x, bias=False))


def _quartile(x: list[int], position: Fraction) -> Fraction:
    ordered = sorted(x)
    return between(position, ordered[floor(position) - 1], ordered[ceil(position) - 1])


@given(st.lists(st.integers(-1000, 1000), min_size=1, max_size=60))
def test_quartiles_by_each_rule(x):
    for rule in ("linear", "weibull"):
        found = [float(_quartile(x, p)) for p in quartile_positions(len(x), rule)]
        assert found == pytest.approx(np.quantile(x, [0.25, 0.5, 0.75], method=rule).tolist())
    ordered, half = sorted(x), (len(x) + 1) // 2
    lower, upper = ordered[:half], ordered[-half:]
    found = [float(_quartile(x, p)) for p in quartile_positions(len(x), "hinges")]
    assert found == [np.median(lower), np.median(x), np.median(upper)]


def test_hinges_of_a_worked_example():
    # Nine values: hinges are the third and the seventh.
    x = [-32, -17, 13, 18, 22, 24, 25, 27, 40]
    assert [_quartile(x, p) for p in quartile_positions(9, "hinges")] == [13, 22, 25]


def test_fences_are_exact_at_their_edge():
    q = (Fraction(100), Fraction(150), Fraction(200))
    found = fences(*q, Fraction("1.5"), Fraction(3), far=False)
    assert (found.low, found.high, found.outer_low, found.outer_high) == (-50, 350, -200, 500)
    assert (found.least, found.greatest) == (-50, 350)  # on the fence is within
    with pytest.raises(ValueError, match="ascend"):
        fences(q[1], q[0], q[2], Fraction(1), Fraction(2), far=False)


def test_modified_deviates():
    # Iglewicz and Hoaglin: 0.6745 (x - median)/MAD > 3.5.
    unit = robust_unit(Fraction(10), Fraction(12))
    least, greatest = centred_limits(Fraction(100), unit, Fraction("3.5"))
    assert 0.6745 * (greatest - 100) / 10 <= 3.5 < 0.6745 * (greatest + 1 - 100) / 10
    assert least == 200 - greatest
    assert robust_unit(Fraction(0), Fraction(2)) == 2 * Fraction("1.253314")
    assert robust_unit(Fraction(0), Fraction(0)) is None


lines = st.lists(
    st.tuples(st.integers(-(10**9), 10**9), st.integers(-(10**9), 10**9)), min_size=1, max_size=12
)


@given(lines)
def test_changes_add_up(pairs):
    base, current = [a for a, _ in pairs], [b for _, b in pairs]
    found = compare(base, current)
    moved = sum(current) - sum(base)
    assert sum(line.change for line in found) == moved
    if moved:
        assert sum(line.part for line in found) == 1
    for line in found:
        assert (line.percent is None) == (line.base == 0)
        if line.base and line.current:
            assert ("sign" in line.reading) == ((line.base < 0) != (line.current < 0))


def test_readings():
    found = compare([100, 0, 50, 200, -10], [110, 30, 0, 200, 10])
    assert [line.reading for line in found] == [
        "value up, share up",
        "new",
        "ceased",
        "unchanged",
        "sign changed",
    ]
    # 100 of 340 before, 110 of 350 now.
    assert found[0].share_shift == Fraction(110, 350) - Fraction(100, 340)


@given(
    st.lists(
        st.tuples(
            st.integers(0, 10**6), st.integers(0, 10**6), st.integers(1, 900), st.integers(0, 900)
        ),
        min_size=1,
        max_size=8,
    )
)
def test_rate_volume_and_mix_add_to_the_change(rows):
    base, current = [r[0] for r in rows], [r[1] for r in rows]
    q0, q1 = [Fraction(r[2]) for r in rows], [Fraction(r[3]) for r in rows]
    parts, total = rate_and_volume(base, current, q0, q1)
    for part, before, now in zip(parts, base, current, strict=True):
        assert part.volume + part.rate == now - before
    assert total.volume + total.rate + total.mix == sum(current) - sum(base)


@given(
    st.lists(
        st.tuples(st.integers(0, 3), st.integers(-(2**63) + 1, 2**63 - 1)), min_size=0, max_size=40
    )
)
def test_sums_of_flagged_rows_never_wrap(rows):
    """Squares of 126 bits and sums of them, by group, whatever the order of the rows."""
    found = pa.table(
        {
            "position": pa.array([p for p, _ in rows], pa.int64()),
            "worth": pa.array([v for _, v in rows], pa.int64()),
            "high": pa.array([v > 0 for _, v in rows], pa.bool_()),
        }
    )
    sums = FlaggedSums.of(found, 4)
    for place in range(4):
        mine = [v for p, v in rows if p == place]
        assert sums.n[place] == len(mine) == sums.low[place] + sums.high[place]
        assert sums.high[place] == sum(v > 0 for v in mine)
        assert sums.total[place] == sum(mine)
        assert sums.squares[place] == sum(v * v for v in mine)


@given(
    st.decimals("-1e15", "1e15", places=2),
    st.integers(-16_000_000_000, 16_000_000_000),
    st.integers(-3, 3),
    st.sampled_from([1.0, 0.37, 4_285.2, 1e6]),
)
def test_amounts_near_a_log_limit_are_looked_at(amount, limit, off, unit):
    """Whatever is beyond a limit on the log scale is beyond the amount that rows are first held to."""

    def steps(x):
        return int(np.sign(x)) * round(float(np.log10(1 + abs(float(x)) / unit)) * 10**9)

    # The limit as it was drawn, and one next to the amount itself.
    for at in (limit, steps(amount) + off):
        table = pa.table({"least": [at], "greatest": [at]})
        limits = with_amounts(table, np.array([unit])).to_pylist()[0]
        if steps(amount) > at:
            assert float(amount) > limits["high_amount"]
        if steps(amount) < at:
            assert float(amount) < limits["low_amount"]
    table = pa.table({"least": [-(2**63)], "greatest": [2**63 - 1]})
    ends = with_amounts(table, np.array([unit])).to_pylist()[0]
    assert ends["low_amount"] == -np.inf
    assert ends["high_amount"] == np.inf


@given(st.lists(st.integers(-(2**45), 2**45), min_size=1, max_size=40), st.data())
def test_sums_of_flagged_amounts_are_exact(values, data):
    small = data.draw(st.booleans())
    units = np.array([v % 2**40 if small else v for v in values], np.int64) * data.draw(
        st.sampled_from([1, -1])
    )
    starts = np.array(sorted({0, *data.draw(st.lists(st.integers(0, len(units) - 1), max_size=4))}))
    totals, squares = _exact_sums(units, starts)
    for place, (start, end) in enumerate(zip(starts, [*starts[1:], len(units)], strict=True)):
        part = [int(v) for v in units[start:end]]
        assert (totals[place], squares[place]) == (sum(part), sum(v * v for v in part))


# Nearer to the greatest one p depends on more digits of the deviate than a float has.
@given(st.integers(3, 400), st.floats(0, 1 - 1e-8))
def test_p_of_a_deviate_is_that_of_its_law(n, part):
    z = part * greatest_deviate(n)
    exact = scipy.stats.beta.sf(n * z * z / (n - 1) ** 2, 0.5, (n - 2) / 2)
    assert deviate_p(z, n) == pytest.approx(exact, rel=1e-7, abs=1e-300)
    assert deviate_p(z, n, two_sided=False) == pytest.approx(exact / 2, rel=1e-7, abs=1e-300)


def test_p_of_a_deviate_far_out_and_of_many():
    # Thompson's law through Student's: t² = n (n - 2) z² / ((n - 1)² - n z²) on n - 2.
    for z, n in ((3.39, 15), (12.0, 1000), (6.0, 10**7)):
        t = np.sqrt(n * (n - 2) * z * z / ((n - 1) ** 2 - n * z * z))
        assert deviate_p(z, n) == pytest.approx(2 * scipy.stats.t.sf(t, n - 2), rel=1e-6)
    assert float(f"{deviate_p(3.39, 15):.1g}") == 2e-7
    with pytest.raises(ValueError, match="three"):
        deviate_p(1.0, 2)
    # Samples of twelve normal amounts: the share beyond each p is that p.
    x = np.random.default_rng(4).normal(size=(40_000, 12))
    z = (x - x.mean(axis=1, keepdims=True)) / x.std(axis=1, ddof=1, keepdims=True)
    p = deviate_p(z, 12)
    for alpha in (0.1, 0.01, 0.001):
        assert (p < alpha).mean() == pytest.approx(alpha, rel=0.1)
