"""A small seeded part of bench/torture.py: nothing lost, doubled, wrong, and no traceback."""

from __future__ import annotations

import pytest

from sabueso.base.libraries import let_pandas_in
from torture import torture

SOME = {
    "files": 12,
    "expressions": 40,
    "arguments": 12,
    "plans": 6,
    "alterations": 2,
    "kills": 1,
    "races": 1,
}


@pytest.mark.long
@pytest.mark.parametrize("kind", SOME)
def test_hostile_trials(kind, tmp_path):
    try:
        trials = torture(kind, SOME[kind], 7, tmp_path)
    finally:
        let_pandas_in()
    assert trials.tried == SOME[kind]
    assert not trials.faults, trials.faults[:3]
