"""Sizes, limits and estimates of samples: against published tables, other calculations and simulation."""

from __future__ import annotations

import re
from functools import cache
from itertools import pairwise
from math import comb
from pathlib import Path

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from sabueso.stats.drawing import drawn_places, random_start, spaced_places
from sabueso.stats.projection import Stratum, estimates, exact_rate, poisson_factors, stringer
from sabueso.stats.sample_size import (
    attribute_size,
    money_size,
    neyman,
    root_edges,
    strata_size,
)


def test_sizes_are_those_of_the_published_tables():
    assert money_size(0.95, 0.05) == 60
    assert money_size(0.95, 0.05, 0.01) == 93
    assert attribute_size(0.95, 0.05) == 59
    assert attribute_size(0.95, 0.05, 0.01) == 93
    assert attribute_size(0.95, 0.05, 0.02) == 181
    assert attribute_size(0.95, 0.10, 0.02) == 46
    assert attribute_size(0.90, 0.05) == 45
    assert attribute_size(0.95, 0.05, population=500) == 56


@pytest.mark.parametrize(("population", "tolerable", "expected"), [(200, 0.05, 0.0), (80, 0.1, 0.02), (3000, 0.03, 0.01)])  # fmt: skip
def test_the_exact_size_is_the_least_that_holds(population, tolerable, expected):
    """By the law written out with whole numbers: one item fewer would not do."""

    def tail(n):
        k = int(np.ceil(round(n * expected, 9)))
        deviating = int(np.ceil(round(population * tolerable, 9)))
        ways = sum(
            comb(deviating, i) * comb(population - deviating, n - i) for i in range(min(k, n) + 1)
        )
        return ways / comb(population, n)

    n = attribute_size(0.95, tolerable, expected, population)
    assert tail(n) <= 0.05
    assert all(tail(fewer) > 0.05 for fewer in range(1, n))


@pytest.mark.parametrize(
    ("law", "given", "words"),
    [
        (money_size, (0.95, 0.05, 0.05), "expected one below it"),
        (money_size, (1.0, 0.05), "confidence"),
        (money_size, (0.95, 0.05, 0.0499999), "too near"),
        (attribute_size, (0.95, 0.05, 0.0499999), "too near"),
        (strata_size, (0.95, 0.0, [1], [1]), "above 0"),
    ],
)
def test_sizes_that_cannot_be_are_refused(law, given, words):
    with pytest.raises(ValueError, match=words):
        law(*given)


def test_limits_are_those_of_the_published_tables():
    factors = poisson_factors(0.95, 4)
    assert factors.round(4).tolist() == [2.9957, 4.7439, 6.2958, 7.7537, 9.1535]
    quantiles = scipy.stats.chi2.ppf(0.95, 2 * np.arange(5) + 2) / 2
    assert factors == pytest.approx(quantiles, rel=1e-12)
    found = stringer(10_000, [0.2, 0.5])
    assert (round(found.projected, 2), round(found.upper, 2)) == (7000.0, 41801.84)
    assert found.precision + found.projected + found.allowance == pytest.approx(found.upper)


@given(st.integers(1, 300), st.integers(0, 300), st.sampled_from([0.8, 0.9, 0.95, 0.99]))
def test_the_interval_of_a_rate_is_the_exact_one(n, deviations, level):
    deviations = min(deviations, n)
    found = exact_rate(deviations, n, level)
    other = scipy.stats.binomtest(deviations, n).proportion_ci(level, "exact")
    assert (found.low, found.high) == pytest.approx((other.low, other.high), abs=1e-10)
    one_sided = scipy.stats.binomtest(deviations, n, alternative="less").proportion_ci(
        level, "exact"
    )
    assert found.upper == pytest.approx(one_sided.high, abs=1e-10)


