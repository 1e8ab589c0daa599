"""Periods without dates: by a column that names them, by the name of a file or a sheet."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal

import numpy as np
import pytest
import xlsxwriter
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json, screened
from sabueso.base.errors import UserError
from sabueso.population.period_names import span_named
from sabueso.screens import find_screen
from sabueso.screens.periods.moves import moves_of
from sabueso.stats.change import compare
from sabueso.stats.description import describe

MONTHS = [
    "enero",
    "febrero",
    "marzo",
    "abril",
    "mayo",
    "junio",
    "julio",
    "agosto",
    "septiembre",
    "octubre",
    "noviembre",
    "diciembre",
]
SPELLINGS = {
    "number": lambda d: f"{d.year}{d.month:02}",
    "slash": lambda d: f"{d.month}/{d.year}",
    "words": lambda d: f"{MONTHS[d.month - 1]} {d.year}",
    "dash": lambda d: f"{d:%Y-%m}",
}


@pytest.mark.parametrize(
    ("value", "name", "start", "end"),
    [
        ("2024", "2024", date(2024, 4, 1), date(2025, 4, 1)),
        ("3/2024", "2024-03", date(2024, 3, 1), date(2024, 4, 1)),
        ("2024-3", "2024-03", date(2024, 3, 1), date(2024, 4, 1)),
        ("12-2023", "2023-12", date(2023, 12, 1), date(2024, 1, 1)),
        ("202411", "2024-11", date(2024, 11, 1), date(2024, 12, 1)),
        ("Q2 2024", "2024-Q2", date(2024, 4, 1), date(2024, 7, 1)),
        ("2024-H2", "2024-H2", date(2024, 7, 1), date(2025, 1, 1)),
        ("2023/24", "2023-2024", date(2023, 4, 1), date(2024, 4, 1)),
        ("März 2024", "2024-03", date(2024, 3, 1), date(2024, 4, 1)),
    ],
)
def test_what_a_value_of_a_column_of_periods_stands_for(value, name, start, end):
    found = span_named(value, first_month=4)
    assert (found.name, found.start, found.end) == (name, start, end)


@pytest.mark.parametrize("value", ["north", "", "20241", "2024-13", "99", "2024-02-30", "13/2024"])
def test_what_names_no_period(value):
    assert span_named(value) is None


@given(
    rows=st.lists(
        st.tuples(st.sampled_from("abc"), st.integers(0, 23), st.integers(-9999, 9999)),
        min_size=4, max_size=60,
    ),
    spelling=st.sampled_from(sorted(SPELLINGS)),
    periods=st.sampled_from(
        [("2023", "2024"), ("2024-Q1", "2024-Q2"), ("2023-05", "2023-06"), ("prior", "latest-month"),
         ("year-before", "latest-quarter")]
    ),
)  # fmt: skip
def test_a_column_of_periods_tells_what_the_dates_would(populate, rows, spelling, periods):
    """The same rows with a date and with the month's name give the same lines, or the same refusal."""
    base, current = periods
    made = [
        {"who": who, "day": date(2023 + month // 12, month % 12 + 1, 1), "amount": Decimal(cents) / 100}
        for who, month, cents in rows
    ]  # fmt: skip
    dated = populate(made, date="day", amount="amount")
    named = populate(
        [
            {"who": r["who"], "mes": SPELLINGS[spelling](r["day"]), "amount": r["amount"]}
            for r in made
        ],
        amount="amount",
    )
    asked = {"per": "who", "base": base, "current": current, "percent_limit": 5}
    there = screened(dated, "periods", **asked)
    try:
        here = screened(named, "periods", **asked)
    except UserError as error:
        # A column knows no period that has no row; the calendar has every one.
        assert "has no period within" in str(error)
        return
    keys = ("lines", "total")
    assert [here["groups"][0][k] for k in keys] == [there["groups"][0][k] for k in keys]
    assert [f["subject"] for f in here["flags"]] == [f["subject"] for f in there["flags"]]
    assert here["population"]["used_total"] == there["population"]["used_total"]


def test_names_that_hold_one_another_are_refused(populate):
    rows = [
        {"who": "a", "periodo": p, "amount": Decimal(1)} for p in ("2023", "2024", "2024-01", "T1")
    ]
    people = populate(rows, amount="amount")
    with pytest.raises(UserError, match="names no period, so that none"):
        screened(people, "periods", per="who", period="periodo", base="2023", current="latest-year")
    with pytest.raises(UserError, match="no period of periodo; it has 2023"):
        screened(people, "periods", per="who", period="periodo", base="T9", current="2024")
    with pytest.raises(UserError, match="overlap"):
        screened(people, "periods", per="who", period="periodo", base="2024-01", current="2024")
    with pytest.raises(UserError, match="with --period the column"):
        screened(people, "periods", per="who", base="2023", current="2024")
    people = populate(
        [{"who": "a", "mes": p, "amount": Decimal(1)} for p in ("2023-01", "Q1 2023", "2022-01")],
        amount="amount",
    )
    with pytest.raises(UserError, match="the one holds the other"):
        screened(people, "periods", per="who", base="2022", current="2023")


def test_files_of_a_month_each_are_compared_without_further_words(tmp_path):
    """The month stands in the name alone: taken, proposed, screened, opened, explained, done again."""
    for month, amount in (("2024-11", 100), ("2024-12", 104)):
        (tmp_path / f"gastos_{month}.csv").write_text(
            f"cuenta,importe\n100,{amount}.00\n200,50.00\n"
        )
    inside("open", ".", "--currency", "EUR", cwd=tmp_path)
    files = ("gastos_2024-11.csv", "gastos_2024-12.csv")
    taken = inside_json("intake", *files, "--as", "g", cwd=tmp_path)
    for file in taken["files"]:
        (assumed,) = file["assumptions"]
        assert assumed["text"].startswith("period: by the file name, since the rows have amounts")
        assert (assumed["key"], assumed["columns"]) == ("read.period", ["period"])
    inside("survey", "--propose", "--keep", cwd=tmp_path)
    (tmp_path / "gastos_2025-01.csv").write_text("cuenta,importe\n100,99.00\n200,80.00\n")
    inside("intake", "gastos_2025-01.csv", "--as", "g", cwd=tmp_path)
    inside("screen", cwd=tmp_path)
    (item,) = [i for i in inside_json("queue", cwd=tmp_path) if i["subject"]["period"] == "2025-01"]
    assert (item["subject"]["cuenta"], item["amount"]) == ("200", "30.00")
    assert "50.00" in inside("dig", item["id"], cwd=tmp_path).stdout


def test_sheets_of_a_year_each_and_a_budget_beside(tmp_path):
    book = xlsxwriter.Workbook(str(tmp_path / "report.xlsx"))
    for year in (2022, 2023, 2024):
        sheet = book.add_worksheet(str(year))
        sheet.write_row(0, 0, ["account", "amount"])
        for place, account in enumerate("ABC", 1):
            sheet.write_row(place, 0, [account, 100.25 + 50 * (account == "B" and year == 2024)])
    book.close()
    (tmp_path / "plan.csv").write_text("account,year,amount\nA,2024,100.25\nB,2024,90.00\n")
    inside("open", ".", cwd=tmp_path)
    inside("intake", "report.xlsx", "--as", "r", cwd=tmp_path)
    inside("intake", "plan.csv", "--as", "budget", cwd=tmp_path)
    asked = ("try", "periods", "r", "--per", "account", "--current", "latest-year")
    found = inside_json(*asked, "--base", "prior", cwd=tmp_path)
    assert [(f["subject"], f["base"], f["current"]) for f in found["flags"]] == [
        ({"account": "B", "period": "2024"}, "100.25", "150.25")
    ]
    assert found["solved"]["current_rows"] == "period = '2024'"
    mean = inside_json(*asked, "--mean-of", "2", cwd=tmp_path)
    assert [f["subject"]["account"] for f in mean["flags"]] == ["B"]
    against = inside_json(*asked, "--against", "budget", cwd=tmp_path)
    assert {f["subject"]["account"]: f["base"] for f in against["flags"]} == {
        "B": "90.00",
        "C": "0.00",
    }
    # The exception keeps both of its periods.
    inside(*asked, "--base", "prior", "--keep", "years", cwd=tmp_path)
    inside("screen", cwd=tmp_path)
    (item,) = inside_json("queue", cwd=tmp_path)
    opened = inside("dig", item["id"], cwd=tmp_path).stdout
    assert "2023" in opened and "250.50" in opened and "150.25" in opened
    assert "1 mark compared" in inside("redo", cwd=tmp_path).stdout


def test_a_tolerance_is_a_band_around_the_expectation(populate):
    """Without limits beside it; to the unit at its edges, of either sign, and of nothing anything is outside."""
    rows = [
        {"who": who, "day": date(year, 5, 1), "amount": Decimal(amount)}
        for who, year, amount in [
            ("edge", 2023, "100.00"), ("edge", 2024, "120.00"), ("over", 2023, "100.00"),
            ("over", 2024, "120.01"), ("debt", 2023, "-100.00"), ("debt", 2024, "-79.99"),
            ("new", 2024, "0.01"),
        ]
    ]  # fmt: skip
    people = populate(rows, date="day", amount="amount")
    asked = {"per": "who", "base": "2023", "current": "2024"}
    found = screened(people, "periods", **asked, tolerance="20%")
    assert {f["subject"]["who"] for f in found["flags"]} == {"over", "debt", "new"}
    bands = {
        line["key"]["who"]: (line["low"], line["high"]) for line in found["groups"][0]["lines"]
    }
    assert bands["edge"] == ("80.00", "120.00") and bands["debt"] == ("-120.00", "-80.00")
    with pytest.raises(UserError, match="stands in the place of the limits"):
        screened(people, "periods", **asked, tolerance="20", amount_limit="5")


@given(st.integers(0, 10**6), st.sampled_from([1, -1]))
def test_a_season_is_found_however_one_month_went_wrong(populate, seed, sign):
    """Level, growth and months of three years; one of the past months is a hundred times too large."""
    rng = np.random.default_rng(seed)
    factors, growth = np.exp(rng.normal(0, 0.5, 12)), 1.01
    units = np.round(
        1e6
        * growth ** np.arange(37)
        * factors[np.arange(37) % 12]
        * np.exp(rng.normal(0, 0.01, 37))
    )
    units[rng.integers(0, 36)] *= 100
    rows = [
        {
            "who": who,
            "day": date(2021 + m // 12, m % 12 + 1, 1),
            "amount": sign * Decimal(int(units[m] * extra)) / 100,
        }
        for who, last in (("usual", 1.0), ("off", 1.4))
        for m in range(37)
        for extra in [last if m == 36 else 1.0]
    ]
    people = populate(rows, date="day", amount="amount")
    found = screened(
        people,
        "periods",
        per="who",
        current="2024-01",
        seasonal=3,
        deviate_limit=6.0,
        percent_limit=5,
    )
    assert [f["subject"]["who"] for f in found["flags"]] == ["off"]
    lines = {line["key"]["who"]: line for line in found["groups"][0]["lines"]}
    expected = 1e4 * growth**36 * factors[0]
    assert abs(float(lines["usual"]["base"])) == pytest.approx(expected, rel=0.08)
    low, high = (float(lines["off"][k]) for k in ("low", "high"))
    assert low < float(lines["off"]["base"]) < high
    assert len(lines["off"]["history"]) == 36 and "history" not in lines["usual"]


def test_what_no_season_can_be_fitted_to_is_said(populate):
    rows = [
        {"who": who, "day": date(2022 + m // 4, 3 * (m % 4) + 1, 1), "amount": Decimal(10 * (m % 4 + 1))}
        for who in "ab"
        for m in range(9)
        if (who, m) != ("b", 3)
    ]  # fmt: skip
    people = populate(rows, date="day", amount="amount")
    asked = {"per": "who", "current": "2024-Q1", "tolerance": "5"}
    found = screened(people, "periods", **asked, seasonal=2)
    assert found["flag_count"] == 0
    assert [c["code"] for c in found["cautions"]] == ["no_season"]
    with pytest.raises(UserError, match="have no rows, and would be counted as nothing"):
        screened(people, "periods", **asked, seasonal=3)
    with pytest.raises(UserError, match="of months or quarters"):
        screened(people, "periods", per="who", current="2024", seasonal=2)
    with pytest.raises(UserError, match="says what is compared with"):
        screened(people, "periods", **asked, seasonal=2, mean_of=2)


@pytest.mark.parametrize("kind", ["changes", "pairs", "bridge", "shares", "months"])
def test_figures_are_drawn_or_said_to_have_nothing(marisma, tmp_path, kind):
    asked = ("try", "periods", "payments", "--per", "cuenta", "--current", "2025-09")
    out = ("--figure", kind, "--out", str(tmp_path / "a.png"))
    inside(*asked, "--mean-of", "12", "--deviate-limit", "2", *out, cwd=marisma)
    assert (tmp_path / "a.png").stat().st_size > 10_000
    if kind == "months":
        words = ("--base", "prior", "--figure", kind, "--out", str(tmp_path / "b.png"))
        said = inside(*asked, *words, cwd=marisma, code=2)
        assert "there is nothing to draw" in said.stderr


@given(
    st.lists(
        st.tuples(st.sampled_from("XYZ"), st.sampled_from("abcd"), st.integers(0, 900), st.integers(0, 900)),
        min_size=1, max_size=12, unique_by=lambda row: row[:2],
    )
)  # fmt: skip
def test_what_moved_is_never_more_than_was_lost_or_came(rows):
    keys = [(group, line) for group, line, *_ in rows]
    lines = compare([base for *_, base, _ in rows], [now for *_, now in rows])
    found = moves_of(keys, lines)
    for group in "XYZ":
        own = [(k, ln) for k, ln in zip(keys, lines, strict=True) if k[0] == group]
        lost = sum(max(ln.base - ln.current, 0) for _, ln in own)
        came = sum(ln.current for _, ln in own if not ln.base)
        assert sum(found[k].amount for k, _ in own if k in found) == min(lost, came)
    for key, move in found.items():
        line = lines[keys.index(key)]
        assert line.base == 0 < move.amount <= line.current
        source = lines[keys.index((key[0], move.source))]
        assert source.current < source.base
        assert 0 < move.percent <= 100


def test_what_was_explained_last_time_comes_back_with_its_reason(tmp_path):
    """Reports by the month: a line that was cleared in February returns in March, with February's reason."""
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    figures = {"a": (1000, 1600, 2600), "b": (500, 510, 505), "c": (900, 1500, 1480)}
    for month in range(3):
        rows = [f"{name},{values[month]}.00" for name, values in figures.items()]
        name = f"report-2025-{month + 1:02d}.csv"
        (tmp_path / name).write_text("account,amount\n" + "\n".join(rows) + "\n")
        inside("intake", f"../{name}", "--as", "report", cwd=case)
        if month == 0:
            continue
        if month == 1:
            inside("try", "periods", "report", "--per", "account", "--current", "latest-month", "--base", "prior",
                   "--keep", "months", cwd=case)  # fmt: skip
        inside("screen", "--as", "KL", cwd=case)
        items = {i["subject"]["account"]: i for i in inside_json("queue", "--top", "99", cwd=case)}
        if month == 1:
            assert set(items) == {"a", "c"}
            assert items["a"]["before"] is None
            first = items["a"]["id"]
            inside(
                "review", first, "--cleared", "--reason", "a new contract", "--as", "KL", cwd=case
            )
    assert set(items) == {"a"}
    again = items["a"]
    assert again["status"] == "open"
    assert again["id"] != first
    assert {k: again["before"][k] for k in ("id", "period", "status", "reason", "initials")} == {
        "id": first, "period": "2025-02", "status": "cleared", "reason": "a new contract", "initials": "KL",
    }  # fmt: skip
    said = " ".join(inside("dig", again["id"], cwd=case).stdout.split())
    assert "last time, in 2025-02: cleared by KL on" in said
    assert "a new contract" in said
    listed = inside(
        "queue",
        cwd=case,
    ).stdout
    assert "cleared:" in listed
    assert "2025-02" in listed


def test_what_the_days_without_rows_make_is_no_fall(populate):
    """A year of which a month is there: what goes on as before is spared, what rose or ceased in it is not."""
    rows = []
    for offset in range(366 + 31):
        day = date(2024, 1, 1) + timedelta(days=offset)
        for line, amount in (
            ("even", 100),
            ("rising", 40 if day.year == 2024 else 1500),
            ("ceased", 500),
        ):
            if line != "ceased" or day.year == 2024:
                rows.append({"day": day, "line": line, "amount": Decimal(amount)})
    people = populate(rows, date="day", amount="amount")
    limits = {"base": "2024", "current": "2025", "percent_limit": "20"}
    found = screened(people, "periods", per="line", **limits, amount_limit="100")
    assert {f["subject"]["line"] for f in found["flags"]} == {"rising", "ceased"}
    lines = {line["key"]["line"]: line for line in found["groups"][0]["lines"]}
    assert Decimal(lines["even"]["change"]) == -100 * (366 - 31)  # what is shown is what is there
    said = [c["text"] for c in found["cautions"] if c["code"] == "partial_period"]
    assert any(
        text.startswith("1 line beyond the limits is within them at the pace") for text in said
    )
    # The 15,500 that a month of it would be are below this limit, and nothing is claimed to have ceased.
    strict = screened(people, "periods", per="line", **limits, amount_limit="20000")
    assert {f["subject"]["line"] for f in strict["flags"]} == {"rising"}
    # Two years that reach alike are as they are.
    part = [row for row in rows if row["day"].month == 1 and row["line"] != "rising"]
    found = screened(populate(part, date="day", amount="amount"), "periods", per="line", **limits)
    assert {f["subject"]["line"] for f in found["flags"]} == {"ceased"}


def test_a_year_that_has_begun_is_not_proposed_against_one_that_is_whole(populate):
    rows = [
        {"day": date(2023, 1, 1) + timedelta(days=i), "account": "ab"[i % 2], "amount": Decimal(10)}
        for i in range(366 + 365 + 40)
    ]
    people = populate(rows, date="day", amount="amount", account="account")
    proposed = list(
        find_screen("periods").proposes(people, describe(np.array([1000]), np.array([9]), 2))
    )
    assert {(p.settings["base"], p.settings["current"]) for p in proposed} == {("2023", "2024")}


def test_of_what_moved_no_more_is_proposed_than_can_be_reviewed(populate):
    """Forty suppliers, each paid on another account since the new year: the largest of them, as many as asked for."""
    rows = [
        {"day": date(2023 + year, 1 + i % 12, 3), "who": f"S{s:02}", "account": f"6{(s + year) % 9}", "amount": Decimal(100 * (s + 1))}
        for year in (0, 1)
        for s in range(40)
        for i in range(12)
    ]  # fmt: skip
    people = populate(rows, date="day", party="who", account="account", amount="amount")
    screen, settings = find_screen("periods"), {
        "per": ["who", "account"], "base": "2023", "current": "2024", "percent_limit": 20, "flag_by": "moved",
    }  # fmt: skip
    whole = screened(people, "periods", **settings)["flags"]
    assert len(whole) == 40
    few = screened(people, "periods", **screen.tuned(people, settings, 7))["flags"]
    assert 4 <= len(few) <= 7
    assert {f["subject"]["who"] for f in few} == {f"S{s:02}" for s in range(40 - len(few), 40)}
    assert screen.tuned(people, settings, 40) == settings
