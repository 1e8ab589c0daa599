"""Relation of two measures through the program: the readings, the parts and the rest, the cautions."""

from __future__ import annotations

import csv
import json
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from conftest import inside, inside_json, screened
from known import ANSCOMBE
from sabueso.screens import many_rows

READINGS = {
    "line": "y rises with x along a line",
    "bend": "y goes with x along a curve",
    "one off": "y rises with x along a line, which accounts for 66.6% of its variance; 1 subject off it",
    "one far": "is the work of one subject, one far-7: without it a measure does not vary",
}


@pytest.fixture(scope="module")
def case(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The four data sets in one table, and a ledger in which one supplier hides a relation."""
    folder = tmp_path_factory.mktemp("relation")
    with (folder / "sets.csv").open("w", newline="") as handle:
        rows = csv.writer(handle)
        rows.writerow(["id", "which", "x", "y"])
        for name, (x, y) in ANSCOMBE.items():
            rows.writerows(
                [f"{name}-{i}", name, f"{a}.0", f"{b:.2f}"]
                for i, (a, b) in enumerate(zip(x, y, strict=True))
            )
    rng = np.random.default_rng(5)
    with (folder / "pay.csv").open("w", newline="") as handle:
        rows = csv.writer(handle)
        rows.writerow(["id", "date", "party", "hours", "amount"])
        for party in range(40):
            for month in range(1, 13):
                hours = rng.uniform(5, 40)
                rate = 22 if party != 7 else 95
                rows.writerow(
                    [
                        f"P{party}-{month}",
                        f"2025-{month:02d}-10",
                        f"S{party:02d}",
                        f"{hours:.1f}",
                        f"{hours * rate + rng.normal(0, 30):.2f}",
                    ]
                )
    inside("open", "case", cwd=folder)
    for name in ("sets", "pay"):
        inside("intake", f"../{name}.csv", "--as", name, cwd=folder / "case")
    return folder / "case"


@pytest.mark.parametrize("name", READINGS)
def test_one_r_and_four_readings(case, name):
    arguments = ("try", "relation", "sets", "--measures", "x,y", "--where", f"which = '{name}'")
    found = inside_json(*arguments, cwd=case)
    (group,) = found["groups"]
    assert round(group["r"], 2) == 0.82 and group["n"] == 11
    assert READINGS[name] in " ".join(inside(*arguments, cwd=case).stdout.split())
    codes = {c["code"] for c in found["cautions"]}
    assert codes == {
        "line": set(), "bend": {"not_linear"}, "one off": set(), "one far": {"one_point", "leverage"},
    }[name]  # fmt: skip
    assert found["flag_count"] == (name == "one off")


def test_the_supplier_off_the_line_is_named_everywhere(case):
    arguments = ("try", "relation", "pay", "--per", "party", "--measures", "sum(hours),sum(amount)")
    found = inside_json(*arguments, cwd=case)
    assert [f["subject"]["party"] for f in found["flags"]] == ["S07"]
    group = found["groups"][0]
    flag = found["flags"][0]
    assert group["most_influential"]["subject"] == {"party": "S07"}
    assert flag["r_without"] == pytest.approx(group["most_influential"]["r_without"])
    assert flag["residual"] > flag["limit"] and flag["p_adjusted"] < 1e-9
    assert "one_point" in {c["code"] for c in found["cautions"]}
    text = inside(*arguments, cwd=case).stdout
    assert "is the work of one subject, S07" in text
    for kind in ("scatter", "residuals"):
        target = f"{kind}.svg"
        inside(*arguments, "--figure", kind, "--out", target, cwd=case)
        assert ">S07<" in (case / target).read_text() or "S07" in (case / target).read_text()
    # Kept, run, opened and explained like any other.
    inside(*arguments, "--keep", "hours and money", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    (item,) = [e for e in inside_json("queue", cwd=case) if e["label"] == "party S07"]
    assert len(inside_json("dig", item["id"], cwd=case)["rows"]) == 12
    assert "S07" in inside("why", item["id"], cwd=case).stdout
    inside("paper", cwd=case)
    assert "is the work of one subject, S07" in (case / "papers" / "working-paper.html").read_text()
    inside("redo", cwd=case)


def test_parts_are_compared_with_the_rest_and_not_with_the_whole(case):
    base = ("try", "relation", "pay", "--measures", "hours,amount")
    chosen = inside_json(*base, "--chosen", "party = 'S07'", "--steps", cwd=case)
    whole, part = chosen["groups"]
    assert (whole["n"], part["n"], part["rest"]["n"]) == (480, 12, 468)
    rest = inside_json(*base, "--where", "party <> 'S07'", cwd=case)["groups"][0]
    assert part["rest"]["r"] == pytest.approx(rest["r"], abs=1e-12)
    z = (np.arctanh(part["r"]) - np.arctanh(rest["r"])) / np.sqrt(1 / 9 + 1 / 465)
    from scipy.stats import norm

    assert part["difference_p"] == pytest.approx(2 * norm.sf(abs(z)), rel=1e-9)
    assert whole["r_two_ways"][0] == pytest.approx(whole["r_two_ways"][1], abs=1e-14)
    groups = inside_json(*base, "--by", "party", cwd=case)
    assert len(groups["groups"]) == 41 and groups["tests_made"] == 480
    printed = inside(*base, "--chosen", "party = 'S07'", "--steps", cwd=case).stdout
    assert "--steps --keep" in printed


def test_doubts_of_what_the_measures_are_made_of(case):
    base = ("try", "relation", "pay", "--per", "party", "--measures")
    found = inside_json(*base, "sum(amount)/sum(hours),count(*)/sum(hours)", cwd=case)
    assert "shared_divisor" in {c["code"] for c in found["cautions"]}
    found = inside_json(
        "try", "relation", "pay", "--per", "month", "--measures", "sum(hours),sum(amount)", cwd=case
    )
    assert "two_trends" in {c["code"] for c in found["cautions"]}
    assert found["groups"][0]["changes"]["n"] == 11


def test_what_does_not_suit_is_said(case):
    def refused(*arguments: str) -> str:
        return inside("try", "relation", "pay", *arguments, cwd=case, code=2).stderr

    assert "the same" in refused("--measures", "hours,hours")
    assert "at most 2" in refused("--measures", "hours,amount,id")
    assert "0 subjects of 480" in refused(
        "--measures", "hours,amount", "--chosen", "party = 'none'"
    )
    assert "compared with the rest" in refused(
        "--measures", "hours,amount", "--by", "party", "--chosen", "hours > 3"
    )
    few = inside(
        "try", "relation", "pay", "--measures", "hours,amount", "--where", "id = 'P1-1'", cwd=case
    )
    assert "too_few: 1 subject; at least 4 are needed" in few.stdout


def test_those_that_move_the_slope_are_named(populate):
    """By fitting again without each subject: the change of the slope over its error without it."""
    rng = np.random.default_rng(3)
    x = rng.normal(0, 1, 60)
    y = 2 * x + rng.normal(0, 1, 60)
    x[7], y[7] = 4.0, -3.0
    rows = [
        {"id": f"R{i:02d}", "x": Decimal(f"{a:.4f}"), "y": Decimal(f"{b:.4f}")}
        for i, (a, b) in enumerate(zip(x, y, strict=True))
    ]
    found = screened(populate(rows, id="id"), "relation", measures="x,y")
    (group,) = found["groups"]
    x, y = (np.array([float(row[name]) for row in rows]) for name in "xy")
    whole = np.polyfit(x, y, 1)[0]
    sizes = {}
    for i in range(60):
        keep = np.arange(60) != i
        slope, level = np.polyfit(x[keep], y[keep], 1)
        rest = y[keep] - level - slope * x[keep]
        s = np.sqrt((rest**2).sum() / 57)
        sizes[f"R{i:02d}"] = (whole - slope) / (s / np.sqrt(((x - x.mean()) ** 2).sum()))
    beyond = sorted((n for n, v in sizes.items() if abs(v) > 2 / np.sqrt(60)), key=lambda n: -abs(sizes[n]))  # fmt: skip
    assert group["slope_mover_count"] == len(beyond)
    assert [m["name"] for m in group["slope_movers"]] == beyond[: len(group["slope_movers"])]
    for mover in group["slope_movers"]:
        assert mover["dfbetas"] == pytest.approx(sizes[mover["name"]], rel=1e-9)
    assert beyond[0] == "R07"


def pairs(n: int, seed: int = 11) -> list[dict[str, object]]:
    """Hours and an amount of them with noise, a bend, some far off the line, and missing ones."""
    rng = np.random.default_rng(seed)
    hours, noise = rng.gamma(3, 4, n), rng.normal(0, 15, n)
    amount = 40 * hours + 0.3 * hours**2 + noise
    amount[::331] += 400
    return [
        {
            "id": f"R{i:05}",
            "hours": None if i % 97 == 0 else Decimal(f"{a:.1f}"),
            "amount": Decimal(f"{b:.2f}"),
        }
        for i, (a, b) in enumerate(zip(hours, amount, strict=True))
    ]


@pytest.mark.parametrize("adjust", ["holm", "bonferroni"])
def test_of_rows_by_the_million_it_is_what_it_is_of_few(
    populate: Any, monkeypatch: pytest.MonkeyPatch, adjust: str
) -> None:
    population = populate(pairs(3000), id="id", amount="amount")
    settings = {"measures": ["hours", "amount"], "adjust": adjust, "steps": True, "alpha": 0.05}
    few = screened(population, "relation", **settings)
    monkeypatch.setattr(many_rows, "MANY", 500)
    large = screened(population, "relation", **settings)
    assert large["flag_count"] == few["flag_count"] > 5
    assert [f["subject"] for f in large["flags"]] == [f["subject"] for f in few["flags"]]
    for mine, theirs in zip(large["flags"], few["flags"], strict=True):
        for figure in ("residual", "leverage", "cook", "dfbetas", "r_without", "p", "p_adjusted"):
            assert mine[figure] == pytest.approx(theirs[figure], rel=1e-8, abs=1e-300), figure
    (here,), (there,) = large["groups"], few["groups"]
    for figure, known in there.items():
        if isinstance(known, float):
            assert here[figure] == pytest.approx(known, rel=1e-8), figure
        elif figure not in ("points", "fitted_on"):
            assert here[figure] == pytest.approx(known, rel=1e-8) if figure == "r_two_ways" else (
                json.loads(json.dumps(here[figure]), parse_float=lambda text: f"{float(text):.8g}")
                == json.loads(json.dumps(known), parse_float=lambda text: f"{float(text):.8g}")
            ), figure  # fmt: skip
    assert here["mover_count"] + here["slope_mover_count"] > 5 and here["bend_p"] < 1e-6
    assert {c["code"] for c in large["cautions"]} - {c["code"] for c in few["cautions"]} == {
        "sampled_fit"
    }
    assert large["population"] == few["population"]


def test_a_line_that_fits_exactly_is_measured_as_of_few(
    populate: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    rows = [{"id": f"R{i}", "a": Decimal(i), "b": Decimal(3 * i)} for i in range(900)]
    monkeypatch.setattr(many_rows, "MANY", 500)
    found = screened(populate(rows, id="id"), "relation", measures=["a", "b"])
    assert found["groups"][0]["r"] == 1 and not found["cautions"] and not found["flags"]


@pytest.mark.parametrize(("power", "said"), [(0.0, False), (1.0, True), (-1.0, True)])
def test_it_is_said_where_residuals_spread_with_x(populate: Any, power: float, said: bool) -> None:
    """Against Spearman's rho of the residuals of an independent line."""
    from scipy.stats import linregress, spearmanr

    rng = np.random.default_rng(3)
    x = rng.uniform(1, 20, 400).round(2)
    y = (50 + 4 * x + rng.normal(0, 1, 400) * x**power).round(2)
    rows = [{"id": f"R{i}", "a": Decimal(f"{a:.2f}"), "b": Decimal(f"{b:.2f}")} for i, (a, b) in enumerate(zip(x, y, strict=True))]  # fmt: skip
    found = screened(populate(rows, id="id"), "relation", measures=["a", "b"])
    line = linregress(x, y)
    rho = spearmanr(x, np.abs(y - line.intercept - line.slope * x))
    group = found["groups"][0]
    assert group["spread_rho"] == pytest.approx(rho.statistic) and group["spread_p"] == pytest.approx(rho.pvalue)  # fmt: skip
    assert ("uneven_spread" in {c["code"] for c in found["cautions"]}) == said
