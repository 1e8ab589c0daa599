"""Distances of rows by the million: the same as of few, where the sample holds them all."""

from __future__ import annotations

import random
from decimal import Decimal
from typing import Any

import numpy as np
import pytest

from conftest import inside, inside_json, screened
from sabueso.screens import many_rows as many


def rows_of(n: int, seed: int = 4) -> list[dict[str, Any]]:
    """Two measures that go together, a third apart from them, missing ones, and far ones."""
    chance = random.Random(seed)
    found = []
    for i in range(n):
        a = chance.gauss(1000, 120)
        b = 0.5 * a + chance.gauss(0, 20)
        if i % 97 == 0:
            b += 260
        found.append(
            {
                "id": f"R{i:05}",
                "a": Decimal(f"{a:.2f}"),
                "b": None if i % 211 == 0 else Decimal(f"{b:.3f}"),
                "c": Decimal(f"{chance.gauss(5, 1):.1f}"),
            }
        )
    return found


@pytest.fixture
def few_are_many(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(many, "MANY", 500)


SETTINGS: list[dict[str, Any]] = [
    {"measures": ["a", "b", "c"]},
    {"measures": ["a", "b"], "fit": "classical"},
    {"measures": ["a", "b", "c"], "law": "chi-square", "alpha": 0.01},
    {"measures": ["a", "b", "c"], "aim": 12},
    {"measures": ["a"], "alpha": 0.02},
]


@pytest.mark.parametrize("settings", SETTINGS)
def test_it_is_what_it_is_of_few(
    populate: Any, few_are_many: None, settings: dict[str, Any]
) -> None:
    population = populate(rows_of(2500), id="id")
    large = screened(population, "distance", **settings)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(many, "MANY", 10**9)
        small = screened(population, "distance", **settings)
    assert large["flag_count"] == small["flag_count"] > 0
    assert [f["subject"] for f in large["flags"]] == [f["subject"] for f in small["flags"]]
    for mine, theirs in zip(large["flags"], small["flags"], strict=True):
        for figure in ("score", "classical", "robust", "p", "p_adjusted"):
            assert mine[figure] == pytest.approx(theirs[figure], rel=1e-6, abs=1e-12), figure
        assert mine["contribution"] == pytest.approx(theirs["contribution"], rel=1e-6)
    (here,), (there,) = large["groups"], small["groups"]
    assert here["n"] == there["n"] == large["tests_made"]
    assert here["limit"] == pytest.approx(there["limit"], rel=1e-9)
    np.testing.assert_allclose(here["center"], there["center"], rtol=1e-9)
    np.testing.assert_allclose(here["covariance"], there["covariance"], rtol=1e-9)
    np.testing.assert_allclose(
        here["quantiles"]["observed"], there["quantiles"]["observed"], rtol=1e-6
    )
    assert large["population"] == small["population"]
    assert "sampled_fit" in {c["code"] for c in large["cautions"]}


def test_a_sample_of_them_fits_nearly_the_same(
    populate: Any, few_are_many: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(many, "SAMPLE", 1500)
    found = screened(populate(rows_of(6000), id="id"), "distance", measures=["a", "b", "c"])
    caution = next(c for c in found["cautions"] if c["code"] == "sampled_fit")
    assert caution["n"] == found["groups"][0]["n"] == 6000 - 29
    assert 1300 < caution["fitted_on"] < 1700
    far = {f"R{i:05}" for i in range(0, 6000, 97) if i % 211}
    flagged = {f["subject"]["id"] for f in found["flags"]}
    assert far <= flagged and len(flagged) < len(far) + 40


def test_what_cannot_be_measured_is_said(populate: Any, few_are_many: None) -> None:
    rows = rows_of(900)
    for row in rows:
        row["c"], row["d"] = Decimal("7.0"), 2 * row["a"]
    found = screened(populate(rows, id="id"), "distance", measures=["a", "c", "d"])
    assert found["groups"][0]["measures"] == ["a"]
    assert "c is constant; d repeats a" in found["cautions"][0]["text"]
    nothing = screened(populate(rows, id="id"), "distance", measures=["c"])
    assert nothing["not_tested"][0]["reason"].startswith("singular") and not nothing["flags"]


def test_it_goes_through_text_and_figure(tmp_path: Any, few_are_many: None) -> None:
    lines = [
        "id,a,b,c",
        *(",".join("" if v is None else str(v) for v in r.values()) for r in rows_of(1500)),
    ]
    (tmp_path / "t.csv").write_text("\n".join(lines) + "\n")
    inside("open", "case", cwd=tmp_path)
    inside("intake", "../t.csv", "--as", "t", cwd=tmp_path / "case")
    command = ["try", "distance", "t", "--measures", "a,b,c"]
    said = inside(*command, "--out", "d.png", "--figure", "scatter", cwd=tmp_path / "case").stdout
    assert "caution sampled_fit" in said
    assert (tmp_path / "case" / "d.png").stat().st_size > 10_000
    assert inside_json(*command, cwd=tmp_path / "case")["tests_made"] == 1500 - 8
