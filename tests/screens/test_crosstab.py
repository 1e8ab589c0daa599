"""Kinds by whoever recorded them: figures against SciPy's, even tables, and a teller who takes back what others do not."""

from __future__ import annotations

import csv
import random
import re
import tomllib
from collections import Counter
from datetime import date, timedelta

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from conftest import inside, inside_json, populated, screened
from sabueso.base.errors import UserError
from sabueso.stats.cells import excess

KINDS = ("deposit", "withdrawal", "reversal")


def _rows(counts):
    """One row for each count of a table of tellers by kinds."""
    return [
        {"teller": f"T{g}", "kind": KINDS[k], "n": f"{g}-{k}-{i}", "amount": 100 + i}
        for g, own in enumerate(counts)
        for k, n in enumerate(own)
        for i in range(n)
    ]


def test_figures_are_those_of_the_table(populate):
    counts = np.array([[200, 180, 1], [210, 170, 2], [190, 200, 14], [205, 195, 1]])
    found = screened(
        populate(_rows(counts), amount="amount", id="n", preparer="teller"), "crosstab", of="kind"
    )
    expected = stats.contingency.expected_freq(counts)
    whole = counts.sum()
    share, own = counts.sum(axis=0) / whole, counts.sum(axis=1, keepdims=True) / whole
    residual = (counts - expected) / np.sqrt(expected * (1 - share) * (1 - own))
    spread = stats.median_abs_deviation(residual, axis=0, scale="normal")
    over = np.maximum(1.0, spread**2)
    assert found["groups"][0]["n"] == whole == found["population"]["used"]
    cells = {
        (group["group"]["teller"], cell["kind"]["kind"]): cell
        for group in found["groups"][1:]
        for cell in group["cells"]
    }
    assert len(cells) == counts.size == found["tests_made"]
    for (teller, kind), cell in cells.items():
        at = int(teller[1:]), KINDS.index(kind)
        assert cell["rows"] == counts[at]
        assert cell["expected"] == pytest.approx(expected[at])
        assert cell["residual"] == pytest.approx(residual[at])
        p = stats.norm.sf(residual[at] / np.sqrt(over[at[1]]))
        if expected[at] < 5:
            exact = stats.hypergeom.sf(
                counts[at] - 1, whole, counts[:, at[1]].sum(), counts[at[0]].sum()
            )
            p = exact if over[at[1]] == 1 else max(p, exact)
        assert cell["p"] == pytest.approx(p, rel=1e-9)
        beside = np.delete(counts, at[0], axis=0)
        assert cell["others"] == pytest.approx(beside[:, at[1]].sum() / beside.sum())
    (flag,) = found["flags"]
    assert flag["subject"] == {"teller": "T2", "kind": "reversal"}
    assert (flag["rows"], flag["of"]) == (14, 404)


@pytest.mark.long
def test_tables_of_one_proportion_are_rarely_flagged():
    """At 0.05 by Holm, of three hundred even tables no more than chance has."""
    rng = np.random.default_rng(4)
    shares, flagged = np.array([0.55, 0.4, 0.04, 0.01]), 0
    for _ in range(300):
        table = np.array([rng.multinomial(n, shares) for n in rng.integers(50, 900, 12)])
        result = excess(table, np.zeros(table.shape, bool), typical=True)
        p = np.sort(result.p[np.isfinite(result.p)])
        flagged += bool(p[0] * len(p) < 0.05)
    # 0.05 and three standard errors.
    assert flagged <= 15 + 3 * np.sqrt(300 * 0.05 * 0.95)


def test_whose_work_differs_hides_no_one(populate):
    """Two desks that do each their own: who goes beyond that is told, and the desks are not."""
    rng = np.random.default_rng(9)
    table = [rng.multinomial(400, (0.9, 0.09, 0.01)) for _ in range(8)]
    table += [rng.multinomial(400, (0.2, 0.79, 0.01)) for _ in range(8)]
    table[5] = table[5] + np.array([0, 0, 60])
    found = screened(
        populate(_rows(table), amount="amount", preparer="teller"), "crosstab", of="kind"
    )
    assert [flag["subject"] for flag in found["flags"]] == [{"teller": "T5", "kind": "reversal"}]
    assert "overdispersed" in {caution["code"] for caution in found["cautions"]}


