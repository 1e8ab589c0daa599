"""What stands apart from all others of its column, by numbers whose place is known."""

from __future__ import annotations

from datetime import date, timedelta

import pytest

from sabueso.screens.range.far import proposed_far


@pytest.mark.parametrize(
    ("usual", "far", "expected"),
    [
        # Even numbers with an end: half as much again is apart, below that is not, and so many are a habit.
        ([4000, 9000, 14000, 20000, 26000], [46000, 53000], ("26000", 2)),
        ([4000, 9000, 14000, 20000, 26000], [38000], None),
        ([0, 25, 25, 50, 50], [180, 240, 300], ("50", 3)),
        ([0, 25, 25, 50, 50], [180] * 9, None),
        # A long upper end, of which the largest lie apart by chance.
        ([1, 2, 4, 9, 40], [70], None),
        ([1, 2, 4, 9, 40], [900], ("40", 1)),
    ],
)
def test_numbers_far_above_all_others(populate, usual, far, expected):
    values = [*usual * 80, *far]
    rows = [
        {"n": f"N{i:03}", "day": date(2024, 1, 1) + timedelta(days=i % 300), "load": value}
        for i, value in enumerate(values)
    ]
    found = list(proposed_far(populate(rows, id="n", date="day")))
    if expected is None:
        assert not found
    else:
        (proposal,) = found
        greatest, count = expected
        assert proposal.settings == {"on": "load", "greatest": greatest}
        some = sum(value > 0 for value in values)
        assert proposal.because.startswith(f"{count} of {some} rows with some are ")
