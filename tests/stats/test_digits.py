"""Leading-digit mathematics against known sequences, closed forms and SciPy."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from sabueso.stats.adjust import adjust
from sabueso.stats.digit_law import DIGIT_TESTS, class_labels, expected_shares
from sabueso.stats.digit_verdict import concluded, published_range
from sabueso.stats.digits import (
    binomial_band,
    binomial_p,
    deviation_error,
    expected_deviation,
    fit_digits,
)
from sabueso.stats.hypergeometric import upper_tail, upper_tails
from sabueso.stats.significand import mantissa_arc, significand_test


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
    assert fit.mad_range == ["close"]
    assert fit.verdict == ["no departure shown"]
    assert not fit.flagged.any()
    assert fit.chi_square_p[0] > 0.99


def test_uniform_amounts_do_not_conform():
    fit = fit_digits([[1111] * 9], "first")
    assert fit.mad_range == fit.verdict == ["nonconforming"]
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
        exact = scipy.stats.binom(n, pe[k])
        tail = min(exact.cdf(counts[k]), exact.sf(counts[k] - 1))
        assert fit.p[0, k] == pytest.approx(min(1, 2 * tail), rel=1e-7, abs=1e-14)


def test_band_holds_all_classes_in_95_of_100_conforming_samples():
    rng = np.random.default_rng(5)
    pe = expected_shares("first-two")
    counts = rng.multinomial(20_000, pe, size=400)
    fit = fit_digits(counts, "first-two")
    inside = ((fit.share >= fit.band_low) & (fit.share <= fit.band_high)).all(axis=1).mean()
    assert 0.92 <= inside <= 0.98
    # The mean absolute deviation of these samples is what chance is said to give.
    assert fit.mad.mean() == pytest.approx(fit.mad_expected.mean(), rel=0.01)


@pytest.mark.parametrize("test", DIGIT_TESTS)
@pytest.mark.parametrize("n", [1, 2, 7, 50, 200, 1000, 10**6])
def test_bands_and_deviations_are_those_of_the_binomial_law(test, n):
    pe = expected_shares(test)
    each = (1 - 0.95 ** (1 / pe.size)) / 2
    low, high = binomial_band([[n]], pe, 0.05)
    assert (low[0] == scipy.stats.binom.ppf(each, n, pe)).all()
    assert (high[0] == scipy.stats.binom.ppf(1 - each, n, pe)).all()
    if n <= 1000 and pe.size <= 100:
        k = np.arange(n + 1)
        law = [(np.abs(k / n - p) * scipy.stats.binom.pmf(k, n, p)).sum() for p in pe]
        assert expected_deviation([n], test)[0] == pytest.approx(np.mean(law), rel=1e-9)


@given(st.integers(1, 400), st.data())
def test_two_sided_binomial_p(n, data):
    k = data.draw(st.integers(0, n))
    p = data.draw(st.floats(0.001, 0.999))
    tail = min(scipy.stats.binom.cdf(k, n, p), scipy.stats.binom.sf(k - 1, n, p))
    assert binomial_p(k, n, p) == pytest.approx(min(1, 2 * tail), rel=1e-8, abs=1e-300)


@pytest.mark.long
def test_conforming_populations_are_rarely_flagged_and_never_called_nonconforming():
    rng = np.random.default_rng(11)
    for test, n in (("first", 200), ("first", 10**5), ("first-two", 1000), ("first-two", 10**6)):
        pe = expected_shares(test)
        counts = rng.multinomial(n, pe / pe.sum(), size=500)
        fits = [fit_digits(row, test) for row in counts]
        flagged = np.mean([f.flagged.any() for f in fits])
        outside = np.mean([((f.share < f.band_low) | (f.share > f.band_high)).any() for f in fits])
        assert flagged <= outside <= 0.08
        assert sum(f.verdict == ["nonconforming"] for f in fits) <= 5
        assert sum(f.verdict == ["no departure shown"] for f in fits) >= 440
        inside = [abs(f.mad - f.mad_expected) <= 1.96 * f.mad_error for f in fits]
        assert np.mean(inside) >= 0.95


def test_rows_planted_on_one_class_are_named():
    rng = np.random.default_rng(12)
    for test, place in (("first", 5), ("first-two", 40), ("last-two", 0)):
        pe = expected_shares(test)
        named = 0
        for _ in range(200):
            row = rng.multinomial(950, pe / pe.sum())
            row[place] += 50
            fit = fit_digits(row, test)
            named += bool(fit.flagged[0, place])
            assert fit.verdict != ["no departure shown"] or not fit.flagged.any()
        assert named > 190


def test_error_of_the_deviation_is_that_of_samples():
    rng = np.random.default_rng(13)
    pe = expected_shares("first")
    departing = pe * np.linspace(1.4, 0.6, 9)
    departing /= departing.sum()
    fit = fit_digits(rng.multinomial(4000, departing, size=4000), "first")
    said = deviation_error(departing[None, :], pe, [4000])[0]
    assert fit.mad.std() == pytest.approx(said, rel=0.05)


def test_one_conclusion():
    assert concluded("first", 0.5, shown=False) == "no departure shown"
    said = [concluded("first", x, shown=True) for x in (-0.1, 0.005, 0.010, 0.013, 0.02)]
    assert said == ["departs slightly"] * 2 + ["departs"] * 2 + ["nonconforming"]
    assert concluded("last-two", 0.5, shown=True) == "departs"


@pytest.mark.parametrize("test", ["first", "first-two", "first-three"])
def test_significands_of_a_conforming_population(test):
    rng = np.random.default_rng(14)
    n, labels = 20_000, class_labels(test)
    factor = 10 ** (len(str(labels[0])) - 1)
    sums = []
    for _ in range(60):
        s = 10 ** rng.random(n)
        place = np.minimum((s * factor).astype(int), labels[-1]) - labels[0]
        sums.append(np.bincount(place, weights=s, minlength=labels.size))
    fits = [significand_test(x, n, test) for x in sums]
    z = np.array([f.z for f in fits])
    assert abs(z.mean()) < 0.02 + 3 / np.sqrt(z.size)
    assert z.std() == pytest.approx(1, abs=0.1)
    assert fits[0].expected == 1 / labels.size
    # A class's mean and variance by numerical integration of S over one decade.
    a, b = labels[3] / factor, (labels[3] + 1) / factor
    x = np.linspace(a, b, 20_001)
    density = 1 / (x * np.log(10))
    mean = np.trapezoid(x * density, x)
    sd = np.sqrt(np.trapezoid(x**2 * density, x) - mean**2)
    again = significand_test(np.full(labels.size, 100.0), 50, test)
    assert again.z[3] == pytest.approx((100 - 50 * mean) / (np.sqrt(50) * sd), rel=1e-5)
    with pytest.raises(ValueError, match="nothing"):
        significand_test(np.zeros(labels.size), 5, test)


def test_ranges_of_the_mean_absolute_deviation():
    assert [published_range("first-two", m) for m in (0.0011, 0.0015, 0.0020, 0.0023)] == [
        "close",
        "acceptable",
        "marginal",
        "nonconforming",
    ]
    assert published_range("last-two", 0.5) is None
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


@given(st.sampled_from([1, 7, 300, 60_000]), st.integers(0, 2**32 - 1))
def test_hypergeometric_tails(population, seed):
    rng = np.random.default_rng(seed)
    marked, drawn = rng.integers(0, population + 1, (2, 40))
    count = rng.integers(0, np.minimum(marked, drawn) + 2)
    count[::5] = np.rint(drawn * marked / population)[::5]
    expected = scipy.stats.hypergeom.sf(count - 1, population, marked, drawn)
    found = upper_tails(count, population, marked, drawn)
    assert found == pytest.approx(expected, rel=1e-6, abs=1e-12)
    alone = [
        upper_tail(int(k), population, int(m), int(n))
        for k, m, n in zip(count, marked, drawn, strict=True)
    ]
    assert alone == found.tolist()
