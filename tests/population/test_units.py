"""What is money, and what is not: litres are never added to amounts, nor told in a currency."""

from __future__ import annotations

import json
import re
from decimal import Decimal
from pathlib import Path

import pytest

from conftest import inside, inside_json
from sabueso.population.expressions import scalar
from sabueso.population.table import Column, Derived, Part, Table
from sabueso.population.units import unit_of

ROLES = {"amount": "cost", "quantity": "litres", "price": "each"}


@pytest.mark.parametrize(
    ("made", "unit"),
    [
        ("cost", "EUR"), ("each", "EUR"), ("litres", ""), ("miles", ""),
        ("abs(cost) - 2 * cost", "EUR"), ("round(cost * 1.16, 2)", "EUR"), ("litres * each", "EUR"),
        ("cost / litres", "EUR"), ("cost / each", ""), ("cost * each", ""), ("litres + miles", ""), ("cost + litres", ""),
        ("case when litres > 0 then cost else 0 end", "EUR"), ("case when cost > 0 then 1 else 0 end", ""),
        ("coalesce(cost, 0)", "EUR"), ("length(cast(cost as text))", ""),
    ],
)  # fmt: skip
def test_what_is_made_of_amounts_is_money_where_its_arithmetic_leaves_it_so(made, unit):
    columns = tuple(Column(name, "number", 2) for name in ("cost", "litres", "each", "miles"))
    plain = Table("fuel", "FUE", columns, (Part(columns, ()),), ROLES, "EUR")
    tree = scalar(made, plain, "column")
    own = Column("made", "number", 2)
    table = Table(
        "fuel", "FUE", (*columns, own), plain.parts, ROLES, "EUR", derived=(Derived(own, tree),)
    )
    assert unit_of(table, own) == unit
    assert unit_of(table, None) == "EUR"


def _fuel(folder: Path) -> Path:
    """A case with a ledger of fuel: 200 fillings, of which two are far too many litres and one far too dear."""
    lines = ["id,date,driver,litres,cost"]
    for i in range(200):
        litres, cost = 40 + i * 7 % 11, Decimal(f"{60 + i * 13 % 17}.{i % 90 + 10}")
        if i in (50, 120):
            litres = 900_000 + i
        if i == 150:
            cost = Decimal("4000.25")
        lines.append(f"F{i:03d},2024-{1 + i % 12:02d}-{1 + i % 28:02d},D{i % 5},{litres},{cost}")
    (folder / "fuel.csv").write_text("\n".join(lines) + "\n")
    inside("open", "c", "--currency", "EUR", cwd=folder)
    inside("intake", "../fuel.csv", "--as", "fuel", cwd=folder / "c")
    return folder / "c"


def test_litres_are_no_money_anywhere(tmp_path):
    case = _fuel(tmp_path)
    commands = (
        ["try", "zscore", "fuel", "--on", "litres"],
        ["try", "top", "fuel", "--on", "litres"],
        ["dig", "fuel", "--by", "driver", "--on", "litres"],
        ["dig", "fuel", "--on", "litres", "--rows"],
        ["survey", "fuel", "litres"],
    )
    litres = 900_050 + 900_120 + sum(40 + i * 7 % 11 for i in range(200) if i not in (50, 120))

    def told(*command: str) -> None:
        said = inside(*command, cwd=case).stdout
        assert "EUR" not in said and not re.search(r"^ amount [0-9]", said, re.MULTILINE), command
        assert f"sum of litres {litres:,} = used {litres:,} + left out 0" in said, command

    for command in commands:
        told(*command)
    assert "amount" in inside("try", "zscore", "fuel", cwd=case).stdout

    for on in ("litres", "cost"):
        inside("try", "zscore", "fuel", "--on", on, "--keep", f"z of {on}", cwd=case)
    inside("screen", cwd=case)
    queue = inside_json("queue", cwd=case)
    amounts = {each["subject"]["id"]: each["amount"] for each in queue}
    assert amounts == {"F050": None, "F120": None, "F150": "4000.25"}
    inside("paper", cwd=case)
    page = (case / "papers" / "working-paper.html").read_text(encoding="utf-8")
    # The front adds up what is at stake: of the three exceptions one states an amount.
    assert "4,000.25" in page and "1,804,170" not in page
    assert f"Sum of litres used {litres:,} of {litres:,}.<" in page
    findings = [json.loads(p.read_text()) for p in (case / "runs" / "0001").glob("finding-*.json")]
    assert {f["on"]: f["currency"] for f in findings} == {"litres": "", "cost": "EUR"}
    told("sample", "fuel", "--method", "random", "--size", "5", "--on", "litres")
