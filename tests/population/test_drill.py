"""Drill-downs against a plain look at the rows: groups, measures, conditions, order, what is not shown."""

from __future__ import annotations

import json
import shutil
import statistics
import string
from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json, shorten
from sabueso.base.errors import UserError
from sabueso.population.drill import Asked, drill, drill_json, read_drill, rows

ROWS = [
    {"id": "a", "who": "Ana", "day": date(2024, 1, 5), "amount": Decimal("1200.00")},
    {"id": "b", "who": "ana", "day": date(2024, 2, 5), "amount": Decimal("-49.03")},
    {"id": "c", "who": "Luis", "day": date(2025, 2, 9), "amount": Decimal("3200.00")},
    {"id": "d", "who": None, "day": date(2025, 3, 1), "amount": Decimal("500.00")},
]
WEEKDAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]
KEYS = {
    "who": lambda r: r["who"],
    "what": lambda r: r["what"],
    "month": lambda r: r["day"].strftime("%Y-%m"),
    "year": lambda r: str(r["day"].year),
    "weekday": lambda r: WEEKDAYS[r["day"].weekday()],
    "band(amount, -10, 0, 100.5)": lambda r: _band(r["amount"]),
}
MEASURES = {
    "sum(amount)": lambda rows: sum((r["amount"] for r in rows), Decimal(0)),
    "count(*)": len,
    "count(distinct who)": lambda rows: len({r["who"] for r in rows} - {None}),
    "min(amount)": lambda rows: min(r["amount"] for r in rows),
    "max(day)": lambda rows: max(r["day"] for r in rows),
    "avg(amount)": lambda rows: float(sum(r["amount"] for r in rows)) / len(rows),
    "median(amount)": lambda rows: float(statistics.median(r["amount"] for r in rows)),
    "stddev(amount)": lambda rows: (
        statistics.stdev(map(float, (r["amount"] for r in rows))) if len(rows) > 1 else None
    ),
    "sum(amount)/count(*)": lambda rows: float(sum(r["amount"] for r in rows)) / len(rows),
    "count(*) filter (where amount < 0)": lambda rows: sum(r["amount"] < 0 for r in rows),
}
CONDITIONS = {
    "count(*) > 1": lambda rows: len(rows) > 1,
    "sum(amount) >= 0 or max(amount) > 50": lambda rows: (
        sum(r["amount"] for r in rows) >= 0 or max(r["amount"] for r in rows) > 50
    ),
    "count(distinct what) = 1": lambda rows: len({r["what"] for r in rows} - {None}) == 1,
}


def _band(x: Decimal) -> str:
    edges = [Decimal(-10), Decimal(0), Decimal("100.5")]
    labels = ["below -10", "-10 to -0.01", "0 to 100.49", "100.5 and more"]
    return labels[sum(x >= edge for edge in edges)]


def _row(who, what, days, cents):
    return {
        "who": who, "what": what, "day": date(2024, 11, 28) + timedelta(days=days),
        "amount": Decimal(cents).scaleb(-2),
    }  # fmt: skip


made = st.lists(
    st.builds(
        _row,
        st.sampled_from(["Ana", "ana", "Ñoño", "x'y", None]),
        st.sampled_from(["p", "q", None]),
        st.integers(0, 60),
        st.integers(-20_000, 20_000),
    ),
    min_size=1,
    max_size=40,
)