@given(st.integers(1, 60), st.data(), st.sampled_from([0.8, 0.9, 0.95, 0.99]))
def test_the_interval_of_a_rate_of_few_items_is_the_exact_one(population, data, level):
    """Every number of items that may deviate is tried, by SciPy's law."""
    n = data.draw(st.integers(1, population))
    deviations = data.draw(st.integers(0, n))
    found = exact_rate(deviations, n, level, population)
    may = range(deviations, population - n + deviations + 1)
    law = [scipy.stats.hypergeom(population, many, n) for many in may]
    few = [each.cdf(deviations) for each in law]
    many = [each.sf(deviations - 1) for each in law]
    upper = max(d for d, p in zip(may, few, strict=True) if p > 1 - level + 1e-12)
    high = max(d for d, p in zip(may, few, strict=True) if p > (1 - level) / 2 + 1e-12)
    low = min(d for d, p in zip(may, many, strict=True) if p > (1 - level) / 2 + 1e-12)
    assert [round(each * population) for each in (found.low, found.high, found.upper)] == [
        low,
        high,
        upper,
    ]
    binomial = exact_rate(deviations, n, level)
    assert found.upper <= binomial.upper + 1 / population and found.rate == binomial.rate


@pytest.mark.long
@pytest.mark.parametrize(("population", "n"), [(60, 20), (500, 56), (900, 57)])
def test_the_limit_of_a_rate_covers_whatever_number_deviates(population, n):
    uppers = np.array(
        [round(population * exact_rate(k, n, 0.95, population).upper) for k in range(n + 1)]
    )
    for deviating in range(population + 1):
        found = scipy.stats.hypergeom(population, deviating, n).pmf(np.arange(n + 1))
        assert found[uppers >= deviating].sum() >= 0.95 - 1e-12


@given(st.integers(2, 30_000), st.sampled_from([0.9, 0.95, 0.99]), st.sampled_from([0.02, 0.05, 0.1]),
       st.sampled_from([0.0, 0.005, 0.01]))  # fmt: skip
def test_a_sample_of_the_size_solved_shows_what_it_was_solved_for(
    population, level, tolerable, expected
):
    n = attribute_size(level, tolerable, expected, population)
    errors = int(np.ceil(round(n * expected, 9)))
    rate = exact_rate(errors, n, level, population)
    assert rate.upper <= tolerable or n == population


def _errors(rng, shape, books):
    """The errors of a population of amounts, by one of six shapes."""
    n = books.size
    if shape == "none":
        return np.zeros(n)
    share = {"rare whole": 0.01, "many small": 0.3, "some halves": 0.05, "large alone": 0.1, "mixed": 0.08}[shape]  # fmt: skip
    hit = rng.random(n) < share
    if shape == "large alone":
        hit &= books > np.median(books)
    taint = {
        "rare whole": np.ones(n),
        "many small": rng.uniform(0.01, 0.1, n),
        "some halves": np.full(n, 0.5),
        "large alone": rng.beta(1, 3, n),
        "mixed": np.where(rng.random(n) < 0.5, 1.0, rng.uniform(0, 1, n)),
    }[shape]
    return hit * taint * books


