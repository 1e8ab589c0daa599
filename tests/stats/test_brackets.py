"""Amounts by brackets of another number, and where amounts of a kind end."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sabueso.stats.brackets import brackets
from sabueso.stats.ending import sharp_end

RATES = st.lists(st.integers(1, 60).map(lambda n: n / 100), min_size=2, max_size=4, unique=True)


def _bases(rng: np.random.Generator, n: int) -> np.ndarray:
    return np.round(rng.lognormal(7, 1.2, n), 2)


def _progressive(of: np.ndarray, rates: list[float], limits: list[float]) -> np.ndarray:
    edges = [0.0, *limits, 1e12]
    made = (
        r * (np.clip(of, a, b) - a) for r, a, b in zip(rates, edges[:-1], edges[1:], strict=True)
    )
    return np.round(np.sum(list(made), axis=0), 2)


@settings(max_examples=40, deadline=None)
@given(RATES, st.integers(0, 2**32 - 1))
def test_each_rate_and_limit_is_found_though_some_amounts_are_wrong(rates, seed):
    """Limits of a round number, each bracket with rows enough; one amount in a hundred is another."""
    rng = np.random.default_rng(seed)
    of = _bases(rng, 3_000)
    shares = np.linspace(0, 1, len(rates) + 1)[1:-1]
    limits = [float(round(limit, -2)) for limit in np.quantile(of, shares)]
    own = _progressive(of, rates, limits)
    wrong = rng.choice(len(of), 30, replace=False)
    own[wrong] = np.round(own[wrong] * rng.uniform(1.1, 2, 30), 2)
    found = brackets(own, of, 2)
    assert [each.rate for each in found] == rates
    assert [each.up_to for each in found] == pytest.approx([*limits, np.inf])
    made = np.select([of <= each.up_to for each in found], [e.rate * of + e.fixed for e in found])
    right = np.setdiff1d(np.arange(len(of)), wrong)
    assert np.abs(own - made)[right].max() <= 0.005 + 1e-6


def test_brackets_need_not_go_on_where_the_one_before_ends():
    rng = np.random.default_rng(3)
    pieces = rng.integers(1, 400, 2_000).astype(float)
    prices = np.select([pieces < 100, pieces < 250], [5.25, 4.5], 4.1)
    found = brackets(np.round(prices * pieces, 2), pieces, 2)
    assert [(e.rate, e.fixed) for e in found] == [(5.25, 0), (4.5, 0), (4.1, 0)]
    # What was bought by the hundred has the second price already.
    assert [99 <= found[0].up_to < 100, 249 <= found[1].up_to < 250] == [True, True]
    fees = np.select([pieces <= 50, pieces <= 300], [25.0, 40.0], 90.0)
    assert [(e.rate, e.fixed, e.up_to) for e in brackets(fees, pieces, 2)] == [
        (0, 25, 50), (0, 40, 300), (0, 90, np.inf)
    ]  # fmt: skip


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 2**32 - 1), st.integers(0, 4))
def test_what_goes_by_no_brackets_has_none(seed, law):
    """One rate, none, another rate by a kind that has nothing to do with the size, and a fee beside a rate."""
    rng = np.random.default_rng(seed)
    of = _bases(rng, 1_500)
    kinds = rng.integers(0, 3, len(of))
    laws = [
        of * 0.19,
        rng.lognormal(5, 1, len(of)),
        of * np.array([0.05, 0.1, 0.21])[kinds],
        of * 0.1 + np.array([0, 9.95, 25.0])[kinds],
        of * rng.uniform(0.1, 0.3, len(of)),
    ]
    assert brackets(np.round(laws[law], 2), of, 2) == []


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 2**32 - 1), st.sampled_from([1_000, 2_500, 500, 3_000]), st.integers(1, 4))
def test_a_limit_of_a_kind_is_found_and_who_is_above_it(seed, limit, above):
    rng = np.random.default_rng(seed)
    kept = limit * np.sqrt((np.arange(900) + rng.uniform(0, 1, 900)) / 900)  # ever more towards it
    beyond = limit * rng.uniform(1.2, 3, above)
    own, others = np.round(np.append(kept, beyond), 2), limit * rng.uniform(0.1, 20, 900)
    assert sharp_end(own, others, 4) == (limit, above)
    # Where the others end there as well, it is no limit of this kind.
    assert sharp_end(own, np.minimum(others, limit), 4) is None


def test_what_thins_out_has_no_limit():
    """Of laws with a tail hardly one in a hundred seems to end."""
    rng = np.random.default_rng(5)
    laws = {
        "lognormal": lambda: rng.lognormal(6, 1, 800),
        "normal": lambda: np.abs(rng.normal(1_000, 300, 800)),
        "exponential": lambda: rng.exponential(500, 800),
        "pareto": lambda: 100 * (1 + rng.pareto(1.5, 800)),
    }
    others = rng.lognormal(8, 1.5, 2_000)
    for name, law in laws.items():
        found = [sharp_end(np.round(law(), 2), others, 8) for _ in range(200)]
        assert sum(end is not None for end in found) <= 6, name
