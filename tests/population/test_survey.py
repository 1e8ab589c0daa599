"""The survey of the sample case, against the files themselves read without this program."""

from __future__ import annotations

import csv
import io
import re
from decimal import Decimal
from itertools import pairwise

import numpy as np
import pytest
import scipy.stats

from conftest import inside as sabueso
from conftest import inside_json as as_json
from sabueso.case.folder import Case
from sabueso.population import links as links_module
from sabueso.population.pairs import correlations


@pytest.fixture(scope="module")
def masters(marisma):
    with (marisma / "inbox/suppliers.csv").open(encoding="utf-8", newline="") as file:
        return {row["id"]: row for row in csv.DictReader(file)}


def test_tables_and_the_links_between_them(marisma):
    found = as_json("survey", cwd=marisma)
    sizes = {t["table"]: t["rows"] for t in found["tables"]}
    assert sizes["payments"] == 35_996 and sizes["payroll"] == 4_320
    links = {(x["column"], x["other"]): x for x in found["links"]}
    assert links["payments.proveedor", "suppliers.id"]["share"] == 1
    bill = links["invoices.pedido", "orders.pedido"]
    assert bill["found"] == bill["rows"] == sizes["invoices"]
    # Two numbers of payments are there twice: what is not unique is no key to be linked with.
    assert ("bank.end to end", "payments.pago") not in links
    text = sabueso("survey", cwd=marisma).stdout
    assert "journal: asiento 104,102 rows have 52,051 distinct ids" in text


def test_columns_and_which_tests_suit(marisma, masters):
    found = as_json("survey", "payments", cwd=marisma)
    columns = {c["column"]: c for c in found["columns"]}
    assert columns["proveedor"]["distinct"] == len(masters)
    assert columns["cuenta"]["top"][0]["rows"] >= columns["cuenta"]["top"][1]["rows"]
    assert {t["test"]: t["verdict"] for t in found["tests"]}["digits"] == "yes"
    # The price list of the harbour is no population for leading digits, and the survey says why.
    prices = as_json("survey", "payments", "--where", "cuenta = '62910'", cwd=marisma)
    digits = next(t for t in prices["tests"] if t["test"] == "digits")
    assert digits["verdict"] == "no" and "%" in digits["reason"]
    assert prices["columns"][0]["rows"] == 1500
    assert {d["code"] for c in prices["columns"] for d in c["doubts"]} == {"constant"}


def test_a_measure_equals_numpy(marisma):
    found = as_json("survey", "payroll", "neto", "--bins", "12", cwd=marisma)[0]
    done = sabueso("dig", "payroll", "--rows", "--limit", "5000", "--format", "csv", cwd=marisma)
    x = np.array([float(r["neto"]) for r in csv.DictReader(done.stdout.splitlines())])
    group = found["groups"][0]
    assert group["n"] == len(x) == 4320
    assert Decimal(group["total"]) == Decimal(str(round(x.sum(), 2)))
    assert group["trimmed"] == pytest.approx(scipy.stats.trim_mean(x, 0.05))
    assert group["skewness"] == pytest.approx(scipy.stats.skew(x, bias=False), rel=1e-6)
    assert group["percentiles"]["95"] == pytest.approx(np.percentile(x, 95))
    assert Decimal(found["highest"][0]["amount"]) == Decimal(str(x.max()))
    assert sum(found["histogram"]["counts"]) == len(x)
    grouped = as_json("survey", "payroll", "neto", "--by", "categoria", cwd=marisma)[0]
    assert sum(g["n"] for g in grouped["groups"]) == len(x)
    assert sum(Decimal(g["total"]) for g in grouped["groups"]) == Decimal(group["total"])


def test_pairs_equal_numpy(marisma):
    found = as_json("survey", "payroll", "--pairs", cwd=marisma)
    done = sabueso("dig", "payroll", "--rows", "--limit", "5000", "--format", "csv", cwd=marisma)
    rows = list(csv.DictReader(done.stdout.splitlines()))
    assert len(found) == 10
    for pair in found:
        x, y = ([float(r[pair[side]]) for r in rows] for side in ("first", "second"))
        assert pair["r"] == pytest.approx(np.corrcoef(x, y)[0, 1], abs=1e-9)


