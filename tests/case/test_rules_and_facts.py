"""Rules judged on demand, their hits as exceptions; facts of the plan in conditions and settings."""

from __future__ import annotations

import pytest

from conftest import inside, inside_json
from sabueso.screens.rules import test as rules

ROWS = "".join(
    f"P-{n:03d},2024-01-{n % 27 + 1:02d},{'S9' if n == 5 else f'S{n % 3}'},{'' if n == 8 else 'kl'},{n},2,{2 * n + (n == 9)}.00\n"
    for n in range(1, 40)
    if n not in (12, 20, 21, 22)
)
PLAN = """
[[tables.pay.rules]]
rule = "sequence"
on = "no"

[[tables.pay.rules]]
rule = "required"
name = "who entered it"
on = ["user"]

[[tables.pay.rules]]
rule = "exists"
on = "party"
among = "parties.party"

[[tables.pay.rules]]
rule = "product"
of = ["qty", "price"]
on = "amount"

[facts]
limit = 70
half = 0.5
shut = [2024-01-05, 2024-01-06]
close = 2024-01-10
known = ["S0", "S1"]
deep = { er = "S2" }
"""


@pytest.fixture(scope="module")
def case(tmp_path_factory):
    folder = tmp_path_factory.mktemp("rules")
    inside("open", ".", cwd=folder)
    (folder / "pay.csv").write_text(
        "no,day,party,user,qty,price,amount\n" + ROWS + "P-039,2024-02-01,S1,kl,1,2,2.00\n"
    )
    (folder / "parties.csv").write_text("party,name\nS0,a\nS1,b\nS2,c\n")
    inside("intake", "parties.csv", "--as", "parties", cwd=folder)
    inside("intake", "pay.csv", "--as", "pay", cwd=folder)
    plan = (folder / "case.toml").read_text()
    (folder / "case.toml").write_text(plan + PLAN)
    return folder


def test_rows_that_break_a_rule_each_under_the_first(case):
    finding = inside_json("try", "rules", "pay", cwd=case)
    counts = {r["rule"]: r["flagged"] for r in finding["groups"][0]["rules"]}
    assert list(counts.values()) == [1, 1, 1, 1]
    flagged = {f["subject"]["line"]: f["rule"] for f in finding["flags"]}
    assert sorted(flagged.values()) == sorted(counts)
    only = inside_json("try", "rules", "pay", "--rule", "who entered it", cwd=case)
    assert [f["rule"] for f in only["flags"]] == ["who entered it"]
    assert (
        "no rule 'who'" in inside("try", "rules", "pay", "--rule", "who", cwd=case, code=2).stderr
    )
    assert "has no rules" in inside("try", "rules", "parties", cwd=case, code=2).stderr


def test_hits_and_missing_numbers_are_exceptions_that_open(case):
    inside("try", "rules", "pay", "--keep", "rules of pay", cwd=case)
    inside("try", "rules", "pay", "--of", "numbers", "--keep", "numbers missing", cwd=case)
    inside("screen", cwd=case)
    items = inside_json("queue", "--top", "50", cwd=case)
    gaps = {i["label"]: i for i in items if i["kind"] == "range"}
    assert set(gaps) == {"no P-012 missing", "no P-020 – P-022 missing"}
    assert sum(i["kind"] == "row" for i in items) == 4
    gap = gaps["no P-020 – P-022 missing"]
    rows = inside_json("dig", gap["id"], "--rows", cwd=case)["rows"]
    assert [r["no"] for r in rows] in (["P-019", "P-023"], ["P-023", "P-019"])
    inside(
        "review", gap["id"], "--cleared", "--reason", "voided forms seen", "--as", "KL", cwd=case
    )
    inside("why", gap["id"], cwd=case)
    inside("paper", cwd=case)
    page = (case / "papers/working-paper.html").read_text()
    assert "P-020 – P-022" in page and "voided forms seen" in page
    again = inside_json("try", "rules", "pay", "--of", "numbers", cwd=case)
    assert [f["missing"] for f in again["flags"]] == [3, 1]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(rules, "MOST_GAPS", 1)
        refused = inside("try", "rules", "pay", "--of", "numbers", cwd=case, code=2)
    assert "more than 1 gaps" in refused.stderr


