"""What is proposed of a table that is little else than measures: rows unlike all others in many of them together."""

from __future__ import annotations

import re
import tomllib

import numpy as np
import pytest

from conftest import inside_json
from folders import asked_for, taken_in

N, FEATURES, PLANTED = 4_000, 12, 15


@pytest.fixture(scope="module")
def found(tmp_path_factory):
    """Rows of a clock, measures with heavy tails as a program writes floats, a sum of two of them, and an amount; some
    rows far in six of them at once, and in none further than some others are."""
    rng = np.random.default_rng(5)
    measures = rng.standard_t(4, (N, FEATURES)) * np.linspace(2, 0.3, FEATURES)
    odd = rng.choice(N, PLANTED, replace=False)
    measures[odd, :6] = np.sign(rng.normal(size=6)) * np.linspace(2, 0.3, FEATURES)[:6] * 8
    clock = np.sort(rng.integers(0, 170_000, N))
    amounts = np.round(rng.lognormal(3, 1.5, N), 2)
    names = ["Seconds", *(f"F{i}" for i in range(FEATURES)), "F0 and F1", "Amount"]
    rows = [
        [clock[i], *map(float, measures[i]), float(measures[i, 0] + measures[i, 1]), amounts[i]]
        for i in range(N)
    ]
    case, _ = taken_in(tmp_path_factory.mktemp("of_measures"), {"cards": (names, rows)})
    return case, asked_for(case), {int(place) + 2 for place in odd}


def test_rows_are_compared_by_the_measures_that_tell_something(found):
    """Without what goes up with the lines and what two others tell; the rows that are far together are found, and none
    beside them."""
    case, queued, odd = found
    name = "rows of cards unlike others"
    plan = tomllib.loads((case / "case.toml").read_text())
    (settings,) = (screen for screen in plan["screens"] if screen["name"] == name)
    measures = {text.strip('"') for text in settings["measures"]}
    assert "Seconds" not in measures and len(measures & {"F0", "F1", "F0 and F1"}) == 2
    assert measures >= {f"F{i}" for i in range(2, FEATURES)} | {"Amount"}
    assert {item["subject"]["line"] for item in queued[name]} == odd
    # Why: by the measure that makes most of it, among all rows, and by those beside it.
    first = queued[name][0]
    why = inside_json("why", first["id"], cwd=case)
    largest = max(why["contribution"], key=why["contribution"].get)
    told = re.fullmatch(
        r"(F\d+|F0 and F1|Amount) is (\S+) where the median of 4,000 is (\S+), (the highest|the lowest|\d+ lies? further); "
        r"it makes (\d+)% of the distance\. (.+), (.+) and (.+) make (\d+)%: it is rather many together that are unusual than any alone\.",
        why["sentences"][0],
    )
    assert told[1] == told[6] == largest and int(told[9]) < 100
