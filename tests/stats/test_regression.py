"""Relation of two measures against independent calculations, and the four data sets of Anscombe (1973)."""

from __future__ import annotations

import doctest

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

import sabueso.stats.relation as rel
from known import ANSCOMBE

pairs = st.lists(
    st.tuples(st.integers(-10_000, 10_000), st.integers(-10_000, 10_000)), min_size=6, max_size=40
).filter(lambda rows: len({a for a, _ in rows}) > 3 and len({b for _, b in rows}) > 3)


def test_examples():
    assert doctest.testmod(rel).failed == 0


@pytest.mark.parametrize("name", ANSCOMBE)
def test_anscombe(name):
    x, y = ANSCOMBE[name]
    found = rel.correlation(x, y)
    line = rel.fit(x, y)
    assert round(found.r, 3) in (0.816, 0.817)
    assert round(line.slope, 2) == 0.5 and round(line.intercept, 1) == 3.0
    bent = rel.bend(x, y)
    if name == "bend":
        assert bent[0] < 1e-9 and bent[1] > 0.3
    if name == "one off":
        far = int(np.argmax(np.abs(line.residual)))
        assert far == 2 and line.without[far] > 0.9999
    if name == "one far":
        assert line.leverage[7] == pytest.approx(1) and np.isnan(line.without[7])
        assert line.cook[7] == np.inf and bent is None


@given(pairs)
def test_against_scipy(rows):
    x, y = map(np.array, zip(*rows, strict=True))
    found, own = rel.correlation(x, y), scipy.stats.pearsonr(x, y)
    assert found.r == pytest.approx(own.statistic, abs=1e-12)
    assert found.p == pytest.approx(own.pvalue, rel=1e-8, abs=1e-14)
    if abs(found.r) < 1:
        low, high = own.confidence_interval()
        assert (found.low, found.high) == pytest.approx((low, high), abs=1e-10)
    rho = scipy.stats.spearmanr(x, y)
    assert rel.rank_correlation(x, y).r == pytest.approx(rho.statistic, abs=1e-12)
    line, own = rel.fit(x, y), scipy.stats.linregress(x, y)
    assert (line.slope, line.intercept) == pytest.approx((own.slope, own.intercept), rel=1e-9)
    assert line.slope_error == pytest.approx(own.stderr, rel=1e-7, abs=1e-9)
    robust = scipy.stats.theilslopes(y, x)
    assert rel.theil_sen(x, y)[:2] == pytest.approx((robust.slope, robust.intercept), rel=1e-12)


@given(pairs)
def test_each_subject_against_the_fit_without_it(rows):
    x, y = (np.array(v, dtype=float) for v in zip(*rows, strict=True))
    n, line = len(x), rel.fit(x, y)
    design = np.column_stack([np.ones(n), x])
    inverse = np.linalg.inv(design.T @ design)
    beta = inverse @ design.T @ y
    off = y - design @ beta
    hat = np.einsum("ij,jk,ik->i", design, inverse, design)
    assert line.leverage == pytest.approx(hat, abs=1e-9)
    if off @ off < 1e-6 * max(y.var(), 1):
        return
    sandwich = inverse @ (design.T * (off / (1 - hat)) ** 2) @ design @ inverse
    assert line.slope_error_hc3 == pytest.approx(np.sqrt(sandwich[1, 1]), rel=1e-6)
    for i in range(n):
        rest = np.arange(n) != i
        if len(set(x[rest])) < 2 or len(set(y[rest])) < 2:
            continue
        kept = design[rest]
        other = np.linalg.lstsq(kept, y[rest], rcond=None)[0]
        left = y[rest] - kept @ other
        variance = left @ left / (n - 3)
        if left @ left < 1e-9 * (off @ off):
            continue
        assert line.residual[i] == pytest.approx(
            off[i] / np.sqrt(variance * (1 - hat[i])), rel=1e-5, abs=1e-8
        )
        moved = (beta[1] - other[1]) / np.sqrt(variance * inverse[1, 1])
        assert line.dfbetas[i] == pytest.approx(moved, rel=1e-5, abs=1e-7)
        change = design @ (beta - other)
        cook = change @ change / (2 * (off @ off) / (n - 2))
        assert line.cook[i] == pytest.approx(cook, rel=1e-5, abs=1e-9)
        assert line.without[i] == pytest.approx(np.corrcoef(x[rest], y[rest])[0, 1], abs=1e-8)


def test_limits_and_differences():
    assert rel.residual_limit(0.05, 20) == pytest.approx(
        scipy.stats.t.isf(0.05 / 40, 17), rel=1e-12
    )
    assert rel.cook_limit(20) == pytest.approx(scipy.stats.f.ppf(0.5, 2, 18), rel=1e-10)
    x = np.random.default_rng(1).normal(size=50)
    y = x + np.random.default_rng(2).normal(size=50)
    # The square's t is that of a regression on 1, x and x².
    design = np.column_stack([np.ones(50), x, x * x])
    beta, squares, *_ = np.linalg.lstsq(design, y, rcond=None)
    error = np.sqrt(squares[0] / 47 * np.linalg.inv(design.T @ design)[2, 2])
    assert rel.bend(x, y)[0] == pytest.approx(
        2 * scipy.stats.t.sf(abs(beta[2] / error), 47), rel=1e-9
    )
    one, other = rel.two_ways(x, y)
    assert one == pytest.approx(other, abs=1e-14)


def test_large_and_alike_loses_nothing():
    x = np.arange(20.0)
    y = np.array([3.0, 1, 4, 1, 5, 9, 2, 6, 5, 3, 5, 8, 9, 7, 9, 3, 2, 3, 8, 4])
    assert rel.correlation(x + 1e10, y - 1e10).r == rel.correlation(x, y).r
    assert rel.correlation([1, 1, 1], [1, 2, 3]) is None
    assert rel.fit([1, 1, 1, 1], [1, 2, 3, 4]) is None