@pytest.mark.parametrize(
    ("where", "plain"),
    [
        ("amount > facts.limit", "amount > 70"), ("amount >= facts.limit * facts.half", "amount >= 35"),
        ("day in facts.shut", "day in ('2024-01-05', '2024-01-06')"),
        ("day in (facts.shut, '2024-01-09')", "day in ('2024-01-05', '2024-01-06', '2024-01-09')"),
        ("day < facts.close", "day < date '2024-01-10'"), ("party in facts.known", "party in ('S0', 'S1')"),
        ("party = facts.deep.er", "party = 'S2'"), ("party not in facts.known", "party not in ('S0', 'S1')"),
    ],
)  # fmt: skip
def test_facts_stand_in_conditions(case, where, plain):
    found = [
        inside_json("dig", "pay", "--where", text, cwd=case)["population"]
        for text in (where, plain)
    ]
    assert 0 < found[0]["used"] == found[1]["used"] < found[0]["rows"]


def test_facts_stand_in_settings_and_stay_named_in_the_plan(case):
    inside(
        "try", "range", "pay", "--greatest", "facts.limit", "--keep", "above the limit", cwd=case
    )
    assert 'greatest = "facts.limit"' in (case / "case.toml").read_text()
    first = inside_json("try", "range", "pay", "--greatest", "facts.limit", cwd=case)["flag_count"]
    text = (case / "case.toml").read_text()
    (case / "case.toml").write_text(text.replace("limit = 70", "limit = 60"))
    assert (
        inside_json("try", "range", "pay", "--greatest", "facts.limit", cwd=case)["flag_count"]
        > first
    )
    inside("screen", "above", cwd=case)
    (case / "case.toml").write_text(text)
    for words in (
        ["--greatest", "facts.limits"],
        ["--where", "amount > facts.limits", "--greatest", "1"],
    ):
        said = inside("try", "range", "pay", *words, cwd=case, code=2).stderr
        assert "there is no fact 'limits'; did you mean 'limit'?" in said
    assert (
        "is a list"
        in inside("dig", "pay", "--where", "party = facts.known", cwd=case, code=2).stderr
    )


@pytest.mark.parametrize("value", ["true", "[[1]]", "{ 'a b' = 1 }"])
def test_a_fact_that_no_expression_could_hold_is_refused(tmp_path, value):
    (tmp_path / "case.toml").write_text(f"[case]\nname = 'x'\n[facts]\nodd = {value}\n")
    assert "fact 'odd" in inside("queue", cwd=tmp_path, code=2).stderr


def test_facts_go_into_functions(case):
    view = inside_json(
        "dig", "pay", "--by", "band(amount, 10, facts.limit)", "--measure", "count", cwd=case
    )
    names = [g["key"][0] for g in view["total"]["groups"]]
    assert names == ["below 10", "10 to 69.99", "70 and more"]
    known = inside_json(
        "dig", "pay", "--where", "word_in(party, facts.known)", "--by", "party", cwd=case
    )
    assert {g["key"][0] for g in known["total"]["groups"]} == {"S0", "S1"}
    aged = inside_json("dig", "pay", "--by", "age_band(day, facts.close, 3, 5)", cwd=case)
    assert aged["total"]["rows"] == view["total"]["rows"]
    refused = inside("dig", "pay", "--by", "band(amount, facts.shut)", cwd=case, code=2).stderr
    assert "expected as band" in refused and refused.count("\n") == 1


def test_lists_of_words_to_start_with(tmp_path):
    """They are there without a plan's own, whole words with accents folded; the plan's take their place."""
    texts = ["Pago URGENTE", "por instruccion del director", "Insurgente", "ajuste anual", "varios"]
    lines = [f"{n},2024-05-0{n},{text},10.00" for n, text in enumerate(texts, 1)]
    (tmp_path / "pay.csv").write_text("id,day,text,amount\n" + "\n".join(lines) + "\n")
    inside("open", ".", cwd=tmp_path)
    inside("intake", "pay.csv", "--as", "pay", cwd=tmp_path)

    def found(name):
        words = ("--where", f"word_in(text, facts.words.{name})", "--rows")
        return [r["id"] for r in inside_json("dig", "pay", *words, cwd=tmp_path)["rows"]]

    assert sorted(map(str, found("es_con_prisa"))) == ["1", "2"]
    assert list(map(str, found("es_deshechas"))) == ["4"] and list(map(str, found("es_vagas"))) == [
        "5"
    ]
    plan = tmp_path / "case.toml"
    plan.write_text(plan.read_text() + '\n[facts.words]\nes_vagas = ["ajuste"]\n', encoding="utf-8")
    assert list(map(str, found("es_vagas"))) == ["4"]
    said = inside(
        "dig", "pay", "--where", "word_in(text, facts.words.none)", cwd=tmp_path, code=2
    ).stderr
    assert "there is no fact 'words.none'" in said
