"""Documents that are told by company, number and year, and the lines that name them so."""

from __future__ import annotations

import doctest
import random
from datetime import date, timedelta
from decimal import Decimal

import sabueso.case.compound_keys as module
from conftest import inside_json
from folders import taken_in

COMPANIES, YEARS, EACH = ("1000", "2000"), (2023, 2024), 60


def _documents(rng):
    for year in YEARS:
        for company in COMPANIES:
            for n in range(EACH):
                day = date(year, 1, 2) + timedelta(days=6 * n)
                yield {"Company": company, "Doc No": str(5_100_000 + n), "Year": year, "Posted": day, "User": rng.choice("ABC")}  # fmt: skip


def _lines(rng, documents, spelt):
    for each in documents:
        cents = rng.randrange(1_000, 900_000)
        for line, sign in enumerate((1, -1), start=1):
            yield {
                "Company": each["Company"], spelt: each["Doc No"], "Year": each["Year"], "Line": line,
                "Account": rng.choice(("6000", "6100")) if sign > 0 else "2000", "Amount": Decimal(sign * cents) / 100,
            }  # fmt: skip


def test_examples():
    assert doctest.testmod(module).failed == 0


def test_lines_are_linked_with_documents_by_what_tells_these_together(tmp_path):
    """However the column's name is spelt; a few lines of no document that is there do not hinder it."""
    rng = random.Random(2)
    documents = list(_documents(rng))
    lines = list(_lines(rng, [*documents, documents[0] | {"Doc No": "999"}], "DOC NO"))
    case, _ = taken_in(tmp_path, {"documents": documents, "lines": lines})
    found = inside_json("survey", cwd=case)["links"]
    key = "documents_key"
    assert {"column": f"lines.{key}", "other": f"documents.{key}"}.items() <= next(
        link for link in found if link["column"] == f"lines.{key}"
    ).items()
    by = inside_json("dig", "lines", "--by", f"{key}.User", cwd=case)
    rows = {group["key"][0]: group["rows"] for group in by["total"]["groups"]}
    own = {user: 2 * sum(each["User"] == user for each in documents) for user in "ABC"}
    assert {user: rows[user] for user in "ABC"} == own
    plan = (case / "case.toml").read_text()
    assert f"""{key} = "Company || ' ' || \\"Doc No\\" || ' ' || Year\"""" in plan
    assert f'id = "{key}"' in plan
    # The files of the next month change nothing of it.
    again = inside_json("intake", "../in", "--yes", cwd=case)
    assert not again["refused"] and plan.count(key) == (case / "case.toml").read_text().count(key)


def test_no_key_is_made_where_one_column_tells_or_no_paper_is_named(tmp_path):
    rng = random.Random(3)
    documents = [
        row | {"Doc No": f"{row['Company']}-{row['Year']}-{row['Doc No']}"}
        for row in _documents(rng)
    ]
    lines = list(_lines(rng, documents, "Doc No"))
    budget = [
        {"Account": account, "Year": year, "Planned": Decimal(rng.randrange(10**6)) / 100}
        for account in map(str, range(6_000, 6_040)) for year in YEARS
    ]  # fmt: skip
    case, _ = taken_in(tmp_path, {"documents": documents, "lines": lines, "budget": budget})
    plan = (case / "case.toml").read_text()
    assert '"Doc No" = "documents.Doc No"' in plan and "_key" not in plan


def test_a_name_that_is_taken_stays_what_it_is(tmp_path):
    rng = random.Random(4)
    documents = [row | {"documents_key": "x"} for row in _documents(rng)]
    case, _ = taken_in(
        tmp_path, {"documents": documents, "lines": list(_lines(rng, documents, "Doc No"))}
    )
    assert "columns" not in (case / "case.toml").read_text()