def test_what_is_no_kind_is_refused(populate):
    rows = [{"teller": "T1", "kind": f"K{i}", "amount": 5} for i in range(300)]
    with pytest.raises(
        UserError, match="kind has 300 values or more; a cross table compares up to 100"
    ):
        screened(populate(rows, amount="amount", preparer="teller"), "crosstab", of="kind")
    with pytest.raises(UserError, match="crosstab needs --of"):
        screened(populate(rows, amount="amount", preparer="teller"), "crosstab")
    with pytest.raises(UserError, match="names no preparer"):
        screened(populate(rows, amount="amount"), "crosstab", of="kind")


def _of_two(folder, taken_back, sold):
    """Tables of what cashiers took back and of what they sold, so many of each."""

    def rows(counts, kind):
        return [
            {"id": f"{kind}{g}-{i}", "cashier": who, "amount": 7}
            for g, (who, n) in enumerate(counts.items())
            for i in range(n)
        ]

    tables = {"refunds": rows(taken_back, "R"), "sales": rows(sold, "S")}
    return populated(folder, tables, id="id", amount="amount", preparer="cashier")


SOLD = {"Ann": 400, "Bo": 380, "Cy": 420, "Di": 390, "Ed": 410, "Web": 900, "New": 12}


def test_rows_of_one_table_for_as_many_of_another(tmp_path):
    back = {"Ann": 12, "Bo": 11, "Cy": 13, "Di": 41, "Ed": 12, "New": 2}
    with _of_two(tmp_path, back, SOLD) as population:
        found = screened(population, "crosstab", beside="sales")
    # What the web sells is taken back by others, and of who has just come there is too little.
    compared = ["Ann", "Bo", "Cy", "Di", "Ed"]
    table = np.array([[back[who], SOLD[who]] for who in compared])
    expected = stats.contingency.expected_freq(table)
    share, own = table.sum(axis=0) / table.sum(), table.sum(axis=1) / table.sum()
    residual = (table - expected)[:, 0] / np.sqrt(expected[:, 0] * (1 - share[0]) * (1 - own))
    over = max(1.0, stats.median_abs_deviation(residual, scale="normal") ** 2)
    whole, *groups = found["groups"]
    assert whole["n"] == sum(back.values()) + sum(SOLD.values())
    assert [group["group"]["cashier"] for group in groups] == compared
    assert found["tests_made"] == found["subjects"] == 5
    for place, group in enumerate(groups):
        cells = {cell["kind"]["table"]: cell for cell in group["cells"]}
        assert cells["refunds"]["residual"] == pytest.approx(residual[place])
        assert cells["refunds"]["p"] == pytest.approx(
            stats.norm.sf(residual[place] / np.sqrt(over)), rel=1e-9
        )
        assert cells["sales"]["p"] is None and cells["sales"]["amount"] is None
        for name, column in (("refunds", 0), ("sales", 1)):
            assert cells[name]["rows"] == table[place, column]
            assert cells[name]["expected"] == pytest.approx(expected[place, column])
    (flag,) = found["flags"]
    assert flag["subject"] == {"cashier": "Di"} and (flag["rows"], flag["of"]) == (41, 431)
    assert flag["amount"] == str(41 * 7) and flag["others"] == pytest.approx(48 / (48 + 1610))
    reasons = {
        each["group"]["cashier"]: (each["reason"], each["rows"]) for each in found["not_tested"]
    }
    assert reasons == {
        "New": ("only 12 rows of sales; at least 20 are needed", 2),
        "Web": ("none, where 27.6 would be expected: it may be others' work", 0),
    }