def test_views_and_figures(marisma, tmp_path):
    stem = sabueso("survey", "payroll", "salario_base", "--stem", cwd=marisma).stdout
    assert " ╎ " in stem and " read " in stem and "beyond the digits: " in stem
    for options in ([], ["--by", "categoria"]):
        out = tmp_path / f"x{len(options)}.png"
        sabueso("survey", "payroll", "neto", *options, "--out", str(out), cwd=marisma)
        assert out.stat().st_size > 8000
    text = sabueso("survey", "payments", "importe", cwd=marisma).stdout
    assert max(map(len, text.split("next:")[0].splitlines())) <= 100


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["paymnts"], "did you mean 'payments'"),
        (["payments", "concepto"], "holds text"),
        (["payments", "importe", "--bins", "0"], "1 to 10,000"),
        (["payments", "--out", "x.png"], "name its column"),
        (["suppliers", "--pairs"], "a pair needs two"),
    ],
)
def test_mistakes_get_one_sentence(marisma, arguments, message):
    done = sabueso("survey", *arguments, cwd=marisma, code=2)
    assert message in done.stderr and done.stderr.count("\n") == 1


def test_links_are_usable_in_expressions(marisma, tmp_path):
    """Totals by the linked table's names are the totals by key, named from the file itself."""
    with (marisma / "inbox/accounts.csv").open(encoding="utf-8", newline="") as file:
        groups = {row["cuenta"]: row["nombre_grupo"] for row in csv.DictReader(file)}
    by_key = as_json("dig", "payments", "--by", "cuenta", "--limit", "99", cwd=marisma)["total"]
    expected: dict[str, Decimal] = {}
    for node in by_key["groups"]:
        name = groups[node["key"][0]]
        expected[name] = expected.get(name, Decimal(0)) + Decimal(node["value"])
    for link in ("cuenta", "account", "accounts"):
        found = as_json("dig", "payments", "--by", f"{link}.nombre_grupo", cwd=marisma)["total"]
        assert {n["key"][0]: Decimal(n["value"]) for n in found["groups"]} == expected
    chosen = next(iter(expected))
    where = f"accounts.nombre_grupo = '{chosen}' and importe > 0"
    tried = as_json("try", "zscore", "payments", "--where", where, cwd=marisma)
    negative = as_json(
        "dig",
        "payments",
        "--where",
        f"accounts.nombre_grupo = '{chosen}' and importe <= 0",
        cwd=marisma,
    )
    total = Decimal(tried["population"]["used_total"]) + Decimal(negative["total"]["value"])
    assert total == expected[chosen]
    for wrong, message in (
        ("proveedor.nome", "did you mean 'nombre'"),
        ("usuario.x", "has no link 'usuario'"),
        ("main.payments.importe", "has no link 'main'"),
    ):
        done = sabueso("dig", "payments", "--by", wrong, cwd=marisma, code=2)
        assert message in done.stderr, done.stderr


def test_a_journal_out_of_balance_and_months_without_rows(tmp_path):
    sabueso("open", "c", cwd=tmp_path)
    lines = ["asiento,fecha,cuenta,debe,haber"]
    for i in range(40):
        day = f"2024-{(1, 2, 5)[i % 3]:02d}-10"
        credit = "9.00" if i == 7 else "10.00"
        lines += [f"A{i},{day},600,10.00,", f"A{i},{day},400,,{credit}"]
    (tmp_path / "j.csv").write_text("\n".join(lines) + "\n")
    sabueso("intake", "../j.csv", "--as", "j", cwd=tmp_path / "c")
    found = as_json("survey", "j", cwd=tmp_path / "c")
    assert {d["code"]: d["text"] for d in found["doubts"]} == {
        "months_without_rows": "no row is dated in 2024-03, 2024-04",
        "unbalanced_entries": "1 entry does not balance, by 1.00 in all",
    }


