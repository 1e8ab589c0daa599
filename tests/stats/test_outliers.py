"""Medcouple and sequential deviates against their definitions and a published example."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from known import definition
from sabueso.stats.digit_change import compare_digits
from sabueso.stats.medcouple import adjusted_fences, medcouple
from sabueso.stats.moments import modified_p
from sabueso.stats.sequential import sequential_deviates

# Rosner, B. (1983), Technometrics 25, 165-172: the 54 values of its example, in hundredths.
ROSNER = [
    -25, 68, 94, 115, 120, 126, 126, 134, 138, 143, 149, 149, 155, 156, 158, 165, 169, 170, 176, 177, 181,
    191, 194, 196, 199, 206, 209, 210, 214, 215, 223, 224, 226, 235, 237, 240, 247, 254, 262, 264, 290, 292,
    292, 293, 321, 326, 330, 359, 368, 430, 464, 534, 542, 601,
]  # fmt: skip


@given(st.lists(st.integers(-8, 8), min_size=1, max_size=15))
def test_medcouple_is_its_definition_where_values_repeat(values):
    assert medcouple(values) == pytest.approx(definition(values), abs=1e-14)
    distinct, counts = np.unique(values, return_counts=True)
    assert medcouple(distinct, counts) == medcouple(values)
    assert medcouple([-v for v in values]) == pytest.approx(-medcouple(values), abs=1e-14)


@given(st.integers(0, 10**6), st.integers(3, 80), st.sampled_from([0.2, 1.0, 2.5]))
def test_medcouple_is_its_definition_on_skewed_amounts(seed, n, sigma):
    cents = np.round(np.random.default_rng(seed).lognormal(8, sigma, n) * 100).astype(np.int64)
    assert medcouple(cents) == pytest.approx(definition(cents), abs=1e-12)


def test_medcouple_of_large_amounts_and_bad_input():
    base = np.random.default_rng(5).lognormal(3, 1, 2001) * 10**13
    cents = np.round(base).astype(np.int64)
    assert medcouple(cents) == pytest.approx(definition(cents), abs=1e-12)
    for values, counts in (([], None), ([1, 2], [1, 0]), ([1, 2], [1])):
        with pytest.raises(ValueError, match="needs"):
            medcouple(values, counts)


def test_adjusted_fences_are_tukeys_without_skew_and_mirror_with_it():
    quartiles = Fraction(10), Fraction(20), Fraction(30)
    plain = adjusted_fences(*quartiles, 0.0, Fraction(3, 2), Fraction(3), far=False)
    assert (plain.low, plain.high, plain.outer_high) == (-20, 60, 90)
    right = adjusted_fences(*quartiles, 0.3, Fraction(3, 2), Fraction(3), far=False)
    assert float(right.high) == pytest.approx(30 + 1.5 * 20 * np.exp(3 * 0.3))
    assert float(right.low) == pytest.approx(10 - 1.5 * 20 * np.exp(-4 * 0.3))
    left = adjusted_fences(*quartiles, -0.3, Fraction(3, 2), Fraction(3), far=False)
    assert left.high - 30 == 10 - right.low and 10 - left.low == right.high - 30


def sums(values):
    return len(values), sum(values), sum(v * v for v in values)


def test_the_published_example():
    ordered = sorted(ROSNER)
    test = sequential_deviates(*sums(ROSNER), ordered[:10], ordered[::-1][:10], 10, 0.05)
    assert test.outliers == 3
    assert [round(s.statistic, 3) for s in test.steps[:3]] == [3.119, 2.943, 3.179]
    assert [round(s.limit, 3) for s in test.steps[:3]] == [3.159, 3.151, 3.144]
    # The first two do not pass their own limits: the third, which they hid, brings them in.
    assert test.steps[0].statistic < test.steps[0].limit
    assert test.bounds() == (None, 533)


@given(
    st.integers(0, 10**6),
    st.integers(12, 60),
    st.integers(1, 6),
    st.sampled_from([0.01, 0.05, 0.2]),
)
def test_sequential_deviates_equal_numpy(seed, n, most, alpha):
    rng = np.random.default_rng(seed)
    values = np.round(rng.standard_t(3, n) * 1000).astype(np.int64)
    ordered = np.sort(values)
    test = sequential_deviates(
        *sums(values.tolist()), ordered[:most].tolist(), ordered[::-1][:most].tolist(), most, alpha
    )
    left, found = values.astype(float), 0
    for i, step in enumerate(test.steps, 1):
        off = np.abs(left - left.mean())
        statistic = off.max() / left.std(ddof=1)
        size = n - i + 1
        t = scipy.stats.t.ppf(1 - alpha / (2 * size), size - 2)
        limit = (size - 1) * t / np.sqrt((size - 2 + t * t) * size)
        assert step.statistic == pytest.approx(statistic, rel=1e-9)
        assert step.limit == pytest.approx(limit, rel=1e-9)
        assert abs(step.value - left.mean()) == pytest.approx(off.max(), rel=1e-9)
        found = i if statistic > limit else found
        left = np.delete(left, np.flatnonzero(left == step.value)[0])
    assert test.outliers == found


def test_sequential_deviates_need_values():
    with pytest.raises(ValueError, match="cannot be looked for"):
        sequential_deviates(3, 6, 14, [1, 2], [3, 2], 2)
    with pytest.raises(ValueError, match="least and greatest"):
        sequential_deviates(9, 6, 14, [1], [3], 2)
    assert sequential_deviates(9, 9, 9, [1, 1], [1, 1], 2).outliers == 0


@given(st.lists(st.tuples(st.integers(0, 400), st.integers(0, 400)), min_size=9, max_size=9))
def test_two_profiles_equal_scipy(pairs):
    before, after = (np.array(side) for side in zip(*pairs, strict=True))
    if not before.sum() or not after.sum():
        with pytest.raises(ValueError, match="neither empty"):
            compare_digits(before, after)
        return
    change = compare_digits(before, after, "bonferroni")
    seen = before + after > 0
    if seen.sum() > 1:
        expected = scipy.stats.chi2_contingency(
            np.stack([before, after])[:, seen], correction=False
        )
        assert change.chi_square == pytest.approx(expected.statistic, abs=1e-9)
        assert change.chi_square_p == pytest.approx(expected.pvalue, abs=1e-9)
    for i in range(9):
        table = [[before[i], before.sum() - before[i]], [after[i], after.sum() - after[i]]]
        if not seen[i] or before[i] + after[i] == before.sum() + after.sum():
            assert change.z[i] == 0
            continue
        one = scipy.stats.chi2_contingency(table, correction=False)
        assert change.z[i] ** 2 == pytest.approx(one.statistic, abs=1e-8)
        assert change.p[i] == pytest.approx(one.pvalue, abs=1e-9)


@pytest.mark.parametrize(("n", "least"), [(6, 0.4), (12, 0.55), (30, 0.75), (200, 0.9)])
def test_modified_deviates_of_normal_rows_are_no_rarer_than_stated(n, least):
    """By simulation: Student's law with the degrees of freedom that the median absolute deviation is worth."""
    x = np.random.default_rng(7).standard_normal((1_200_000 // n, n))
    off = np.abs(x - np.median(x, axis=1, keepdims=True))
    z = scipy.stats.norm.ppf(0.75) * off / np.median(off, axis=1, keepdims=True)
    for limit in (2.5, 3.5):
        stated = modified_p(limit, n)
        assert stated == pytest.approx(2 * scipy.stats.t.sf(limit, 0.3675 * n), rel=1e-9)
        assert least <= np.mean(z > limit) / stated <= 1.1


@pytest.mark.parametrize("n", [5, 12, 20, 40])
def test_small_groups_have_outliers_by_chance_as_often_as_stated(n):
    rng, steps = np.random.default_rng(n), 10 if n >= 25 else max(1, n // 8)
    found = 0
    for values in (np.sort(rng.standard_normal((1_500, n))) * 1e6).astype(np.int64).tolist():
        sums = sum(values), sum(v * v for v in values)
        low, high = values[:steps], values[::-1][:steps]
        found += sequential_deviates(n, *sums, low, high, steps).outliers > 0
    assert 0.03 < found / 1_500 < 0.08
