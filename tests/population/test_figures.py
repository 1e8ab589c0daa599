"""Figures of many columns, which no single statement is asked for, against counts made here."""

from __future__ import annotations

import random
import re
from decimal import Decimal

import pytest
import sqlglot.expressions as exp

from conftest import inside, inside_json
from sabueso.population import sql
from sabueso.population.figures import AT_ONCE
from sabueso.population.survey import survey_columns
from sabueso.screens.distance.proposed import LEAST_SHARE, proposed_measures

COLUMNS, ROWS = 140, 40


def _wide(rng):
    """Texts of a few values and numbers by turns, some of them missing."""
    return [
        {"id": f"R{i}"}
        | {
            f"c{j}": None if rng.random() < 0.2
            else rng.choice("xyz") if j % 2 else Decimal(rng.randint(-999, 999)).scaleb(-2)
            for j in range(COLUMNS)
        }
        for i in range(ROWS)
    ]  # fmt: skip


def test_every_column_of_a_wide_table_is_counted(populate):
    rows = _wide(random.Random(5))
    assert 4 * COLUMNS > AT_ONCE
    found = {s.column.name: s for s in survey_columns(populate(rows, "id <> 'R7'", id="id"))}
    assert len(found) == COLUMNS + 1
    for name, survey in found.items():
        values = [row[name] for row in rows if row["id"] != "R7" and row[name] is not None]
        assert survey.rows == ROWS - 1 and survey.missing == ROWS - 1 - len(values)
        assert survey.distinct == len(set(values))
        assert (survey.least, survey.greatest) == (min(values), max(values))


def test_figures_are_those_of_one_statement(populate):
    population = populate(_wide(random.Random(6)), id="id")
    fields = [
        exp.alias_(exp.Count(this=sql.column(f"c{j % COLUMNS}")), f"f{j}")
        for j in range(2 * AT_ONCE + 1)
    ]
    (whole,) = population.query(population.used(exp.select(*fields))).to_pylist()
    assert population.figures(fields) == whole
    assert population.figures([]) == {}


def test_measures_are_left_out_until_half_of_the_rows_have_all(populate):
    """The fewest filled first: as if they were left out one by one."""
    for seed in range(6):
        rng = random.Random(seed)
        shares = [rng.choice((0.3, 0.6, 0.9, 0.97, 1.0)) for _ in range(9)]
        rows = [
            {"id": f"R{i}"}
            | {f"m{j}": Decimal(rng.randint(1, 10**6)).scaleb(-2) if rng.random() < share else None
               for j, share in enumerate(shares)}
            for i in range(60)
        ]  # fmt: skip
        kept = [f"m{j}" for j in range(9)]
        while len(kept) > 1:
            together = sum(all(row[name] is not None for name in kept) for row in rows)
            if together >= LEAST_SHARE * len(rows):
                break
            kept.remove(min(kept, key=lambda n: sum(row[n] is not None for row in rows)))
        assert [c.name for c in proposed_measures(populate(rows, id="id"))] == kept


@pytest.mark.long
def test_a_table_of_many_columns_goes_through_the_commands(tmp_path):
    """What is printed of it stays readable: of columns that are like others the first are named."""
    rng = random.Random(8)
    answers = [f"answer {j}" for j in range(150)]
    names = ["id", "day", "amount", *answers, "score"]
    lines = [
        ",".join([f"R{i}", f"2024-01-{i % 28 + 1:02d}", f"{rng.randint(100, 99_999) / 100:.2f}",
                  *(rng.choice(("yes", "no", "")) for _ in answers), str(rng.randint(1, 9))])
        for i in range(60)
    ]  # fmt: skip
    (tmp_path / "wide.csv").write_text("\n".join([",".join(names), *lines]) + "\n")
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    text = inside("intake", "../wide.csv", "--as", "wide", cwd=case).stdout
    assert "and 93 columns more: 93 text; all with --format json" in text
    assert "answer 56" in text and "answer 57 " not in text and "\n score " in text
    columns = inside_json("survey", "wide", cwd=case)["columns"]
    assert [each["column"] for each in columns] == names
    missing = {each["column"]: each["missing"] for each in columns}
    for j in (0, 74, 149):
        assert missing[f"answer {j}"] == sum(line.split(",")[3 + j] == "" for line in lines)
    rows = inside("dig", "wide", "--rows", "--limit", "9", cwd=case).stdout
    assert re.search(r"no room for [^:]* and \d+ more: --tall shows", " ".join(rows.split()))