def test_who_or_what_is_not_stated_is_a_doubt_of_whoever_it_is(tmp_path):
    lines = [f"{i},2024-01-{1 + i},{party},{who},{10 + i}.50,{paid}" for i, (party, who, paid) in enumerate(
        [("Norte", "ana", "no"), ("n/a", "ana", "no"), ("n/a", "-", "yes"), ("Sur", "-", "no"), ("Sur", "leo", "no")])]  # fmt: skip
    (tmp_path / "x.csv").write_text(
        "\n".join(["id,date,supplier,preparer,amount,paid", *lines]) + "\n"
    )
    sabueso("open", ".", cwd=tmp_path)
    sabueso("intake", "x.csv", "--as", "x", cwd=tmp_path)
    doubts = {
        c["column"]: d["text"]
        for c in as_json("survey", "x", cwd=tmp_path)["columns"]
        for d in c["doubts"]
    }
    said = "what stands for no value is among the most frequent: {} on 2 rows"
    assert doubts == {"supplier": said.format("'n/a'"), "preparer": said.format("'-'")}


def test_links_are_kept_when_asked(tmp_path):
    sabueso("open", "c", cwd=tmp_path)
    case = tmp_path / "c"
    (tmp_path / "p.csv").write_text(
        "id,supplier,amount\n" + "".join(f"P{i},S{i % 9},{i}.50\n" for i in range(60))
    )
    (tmp_path / "s.csv").write_text("code,name\n" + "".join(f"S{i},N{i % 4}\n" for i in range(12)))
    for name in ("p", "s"):
        sabueso("intake", f"../{name}.csv", "--as", f"{name}s", cwd=case)
    text = sabueso("survey", "--keep-links", cwd=case).stdout
    assert "written to case.toml: ps.supplier" in text
    found = as_json("dig", "ps", "--by", "supplier.name", cwd=case)["total"]
    assert {n["key"][0] for n in found["groups"]} == {"N0", "N1", "N2", "N3"}
    assert sum(n["rows"] for n in found["groups"]) == 60


@pytest.mark.long
def test_surveys_as_data(marisma, tmp_path):
    """Every view as a data file and as CSV: the figures are those of the JSON."""
    from python_calamine import CalamineWorkbook

    def cells(*arguments):
        text = sabueso("survey", *arguments, "--format", "csv", cwd=marisma).stdout
        return list(csv.DictReader(io.StringIO(text)))

    tables = {t["table"]: t for t in as_json("survey", cwd=marisma)["tables"]}
    for row in cells():
        known = tables[row["table"]]
        assert (int(row["rows"]), row["total"]) == (known["rows"], known["total"] or "")
    target = tmp_path / "survey.xlsx"
    sabueso("survey", "--out", str(target), cwd=marisma)
    assert CalamineWorkbook.from_path(target).sheet_names == ["tables", "doubts", "links"]
    groups = as_json("survey", "payroll", "neto", "--by", "categoria", cwd=marisma)[0]["groups"]
    for row, group in zip(cells("payroll", "neto", "--by", "categoria"), groups, strict=True):
        assert row["group categoria"] == group["group"]["categoria"]
        assert float(row["mean"]) == group["mean"] and row["total"] == group["total"]
        assert float(row["p95"]) == group["percentiles"]["95"]
    pairs = {
        (c["first"], c["second"]): c["r"]
        for c in as_json("survey", "payroll", "--pairs", cwd=marisma)
    }
    assert {(c["first"], c["second"]): float(c["r"]) for c in cells("payroll", "--pairs")} == pairs
    target = tmp_path / "pairs.svg"
    sabueso("survey", "payroll", "--pairs", "--out", str(target), cwd=marisma)
    assert target.read_bytes().count(b"<path") > len(pairs)