@given(
    rows=made,
    by=st.lists(st.sampled_from(sorted(KEYS)), max_size=3, unique=True),
    across=st.sampled_from([None, *KEYS]),
    measures=st.lists(st.sampled_from(sorted(MEASURES)), min_size=1, max_size=4, unique=True),
    having=st.sampled_from([None, *CONDITIONS]),
    limit=st.sampled_from([None, 1, 2]),
)
def test_a_view_equals_a_plain_look(populate, rows, by, across, measures, having, limit):
    having = having if by else None
    population = populate([r | {"id": str(i)} for i, r in enumerate(rows)], date="day", id="id")
    found = drill(population, Asked(by, across, measures, having=having, limit=limit))
    kept = defaultdict(list)
    for row in rows:
        kept[tuple(KEYS[k](row) for k in by)].append(row)
    met = {key for key, own in kept.items() if having is None or CONDITIONS[having](own)}
    seen = []

    def check(node, own):
        assert node.rows == len(own)
        for label, value in zip(measures, node.values, strict=True):
            expected = MEASURES[label](own)
            if isinstance(expected, float):
                assert value == pytest.approx(expected, rel=1e-9, abs=1e-9)
            else:
                assert value == expected, label
        if across:
            cells = defaultdict(list)
            for row in own:
                name = KEYS[across](row)
                cells["(missing)" if name is None else name].append(row)
            assert {k: v for k, v in node.across.items() if v is not None} == {
                k: pytest.approx(e) if isinstance(e := MEASURES[measures[0]](c), float) else e
                for k, c in cells.items()
                if MEASURES[measures[0]](c) is not None
            }

    def walk(node, own):
        check(node, own)
        depth = len(node.key)
        if depth == len(by):
            seen.append(tuple(node.key))
            return
        groups = defaultdict(list)
        for row in own:
            groups[tuple(KEYS[k](row) for k in by[: depth + 1])].append(row)
        shown = [tuple(child.key) for child in node.children]
        fit = {key for key in groups if any(k[: depth + 1] == key for k in met)}
        own_order = by[depth] not in ("who", "what")
        assert len(set(shown)) == len(shown) and set(shown) <= fit
        assert (
            set(shown) == fit if limit is None or own_order else len(shown) == min(limit, len(fit))
        )
        for child in node.children:
            walk(child, groups[tuple(child.key)])
        for others, keys in ((node.others, fit - set(shown)), (node.unmet, set(groups) - fit)):
            assert (others is not None) == bool(keys)
            if others is not None:
                assert others.groups == len(keys)
                check(others.node, [row for key in keys for row in groups[key]])

    walk(found.total, rows)
    content = json.loads(json.dumps(drill_json(found)))
    assert drill_json(read_drill(content)) == content
    if limit is None and by:
        assert set(seen) == met


@given(
    st.lists(st.integers(-(10**6), 10**6), min_size=1, max_size=40),
    st.sampled_from([0, 10**9, -(10**14)]),
)
@pytest.mark.long
def test_a_standard_deviation_loses_nothing_to_the_size_of_the_amounts(populate, cents, shift):
    """Means of 10^14 minor units beside differences of one: as exact arithmetic has it."""
    units = [Decimal(shift + each) for each in cents]
    found = drill(
        populate([{"amount": each.scaleb(-2)} for each in units]),
        Asked(measures=["stddev(amount)", "stddev(amount) filter (where amount is null)"]),
    )
    value, none = found.total.values
    if len(units) < 2:
        assert value is None
    else:
        assert value == pytest.approx(float(statistics.stdev(units)) / 100, rel=1e-12, abs=1e-13)
    assert none is None


def test_totals_tie_and_one_measure_can_be_named(populate):
    population = populate(ROWS, date="day", amount="amount")
    found = drill(population, Asked(["who", "month"], "year"))
    assert found.total.value == sum(r["amount"] for r in ROWS) == Decimal("4850.97")
    for node in found.total.children:
        assert sum(child.value for child in node.children) == node.value
        assert sum(v for v in node.across.values() if v is not None) == node.value
    assert {n.key[0] for n in found.total.children} == {"Ana", "ana", "Luis", None}
    mean = drill(population, Asked(["year"], measure="mean")).total.value
    assert mean == pytest.approx(1212.7425)


@pytest.mark.parametrize(
    ("sort", "order"),
    [
        (None, ["c", "a", "d", "b"]),
        ("sum(amount) asc", ["b", "d", "a", "c"]),
        ("count( * )", None),
        ("id desc", ["d", "c", "b", "a"]),
        ("id", ["a", "b", "c", "d"]),
    ],
)
def test_order_of_groups(populate, sort, order):
    population = populate(ROWS, amount="amount")
    found = drill(population, Asked(["id"], measures=["sum(amount)", "count(*)"], sort=sort))
    if order is not None:
        assert [n.key[0] for n in found.total.children] == order


def test_groups_in_their_own_order(populate):
    many = [
        {"id": str(i), "day": date(2024, 1, 1) + timedelta(days=i), "amount": Decimal(i * i)}
        for i in range(100)
    ]
    population = populate(many, date="day", amount="amount")
    for by, expected in (
        ("weekday", WEEKDAYS),
        ("band(amount, 10, 100, 1000)", ["below 10", "10 to 99", "100 to 999", "1000 and more"]),
        ("age_band(day, '2024-04-09', 30, 60)", ["0 to 30 days", "31 to 60 days", "over 60 days"]),
        ("month", ["2024-01", "2024-02", "2024-03", "2024-04"]),
    ):
        found = drill(population, Asked([by], limit=2))
        assert [n.key[0] for n in found.total.children] == expected and found.total.others is None
        wide = drill(population, Asked([], by))
        assert wide.across_values == expected


