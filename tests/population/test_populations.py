"""Named populations, the score of every row, partial periods, options that are obeyed or refused."""

from __future__ import annotations

import csv
import itertools
import json
import shutil
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal, localcontext

import numpy as np
import pyarrow.parquet as pq
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import inside, inside_json, screened, shorten
from known import ROLES, ledger
from sabueso.population.accounting import Counting
from sabueso.population.calendar import Span
from sabueso.population.population import missing, zero
from sabueso.population.together import count_together
from sabueso.screens.distance.proposed import proposed_measures
from sabueso.screens.periods.partial import partial_periods

DEBITS = """
[populations.debits]
table = "payments"
where = "importe > 0"
reason = "refunds are looked at apart"
"""


def test_an_account_is_exact_whoever_asks(populate):
    """Whatever digits decimals are rounded to where it is asked."""
    rows = [{"amount": Decimal(amount)} for amount in ("99999999999999.99", "0.01", "-0.03")]
    population = populate(rows, amount="amount")
    measure = population.table.measure(None)
    counting = Counting(measure, [zero(measure)])
    together = replace(population, known={})
    with localcontext(prec=9):
        account = population.account(*counting)
        count_together([(together, counting), (together, Counting(measure))])
    for each in (account, together.account(*counting), together.account(measure)):
        assert each.total == each.used_total == Decimal("99999999999999.97")


@pytest.fixture
def named(marisma, tmp_path):
    """A copy of the sample case with a named population."""
    case = shorten(shutil.copytree(marisma, tmp_path / "case"))
    plan = case / "case.toml"
    plan.write_text(plan.read_text(encoding="utf-8") + DEBITS, encoding="utf-8")
    return case


class _Moving:
    """An engine as one that moves rows to group them."""

    moves_groups = True

    def __init__(self, engine):
        self._engine = engine

    def __getattr__(self, name):
        return getattr(self._engine, name)


def _several(population, measure):
    """What is asked of the same rows in one pass, beside what is looked at: other reasons, other conditions,
    no measure, and one whose condition cannot be met."""
    every, some = replace(population, where=None), replace(population, where="total > 0")
    return [
        (population, Counting(measure, [missing(measure)])),
        (population, Counting(measure, [missing(measure), zero(measure)])),
        (population, Counting(None, [zero(measure)])),
        (some, Counting(measure, [zero(measure)])),
        (every, Counting(measure)),
        (every, Counting(None)),
        (some, Counting(measure)),
        (replace(population, where="nobody = 1"), Counting(measure)),
        (replace(population, where="nobody = 1"), Counting(measure, [zero(measure)])),
        (population, Counting(measure, [missing(measure), zero(measure)])),
    ]


@given(
    st.lists(
        st.tuples(
            st.one_of(st.none(), st.decimals(-50, 50, places=2)),
            st.one_of(st.none(), st.dates(date(2024, 1, 1), date(2025, 12, 31))),
            st.sampled_from(["a", "b", None]),
        ),
        min_size=1,
        max_size=30,
    )
)
@example([(None, None, None)])
def test_an_account_is_a_plain_look_at_the_rows(populate, rows):
    """Whichever way an engine is asked: each row counts for the first reason that it gives."""
    population = populate(
        # Columns called as what they are counted under.
        [{"total": amount, "place": day, "n": kind} for amount, day, kind in [*rows, (Decimal("1.00"), date(2024, 5, 5), "a")]],
        where="n = 'a'", amount="total", date="place",
    )  # fmt: skip
    measure = population.table.measure(None)
    own: dict[str, list[Decimal]] = {}
    days = []
    every = [*rows, (Decimal("1.00"), date(2024, 5, 5), "a")]
    for amount, day, kind in every:
        code = (
            "outside_where"
            if kind != "a"
            else "missing"
            if amount is None
            else "zero"
            if amount == 0
            else ""
        )
        own.setdefault(code, []).append(amount or Decimal(0))
        days += [day] if not code and day is not None else []
    for engine, together in itertools.product(
        (population.engine, _Moving(population.engine)), (False, True)
    ):
        asked = replace(population, engine=engine, known={})
        if together:
            count_together(_several(asked, measure))
            asked = replace(asked, engine=None)  # nothing is asked again
        account = asked.account(measure, [missing(measure), zero(measure)])
        assert (account.rows, account.used) == (len(every), len(own[""]))
        assert account.left_out == {code: len(found) for code, found in own.items() if code}
        assert account.total == sum(sum(found) for found in own.values())
        assert account.left_out_totals == {c: sum(found) for c, found in own.items() if c}
        assert account.used_total == sum(own[""])
        assert (account.first_date, account.last_date) == (str(min(days)), str(max(days)))
        whole = replace(asked, where=None).account(measure)
        assert (whole.rows, whole.used, whole.left_out, whole.total) == (
            len(every),
            len(every),
            {},
            account.total,
        )