def test_what_a_condition_left_out_and_the_rules(marisma):
    found = as_json("survey", "payments", "--where", "cuenta = '62910'", cwd=marisma)
    account = found["population"]
    assert account["used"] == 1500 and account["left_out"] == {
        "outside_where": account["rows"] - 1500
    }
    rules = {rule["rule"]: rule for rule in found["rules"]}
    assert rules["sequence"]["missing"] == 12 and rules["exists"]["left"] == 0
    damaged = (marisma / "quarantine/payments/pagos-2025-07.csv").read_text("utf-8-sig")
    records = [row["record"] for row in csv.DictReader(io.StringIO(damaged))]
    # The numbers that are missing are those of the rows that could not be read, and three more (kind 16).
    unread = {r.replace(" | ", ";").split(";")[0].strip('"') for r in records}
    (more,) = set(rules["sequence"]["gaps"]) - unread
    assert unread <= set(rules["sequence"]["gaps"])
    with (marisma / "inbox/answers.csv").open(encoding="utf-8") as file:
        assert more in {r["key"] for r in csv.DictReader(file) if r["kind"] == "16"}
    text = sabueso("survey", "payments", "--where", "cuenta = '62910'", cwd=marisma).stdout
    assert "used 289,096.90 + left out" in text and "pago in sequence" in text


def test_pairs_by_groups_equal_an_independent_calculation(populate):
    rng = np.random.default_rng(5)
    rows = [
        {"who": "ab"[i % 2], "x": Decimal(int(x)), "y": Decimal(int(y)), "flat": Decimal(7)}
        for i, (x, y) in enumerate(rng.integers(0, 30, (120, 2)))
    ]
    found = correlations(populate(rows), ["x", "y", "flat"], ["who"])
    assert len(found) == 6
    tested = [c for c in found if c.r is not None]
    for c in tested:
        own = [row for row in rows if row["who"] == c.group["who"]]
        x, y = ([float(row[name]) for row in own] for name in (c.first, c.second))
        r, p = scipy.stats.pearsonr(x, y)
        assert (c.n, c.r, c.p) == (60, pytest.approx(r, abs=1e-12), pytest.approx(p, abs=1e-10))
        assert c.rho == pytest.approx(scipy.stats.spearmanr(x, y).statistic, abs=1e-12)
    assert len(tested) == 2
    smaller, larger = sorted(tested, key=lambda c: c.p)
    assert smaller.p_adjusted == pytest.approx(min(2 * smaller.p, 1))
    assert larger.p_adjusted >= smaller.p_adjusted


def test_pairs_as_text_and_data(marisma, tmp_path):
    text = sabueso("survey", "payroll", "--pairs", "--by", "categoria", cwd=marisma).stdout
    assert "pairs tested, p adjusted" in text
    sabueso("survey", "payroll", "--pairs", "--by", "categoria", "--out", str(tmp_path / "p.csv"), cwd=marisma)  # fmt: skip
    with (tmp_path / "p.csv").open(encoding="utf-8-sig") as file:
        assert len(list(csv.DictReader(file))) == 40
    drawn = sabueso("survey", "payroll", "--pairs", "--by", "categoria", "--out", str(tmp_path / "p.png"), cwd=marisma, code=2)  # fmt: skip
    assert "leave --by out" in drawn.stderr


@pytest.mark.parametrize("edges", ["0,100,500.50,100000", "-50.5,0"])
def test_bins_between_given_edges_hold_what_a_plain_count_does(marisma, edges, tmp_path):
    found = as_json("survey", "payments", "importe", f"--edges={edges}", cwd=marisma)[0][
        "histogram"
    ]
    done = sabueso("dig", "payments", "--rows", "--limit", "50000", "--format", "csv", cwd=marisma)
    amounts = [Decimal(r["importe"]) for r in csv.DictReader(done.stdout.splitlines())]
    at = [Decimal(e) for e in edges.split(",")]
    last = len(at) - 2
    assert found["counts"] == [
        sum(a <= x < b or (i == last and x == b) for x in amounts)
        for i, (a, b) in enumerate(pairwise(at))
    ]
    assert (found["below"], found["above"]) == (sum(x < at[0] for x in amounts), sum(x > at[-1] for x in amounts))  # fmt: skip
    out = tmp_path / "h.svg"
    text = sabueso("survey", "payments", "importe", f"--edges={edges}", "--out", str(out), cwd=marisma).stdout  # fmt: skip
    assert b"<path" in out.read_bytes()
    assert "below" in text
    for wrong in ("5,3", "7", "5,x"):
        sabueso("survey", "payments", "importe", "--edges", wrong, cwd=marisma, code=2)


