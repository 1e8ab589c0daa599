"""Names that are nearly equal, against a look at every pair."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rapidfuzz import fuzz

from sabueso.stats.alike import alike, normalised, words

PARTS = st.sampled_from(
    ["Marina", "Marena", "Puerto", "Porto", "Áncora", "Ancla", "S.L.", "SA", "Hermanos", "Hnos"]
)
NAMES = st.lists(st.lists(PARTS, max_size=4).map(" ".join), max_size=12)


@given(NAMES, NAMES, st.sampled_from([60.0, 80.0, 90.0, 100.0]))
def test_every_pair_that_shares_the_beginning_of_a_word(
    left: list[str], right: list[str], threshold: float
) -> None:
    found = list(alike(left, right, threshold))
    plain = []
    for i, one in enumerate(left):
        for k, other in enumerate(right):
            mine, theirs = words(one), words(other)
            score = fuzz.ratio(" ".join(mine), " ".join(theirs))
            if {w[:3] for w in mine} & {w[:3] for w in theirs} and score >= threshold:
                plain.append((i, k, score))
    assert [(i, k) for i, k, _ in found] == [(i, k) for i, k, _ in plain]
    assert [s for *_, s in found] == pytest.approx([s for *_, s in plain])


def test_a_beginning_that_all_names_have_loses_none() -> None:
    """Where nothing rarer is there, every name is looked at."""
    right = [f"Com {n:04d}" for n in range(1500)]
    found = [k for _, k, _ in alike(["Com 1499"], right, 100.0)]
    assert found == [1499]


@given(st.text(max_size=20))
def test_what_is_folded_once_is_folded(text: str) -> None:
    assert normalised(normalised(text)) == normalised(text)
    assert " ".join(words(" ".join(words(text)))) == " ".join(words(text))
