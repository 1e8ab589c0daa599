"""Distances against their definitions, SciPy, and an exhaustive search for the robust fit."""

from __future__ import annotations

import json
from itertools import combinations
from pathlib import Path

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from sabueso.stats import distance as dist
from sabueso.stats import distance_law as law
from sabueso.stats.mcd import minimum_covariance_determinant

DATA = Path(__file__).parent / "data"
SETS = json.loads((DATA / "classical_sets.json").read_text(encoding="utf-8"))
FITS = json.loads((DATA / "classical_fits.json").read_text(encoding="utf-8"))


def _sample(seed: int, n: int = 60, p: int = 3) -> np.ndarray:
    rng = np.random.default_rng(seed)
    return rng.normal(size=(n, p)) @ rng.normal(size=(p, p)) * 10.0 ** rng.integers(-2, 5, p)


@given(st.integers(0, 10_000))
def test_classical_distance_and_its_parts(seed):
    x = _sample(seed)
    at = dist.classical(x)
    inverse = np.linalg.inv(np.cov(x, rowvar=False))
    expected = [(r - x.mean(0)) @ inverse @ (r - x.mean(0)) for r in x]
    d2 = dist.squared_distances(x, at)
    assert d2 == pytest.approx(expected, rel=1e-6)
    assert d2.sum() == pytest.approx((len(x) - 1) * 3)  # trace of S⁻¹S
    assert dist.contributions(x, at).sum(axis=1) == pytest.approx(d2, rel=1e-6)


def test_one_measure_is_the_z_score():
    x = _sample(3, p=1)
    z = (x[:, 0] - x.mean()) / x.std(ddof=1)
    assert dist.squared_distances(x, dist.classical(x)) == pytest.approx(z**2)


def test_laws():
    d2 = np.array([0.5, 4.0, 11.0])
    n, p = 25, 3
    expected = scipy.stats.beta.sf(n * d2 / (n - 1) ** 2, p / 2, (n - p - 1) / 2)
    assert dist.beta_tail(d2, n, p) == pytest.approx(expected)
    assert dist.beta_tail([dist.beta_limit(0.001, n, p)], n, p)[0] == pytest.approx(0.001)
    assert dist.chi_square_limit(0.025, 2) == pytest.approx(7.3778, abs=1e-4)
    with pytest.raises(ValueError, match="too few"):
        dist.beta_limit(0.01, 4, 3)


def test_mardia_equals_the_double_sum():
    x = _sample(8, n=50, p=2) ** 2
    n, p = x.shape
    off = x - x.mean(0)
    g = off @ np.linalg.inv(off.T @ off / n) @ off.T
    found = dist.mardia(x)
    assert found.skewness == pytest.approx((g**3).sum() / n**2)
    assert found.kurtosis == pytest.approx((np.diag(g) ** 2).mean())
    df = p * (p + 1) * (p + 2) / 6
    assert found.skewness_p == pytest.approx(scipy.stats.chi2.sf(n * found.skewness / 6, df))


def test_dependent_measures_are_named():
    x = _sample(4, n=30, p=3)
    whole = np.column_stack([x, np.full(30, 7.0), x[:, 0] - 2 * x[:, 2]])
    assert dist.dependent_measures(whole) == [dist.Dropped(3, ()), dist.Dropped(4, (0, 2))]


@pytest.mark.parametrize("seed", range(6))
def test_robust_fit_finds_the_least_determinant(seed):
    # Every subset of h of 14 subjects, tried one by one.
    x = _sample(seed, n=14, p=2)
    x[:3] += 40 * x.std(0)
    fit = minimum_covariance_determinant(x, seed=seed)
    assert fit.h == (14 + 2 + 1) // 2
    best = min(
        np.linalg.det(np.cov(x[list(chosen)], rowvar=False, bias=True))
        for chosen in combinations(range(14), fit.h)
    )
    inside = np.argsort(dist.squared_distances(x, fit.raw))[: fit.h]
    found = np.linalg.det(np.cov(x[inside], rowvar=False, bias=True))
    assert found == pytest.approx(best, rel=1e-9)


@pytest.mark.parametrize("name", SETS)
def test_robust_fit_of_classical_data_is_that_of_an_independent_implementation(name):
    # The figures are of bench/reference_mcd.py.
    x, known = np.array(SETS[name]["rows"], float), FITS[name]
    fits = [minimum_covariance_determinant(x, seed=seed) for seed in range(3)]
    for fit in fits:
        assert (fit.h, fit.used) == (known["h"], known["used"])
        assert fit.location.center == pytest.approx(known["center"], rel=1e-8)
        assert fit.location.covariance == pytest.approx(np.array(known["covariance"]), rel=1e-8)
        d2 = dist.squared_distances(x, fit.location)
        assert d2 == pytest.approx(known["d2"], rel=1e-8)
    dets = [np.linalg.det(fit.raw.covariance) for fit in fits]
    assert dets == pytest.approx([dets[0]] * 3, rel=1e-9)