def test_links_are_the_same_whether_texts_are_held_or_asked_for(marisma, monkeypatch):
    """Columns of more different texts than are held are compared by a query."""
    with Case(marisma) as case:
        tables = ("payments", "suppliers", "invoices", "accounts", "staff")
        known = [name for name in tables if name in case.plan.tables]
        with case.populations(*known) as opened:
            populations = [opened(name) for name in known]
            held = links_module.links(populations)
            monkeypatch.setattr(links_module, "MOST_HELD", 40)
            asked = links_module.links(populations)
    assert held == asked
    assert {link.column for link in held} >= {"payments.proveedor", "payments.cuenta"}
    for link in held:
        assert 0 < link.found <= link.rows


def test_small_numbers_are_no_keys_of_rows_that_are_counted(tmp_path):
    """Unless a name says that they are: then the link is kept."""
    lines = "".join(f"{1 + i},2024-01-{1 + i:02d},{i}.50\n" for i in range(25))
    (tmp_path / "loan.csv").write_text(f"No.,Due Date,Instalment\n{lines}")
    suppliers = "".join(f"{1 + i},Name {i}\n" for i in range(40))
    (tmp_path / "suppliers.csv").write_text(f"id,Supplier name\n{suppliers}")
    paid = "".join(f"P{i},2024-02-{1 + i % 28:02d},{1 + i % 40},{i}.25\n" for i in range(90))
    (tmp_path / "payments.csv").write_text(f"Pay,Date,Supplier ID,Amount\n{paid}")
    sabueso("open", "c", cwd=tmp_path)
    for name in ("loan", "suppliers", "payments"):
        sabueso("intake", f"../{name}.csv", "--as", name, cwd=tmp_path / "c")
    found = sabueso("survey", "--keep-links", cwd=tmp_path / "c").stdout
    (told,) = re.findall("chance (.*?): such numbers are found", " ".join(found.split()))
    assert "loan.No. → suppliers.id" in told and "payments.Supplier ID → suppliers.id" not in told
    plan = (tmp_path / "c" / "case.toml").read_text()
    assert '"Supplier ID" = "suppliers.id"' in plan and '"No."' not in plan.partition("links")[2]


@pytest.mark.parametrize(
    ("column", "values", "other", "keys", "kept"),
    [
        # Some hundreds, and nearly all numbers of three figures; whoever is called so is one of them.
        ("Vendor Site", range(150, 210), "checks.num", range(100, 900), False),
        ("Vendor", range(150, 210), "suppliers.num", range(100, 900), True),
        ("Approved By", range(150, 210), "staff.num", range(100, 900), True),
        ("Dept", range(150, 210), "departments.num", range(100, 900), True),
        # One number in every row, among others of some years.
        ("Company", [4_100], "orders.num", range(4_000, 4_200), False),
        ("Buyer Code", range(4_000, 4_100), "orders.num", range(4_000, 4_200), True),
        # A code of two values, beside others with its letter.
        ("Rate", ["T0", "T1"], "transfers.id", [f"T{n}" for n in range(300)], False),
        (
            "Bought of",
            [f"S{n}" for n in range(9)],
            "sellers.code",
            [f"S{n}" for n in range(12)],
            True,
        ),
    ],
)
def test_numbers_among_a_run_of_others_are_by_chance(tmp_path, column, values, other, keys, kept):
    other, _, key = other.partition(".")
    (tmp_path / "a.csv").write_text(f"Id,{column},Amount\n" + "".join(
        f"P{i},{values[i % len(values)]},{i}.25\n" for i in range(240)
    ))  # fmt: skip
    listed = "".join(f"{n},Name {n}\n" for n in keys)
    (tmp_path / f"{other}.csv").write_text(f"{key},Called\n{listed}")
    sabueso("open", "c", cwd=tmp_path)
    for name in ("a", other):
        sabueso("intake", f"../{name}.csv", "--as", name, cwd=tmp_path / "c")
    sabueso("survey", "--keep-links", cwd=tmp_path / "c")
    assert (f'"{other}.{key}"' in (tmp_path / "c" / "case.toml").read_text()) == kept
