"""Rules of the plan: each finds what an independent look at the rows finds, sets it aside or marks
it, and proves afterwards that nothing is left."""

from __future__ import annotations

import csv
from collections import Counter, defaultdict
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside as sabueso
from conftest import inside_json as as_json
from sabueso.case.plan import Plan, rules_of
from sabueso.intake.interface import FileReport
from sabueso.intake.rules.judging import judge
from sabueso.intake.take import intake_engine
from sabueso.population.table import Column, Part, Table

COLUMNS = (
    Column("id", "text"), Column("entry", "text"), Column("amount", "number", 2),
    Column("_file", "text"), Column("_line", "number"),
)  # fmt: skip
few = st.lists(
    st.tuples(
        st.sampled_from(["A1", "A2", "A3", "A5", "B1", None]),
        st.sampled_from(["j", "k", None]),
        st.integers(-3, 3),
    ),
    min_size=1,
    max_size=14,
)


def rule_of(**values):
    plan = {"case": {"name": "x"}, "tables": {"ledger": {"prefix": "LED", "rules": [values]}}}
    return rules_of(Path("case.toml"), "ledger", Plan(**plan).tables["ledger"])[0]


def written(tmp_path, rows, name):
    path = tmp_path / f"{name}.parquet"
    values = [
        {"id": i, "entry": e, "amount": Decimal(a).scaleb(-2), "_file": name, "_line": n}
        for n, (i, e, a) in enumerate(rows, 2)
    ]
    kinds = [pa.string(), pa.string(), pa.decimal128(18, 2), pa.string(), pa.int64()]
    schema = pa.schema([(c.name, k) for c, k in zip(COLUMNS, kinds, strict=True)])
    pq.write_table(pa.Table.from_pylist(values, schema), path)
    return path, values


def report_of(name, values):
    total = sum((v["amount"] for v in values), Decimal(0))
    return FileReport(
        file=name, size=1, lines=len(values) + 1, header_lines=1, continued=0, accepted=len(values),
        quarantined=0, totals=0, blank=0, columns=COLUMNS, detected={}, roles={"amount": "amount"},
        sums={"amount": total}, quarantined_sums={}, totals_lines=[], damaged=[], notes=[],
    )  # fmt: skip


def expected_left(rule, rows):
    """What a rule keeps of rows in their order, by plain Python."""
    if rule.rule == "unique":
        seen, kept = set(), []
        for row in rows:
            if row["id"] is None or row["id"] not in seen:
                kept.append(row)
                seen.add(row["id"])
        return kept
    if rule.rule == "balances":
        sums = defaultdict(int)
        for row in rows:
            sums[row["entry"]] += row["amount"]
        return [row for row in rows if row["entry"] is None or sums[row["entry"]] == 0]
    if rule.rule == "required":
        return [row for row in rows if row["id"] is not None]
    low, high = Decimal("-0.01"), Decimal("0.02")
    return [row for row in rows if low <= row["amount"] <= high]


