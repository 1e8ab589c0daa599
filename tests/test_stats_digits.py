"""Leading-digit mathematics against known sequences, closed forms and SciPy."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from sabueso.stats.adjust import adjust
from sabueso.stats.digits import (
    DIGIT_TESTS,
    class_labels,
    conformity,
    expected_shares,
    fit_digits,
    mantissa_arc,
)
from sabueso.stats.hypergeometric import upper_tail


def _leading(numbers: list[int], length: int) -> list[int]:
    return [int(str(n).ljust(length, "0")[:length]) for n in numbers]


def _fibonacci(count: int) -> list[int]:
    found = [1, 1]
    while len(found) < count:
        found.append(found[-1] + found[-2])
    return found


def test_expected_shares_are_the_published_ones():
    # Hill (1995), table 1, and the first digits of Benford (1938).
    first = [0.301, 0.176, 0.125, 0.097, 0.079, 0.067, 0.058, 0.051, 0.046]
    second = [0.120, 0.114, 0.109, 0.104, 0.100, 0.097, 0.093, 0.090, 0.088, 0.085]
    assert np.round(expected_shares("first"), 3).tolist() == first
    assert np.round(expected_shares("second"), 3).tolist() == second
    for test in DIGIT_TESTS:
        assert expected_shares(test).sum() == pytest.approx(1, abs=1e-14)


@pytest.mark.parametrize(
    ("numbers", "counts"),
    [
        (_fibonacci(1000), [301, 177, 125, 96, 80, 67, 56, 53, 45]),
        ([2**k for k in range(1000)], [301, 176, 125, 97, 79, 69, 56, 52, 45]),
    ],
)
def test_sequences_that_follow_the_law(numbers, counts):
    found = [_leading(numbers, 1).count(d) for d in range(1, 10)]
    assert found == counts
    fit = fit_digits([found], "first")
    assert fit.conformity == ["close"]
    assert not fit.flagged.any()
    assert fit.chi_square_p[0] > 0.99


def test_uniform_amounts_do_not_conform():
    fit = fit_digits([[1111] * 9], "first")
    assert fit.conformity == ["nonconforming"]
    assert fit.flagged[0].tolist() == [True, True, True, True] + [True] * 5
    assert fit.z[0, 0] < -30 < 30 < fit.z[0, 8]


@given(st.lists(st.integers(0, 5000), min_size=9, max_size=9).filter(lambda c: sum(c) > 0))
def test_fit_equals_scipy(counts):
    fit = fit_digits([counts], "first")
    n, pe = sum(counts), expected_shares("first")
    po = np.array(counts) / n
    chi = scipy.stats.chisquare(counts, n * pe)
    assert fit.chi_square[0] == pytest.approx(chi.statistic, rel=1e-9, abs=1e-9)
    assert fit.chi_square_p[0] == pytest.approx(chi.pvalue, rel=1e-6, abs=1e-12)
    assert fit.mad[0] == pytest.approx(np.abs(po - pe).mean(), rel=1e-12)
    assert fit.ks[0] == pytest.approx(np.abs(po.cumsum() - pe.cumsum()).max(), abs=1e-12)
    assert fit.share.sum() == pytest.approx(1)
    for k in range(9):
        gap = abs(po[k] - pe[k])
        corrected = gap - (1 / (2 * n) if 1 / (2 * n) < gap else 0)
        z = corrected / np.sqrt(pe[k] * (1 - pe[k]) / n)
        assert abs(fit.z[0, k]) == pytest.approx(z, rel=1e-9, abs=1e-9)
        assert fit.p[0, k] == pytest.approx(2 * scipy.stats.norm.sf(z), rel=1e-7, abs=1e-14)


def test_band_holds_all_classes_in_95_of_100_conforming_samples():
    rng = np.random.default_rng(5)
    pe = expected_shares("first-two")
    counts = rng.multinomial(20_000, pe, size=400)
    fit = fit_digits(counts, "first-two")
    inside = ((fit.share >= fit.band_low) & (fit.share <= fit.band_high)).all(axis=1).mean()
    assert 0.92 <= inside <= 0.98
    # The mean absolute deviation of these samples is what chance is said to give.
    assert fit.mad.mean() == pytest.approx(fit.mad_expected.mean(), rel=0.01)


def test_ranges_of_the_mean_absolute_deviation():
    assert [conformity("first-two", m) for m in (0.0011, 0.0015, 0.0020, 0.0023)] == [
        "close",
        "acceptable",
        "marginal",
        "nonconforming",
    ]
    assert conformity("last-two", 0.5) is None
    assert class_labels("last-two")[0] == 0


def test_mantissa_arc_of_points_in_one_place_and_spread():
    assert mantissa_arc(10, 10.0, 0.0) == (1.0, pytest.approx(np.exp(-10)))
    assert mantissa_arc(4, 0.0, 0.0) == (0.0, 1.0)


@given(st.lists(st.floats(0, 1), min_size=1, max_size=30))
def test_adjusted_p(p):
    m = len(p)
    assert adjust(p, "bonferroni") == pytest.approx([min(1, x * m) for x in p])
    assert adjust(p, "bh") == pytest.approx(scipy.stats.false_discovery_control(p), abs=1e-12)
    order = np.argsort(p, kind="stable")
    worst, holm = 0.0, np.empty(m)
    for rank, i in enumerate(order):
        worst = max(worst, (m - rank) * p[i])
        holm[i] = min(worst, 1)
    assert adjust(p, "holm") == pytest.approx(holm)
    # The smallest alone give the same as within their whole family.
    few = np.sort(p)[: max(1, m // 3)]
    assert adjust(few, "holm", m) == pytest.approx(np.sort(holm)[: len(few)])


@given(st.integers(1, 300), st.data())
def test_hypergeometric_tail(population, data):
    marked = data.draw(st.integers(0, population))
    drawn = data.draw(st.integers(0, population))
    count = data.draw(st.integers(0, drawn))
    expected = scipy.stats.hypergeom.sf(count - 1, population, marked, drawn)
    assert upper_tail(count, population, marked, drawn) == pytest.approx(
        expected, rel=1e-6, abs=1e-12
    )
