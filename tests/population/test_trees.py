"""Trees of accounts: by columns of the chart, or by the codes of parents."""

from __future__ import annotations

import csv
import random
from collections.abc import Iterator
from decimal import Decimal
from itertools import pairwise
from pathlib import Path

import pytest

from conftest import inside, inside_json
from sabueso.case.folder import Case
from sabueso.population.trees import trees

LEAVES = [f"{g}{s}{n:02}" for g in ("60", "62", "70") for s in (1, 2, 3) for n in (1, 2, 3)]


def write(path: Path, *rows: list[str]) -> None:
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows(rows)


def case_of(folder: Path, chart: list[list[str]]) -> Path:
    """A ledger of two years over a chart of accounts, taken in as a folder."""
    inbox = folder / "inbox"
    inbox.mkdir()
    write(inbox / "chart.csv", *chart)
    chance = random.Random(11)
    lines = [
        [f"E{i:05}", f"{chance.choice((2024, 2025))}-{chance.randint(1, 12):02}-{chance.randint(1, 28):02}",
         chance.choice(LEAVES), f"{chance.lognormvariate(6, 1):.2f}"]
        for i in range(2000)
    ]  # fmt: skip
    write(inbox / "gl.csv", ["entry", "posted", "code", "amount"], *lines)
    inside("open", "case", cwd=folder)
    case = folder / "case"
    inside("intake", "../inbox", "--yes", cwd=case)
    return case


@pytest.fixture(scope="module")
def by_parents(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Every account names its parent; the widest have none."""
    codes = sorted({leaf[:n] for leaf in LEAVES for n in (1, 2, 3, 5)})
    above = {1: 0, 2: 1, 3: 2, 5: 3}
    rows = [[code, code[: above[len(code)]], f"title {code}"] for code in codes]
    return case_of(tmp_path_factory.mktemp("parents"), [["code", "parent", "title"], *rows])


@pytest.fixture(scope="module")
def by_columns(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The group and the sub-group stand beside the account, with a name and an attribute that is no level."""
    rows = [
        [leaf, f"title {leaf}", f"g{leaf[:2]}", f"group {leaf[:2]}", leaf[:3], str(int(leaf) % 2)]
        for leaf in LEAVES
    ]
    head = ["code", "title", "class", "class name", "sub class", "taxed"]
    return case_of(tmp_path_factory.mktemp("columns"), [head, *rows])


def tree_of(case: Path) -> list[tuple[str, ...]]:
    with Case(case) as opened, opened.populations("gl") as population:
        return trees(population("gl"))


@pytest.mark.long
def test_a_tree_is_told_by_parents_or_by_columns(by_parents: Path, by_columns: Path) -> None:
    assert tree_of(by_parents) == [
        ("chart.parent.parent.parent", "chart.parent.parent", "chart.parent", "code")
    ]
    assert tree_of(by_columns) == [("chart.class", 'chart."sub class"', "code")]
    assert "account" in Case(by_parents).plan.tables["gl"].roles, (
        "what the chart of accounts holds is an account"
    )
    assert "tree chart.parent.parent.parent → chart.parent.parent → chart.parent → code" in inside(
        "survey", "gl", cwd=by_parents
    ).stdout.replace("\n      ", " ")


def test_an_attribute_is_no_tree(tmp_path: Path) -> None:
    rows = [[leaf, f"title {leaf}", str(int(leaf) % 2)] for leaf in LEAVES]
    assert tree_of(case_of(tmp_path, [["code", "title", "taxed"], *rows])) == []


def opened(stdout: str) -> str:
    """The first command that is named as the next."""
    line = next(line for line in stdout.splitlines() if line.startswith(" next: "))
    return line.removeprefix(" next: sabueso ")


def steps(case: Path, per: str) -> Iterator[str]:
    """What is printed, from a comparison of periods down to the rows, by the commands that it names."""
    import shlex

    text = inside("try", "periods", "gl", "--per", per, "--base", "2024", "--current", "2025",
                  "--percent-limit", "1", cwd=case).stdout  # fmt: skip
    for _ in range(4):
        yield text
        text = inside(*shlex.split(opened(text)), cwd=case).stdout


@pytest.mark.parametrize("form", ["by_parents", "by_columns"])
def test_a_line_goes_down_its_tree_with_both_periods(
    form: str, request: pytest.FixtureRequest
) -> None:
    case = request.getfixturevalue(form)
    tree = tree_of(case)[0]
    printed = list(steps(case, tree[0]))
    for level, text in zip(tree[1:], printed[1:], strict=False):
        head, found = text.splitlines()[0], text.splitlines()[2]
        assert f"by {level}" in head and "2024" in found and "2025" in found


@pytest.mark.parametrize("form", ["by_parents", "by_columns"])
def test_every_level_ties_to_its_parent(form: str, request: pytest.FixtureRequest) -> None:
    case = request.getfixturevalue(form)
    tree = tree_of(case)[0]
    compared = [
        inside_json(
            "try", "periods", "gl", "--per", ",".join(tree[: n + 1]), "--base", "2024", "--current",
            "2025", cwd=case,
        )["groups"][0]["lines"]
        for n in range(len(tree))
    ]  # fmt: skip
    for wide, narrow in pairwise(compared):
        for figure in ("base", "current", "change"):
            sums: dict[tuple[str, ...], Decimal] = {}
            for line in narrow:
                parent = tuple(line["key"].values())[:-1]
                sums[parent] = sums.get(parent, Decimal(0)) + Decimal(line[figure])
            assert sums == {tuple(x["key"].values()): Decimal(x[figure]) for x in wide}
    assert len(compared[-1]) == len(LEAVES)


def test_a_column_with_a_dot_in_its_name_is_found_before_a_link(tmp_path: Path) -> None:
    """Its own column, however a condition names it."""
    write(tmp_path / "t.csv", ["id", "a.b", "amount"], ["1", "x", "5.00"], ["2", "y", "7.00"])
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    inside("intake", "../t.csv", "--as", "t", cwd=case)
    for condition in ("a.b = 'x'", "\"a.b\" = 'x'"):
        assert inside_json("dig", "t", "--where", condition, cwd=case)["total"]["value"] == "5.00"


def test_no_share_is_told_of_a_total_of_nothing(tmp_path: Path) -> None:
    """Both sides of double entry add up to 0: a line has no share of it, and none is told."""
    rows = [
        [f"{year}-03-01", account, f"{sign * amount}.00"]
        for year, amount in ((2024, 100), (2025, 140))
        for account, sign in (("600", 1), ("570", -1))
    ]
    write(tmp_path / "gl.csv", ["date", "account", "amount"], *rows)
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    inside("intake", "../gl.csv", "--as", "gl", cwd=case)
    found = inside_json("try", "periods", "gl", "--per", "account", "--base", "2024", "--current", "2025", cwd=case)  # fmt: skip
    assert {line["reading"] for line in found["groups"][0]["lines"]} == {"value up"}
