"""Kinds by whoever recorded them: figures against SciPy's, even tables, and a teller who takes back what others do not."""

from __future__ import annotations

import csv
import random
import tomllib
from collections import Counter
from datetime import date, timedelta

import numpy as np
import pytest
from scipy import stats

from conftest import inside, inside_json, screened
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
