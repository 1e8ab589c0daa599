"""Any option with any value is an answer or one sentence: found by chance first, kept here by kind."""

from __future__ import annotations

import csv
import json
import random
from datetime import date, timedelta
from pathlib import Path

import pytest

from conftest import inside, inside_json
from sabueso.cli.options import KEPT

OPTIONS = json.loads(KEPT.read_text(encoding="utf-8"))
COLUMNS = ["id", "day", "amount", "party", "who", "note", "none", "big", "at"]
NUMBERS = ["0", "-1", "2", "50", "0.05", "1.5", "5%", "1e400", "nan", "-inf", "9" * 24, "1e-300", "", "٣", "1_000"]  # fmt: skip
DAYS = [
    "2024",
    "2025-06",
    "2024-Q1",
    "0001-01-01",
    "9999-12-31",
    "2025-02-30",
    "9999",
    "last",
    "Mon",
    "25:00",
]
MADE = [
    "amount / 0", "count(*)", "sum(amount)", "null", "coalesce(null, null)", "'x'", "abs(big)", "greatest(amount, big)",
    "length(note)", "month", "weekday", "hour", "_line", "_file", "cast(amount as double)", "band(amount, 0, 10)", "no.such",
]  # fmt: skip


@pytest.fixture(scope="module")
def odd(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Dates at both ends of the calendar, amounts of all sizes, columns without a value, names that are texts of programs."""
    made, folder = random.Random(11), tmp_path_factory.mktemp("odd")
    with (folder / "t.csv").open("w", encoding="utf-8", newline="") as file:
        rows = csv.writer(file)
        rows.writerow(COLUMNS)
        for i in range(240):
            day = (date(2024, 1, 1) + timedelta(made.randrange(700))).isoformat()
            rows.writerow([
                f"O{i:04}", made.choice([day] * 9 + ["0001-01-01", "9999-12-31", ""]),
                made.choice([f"{made.lognormvariate(4, 1):.2f}"] * 5 + ["-0.01", "0.00", "", "99999999.99"]),
                made.choice(["P1", "P2", "", "=cmd()", 'a"b', "O'Brien", "日本"]), made.choice("abc"),
                made.choice(["", "x" * 500, "a,b;c"]), "", made.choice(["9" * 30, "-1", ""]), f"{day} 23:59:59",
            ])  # fmt: skip
    inside("open", "case", cwd=folder)
    inside("intake", "../t.csv", "--as", "t", cwd=folder / "case")
    return folder / "case"


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("try event t --per party --at 9999-12-31 --side after", "within 8 days of 9999-12-31 the calendar ends"),
        ("try event t --per party --at 0001-01-01", "the calendar ends"),
        ("try periods t --per party --base 2024 --current 9999-12-31", "is where the calendar ends"),
        ("try periods t --per party --base 2024 --current 9999", "is where the calendar ends"),
        ("try digits t --tolerance 1e400", "expected a number of at most 38 figures"),
        ("try fences t --outer 1e400", "expected a number of at most 38 figures"),
        ("try zscore t --limit " + "9" * 40, "expected a number of at most 38 figures"),
        ("try distance t --measures amount,big --alpha 1e-300", "expected a level of 1e-15 at least"),
        ("try match t --other t --on day --during day", "is what the keys are made of"),
        ("survey t amount --edges nan,1", "expected amounts with a point"),
        ("survey t amount --bins " + "9" * 30, "expected 1 to 10,000"),
        ("intake ../t.csv --as u --encoding base64", "unknown encoding"),
        ("intake ../t.csv --as u --encoding rot13", "unknown encoding"),
        ("intake ../t.csv --as u --header-line 900000000000", "there is no line 900000000000"),
    ],
)  # fmt: skip
def test_what_no_value_can_be_is_said(odd, line, said):
    told = inside(*line.split(), cwd=odd, code=2).stderr
    assert said in told and told.count("\n") == 1


def test_a_header_on_an_empty_line(odd):
    (odd.parent / "gap.csv").write_text("made on Monday\n\nid;amount\nA;1.00\nB;2.00\n")
    said = inside("intake", "../gap.csv", "--as", "gap", "--header-line", "2", cwd=odd, code=2)
    assert "gap.csv, line 2: expected the header; the line is empty" in said.stderr


def test_what_is_missing_is_called_so(odd):
    """A group, and an exception, without a value of what it is called by."""
    said = inside("try", "distance", "t", "--measures", "amount", "--by", "party", cwd=odd).stdout
    assert "(missing)" in said and "None" not in said
    flags = inside_json("try", "split", "t", "--limit", "50", "--per", "none", cwd=odd)["flags"]
    assert all("None" not in json.dumps(f["subject"]) for f in flags)


@pytest.mark.long
def test_any_options_are_an_answer_or_one_sentence(odd):
    made = random.Random(7)

    def value(metavar: str | None, choices: list[str] | None) -> str:
        if choices and made.random() < 0.95:
            return made.choice(choices)
        if metavar and ("COLUMN" in metavar or "MEASURE" in metavar or "SQL" in metavar):
            several = made.randint(1, 3) if "[" in metavar else 1
            told = ",".join(made.choice(COLUMNS + MADE) for _ in range(several))
            return f"{told} > 1" if metavar == "SQL" else told
        return made.choice(NUMBERS + DAYS + COLUMNS + MADE + ["t", "t.party"])

    answered = 0
    for _ in range(600):
        test = made.choice(sorted(OPTIONS))
        given = OPTIONS[test]["options"]
        needed = [o for o in given if "(required)" in o["help"]]
        chosen = needed + made.sample(given, min(len(given), made.randint(0, 3)))
        line = ["try", test, "t", "--format", "json"]
        for option in {o["name"]: o for o in chosen}.values():
            plain = option["metavar"] is None and not option["choices"]
            line.append(f"--{option['name']}" + ("" if plain else f"={value(option['metavar'], option['choices'])}"))  # fmt: skip
        done = inside(*line, cwd=odd, code=(0, 2))
        if done.stdout:
            json.loads(done.stdout, parse_constant=pytest.fail)
            answered += 1
        else:
            assert done.stderr.count("\n") == 1, (line, done.stderr)
    assert answered > 50
