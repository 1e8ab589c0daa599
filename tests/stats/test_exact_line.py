"""Amounts of a fixed part and so much for each: solved exactly, though some are wrong."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sabueso.stats.exact_line import exact_line

TAKEN = st.integers(-4_000, 4_000).filter(bool)


@settings(max_examples=40, deadline=None)
@given(st.lists(TAKEN, min_size=2, max_size=4), st.integers(0, 3), st.integers(0, 2**32 - 1))
def test_each_coefficient_is_found_and_what_is_of_no_matter_has_none(taken, places, seed):
    """Of one row in fifty the amount is another, by any factor; one number has nothing to do with it."""
    rng = np.random.default_rng(seed)
    n, coefficients = 900, [t / 10**places for t in taken]
    numbers = [
        np.ones(n),
        *(np.round(rng.gamma(2, 8, n), 1) for _ in taken[1:]),
        rng.integers(0, 30, n),
    ]
    columns = np.column_stack(numbers).astype(float)
    own = np.round(columns[:, : len(taken)] @ coefficients, 2)
    wrong = rng.choice(n, n // 50, replace=False)
    own[wrong] = np.round(own[wrong] * rng.uniform(1.5, 100, len(wrong)) + 5, 2)
    found = exact_line(own, columns, 2)
    assert found is not None
    fixed, *each = found.coefficients
    # What is less than half of the last decimal of the amounts cannot be told of the fixed part.
    assert fixed == pytest.approx(coefficients[0], abs=0.005)
    assert each == pytest.approx([*coefficients[1:], 0.0], abs=1e-12)
    assert found.holds >= 0.97


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 2**32 - 1))
def test_what_is_made_of_something_else_is_no_line(seed):
    rng = np.random.default_rng(seed)
    km, minutes = np.round(rng.gamma(2, 4, 600), 1), rng.integers(1, 90, 600)
    columns = np.column_stack([np.ones(600), km, minutes])
    for own in (
        rng.lognormal(3, 1, 600),
        3.5 + 1.2 * km + rng.normal(0, 0.5, 600),
        3.5 + km * rng.choice([1.1, 1.2, 1.4], 600),
        km * minutes,
    ):
        assert exact_line(np.round(own, 2), columns, 2) is None
    # Nor is anything said of few rows.
    own = np.round(3.5 + 1.2 * km, 2)
    assert exact_line(own[:60], columns[:60], 2) is None
    assert exact_line(own, columns, 2).coefficients == (3.5, 1.2, 0.0)