@given(few, few, st.sampled_from(["mark", "set aside"]))
@pytest.mark.parametrize(
    "values",
    [
        {"rule": "unique", "on": ["id"]},
        {"rule": "balances", "per": ["entry"]},
        {"rule": "required", "on": ["id"]},
        {"rule": "range", "on": "amount", "least": "-0.01", "greatest": "0.02"},
    ],
    ids=lambda values: values["rule"],
)
def test_rules_equal_a_plain_look_at_the_rows(tmp_path, values, old, new, then):
    rule = rule_of(**values, then=then)
    old_path, old_rows = written(tmp_path, old, "z-old.csv")  # the name sorts after the new one's
    new_path, new_rows = written(tmp_path, new, "a-new.csv")
    table = Table(
        "ledger", "LED", COLUMNS, (Part(COLUMNS, (old_path,)),), {"amount": "amount"}, "EUR"
    )
    engine = intake_engine()
    try:
        (report,), (found,) = judge(
            engine, table, [Part(COLUMNS, (new_path,))], {}, [rule],
            [(report_of("a-new.csv", new_rows), new_path)],
        )  # fmt: skip
    finally:
        engine.close()
    kept = pq.read_table(new_path).to_pylist()
    # What was there before keeps its place: of rows that exclude each other the new one goes.
    good = expected_left(rule, old_rows + new_rows)
    if then == "mark":
        assert kept == new_rows
        assert found.left == len(old_rows) + len(new_rows) - len(good)
        assert (found.set_aside, report.quarantined) == (0, 0)
    else:
        expected = [row for row in good if row["_file"] == "a-new.csv"]
        if rule.rule == "balances":
            # An entry that spans both files loses the new lines; what is left of it is told.
            assert found.left == len(old_rows) + len(kept) - len(
                expected_left(rule, old_rows + kept)
            )
        else:
            assert kept == expected
            assert found.left == len(old_rows) - len(expected_left(rule, old_rows))
        assert found.set_aside == len(new_rows) - len(kept) == report.quarantined
        assert report.sums["amount"] == sum((r["amount"] for r in kept), Decimal(0))
        gone = report.quarantined_sums.get("amount", Decimal(0))
        assert report.sums["amount"] + gone == sum((r["amount"] for r in new_rows), Decimal(0))
        assert {d.line for d in report.damaged} == {r["_line"] for r in new_rows if r not in kept}


def test_a_rule_on_another_column_of_the_same_table(case):
    """Every row's parent is a row; what the client's totals line says is kept beside the rows."""
    day = "2025-01-02"
    tree = f"id,day,parent,amount\nA,{day},,1.00\nB,{day},A,2.00\nC,{day},X,4.00\nD,{day},B,8.00\n"
    tree += "TOTAL,,,15.00\n"
    (case.parent / "tree.csv").write_text(tree)
    with (case / "case.toml").open("a") as plan:
        plan.write('\n[tables.tree]\nprefix = "TR"\n[[tables.tree.rules]]\nrule = "exists"\n')
        plan.write('on = "parent"\namong = "tree.id"\nthen = "set aside"\n')
    report = as_json("intake", "../tree.csv", "--as", "tree", cwd=case)
    assert (report["rules"][0]["set_aside"], report["rules"][0]["left"]) == (1, 0)
    (line,) = report["files"][0]["totals_lines"]
    assert (line["stated"], line["accepted"], line["quarantined"]) == ("15.00", "11.00", "4.00")
    assert line["agrees"] and report["reconciled"]


LEDGER = """id,entry,date,due,party,amount,unit,qty,price
A0001,1,2025-01-03,2025-01-02,S1,10.00,kg,5,2.00
A0002,1,2025-01-03,2025-01-02,S1,-10.00,kg,-5,2.00
A0004,2,2025-02-03,2025-03-02,S9,7.01,kg,3,2.335
A0004,2,2025-02-03,2025-02-02,,-7.01,lb,1,7.01
B0010,3,2025-02-03,2025-02-02,S2,1.00,kg,1,1.50
B0013,3,2025-02-03,2025-02-02,S2,-1.00,kg,,
"""
RULES = [
    ("required", 'on = ["party"]', 1),
    ("unique", 'on = ["id"]', 1),
    ("range", 'on = "date"\nleast = 2025-01-31', 2),
    ("allowed", 'on = "unit"\nvalues = ["kg", "t"]', 1),
    ("pattern", 'on = "id"\npattern = "A[0-9]+"', 2),
    ("not after", 'on = "due"\nthan = "date"', 1),
    ("not after", 'on = "due"\nthan = "2025-02-28"', 1),
    ("balances", 'per = ["entry"]', 0),
    # 3 × 2.335 = 7.005 rounds to 7.01 or to 7.00: within half a unit both keep the rule.
    ("product", 'of = ["qty", "price"]', 2),
    ("product", 'of = ["qty", "price"]\ntolerance = 8.01', 1),
    ("exists", 'on = "party"\namong = "suppliers.code"', 1),
    ("sequence", 'on = "id"', 1),
]


