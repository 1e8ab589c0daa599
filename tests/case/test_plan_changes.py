"""The plan changes after files were taken in: derived columns, files read again, files withdrawn."""

from __future__ import annotations

import json
from decimal import Decimal

import pytest

from conftest import inside, inside_json
from sabueso.case.folder import Case

LEDGER = """day,side,amount,qty,price,party
2024-01-02,D,12.50,2,6.25,a
2024-01-03,C,3.00,1,3.00,b
2024-01-04,D,100.00,4,25.00,b
"""


@pytest.fixture
def case(tmp_path):
    inside("open", ".", cwd=tmp_path)
    (tmp_path / "a.csv").write_text(LEDGER)
    inside("intake", "a.csv", "--as", "led", cwd=tmp_path)
    return tmp_path


def plan(case, old="", new="", add=""):
    path = case / "case.toml"
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new) + add)


def total(case, *words):
    return inside_json("dig", "led", *words, cwd=case)["population"]["total"]


def test_derived_columns_are_columns_like_all_others(case):
    plan(
        case,
        add='[tables.led.columns]\ntotal = "qty * price"\noff = "total - abs(amount)"\nlarge = "total > 50"\n',
    )
    survey = inside_json("survey", "led", cwd=case)
    kinds = {c["column"]: c["type"] for c in survey["columns"]}
    assert (kinds["total"], kinds["off"], kinds["large"]) == ("number", "number", "text")
    assert total(case, "--on", "total") == "115.50"
    assert total(case, "--on", "off", "--where", "large = 'true'") == "0.00"
    kept = ("--on", "total", "--share", "40%", "--keep", "largest")
    inside("try", "top", "led", *kept, cwd=case)
    inside("screen", cwd=case)
    (exception, *_) = inside_json("queue", cwd=case)
    assert exception["amount"] == "100.00"
    assert "115.50" in inside("dig", "led", "--on", "total", "--by", "party", cwd=case).stdout


def test_a_case_kept_open_sees_what_another_process_did(case):
    """The engine stays while nothing changed; a plan edited, a file taken in, rows set aside are seen."""
    kept = Case.find(str(case))
    kept.keep_open()

    def held(where=None):
        with kept.populations("led") as opened:
            account = opened("led", where).account(None)
            return id(opened.__self__), account.used

    with kept:
        first = held()
        assert held() == first == (first[0], 3)
        (case / "b.csv").write_text(LEDGER.replace("2024", "2025"))
        inside("intake", "b.csv", "--as", "led", cwd=case)
        second = held()
        assert second[1] == 6 and second[0] != first[0]
        plan(case, add='[tables.led.columns]\nbig = "amount > 50"\n')
        assert held("big = 'true'")[1] == 2
        inside("try", "top", "led", "--share", "10%", "--keep", "top", cwd=case)
        inside("screen", cwd=case)
        (item, *_) = inside_json("queue", cwd=case)
        words = ("--cleared", "--reason", "known", "--set-aside", "--as", "KL")
        inside("review", item["id"], *words, cwd=case)
        assert held()[1] == 5
        inside("withdraw", "led", "b.csv", "--reason", "another's", "--as", "KL", cwd=case)
        assert held()[1] in (2, 3)


@pytest.mark.parametrize(
    ("expression", "said"),
    [
        ("amount / 3", "binary fractions"), ("nothing + 1", "no column 'nothing'"), ("sum(amount)", "columns.x"),
        ("amount +", "cannot be read"), ("(select 1)", "columns.x"), ("read_csv('a')", "columns.x"),
        ("amount + party", "columns.x"),
    ],
)  # fmt: skip
def test_an_expression_that_is_none_is_told_with_its_key(case, expression, said):
    plan(case, add=f"[tables.led.columns]\nx = {json.dumps(expression)}\n")
    error = inside("survey", "led", cwd=case, code=2).stderr
    assert said in error and "tables.led.columns.x" in error and error.count("\n") == 1


def test_a_derived_column_takes_no_name_that_is_there(case):
    plan(case, add='[tables.led.columns]\nAmount = "qty"\n')
    assert "has a column of that name" in inside("survey", "led", cwd=case, code=2).stderr


