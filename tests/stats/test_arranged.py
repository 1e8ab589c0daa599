"""Figures of values in order within their groups, against plain arithmetic and NumPy on each group alone."""

from __future__ import annotations

from fractions import Fraction
from statistics import median

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sabueso.stats import arranged as module
from sabueso.stats.arranged import Arranged

SHARES = ("0", "0.005", "0.25", "0.5", "0.75", "0.95", "1")

near = st.integers(-40, 40)
far = st.integers(-(2**61) + 1, 2**61 - 1)
groups_of = st.lists(st.lists(near, min_size=1, max_size=30), min_size=1, max_size=8)
wide_groups_of = st.lists(st.lists(far, min_size=1, max_size=9), min_size=1, max_size=5)


def _arranged(groups: list[list[int]], parts: int = 3, seed: int = 0) -> Arranged:
    """The values of all groups, shuffled, handed over in some parts."""
    numbers = np.concatenate([np.full(len(g), i, np.int64) for i, g in enumerate(groups)])
    values = np.array([v for g in groups for v in g], np.int64)
    order = np.random.default_rng(seed).permutation(len(values))
    handed = zip(
        np.array_split(numbers[order], parts), np.array_split(values[order], parts), strict=True
    )
    sizes = np.array([len(g) for g in groups], np.int64)
    return Arranged.gathered(sizes, (int(values.min()), int(values.max())), handed)


def _type_7(values: list[int], share: str) -> Fraction:
    ordered = sorted(values)
    place = (len(ordered) - 1) * Fraction(share)
    low = int(place)
    high = min(low + 1, len(ordered) - 1)
    return ordered[low] + (place - low) * (ordered[high] - ordered[low])


@given(st.one_of(groups_of, wide_groups_of), st.integers(1, 5))
def test_values_come_in_order_whatever_order_they_came_in(groups, parts):
    found = _arranged(groups, parts)
    assert [found.group(i).tolist() for i in range(len(groups))] == [sorted(g) for g in groups]
    assert found.sizes.tolist() == [len(g) for g in groups]
    assert found.least.tolist() == [min(g) for g in groups]
    assert found.greatest.tolist() == [max(g) for g in groups]


@given(st.one_of(groups_of, wide_groups_of))
def test_order_statistics_are_fractions(groups):
    found = _arranged(groups)
    for share in SHARES:
        assert found.quantiles(share) == [_type_7(g, share) for g in groups]
    ranks = np.array([len(g) // 2 for g in groups])
    assert found.at(ranks).tolist() == [sorted(g)[len(g) // 2] for g in groups]


@given(groups_of)
def test_order_statistics_are_those_of_numpy(groups):
    found = _arranged(groups)
    for share in SHARES:
        own = [np.quantile(g, float(share)) for g in groups]
        assert found.quantile_floats(share) == pytest.approx(own, abs=1e-9)


@given(groups_of, st.data())
def test_order_statistics_of_what_is_left(groups, data):
    """Without so many of the least and of the greatest values of some groups."""
    found = _arranged(groups)
    which = [i for i in range(len(groups)) if data.draw(st.booleans())]
    low = [data.draw(st.integers(0, len(groups[i]) - 1)) for i in which]
    high = [
        data.draw(st.integers(0, len(groups[i]) - 1 - a)) for i, a in zip(which, low, strict=True)
    ]
    left = [
        sorted(groups[i])[a : len(groups[i]) - b] for i, a, b in zip(which, low, high, strict=True)
    ]
    asked = (np.array(part, dtype=np.int64) for part in (which, low, high))
    assert found.quantiles("0.95", *asked) == [_type_7(values, "0.95") for values in left]


@given(st.one_of(groups_of, wide_groups_of))
def test_sums_never_wrap(groups):
    found = _arranged(groups)
    assert found.totals() == [sum(g) for g in groups]
    assert found.squares() == [sum(v * v for v in g) for g in groups]
    assert found.counts_of(groups[0][0]).tolist() == [g.count(groups[0][0]) for g in groups]


@given(groups_of, st.integers(1, 7))
def test_sums_do_not_depend_on_the_block(groups, block):
    whole = _arranged(groups)
    figures = np.arange(len(groups), dtype=np.float64)
    before, kept = (whole.totals(), whole.squares()), module.BLOCK
    module.BLOCK = block
    try:
        assert (whole.totals(), whole.squares()) == before
        told = [row for part in whole.blocks(figures) for row in part.of_rows[0].tolist()]
    finally:
        module.BLOCK = kept
    assert told == [i for i, g in enumerate(groups) for _ in g]


@given(
    st.one_of(
        groups_of,
        st.lists(
            st.lists(st.integers(-(2**59), 2**59), min_size=1, max_size=9), min_size=1, max_size=4
        ),
    )
)
def test_absolute_deviations_from_the_median(groups):
    found = _arranged(groups)
    centres = [_type_7(g, "0.5") for g in groups]
    doubled = np.array([int(2 * c) for c in centres], np.int64)
    deviations = [[abs(Fraction(v) - c) for v in g] for g, c in zip(groups, centres, strict=True)]
    assert found.median_deviations(doubled) == [median(d) for d in deviations]
    assert found.deviations(doubled) == [2 * sum(d) for d in deviations]


@given(groups_of, st.integers(-90, 90), st.data())
def test_the_nearest_to_any_centre(groups, doubled, data):
    """Not to the median alone: by how much the value is off that has so many nearer ones."""
    found = _arranged(groups)
    ranks = np.array([data.draw(st.integers(0, len(g) - 1)) for g in groups])
    own = [
        sorted(abs(2 * v - doubled) for v in g)[rank] for g, rank in zip(groups, ranks, strict=True)
    ]
    assert found.nearest(np.full(len(groups), doubled), ranks).tolist() == own


@given(groups_of)
def test_standardised_powers_are_those_of_numpy(groups):
    found = _arranged(groups)
    mean = np.array([np.mean(g) for g in groups])
    sd = np.array([np.std(g) or 1.0 for g in groups])
    steps = np.full(len(groups), 1e9)
    cubes, fourths = found.powers(mean, sd, steps)
    for g, m, s, cube, fourth in zip(groups, mean, sd, cubes, fourths, strict=True):
        z = (np.array(g) - m) / s
        assert cube / 1e9 == pytest.approx((z**3).sum(), abs=1e-7)
        assert fourth / 1e9 == pytest.approx((z**4).sum(), abs=1e-7)


def test_as_many_values_as_were_said():
    one = (np.array([0, 0]), np.array([5, 7]))
    for sizes in ([1], [3]):
        with pytest.raises(ValueError, match="where"):
            Arranged.gathered(np.array(sizes), (5, 7), [one])


def test_no_group_at_all():
    nothing = Arranged.gathered(np.array([], np.int64), (0, 0), [])
    assert nothing.quantiles("0.5") == nothing.totals() == nothing.squares() == []