@pytest.mark.long
def test_a_named_population_can_be_given_wherever_a_table_can(named):
    whole = inside_json("try", "zscore", "payments", "--where", "importe > 0", cwd=named)
    found = inside_json("try", "zscore", "debits", cwd=named)
    assert (found["population_name"], found["table"]) == ("debits", "payments")
    assert found["population"]["left_out"] == {"outside_population": 743}
    assert found["groups"] == whole["groups"]
    assert found["flag_count"] == whole["flag_count"]
    text = inside("try", "zscore", "debits", cwd=named).stdout
    assert "population debits of payments: refunds are looked at apart" in text
    assert "sabueso try zscore debits --keep" in text
    dug = inside_json("dig", "debits", "--by", "cuenta", cwd=named)
    assert dug["population"]["left_out"] == {"outside_population": 743}
    assert inside_json("survey", "debits", "importe", cwd=named)[0]["population"]["used"] == 35253
    # Kept, screened and reviewed: the exceptions are the table's own.
    inside("try", "top", "debits", "--aim", "3", "--keep", "the largest debits", cwd=named)
    done = inside_json("screen", "the largest debits", cwd=named)
    assert done["screens"][0]["table"] == "payments"
    ids = done["screens"][0]["exceptions"]
    assert all(each.startswith("PAY-") for each in ids)
    assert inside_json("why", ids[0], cwd=named)["population_rows"] == 35253
    assert inside_json("dig", ids[0], cwd=named)["rows"][0]["importe"]
    inside("paper", cwd=named)
    page = (named / "papers" / "working-paper.html").read_text(encoding="utf-8")
    assert "Population debits (refunds are looked at apart) of table payments" in page


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ('[populations.payments]\ntable = "payments"\nwhere = "1 = 1"\nreason = "x"\n', "name of a table"),
        ('[populations.x]\ntable = "paymnts"\nwhere = "1 = 1"\nreason = "x"\n', "did you mean"),
        ('[populations.x]\ntable = "payments"\nwhere = "importe > 0"\n', "reason"),
    ],
)  # fmt: skip
def test_a_population_that_is_none(marisma, tmp_path, text, message):
    case = tmp_path / "case"
    shutil.copytree(marisma, case)
    plan = case / "case.toml"
    plan.write_text(plan.read_text(encoding="utf-8") + "\n" + text, encoding="utf-8")
    refused = inside("survey", "payments", cwd=case, code=2).stderr
    assert message in refused
    assert len(refused.splitlines()) == 1


def test_a_condition_of_a_population_that_does_not_hold(named):
    plan = named / "case.toml"
    plan.write_text(plan.read_text("utf-8").replace("importe > 0", "imprte > 0"), "utf-8")
    refused = inside("try", "digits", "debits", cwd=named, code=2).stderr
    assert "imprte" in refused and "debits" in refused