def test_roles_that_make_the_amounts_change_by_reading_again_alone(case):
    assert total(case) == "109.50"
    plan(case, ', side = "side"', "")
    (case / "b.csv").write_text(LEDGER.replace("12.50", "13.50"))
    error = inside("intake", "b.csv", "--as", "led", cwd=case, code=2).stderr
    assert "roles.side is none" in error and "--again" in error
    shown = inside("intake", "--as", "led", "--again", cwd=case).stdout
    assert "109.50" in shown and "115.50" in shown and "nothing was kept" in shown
    assert total(case) == "109.50"
    report = inside_json("intake", "--as", "led", "--again", "--yes", cwd=case)
    assert {"what": "sum of amount", "before": "109.50", "after": "115.50"} in report["changes"]
    assert total(case) == "115.50"
    assert inside_json("intake", "--as", "led", "--again", "--yes", cwd=case)["changes"] == []
    inside("intake", "b.csv", "--as", "led", cwd=case)
    assert total(case) == str(Decimal("115.50") + Decimal("116.50"))


def test_again_applies_rules_and_types_and_asks_for_files_that_are_gone(case):
    plan(case, "roles =", 'read = { types = { qty = "text" } }\nroles =')
    plan(case, ', quantity = "qty"', "")
    plan(
        case,
        add='[[tables.led.rules]]\nrule = "range"\non = "amount"\nleast = "0"\nthen = "set aside"\n',
    )
    report = inside_json("intake", "--as", "led", "--again", "--yes", cwd=case)
    changed = {c["what"]: (c["before"], c["after"]) for c in report["changes"]}
    assert changed["rows"] == ("3", "2") and changed["rows quarantined"] == ("0", "1")
    assert changed["column qty"] == ("number", "text")
    assert total(case) == "112.50"
    (case / "a.csv").rename(case / "moved.csv")
    error = inside("intake", "--as", "led", "--again", cwd=case, code=2).stderr
    assert "a.csv" in error and "Nothing was changed" in error
    assert (
        "nothing differs"
        in inside("intake", "moved.csv", "--as", "led", "--again", cwd=case).stdout
    )
    (case / "moved.csv").write_text(LEDGER + "2024-01-05,D,1.00,1,1.00,c\n")
    inside("intake", "moved.csv", "--as", "led", "--again", "--yes", cwd=case, code=2)
    assert total(case) == "112.50"


def test_a_file_and_a_table_are_withdrawn_and_stay_in_the_register(case):
    (case / "b.csv").write_text(LEDGER.replace("12.50", "13.50"))
    inside("intake", "b.csv", "--as", "led", cwd=case)
    inside("try", "top", "led", "--share", "20%", "--keep", "largest", cwd=case)
    inside("screen", cwd=case)
    before = inside_json("queue", cwd=case)
    assert "--reason" in inside("withdraw", "led", "b.csv", cwd=case, code=2).stderr
    assert (
        "no file 'c.csv'"
        in inside("withdraw", "led", "c.csv", "--reason", "x", cwd=case, code=2).stderr
    )
    done = inside_json("withdraw", "led", "b*", "--reason", "sent twice", "--as", "KL", cwd=case)
    assert (done["files"], done["rows"], done["left"]) == (["b.csv"], 3, 1)
    assert total(case) == "109.50"
    assert (
        inside_json("queue", cwd=case) == before
    )  # what was found stays until it is looked for anew
    # Taken in again, it is back; what the register holds is the whole story.
    inside("intake", "b.csv", "--as", "led", cwd=case)
    assert total(case) == "220.00"
    inside("withdraw", "led", "--reason", "of another company", cwd=case)
    assert "no rows yet" in inside("dig", "led", cwd=case, code=2).stderr
    assert "[tables.led]" in (case / "case.toml").read_text()  # a screen still names it
    assert "no rows yet" in inside("screen", cwd=case, code=2).stderr


def test_a_withdrawn_table_that_nothing_names_leaves_the_plan(case):
    inside("withdraw", "led", "--reason", "a mistake", cwd=case)
    assert "[tables.led]" not in (case / "case.toml").read_text()
    inside("intake", "a.csv", "--as", "ledger", cwd=case)
    assert inside_json("dig", "ledger", cwd=case)["population"]["total"] == "109.50"