@pytest.fixture
def case(tmp_path):
    sabueso("open", "case", cwd=tmp_path)
    (tmp_path / "ledger.csv").write_text(LEDGER)
    (tmp_path / "suppliers.csv").write_text("code,name\nS1,a\nS2,b\n")
    sabueso("intake", "../suppliers.csv", "--as", "suppliers", cwd=tmp_path / "case")
    return tmp_path / "case"


def declare(case, rules):
    text = '\n[tables.ledger]\nprefix = "LED"\n'
    for kind, values, *then in rules:
        text += f'\n[[tables.ledger.rules]]\nrule = "{kind}"\n{values}\n'
        text += f'then = "{then[0]}"\n' if then else ""
    with (case / "case.toml").open("a") as plan:
        plan.write(text)


def test_every_kind_of_rule_marks_its_rows(case):
    declare(case, [(kind, values) for kind, values, _ in RULES])
    report = as_json("intake", "../ledger.csv", "--as", "ledger", cwd=case)
    assert [rule["left"] for rule in report["rules"]] == [n for _, _, n in RULES]
    assert report["total"]["accepted"] == 6
    assert report["rules"][-1]["gaps"] == ["A0003", "B0011 – B0012"]
    assert report["rules"][-1]["missing"] == 3
    text = (case / "quarantine/ledger/marked-party-among-suppliers-code.csv").read_text("utf-8-sig")
    assert list(csv.reader(text.splitlines()))[1][:4] == ["ledger.csv", "4", "party", "S9"]
    sabueso("intake", "../ledger.csv", "--as", "ledger", "--gate", cwd=case)  # nothing new in it


def test_rows_set_aside_are_accounted_for_and_proved_gone(case):
    declare(
        case,
        [
            ("balances", 'per = ["entry"]', "set aside"),
            ("allowed", 'on = "unit"\nvalues = ["kg"]', "set aside"),
            ("exists", 'on = "party"\namong = "suppliers.code"'),
        ],
    )
    checked = sabueso(
        "intake", "../ledger.csv", "--as", "ledger", "--check", "--gate", cwd=case, code=3
    )
    assert "0 of 4 rows break it" in checked.stdout and "quarantined 2" in checked.stdout
    assert not (case / "population/ledger").exists(), "a check keeps nothing"
    report = as_json("intake", "../ledger.csv", "--as", "ledger", cwd=case)
    # The wrong unit takes its row, and the entry it leaves behind no longer balances.
    rules = {rule["rule"]: rule for rule in report["rules"]}
    assert (rules["allowed"]["set_aside"], rules["balances"]["set_aside"]) == (1, 1)
    assert rules["exists"]["left"] == 0, "its row went with the entry"
    assert {rule["left"] for rule in report["rules"]} == {0}
    assert report["total"]["accepted"] == 4 and report["total"]["quarantined"] == 2
    rows = as_json("try", "zscore", "ledger", cwd=case)["population"]
    assert (rows["rows"], rows["total"]) == (4, "0.00")
    listed = (case / "quarantine/ledger/ledger.csv").read_text("utf-8-sig")
    reasons = Counter(row["reason"] for row in csv.DictReader(listed.splitlines()))
    assert set(reasons.values()) == {1} and len(reasons) == 2


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ('rule = "unique"\non = ["nothing"]', "no column 'nothing'"),
        ('rule = "unqiue"\non = ["id"]', "did you mean 'unique'"),
        ('rule = "range"\non = "amount"', "a range needs least, greatest or both"),
        ('rule = "range"\non = "party"\nleast = 1', "holds text"),
        ('rule = "pattern"\non = "id"\npattern = "("', "no regular expression"),
        ('rule = "exists"\non = "party"\namong = "nowhere.code"', "no table 'nowhere'"),
        ('rule = "product"\nof = ["qty"]', "at least 2"),
    ],
)
def test_a_rule_that_cannot_be_is_a_sentence(case, values, message):
    with (case / "case.toml").open("a") as plan:
        plan.write(f'\n[tables.ledger]\nprefix = "LED"\n[[tables.ledger.rules]]\n{values}\n')
    done = sabueso("intake", "../ledger.csv", "--as", "ledger", cwd=case, code=2)
    assert message in done.stderr and done.stderr.count("\n") == 1
    assert not list(case.rglob("*.part"))