@settings(max_examples=25)
@given(
    st.lists(st.tuples(st.integers(0, 12), st.integers(0, 60)), min_size=1, max_size=6).filter(
        lambda each: (
            any(a for a, _ in each) and any(b for _, b in each) and any(a and b for a, b in each)
        )
    )
)
def test_nobody_is_lost_beside_another_table(tmp_path_factory, counts):
    back = {f"C{g}": own for g, (own, _) in enumerate(counts) if own}
    sold = {f"C{g}": theirs for g, (_, theirs) in enumerate(counts) if theirs}
    with _of_two(tmp_path_factory.mktemp("two"), back, sold) as population:
        found = screened(population, "crosstab", beside="sales", least=1, times=1, alpha=0.9)
    whole, *groups = found["groups"]
    compared = {group["group"]["cashier"] for group in groups}
    apart = {each["group"]["cashier"] for each in found["not_tested"]}
    assert compared == {who for who, n in sold.items() if n >= 20} - apart
    assert compared | apart >= set(back) and not compared & apart
    assert {cell["kind"]["table"]: cell["rows"] for cell in whole["cells"]} == {
        "refunds": sum(back.values()),
        "sales": sum(sold.values()),
    }
    for group in groups:
        assert sum(cell["rows"] for cell in group["cells"]) == group["n"]


def test_rows_of_nobody_are_told(tmp_path):
    with _of_two(tmp_path, {"Ann": 9, "Bo": 7}, {"Ann": 80, "Bo": 90, None: 1}) as population:
        found = screened(population, "crosstab", beside="sales")
    (caution,) = [c for c in found["cautions"] if c["code"] == "beside_missing_key"]
    assert caution["text"] == "1 row of sales does not tell whose it is, and is not compared"
    assert found["groups"][0]["n"] == 9 + 7 + 80 + 90


def test_rows_beside_the_others_of_their_table(populate):
    """Rows that meet both conditions are counted once, as those that are looked at."""
    rows = [
        {"teller": f"T{g}", "kind": kind, "amount": 5}
        for g in range(6)
        for kind, n in (("deposit", 200), ("reversal", 40 if g == 3 else 4), ("", 9))
        for _ in range(n)
    ]
    population = populate(rows, "kind = 'reversal'", amount="amount", preparer="teller")
    found = screened(population, "crosstab", beside="ledger", beside_where="kind <> ''")
    cells = {cell["kind"]["table"]: cell["rows"] for cell in found["groups"][0]["cells"]}
    assert cells == {"ledger where kind = 'reversal'": 60, "the other rows of ledger": 1200}
    assert [flag["subject"] for flag in found["flags"]] == [{"teller": "T3"}]


def test_what_cannot_be_held_against_another_table_is_refused(tmp_path, populate):
    with _of_two(tmp_path, {"Ann": 9}, {"Bo": 30}) as population:
        for settings_, said in (
            ({"beside": "sales"}, "no value of cashier of refunds is among those of cashier of sales"),
            ({"beside": "sale"}, "there is no table 'sale' to compare with; did you mean 'sales'"),
            ({"beside": "sales", "beside_by": "amount"}, "cashier of refunds is a text, and amount of sales is a number"),
            ({"beside": "sales", "beside_by": "cashier,id"}, "--beside-by names 2 columns, and --by 1"),
            ({"beside": "sales", "of": "cashier"}, "compares kinds .* or tables .*, not both"),
            ({"of": "cashier", "beside_where": "amount > 1"}, "go with --beside"),
            ({"beside": "refunds"}, "is the table itself: say with --where"),
        ):  # fmt: skip
            with pytest.raises(UserError, match=said):
                screened(population, "crosstab", **settings_)