@pytest.mark.parametrize(
    ("condition", "expected"),
    [
        ("days('2024-03-01', day) = 25", "b"),
        ("age_band(day, '2025-02-28', 30, 60) = 'after the reference'", "d"),
        ("word_in(who, 'ANÁ')", "ab"),
        ("word_in(who, 'an', 'ui')", ""),
        ("trailing_zeros(amount) = 2", "acd"),
        ("weekday in ('Sat', 'Sun')", "cd"),
        ("band(amount, 0) = 'below 0'", "b"),
    ],
)
def test_functions_of_bands_ages_and_words(populate, condition, expected):
    population = populate(ROWS, where=condition, date="day", id="id")
    assert sorted(row["id"] for row in rows(population).rows) == sorted(expected)


def test_hours_stand_in_their_order(tmp_path):
    inside("open", "c", cwd=tmp_path)
    lines = "".join(f"A{h},2024-01-01 {h:02}:30:00,{h}.50\n" for h in (9, 14, 23, 10))
    (tmp_path / "x.csv").write_text("id,date,amount\n" + lines)
    inside("intake", "../x.csv", "--as", "x", cwd=tmp_path / "c")
    view = inside_json("dig", "x", "--by", "hour", "--across", "hour", cwd=tmp_path / "c")
    assert [g["key"] for g in view["total"]["groups"]] == [["09"], ["10"], ["14"], ["23"]]
    assert view["across_values"] == ["09", "10", "14", "23"]


@given(text=st.text(string.printable, max_size=25))
def test_any_measure_is_taken_or_refused_in_one_sentence(populate, text):
    population = populate(ROWS, date="day", amount="amount")
    for asked in (
        Asked(["who"], measures=[text]),
        Asked(["who"], having=text),
        Asked(["id"], sort=text),
    ):
        try:
            drill(population, asked)
        except UserError as error:
            assert "\n" not in str(error).replace(text, "")


@pytest.mark.parametrize(
    ("asked", "message"),
    [
        (Asked(["who"], measures=["sum(who)"]), "holds text, not numbers"),
        (Asked(["who"], measures=["sum(sum(amount))"]), "figure of a figure"),
        (Asked(["who"], measures=["sum(amount) + amount"]), "one value for each row"),
        (Asked(["who"], measures=["share"]), "whose share"),
        (Asked(["who"], measures=["avg(amount)", "share"]), "share is that of a sum or a count"),
        (Asked(["who"], having="amount > 3"), "condition on groups"),
        (Asked([], having="count(*) > 3"), "say which with --by"),
        (Asked(["who"], sort="whom"), "did you mean"),
        (Asked(["band(amount, 5, 1)"]), "rise from the lowest"),
        (Asked(["band(amount)"]), "expected as band"),
        (Asked(["age_band(who, '2024-01-01', 30)"]), "takes dates"),
        (Asked(["days('never', day)"]), "expected a date"),
        (Asked(["hours(day, day)"]), "with a time of day"),
        (Asked(["hours(day)"]), "expected as hours"),
        (Asked(["word_in(who, 3)"]), "expected as word_in"),
        (Asked(["who"], measures=["amount"], on="amount"), "--on goes with --measure"),
    ],
)
def test_what_is_no_view_is_refused(populate, asked, message):
    population = populate(ROWS, date="day", amount="amount")
    with pytest.raises(UserError, match=message):
        drill(population, asked)


def test_a_weekday_that_is_none_is_refused(populate):
    population = populate(ROWS, where="weekday = '7 Sun'", date="day", amount="amount")
    with pytest.raises(UserError, match="no weekday"):
        rows(population)


def test_sums_of_rates_and_means_of_means_are_warned_of(populate):
    priced = [
        {"id": "a", "unit_price": Decimal("2.50"), "media": Decimal(3), "quantity": Decimal(4)}
    ]
    population = populate(priced, price="unit_price")
    for measure, code in (
        ("sum(unit_price)", ["summed_rate"]),
        ("avg(media)", ["mean_of_means"]),
        ("sum(quantity)", []),
        ("sum(unit_price * quantity)", []),
        ("max(unit_price)", []),
    ):
        found = drill(population, Asked(["id"], measures=[measure]))
        assert [c for c, _ in found.cautions] == code, measure