@pytest.mark.parametrize("scale", ["amount", "log"])
def test_the_score_of_every_row(marisma, tmp_path, scale):
    flags = inside_json(
        "try", "zscore", "payments", "--by", "cuenta", "--scale", scale, cwd=marisma
    )
    out = tmp_path / "z.csv"
    arguments = ["try", "zscore", "payments", "--by", "cuenta", "--scale", scale, "--every"]
    inside(*arguments, "--out", str(out), cwd=marisma)
    with out.open(encoding="utf-8-sig", newline="") as file:
        rows = list(csv.DictReader(file))
    assert len(rows) == flags["population"]["used"]
    sizes = [abs(float(r["score"])) for r in rows]
    assert sizes == sorted(sizes, reverse=True)
    assert sum(Decimal(r["importe"]) for r in rows) == Decimal(flags["population"]["used_total"])
    by_id = {r["pago"]: r for r in rows}
    for flag in flags["flags"][:50]:
        row = by_id[flag["subject"]["pago"]]
        assert float(row["score"]) == pytest.approx(flag["score"], rel=1e-9)
        assert (row["file"], int(row["line"])) == (flag["subject"]["file"], flag["subject"]["line"])
    beyond = sum(size > 3 for size in sizes)
    assert beyond == flags["flag_count"]
    again = tmp_path / "z.parquet"
    inside(*arguments, "--out", str(again), cwd=marisma)
    assert pq.read_table(again).column("score").to_pylist() == [float(r["score"]) for r in rows]
    # A cell that a spreadsheet would run is none.
    assert not any(v[:1] in "=@" for r in rows[:2000] for v in r.values() if v)


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["try", "zscore", "payments", "--every"], "--every writes a file"),
        (["try", "zscore", "payments", "--every", "--out", "z.xlsx"], ".csv or .parquet"),
        (["try", "fences", "payments", "--every", "--out", "z.csv"], "not each row has a score"),
        (["survey", "--by", "cuenta"], "--by does not go with a survey of tables"),
        (["survey", "payments", "--stem"], "--stem does not go with"),
        (["survey", "payroll", "--pairs", "--stem"], "--stem does not go with"),
        (["survey", "payroll", "neto", "--by", "categoria", "--bins", "5"], "leave --by out"),
    ],
)
def test_an_option_that_is_not_obeyed_is_refused(marisma, arguments, message):
    refused = inside(*arguments, cwd=marisma, code=2).stderr
    assert message in refused
    assert len(refused.splitlines()) == 1


def test_survey_by_dates_is_json(marisma):
    for by in ("year", "month", "fecha", "cuenta,year"):
        found = inside_json("survey", "payments", "importe", "--by", by, cwd=marisma)
        assert sum(g["n"] for g in found[0]["groups"]) == 35996


def test_bins_are_those_asked_for(marisma):
    for number in (1, 15, 20):
        found = inside_json("survey", "payments", "importe", "--bins", str(number), cwd=marisma)
        histogram = found[0]["histogram"]
        assert len(histogram["counts"]) == number == len(histogram["edges"]) - 1
        assert sum(histogram["counts"]) == 35996
    text = inside("survey", "payments", "importe", cwd=marisma).stdout
    lines = [
        line.split() for line in text.splitlines() if ("%" in line and "█" in line) or "▏" in line
    ]
    assert any(line[0] == "below" for line in lines) and "and above" in text


def _days(first: str, last: str, skip: tuple[int, ...] = ()) -> set[date]:
    start, end = date.fromisoformat(first), date.fromisoformat(last)
    every = (start + timedelta(days=i) for i in range((end - start).days + 1))
    return {d for d in every if d.weekday() not in skip}


@pytest.mark.parametrize(
    ("days", "names", "partial"),
    [
        # Complete months of unequal length.
        (_days("2024-01-01", "2025-12-31"), ("2025-01", "2025-02"), []),
        (_days("2024-01-02", "2025-12-30", (5, 6)), ("2024", "2025"), []),
        # A December of three days, and a year that starts in March.
        (_days("2024-01-01", "2025-12-03"), ("2024-12", "2025-12"), ["2025-12"]),
        (_days("2024-03-01", "2025-12-31", (6,)), ("2024", "2025"), ["2024"]),
        # Once a month; a month is lacking.
        ({date(y, m, 1) for y in (2024, 2025) for m in range(1, 13)}, ("2024", "2025"), []),
        (
            {date(y, m, 1) for y in (2024, 2025) for m in range(1, 13)} - {date(2025, 8, 1)},
            ("2024", "2025"),
            ["2025"],
        ),
        (_days("2024-01-01", "2024-12-31"), ("2024", "2025"), ["2025"]),
    ],
)  # fmt: skip
def test_partial_periods(days, names, partial):
    spans = [(name, Span.of(name), days) for name in names]
    found = partial_periods(spans)
    assert [c.figures["period"] for c in found] == partial
    json.dumps([c.figures for c in found])