def test_published_figures_of_two_sets():
    fit = minimum_covariance_determinant(np.array(SETS["hbk"]["rows"], float))
    assert fit.location.covariance[0, 0] == pytest.approx(1.65275398595, rel=1e-10)
    wood = np.array(SETS["wood"]["rows"], float)
    fit = minimum_covariance_determinant(wood)
    d2 = dist.squared_distances(wood, fit.location)
    for alpha in (0.025, 0.01):
        far = np.flatnonzero(d2 > law.robust_limit(alpha, 20, 6, None, fit.inside)) + 1
        assert far.tolist() == [4, 6, 8, 19]


def test_large_measures_with_small_differences_lose_nothing():
    x = np.random.default_rng(5).normal(size=(200, 1))
    near = minimum_covariance_determinant(x)
    for shift in (1e10, 1e12):
        far = minimum_covariance_determinant(x + shift)
        assert far.location.covariance[0, 0] == pytest.approx(
            near.location.covariance[0, 0], rel=1e-3
        )


@pytest.mark.long
@pytest.mark.parametrize(("n", "p"), [(15, 5), (30, 3), (60, 2), (200, 4)])
def test_law_of_the_robust_distance_on_normal_data(n, p):
    rng = np.random.default_rng([3, n, p])
    tails = []
    runs = max(1_500 // n, 30)  # the many are in bench/distance_law.py
    for _ in range(runs):
        x = rng.normal(size=(n, p))
        fit = minimum_covariance_determinant(x)
        d2 = dist.squared_distances(x, fit.location)
        tails.append(law.robust_tail(d2, n, p, None, fit.inside))
    every = np.concatenate(tails)
    # Distances of one population hang together: the bounds leave room for the sample.
    for alpha, room in ((0.05, 1.4), (0.01, 1.9)):
        assert alpha / room < (every < alpha).mean() < alpha * room
    assert (every < 0.001).mean() < 0.003
    limit = law.robust_limit(0.01, n, p, None, fit.inside)
    assert law.robust_tail([limit], n, p, None, fit.inside[:1])[0] == pytest.approx(0.01)


def test_law_of_many_subjects():
    x = np.random.default_rng(9).normal(size=(20_000, 3))
    fit = minimum_covariance_determinant(x)
    tail = law.robust_tail(dist.squared_distances(x, fit.location), len(x), 3, None, fit.inside)
    assert (tail < 0.01).mean() == pytest.approx(0.01, rel=0.25)
    w, p, d2 = int(fit.inside.sum()), 3, 25.0
    expected = scipy.stats.f.sf(d2 * w * (w - p) / ((w + 1) * (w - 1) * p), p, w - p)
    outside = law.robust_tail(np.full(len(x), d2), len(x), 3, None, fit.inside)
    assert outside[~fit.inside][0] == pytest.approx(expected, rel=1e-9)
    with pytest.raises(ValueError, match="no law"):
        law.tabled(10, 5, None)


def test_robust_fit_is_not_drawn_by_outliers_and_not_by_units():
    rng = np.random.default_rng(2)
    x = rng.normal(size=(400, 3))
    x[:80] = rng.normal(size=(80, 3)) * 0.1 + 9
    fit = minimum_covariance_determinant(x)
    assert np.abs(fit.location.center).max() < 0.25
    d2 = dist.squared_distances(x, fit.location)
    limit = dist.chi_square_limit(0.001, 3)
    assert (d2[:80] > limit).all()
    assert (d2[80:] > limit).mean() < 0.02
    # The plain distance is masked by the eighty.
    assert (dist.squared_distances(x, dist.classical(x))[:80] > limit).mean() < 0.05
    units = np.array([1e-6, 1.0, 1e9])
    again = minimum_covariance_determinant(x * units)
    assert dist.squared_distances(x * units, again.location) == pytest.approx(d2, rel=1e-6)


@pytest.mark.long
def test_robust_fit_of_normal_data_is_consistent_at_every_size():
    rng = np.random.default_rng(7)
    for n, band in ((40, 0.12), (2_000, 0.08), (60_000, 0.09)):
        dets = [
            np.linalg.det(
                minimum_covariance_determinant(rng.normal(size=(n, 2))).location.covariance
            )
            for _ in range(30 if n < 100 else 2)
        ]
        assert np.mean(dets) ** 0.5 == pytest.approx(1, abs=band)


def test_robust_fit_says_why_it_cannot():
    flat = np.zeros((30, 2))
    flat[:5] = np.random.default_rng(0).normal(size=(5, 2))
    with pytest.raises(ValueError, match="singular"):
        minimum_covariance_determinant(flat)
    with pytest.raises(ValueError, match="too few"):
        minimum_covariance_determinant(_sample(1, n=6, p=3))


def test_where_no_law_is_known_none_is_used():
    assert [law.least_subjects(p) for p in (1, 2, 5, 8, 9, 12)] == [6, 7, 15, 24, 180, 240]
    assert not law.is_known(179, 9)
    with pytest.raises(ValueError, match="no law"):
        law.robust_limit(0.001, 179, 9, None, np.ones(179, bool))
    # Of every subset the law goes over to chi-square with the subjects.
    for share in (None, 0.6, 0.75, 1.0):
        scale, df = law.tabled(900, 4, share)
        assert scale == pytest.approx(1, abs=0.03) and df > 100
        assert law.robust_limit(0.01, 900, 4, share, np.ones(900, bool)) == pytest.approx(
            scipy.stats.chi2.isf(0.01, 4), rel=0.06
        )