def test_a_cashier_whose_sales_are_refunded_is_proposed(tmp_path):
    """Three times as many as of the others, by whoever took them back; where all are alike nothing is."""
    rng = random.Random(5)
    tills = [f"C{i:02}" for i in range(11)]
    for name, often in (("odd", {"C04": 0.1}), ("even", {})):
        sales = [
            [f"S{10_000 + i}", date(2025, 1, 2) + timedelta(days=i // 14), rng.choice(tills), round(rng.lognormvariate(3.2, 0.7), 2)]
            for i in range(4_200)
        ]  # fmt: skip
        refunds = [
            [f"R{i}", sale, day + timedelta(days=rng.randrange(9)), rng.choice(tills), amount]
            for i, (sale, day, till, amount) in enumerate(sales)
            if rng.random() < often.get(till, 0.03)
        ]
        if often:
            own = {sale for sale, _, till, _ in sales if till == "C04"}
            of_c04 = [sum(row[1] in own for row in refunds), len(own)]
        folder = tmp_path / f"{name}-in"
        folder.mkdir()
        for table, head, rows in (
            ("sales", ["sale", "date", "cashier", "amount"], sales),
            ("refunds", ["refund", "sale", "date", "by", "amount"], refunds),
        ):
            with (folder / f"{table}.csv").open("w", newline="", encoding="utf-8") as file:
                csv.writer(file).writerows([head, *rows])
        inside("open", name, cwd=tmp_path)
        case = tmp_path / name
        taken = inside_json("intake", f"../{name}-in", "--yes", cwd=case)
        beside = [each["settings"] for each in taken["screens"] if "beside" in each["settings"]]
        wanted = {"by": ["sale.cashier"], "beside": "sales", "beside_by": ["cashier"]}
        assert beside == ([wanted] if often else [])
    inside("screen", "refunds beside", cwd=tmp_path / "odd")
    (item,) = inside_json("queue", cwd=tmp_path / "odd")
    assert item["subject"] == {"sale.cashier": "C04"}
    why = " ".join(inside("why", item["id"], cwd=tmp_path / "odd").stdout.split())
    (told,) = re.findall(
        r"C04 has (\d+) rows of refunds beside (\d+) of sales, .* for each hundred", why
    )
    assert [int(n) for n in told] == of_c04
    shown = inside_json("dig", item["id"], "--rows", "--limit", "500", cwd=tmp_path / "odd")["rows"]
    assert len(shown) == of_c04[0]


@pytest.mark.long
def test_transfers_name_both_ends_and_a_teller_takes_back(tmp_path):
    """Accounts that money comes from and goes to are the account and the party of a transfer; deposits just under a round
    amount by one of them, and a teller's reversals, are in what is proposed."""
    rng = random.Random(7)
    accounts = [f"{40_000_000 + 7 * i}" for i in range(300)]
    rows = []
    for _ in range(6_000):
        day = date(2024, 1, 1) + timedelta(days=rng.randrange(366))
        teller, amount = f"TL{rng.randrange(12):02}", round(rng.lognormvariate(6, 1.1), 2)
        kind = rng.choices(KINDS, (60, 39, 0.3))[0]
        ends = ["", rng.choice(accounts)] if kind == "deposit" else [rng.choice(accounts), ""]
        rows.append([day, kind, *ends, amount, teller])
    back = rng.sample([row for row in rows if row[1] == "deposit" and row[5] == "TL07"], 12)
    rows += [[row[0] + timedelta(days=1), "reversal", row[3], "", row[4], "TL07"] for row in back]
    rows.sort(key=lambda row: row[0])
    folder = tmp_path / "in"
    folder.mkdir()
    head = ["txn_id", "txn_date", "type", "from_account", "to_account", "amount", "teller"]
    with (folder / "transactions.csv").open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([head, *([f"X{5000 + i}", *row] for i, row in enumerate(rows))])
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    taken = inside_json("intake", "../in", "--yes", cwd=case)
    plan = tomllib.loads((case / "case.toml").read_text(encoding="utf-8"))
    roles = plan["tables"]["transactions"]["roles"]
    assert (roles["account"], roles["party"]) == ("from_account", "to_account")
    proposed = {each["test"]: each for each in taken["screens"]}
    assert proposed["crosstab"]["settings"] == {"of": ["type"], "by": ["teller"]}
    inside("screen", cwd=case)
    item = next(
        each
        for each in inside_json("queue", "--top", "100", cwd=case)
        if each["subject"] == {"teller": "TL07", "type": "reversal"}
    )
    expected = Counter((row[5], row[1]) for row in rows)["TL07", "reversal"]
    rows_of = inside_json("dig", item["id"], "--rows", "--limit", "100", cwd=case)["rows"]
    assert len(rows_of) == expected >= 12
    why = inside("why", item["id"], cwd=case).stdout
    assert f"type reversal are {expected} rows of the" in " ".join(why.split())