def test_measures_that_are_proposed(populate):
    rng = np.random.default_rng(2)
    rows = ledger(n=400)
    for i, row in enumerate(rows):
        row["place"] = Decimal(i + 1)  # a line number
        row["code"] = Decimal(int(rng.integers(620, 630)))
        row["hours"] = Decimal(int(rng.integers(1, 2000))).scaleb(-2)
        row["seldom"] = Decimal(i) if i % 10 == 0 else None
    population = populate(rows, **ROLES)
    assert [c.name for c in proposed_measures(population)] == ["amount", "hours"]
    found = screened(population, "distance", measures="amount,hours")
    assert found["population"]["used"] > 300
    assert found["flags_by_chance"] == pytest.approx(0.001 * found["tests_made"])


def test_digits_by_group_say_how_many_groups_are_unfit(populate):
    rng = np.random.default_rng(3)
    rows = [
        {"amount": Decimal(int(10 ** rng.uniform(2, 6))).scaleb(-2), "who": f"g{i % 50:02d}"}
        for i in range(3000)
    ]
    found = screened(populate(rows, amount="amount"), "digits", by="who")
    few = next(c for c in found["cautions"] if c["code"] == "too_few")
    assert (few["groups"], few["of"]) == (50, 50)
    assert "in 50 of 50 groups" in few["text"]
    assert found["flags_by_chance"] == 0.05
    cut = [{"amount": Decimal(int(10 ** rng.uniform(2, 5.7))).scaleb(-2)} for _ in range(4000)]
    cut = [r for r in cut if r["amount"] < 3000]
    codes = {c["code"] for c in screened(populate(cut, amount="amount"), "digits")["cautions"]}
    assert "truncated" in codes
    round_ = [{"amount": Decimal(int(rng.uniform(1, 900)) * 100)} for _ in range(1000)]
    codes = {c["code"] for c in screened(populate(round_, amount="amount"), "digits")["cautions"]}
    assert "rounded" in codes


def test_rows_that_repeat_are_said(populate):
    rows = ledger(n=900)
    for row in rows:
        row["amount"] = row["amount"] or Decimal("1.00")
    twice = [*rows, *[r | {"id": f"{r['id']}b"} for r in rows[:300]]]
    for test in ("digits", "zscore"):
        codes = [c["code"] for c in screened(populate(rows, **ROLES), test)["cautions"]]
        assert "copied_rows" not in codes
        codes = [c["code"] for c in screened(populate(twice, **ROLES), test)["cautions"]]
        assert "copied_rows" in codes


def test_rows_that_repeat_are_those_of_the_table_that_is_tested(tmp_path):
    """A run keeps what it counted for the screens that follow: of each table, though columns and
    conditions have the same names."""
    inside("open", ".", cwd=tmp_path)
    rows = [f"R{i},S{i % 37},{100 + i * 7919 % 5003}.{i % 90 + 10}" for i in range(900)]
    twice = [*rows, *[f"{row.partition(',')[0]}b,{row.partition(',')[2]}" for row in rows[:300]]]
    for name, lines in (("once", rows), ("twice", twice)):
        (tmp_path / f"{name}.csv").write_text("\n".join(["id,party,amount", *lines]) + "\n")
        inside("intake", f"{name}.csv", "--as", name, cwd=tmp_path)
    for first in ("once", "twice"):
        for name in (first, "twice" if first == "once" else "once"):
            inside("try", "zscore", name, "--keep", f"{first} first, {name}", cwd=tmp_path)
    inside("screen", cwd=tmp_path)
    found = {}
    for path in (tmp_path / "runs" / "0001").glob("finding-*.json"):
        finding = json.loads(path.read_text())
        codes = {caution["code"] for caution in finding["cautions"]}
        found.setdefault(finding["table"], set()).add("copied_rows" in codes)
    assert found == {"once": {False}, "twice": {True}}


def test_a_condition_and_a_population_of_the_same_words_are_told_apart(marisma, tmp_path):
    """Within one run, which keeps what it counted: why rows are left out is each screen's own."""
    case = shutil.copytree(marisma, tmp_path / "m")
    with (case / "case.toml").open("a", encoding="utf-8") as plan:
        plan.write(
            '\n[populations.paid]\ntable = "payments"\nwhere = "importe > 0"\nreason = "paid"\n'
        )
    inside("try", "top", "paid", "--keep", "of the population", cwd=case)
    inside(
        "try", "top", "payments", "--where", "importe > 0", "--keep", "of the condition", cwd=case
    )
    inside("screen", "of the", "--as", "KL", cwd=case, code=2)
    inside("screen", "of the population", "of the condition", "--as", "KL", cwd=case)
    run = max((case / "runs").iterdir())
    left = [json.loads(p.read_text())["population"]["left_out"] for p in sorted(run.glob("finding-*.json"))]  # fmt: skip
    assert [set(each) for each in left] == [{"outside_population"}, {"outside_where"}]
    assert left[0]["outside_population"] == left[1]["outside_where"]