@pytest.mark.long
def test_a_view_in_the_program(marisma, tmp_path):
    view = ["dig", "payments", "--by", "cuenta,proveedor", "--across", "year"]
    whole = inside_json(*view, cwd=marisma)
    assert whole["population"]["used_total"] == whole["total"]["value"]
    text = inside(*view, cwd=marisma).stdout
    assert max(map(len, text.split("next:")[0].splitlines())) <= 100
    for suffix in ("csv", "xlsx", "parquet", "json", "png", "svg"):
        out = tmp_path / f"v.{suffix}"
        inside(*view, "--out", str(out), cwd=marisma)
        assert out.stat().st_size > 1000
    tall = inside("dig", "payments", "--rows", "--tall", "--limit", "2", cwd=marisma).stdout
    assert tall.count(" concepto ") == 2
    chosen = inside(
        "dig", "payments", "--columns", "pago,concepto", "--limit", "3", cwd=marisma
    ).stdout
    assert chosen.splitlines()[2].split() == ["pago", "concepto", "source"]


def test_what_is_the_same_on_all_rows_is_said_once(tmp_path):
    inside("open", "c", cwd=tmp_path)
    lines = "".join(f"A{i},2024-01-0{i},EUR,,{i}.50\n" for i in range(1, 6))
    (tmp_path / "x.csv").write_text("id,date,divisa,notes,amount\n" + lines)
    inside("intake", "../x.csv", "--as", "x", cwd=tmp_path / "c")
    text = inside("dig", "x", "--rows", cwd=tmp_path / "c").stdout
    assert "the same on all of these: divisa EUR" in text and "empty on all of these: notes" in text


def test_views_are_kept_and_shown_again(marisma, tmp_path):
    case = tmp_path / "m"
    shutil.copytree(marisma, case)
    inside("dig", "payments", "--by", "cuenta", "--measures", "sum(importe),share", "--having",
           "count(*) > 500", "--keep", "large accounts", cwd=case)  # fmt: skip
    shown = inside("dig", "@large accounts", cwd=case).stdout
    assert "large accounts · payments" in shown and "not meeting the condition" in shown
    assert "[[views]]" in (case / "case.toml").read_text()
    refused = inside("dig", "@large account", cwd=case, code=2).stderr
    assert "did you mean" in refused and refused.count("\n") == 1


@pytest.mark.long
def test_what_has_no_column_across_is_named_and_never_the_first_days_of_a_week(marisma, tmp_path):
    case = shorten(shutil.copytree(marisma, tmp_path / "m"), "account totals")
    wide = ("--by", "usuario", "--across")
    for across, measure in (
        ("cuenta", "max(fecha)"),
        ("month", "sum(importe)"),
        ("weekday", "sum(importe)"),
    ):
        text = inside("dig", "payments", *wide, across, "--measures", measure, cwd=case).stdout
        assert ("(together under rest)" in text) == ("rest" in text.split()) == (across == "month")
        name = f"by {across}"
        inside("dig", "payments", *wide, across, "--measures", measure, "--keep", name, cwd=case)
        inside(
            "dig",
            "payments",
            *wide,
            across,
            "--measures",
            measure,
            "--out",
            "v.svg",
            "--force",
            cwd=case,
        )
    inside("screen", "account totals", cwd=case)
    inside("paper", cwd=case)
    page = (case / "papers/working-paper.html").read_text()
    sections = {
        name: page.split(f"<h2>by {name}</h2>")[1].split("</section>")[0]
        for name in ("cuenta", "month", "weekday")
    }
    assert "Of cuenta, " in sections["cuenta"] and ">rest<" not in sections["cuenta"]
    assert "Of month, 17 values not shown (together under rest): 2024-01" in sections["month"]
    assert (
        all(f">{day}<" in sections["weekday"] for day in WEEKDAYS)
        and "not shown" not in sections["weekday"]
    )


def test_a_condition_on_the_groups_of_no_rows(populate):
    """Nothing meets the condition of the rows: no group, a total of no rows, and no fault."""
    rows_ = [{"id": f"R{i}", "amount": Decimal(i), "who": "ab"[i % 2]} for i in range(9)]
    population = populate(rows_, "amount > 1000", id="id", amount="amount")
    for across in (None, "who"):
        found = drill(population, Asked(by=["who"], having="sum(amount) > 100", across=across))
        assert found.total.rows == 0 and not found.total.children
        assert (found.population.rows, found.population.used) == (9, 0)