@pytest.mark.parametrize("shape", ["none", "rare whole", "many small", "some halves", "large alone", "mixed"])  # fmt: skip
def test_the_money_limit_covers_in_95_of_100_populations_and_more(shape):
    """2,000 populations drawn by the program's own interval and start; the true error is known."""
    rng = np.random.default_rng(len(shape))
    covered = 0
    for trial in range(2_000 // 6):
        books = np.maximum((rng.lognormal(4, 1.4, 400) * 100).astype(np.int64), 1)
        errors = _errors(rng, shape, books)
        total, size = int(books.sum()), 60
        interval = total // size
        start = random_start(f"{shape}{trial}", interval)
        upto = np.cumsum(books)
        units = np.arange(start, total, interval)
        items = np.searchsorted(upto, units, side="right")
        whole = books >= interval
        taints = [errors[i] / books[i] for i in items if not whole[i] and errors[i] > 0]
        limit = stringer(float(interval), taints).upper + errors[whole].sum()
        covered += limit >= errors.sum()
    assert covered / (2_000 // 6) >= 0.95


def test_estimates_are_those_of_the_textbook_formulas():
    rng = np.random.default_rng(8)
    strata = []
    for size, n in ((400, 25), (90, 12)):
        recorded = rng.lognormal(5, 1, n)
        strata.append(Stratum(size, recorded, recorded - rng.choice([0, 5, 20], n)))
    total = 123_456.0
    found = {e.name: e for e in estimates(strata, total)}
    diffs = [s.recorded - s.right for s in strata]
    error = sum(s.size * d.mean() for s, d in zip(strata, diffs, strict=True))
    parts = [
        s.size**2 * (1 - d.size / s.size) * d.var(ddof=1) / d.size
        for s, d in zip(strata, diffs, strict=True)
    ]
    df = sum(parts) ** 2 / sum(p**2 / (d.size - 1) for p, d in zip(parts, diffs, strict=True))
    half = scipy.stats.t.ppf(0.975, df) * sum(parts) ** 0.5
    assert found["difference"].error == pytest.approx(error)
    assert (found["difference"].low, found["difference"].high) == pytest.approx((error - half, error + half))  # fmt: skip
    right = sum(s.size * s.right.mean() for s in strata)
    book = sum(s.size * s.recorded.mean() for s in strata)
    assert found["ratio"].error == pytest.approx(total * (1 - right / book))
    assert found["mean"].error == pytest.approx(total - right)


def test_intervals_of_differences_cover_as_they_say():
    """Of 1,500 samples of one population of which a third is in error: about 95 in 100 intervals hold the truth."""
    rng = np.random.default_rng(12)
    recorded = rng.uniform(50, 150, 2_000)
    errors = np.where(rng.random(2_000) < 0.35, rng.uniform(0, 30, 2_000), 0.0)
    held = 0
    for _ in range(1_500):
        chosen = rng.choice(2_000, 80, replace=False)
        found = estimates([Stratum(2_000, recorded[chosen], (recorded - errors)[chosen])], recorded.sum())  # fmt: skip
        held += found[0].low <= errors.sum() <= found[0].high
    assert held / 1_500 == pytest.approx(0.95, abs=0.02)


@given(
    st.lists(st.tuples(st.integers(0, 500), st.floats(0, 1e4)), min_size=1, max_size=8),
    st.integers(0, 1200),
)
def test_an_allocation_gives_what_is_there_and_two_at_least(strata, size):
    sizes, deviations = map(list, zip(*strata, strict=True))
    given_to = neyman(size, sizes, deviations)
    least = sum(min(2, n) for n in sizes)
    assert all(min(2, n) <= k <= n for k, n in zip(given_to, sizes, strict=True))
    assert given_to.sum() == max(min(size, sum(sizes)), least)


def test_strata_by_the_root_of_the_frequency_beat_equal_ones():
    """On a skewed population the variance of the mean is less than with strata of equal width."""
    rng = np.random.default_rng(4)
    values = rng.lognormal(3, 0.9, 20_000)
    values = values[values < 200]
    counts, edges = np.histogram(values, 1_000)

    def spread(limits):
        place = np.searchsorted(limits, values, side="right")
        return sum((place == k).mean() * values[place == k].std() for k in range(len(limits) + 1))

    chosen = root_edges(counts, edges, 4)
    assert len(chosen) == 3
    assert spread(chosen) < spread(np.linspace(values.min(), values.max(), 5)[1:-1])


@cache
def _documented():
    text = (Path(__file__).parents[2] / "docs" / "samples.md").read_text(encoding="utf-8")
    names = {}
    exec(re.search(r"```python\n(.*?)```", text, re.S)[1], names)
    return names


@given(st.integers(0, 10**6), st.integers(0, 60), st.integers(1, 120))
def test_places_are_drawn_by_lines_that_anyone_can_write(seed, size, population):
    """The lines that stand in the documentation, run as they stand there: the same places."""
    size = min(size, population)
    few = 2 * size <= population
    found = set(_documented()["drawn"](seed, size if few else population - size, population))
    places = found if few else set(range(1, population + 1)) - found
    assert drawn_places(str(seed), size, population) == sorted(places)
    if size:
        spaced = spaced_places(str(seed), size, population)
        gaps = {b - a for a, b in pairwise(spaced)}
        assert len(set(spaced)) == size
        assert 1 <= spaced[0] <= spaced[-1] <= population
        assert gaps <= {population // size, population // size + 1}


def test_every_place_is_drawn_alike():
    counts = np.zeros(40)
    for seed in range(3_000):
        counts[np.array(drawn_places(str(seed), 5, 40)) - 1] += 1
    assert scipy.stats.chisquare(counts).pvalue > 1e-4