def test_amounts_too_fine_for_their_size_are_one_sentence(tmp_path):
    """Twelve decimals of ten million and more have no room: what to do is said, and does it."""
    rows = "".join(f"A{i},2024-01-0{1 + i % 9},{10_000_000 + i}.12345678901{i % 9 + 1}\n" for i in range(30))  # fmt: skip
    (tmp_path / "coins.csv").write_text(f"id,date,amount\n{rows}")
    inside("open", "c", cwd=tmp_path)
    inside("intake", "../coins.csv", "--as", "coins", cwd=tmp_path / "c")
    said = inside("try", "zscore", "coins", cwd=tmp_path / "c", code=2).stderr
    assert (
        said.count("\n") == 1 and "less = 'round(amount, 4)' under [tables.coins.columns]" in said
    )
    plan = tmp_path / "c" / "case.toml"
    text = plan.read_text().replace('amount = "amount"', 'amount = "less"')
    plan.write_text(text + "\n[tables.coins.columns]\nless = 'round(amount, 4)'\n")
    (group,) = inside_json("try", "zscore", "coins", cwd=tmp_path / "c")["groups"]
    assert group["n"] == 30 and round(group["mean"], 4) == 10_000_014.6235


def test_amounts_too_large_to_be_counted_are_one_sentence_and_keep_nothing_else_from_being_proposed(
    tmp_path,
):
    """And whole numbers of as many figures are numbers of something."""
    large = "".join(f"A{i},2024-01-{1 + i % 28:02},{10**17 + i}.50,{10 ** (19 + i % 3) + i}\n" for i in range(120))  # fmt: skip
    small = "".join(f"B{i},2024-01-{1 + i % 28:02},S{i % 3},{i}.25\n" for i in range(400)) + "B7,2024-01-08,S1,7.25\n"  # fmt: skip
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "large.csv").write_text(f"id,date,amount,parcels\n{large}")
    (tmp_path / "in" / "small.csv").write_text(f"id,date,supplier,amount\n{small}")
    inside("open", "c", cwd=tmp_path)
    case = tmp_path / "c"
    taken = inside_json("intake", "../in", "--yes", cwd=case)
    kinds = {c["name"]: c["type"] for c in taken["taken"][0]["files"][0]["columns"]}
    assert (kinds["amount"], kinds["parcels"]) == ("number", "text")
    assert {screen["table"] for screen in taken["screens"] if not screen["refused"]} == {"small"}
    advice = "cast(amount * 0.001 as decimal(38, 2))"
    said = inside("try", "zscore", "large", cwd=case, code=2).stderr
    assert said.count("\n") == 1 and "figures up to 92,233,720,368,547,758 are computed" in said
    assert f"thousands = '{advice}' under [tables.large.columns]" in said
    surveyed = {t["table"]: t for t in inside_json("survey", cwd=case)["tables"]}
    assert Decimal(surveyed["large"]["total"]) == sum(10**17 + i for i in range(120)) + 60
    assert len(surveyed["large"]["doubts"]) == 1 and "too_large" not in str(surveyed["small"])
    one = inside_json("survey", "large", cwd=case)
    assert not one["tests"] and [d["code"] for c in one["columns"] for d in c["doubts"]] == ["too_large"]  # fmt: skip
    assert 'where "abs(amount) <= 92233720368547758"' in inside("survey", "large", cwd=case).stdout
    plan = case / "case.toml"
    plan.write_text(plan.read_text() + f"\n[tables.large.columns]\nthousands = '{advice}'\n")
    rows = inside_json("dig", "large", "--rows", "--limit", "1", "--sort", "id asc", cwd=case)[
        "rows"
    ]
    assert rows[0]["thousands"] == "100000000000000.00"
    assert (
        inside_json("try", "zscore", "large", "--on", "thousands", cwd=case)["groups"][0]["n"]
        == 120
    )
