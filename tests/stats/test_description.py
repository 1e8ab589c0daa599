"""The description of a measure against SciPy and NumPy on the same amounts."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
import scipy.optimize
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from sabueso.stats.description import bins, describe, stem_and_leaf

amounts = st.lists(st.integers(-(10**11), 10**11), min_size=1, max_size=120)


def _distinct(x):
    return np.unique(np.array(x, dtype=np.int64), return_counts=True)


@given(amounts)
def test_against_scipy(x):
    found = describe(*_distinct(x), scale=2)
    a = np.array(x) / 100
    assert (found.n, found.total) == (len(x), Fraction(sum(x), 100))
    assert found.negative == (a < 0).sum() and found.zero == (a == 0).sum()
    assert found.mean == pytest.approx(a.mean(), rel=1e-9, abs=1e-9)
    for p, value in found.percentiles.items():
        assert float(value) == pytest.approx(np.percentile(a, p), rel=1e-9, abs=1e-6)
    assert found.trimmed == pytest.approx(scipy.stats.trim_mean(a, 0.05), rel=1e-9, abs=1e-6)
    if len(x) > 1:
        assert found.sd == pytest.approx(a.std(ddof=1), rel=1e-9, abs=1e-9)
        assert found.standard_error == pytest.approx(
            a.std(ddof=1) / len(x) ** 0.5, rel=1e-9, abs=1e-9
        )
    else:
        assert found.sd is None and found.interval is None


def test_shape_interval_and_huber():
    rng = np.random.default_rng(5)
    x = np.round(rng.lognormal(8, 1.2, 4001)).astype(np.int64)
    found = describe(*_distinct(x), scale=2)
    a = x / 100
    assert found.skewness == pytest.approx(scipy.stats.skew(a, bias=False))
    assert found.kurtosis == pytest.approx(scipy.stats.kurtosis(a, bias=False))
    low, high = scipy.stats.t.interval(0.95, len(a) - 1, a.mean(), scipy.stats.sem(a))
    assert found.interval == pytest.approx((low, high))
    scale = scipy.stats.median_abs_deviation(a, scale="normal")
    psi = lambda mu: np.clip((a - mu) / scale, -1.345, 1.345).sum()  # noqa: E731
    assert found.huber == pytest.approx(scipy.optimize.brentq(psi, a.min(), a.max(), xtol=1e-10))
    # The errors of a normal sample's shape, by the closed forms at n = 100 (Joanes and Gill 1998).
    hundred = describe(*_distinct(range(100)))
    assert hundred.skewness_error == pytest.approx(0.24138, abs=1e-5)
    assert hundred.kurtosis_error == pytest.approx(0.47833, abs=1e-5)


def test_what_n_or_spread_does_not_allow():
    one = describe(np.array([7]), np.array([1]))
    assert (one.sd, one.skewness, one.huber, one.trimmed) == (None, None, None, 7)
    flat = describe(np.array([7]), np.array([5]))
    assert (flat.sd, flat.skewness, flat.kurtosis) == (0, None, None)
    with pytest.raises(ValueError, match="ascending"):
        describe(np.array([2, 1]), np.array([1, 1]))


@given(amounts, st.one_of(st.none(), st.integers(1, 40)))
def test_bins_hold_every_amount(x, number):
    values, counts = _distinct(x)
    found = bins(values, counts, 2, number)
    assert sum(found.counts) == len(x)
    edges = [e * 100 for e in found.edges]
    assert edges[0] <= min(x) and edges[-1] >= max(x)
    assert number is None or len(found.counts) == number
    # An amount on an edge is in the bin that begins there; the last one holds its end.
    last = len(found.counts) - 1
    places = [min(sum(v >= e for e in edges) - 1, last) for v in x]
    assert found.counts == [places.count(i) for i in range(len(found.counts))]


def test_a_stem_and_leaf_reads_back():
    x = [12, 15, 15, 21, 29, 30, 30, 38, 47, -4]
    stem = stem_and_leaf(*_distinct(x))
    assert (stem.leaf, stem.each) == (1, 1)
    back = [s * 10 + int(leaf) for s, leaves in stem.rows for leaf in leaves]
    assert back == sorted(x)
