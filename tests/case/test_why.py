"""What drives an exception: each figure equals an independent count on the same rows."""

from __future__ import annotations

import csv
import io
import random
from collections import Counter, defaultdict
from decimal import Decimal

import numpy as np
import pytest
import scipy.stats

from conftest import inside as sabueso
from conftest import inside_json as as_json


@pytest.fixture(scope="module")
def payments(marisma):
    """The sample payments as the program gives them, and the queue by label."""
    listed = sabueso(
        "dig", "payments", "--rows", "--limit", "50000", "--format", "csv", cwd=marisma
    )
    rows = list(csv.DictReader(io.StringIO(listed.stdout)))
    for row in rows:
        row["importe"] = Decimal(row["importe"])
        row["month"] = row["fecha"][:7]
    return rows


@pytest.fixture(scope="module")
def ids(marisma):
    items = as_json("queue", "--top", "200", cwd=marisma)
    items = items["exceptions"] if isinstance(items, dict) else items
    return {i["label"]: i["id"] for i in items}


def _called(ids, beginning):
    """The exception whose label begins so."""
    return next(identity for label, identity in ids.items() if label.startswith(beginning))


@pytest.mark.long
def test_who_is_behind_a_digit_class(marisma, payments, ids):
    found = as_json("why", _called(ids, "first-two 48 · importe · usuario rvc"), cwd=marisma)
    every = [r for r in payments if r["importe"] > 0 and r["cuenta"] != "62910"]
    inside = [
        r
        for r in every
        if str(int(r["importe"] * 100)).ljust(2, "0")[:2] == "48" and r["usuario"] == "rvc"
    ]
    assert (found["population_rows"], found["rows"]) == (len(every), len(inside))
    assert Decimal(found["amount"]) == sum(r["importe"] for r in inside)
    drivers = {d["column"]: d["values"] for d in found["drivers"]}
    assert len({v["value"] for v in drivers["proveedor"][:3]}) == 3
    for column, values in drivers.items():
        of_all, of_class = (Counter(r[column] for r in side) for side in (every, inside))
        assert {v["value"]: v["rows"] for v in values} == of_class
        family = len(of_all)
        for v in values[:5]:
            tail = scipy.stats.hypergeom.sf(
                v["rows"] - 1, len(every), of_all[v["value"]], len(inside)
            )
            assert v["p"] == pytest.approx(tail, rel=1e-6, abs=1e-300)
            assert v["p"] <= v["p_adjusted"] <= min(1, v["p"] * family * (1 + 1e-9) + 1e-300)
            amount = sum(r["importe"] for r in inside if r[column] == v["value"])
            assert Decimal(v["amount"]) == amount
            assert v["expected"] == pytest.approx(of_all[v["value"]] * len(inside) / len(every))
    reasons = {r["column"]: r["reason"] for r in found["not_considered"]}
    assert reasons["pago"] == "names each row" and reasons["importe"] == "the measure itself"
    assert reasons["usuario"] == "the subject itself"
    assert "factura" in drivers or "every row" in reasons["factura"]
    largest = sorted((r["importe"] for r in inside), reverse=True)[:3]
    assert Decimal(found["without_largest"]) == Decimal(found["amount"]) - sum(largest)


def test_the_cause_is_named_in_the_first_sentences(marisma, ids):
    """Kinds 1, 2 and 12 of the answers, and what the largest payment of all is among its own."""
    first = {
        name: as_json("why", i, cwd=marisma)["sentences"]
        for name, i in ids.items()
        if "first" in name
    }
    # The preparer is in the subject, the suppliers in the sentences.
    split = " ".join(first["first-two 49 · importe · usuario rvc"][:2])
    assert split.count("S1") >= 3 and "adjusted p < 0.0001" in split
    assert "S1021" in " ".join(first["first 6 · importe · usuario mbo"][:2])
    with (marisma / "inbox/answers.csv").open(encoding="utf-8") as file:
        mistyped = {r["key"] for r in csv.DictReader(file) if r["kind"] == "12"}
    named = [i for name, i in ids.items() if name.split(" · ")[0] in mistyped]
    assert named
    for identity in named:
        found = as_json("why", identity, cwd=marisma)
        assert found["sentences"][0].startswith("Unusual among its own kind")
    assert any(
        "Divided by 100" in s for i in named for s in as_json("why", i, cwd=marisma)["sentences"]
    )


def test_what_a_test_of_entities_cells_or_clusters_marked_is_said_first(marisma, ids):
    """Kinds 3, 5, 6, 7 of the answers: the reason stands in the flag, and nowhere in the columns."""

    def said(beginning):
        return as_json("why", _called(ids, beginning), cwd=marisma)["sentences"][0]

    for hour in ("02", "03"):
        sentence = said(f"preparado hnt × hour {hour}")
        assert sentence.startswith(f"Recorded at {hour}:00: ") and "would be expected" in sentence
    revived = said("proveedor S1573")
    assert "ack from silence of" in revived and "2025-" in revived
    assert "S1573 has 1 row, and the same stands in staff: E145." in said("cuenta_bancaria ES81")
    ghost = said("empleado E075")
    assert "in 2025-01, 2025-02" in ghost and ghost.endswith("absent among roster then.")
    twice = next(label for label in ids if label.endswith("P-027559"))
    assert "same day, same document: P-027559, P-027560; beyond one of them 586.71." in said(twice)


def test_what_lies_around_it(marisma, payments, ids):
    entity = next(i for name, i in ids.items() if name.startswith("empleado E020"))
    found = as_json("why", entity, cwd=marisma)
    assert found["among"]["measure"] == "avg(plus_mar)" and found["among"]["higher"] == 0
    listed = sabueso("dig", "payroll", "--by", "empleado", "--measures", "avg(plus_mar)", "--where", "categoria <> 'tierra'", "--format", "csv",
                     cwd=marisma)  # fmt: skip
    means = [
        float(r["avg(plus_mar)"])
        for r in csv.DictReader(io.StringIO(listed.stdout))
        if r["empleado"] != "total"
    ]
    assert found["among"]["n"] == len(means)
    assert found["among"]["median"] == pytest.approx(float(np.median(means)))
    assert sum(p["rows"] for p in found["history"]) == found["rows"]
    row = next(i for name, i in ids.items() if name.startswith("P-018781"))
    found = as_json("why", row, cwd=marisma)
    (mine,) = [r for r in payments if r["pago"] == "P-018781"]
    others = {
        i: name.split(" · ")[0] for name, i in ids.items() if name.startswith("P-") and i != row
    }
    by_id = {r["pago"]: r for r in payments}
    for each in found["beside"]:
        assert each["value"] == mine[each["column"]]
        same = {i for i, pago in others.items() if by_id[pago][each["column"]] == each["value"]}
        assert set(each["exceptions"]) == same
    peer = found["peers"][0]
    assert sum(peer["bars"]) == peer["n"] and peer["bars"][peer["at"]] >= 1
    sizes = [
        float(r["importe"])
        for r in payments
        if r["proveedor"] == mine["proveedor"] and r["importe"] > 0
    ]
    assert peer["quartiles"] == pytest.approx(list(np.quantile(sizes, [0.25, 0.5, 0.75])))


def journal(marisma, account):
    """The lines of an account, as the program gives them."""
    listed = sabueso(
        "dig", "journal", "--where", f"cuenta = '{account}'", "--rows", "--limit", "50000", "--format",
        "csv", cwd=marisma,
    )  # fmt: skip
    return list(csv.DictReader(io.StringIO(listed.stdout)))


def test_what_moved_an_account(marisma, ids):
    label = next(name for name in ids if name.startswith("62250 · 2025"))
    found = as_json("why", ids[label], cwd=marisma)
    lines = journal(marisma, "62250")
    sums = defaultdict(lambda: {"2024": Decimal(0), "2025": Decimal(0)})
    for row in lines:
        sums[row["preparado"]][row["fecha"][:4]] += Decimal(row["amount"])
    change = sum(v["2025"] - v["2024"] for v in sums.values())
    (driver,) = [d for d in found["drivers"] if d["column"] == "preparado"]
    assert driver["values"][0]["value"] == "rvc" and driver["values"][0]["part"] > 0.75
    for v in driver["values"]:
        mine = sums[v["value"]]
        assert (Decimal(v["base"]), Decimal(v["amount"])) == (mine["2024"], mine["2025"])
        assert v["part"] == pytest.approx(float((mine["2025"] - mine["2024"]) / change))
    assert sum(Decimal(v["change"]) for v in driver["values"]) == change


def test_price_and_quantity_of_fuel(marisma, ids):
    label = next(name for name in ids if name.startswith("62840 · 2025"))
    found = as_json("why", ids[label], cwd=marisma)
    lines = journal(marisma, "62840")
    amount, litres = Counter(), Counter()
    for row in lines:
        amount[row["fecha"][:4]] += Decimal(row["amount"])
        litres[row["fecha"][:4]] += int(row["unidades"] or 0)
    volume = (litres["2025"] - litres["2024"]) * amount["2024"] / litres["2024"]
    parts = {k: Decimal(v) for k, v in found["rate_volume"].items()}
    assert parts["volume"] == pytest.approx(volume, abs=Decimal("0.01"))
    assert parts["volume"] + parts["rate"] == amount["2025"] - amount["2024"]
    assert parts["volume"] < 0 < parts["rate"], "the rate moved, not the volume"


def test_a_row_among_its_peers(marisma, payments, ids):
    label = next(name for name in ids if name.startswith("P-015934"))
    found = as_json("why", ids[label], cwd=marisma)
    (row,) = [r for r in payments if r["pago"] == "P-015934"]
    for peer in found["peers"]:
        mine = [
            r["importe"]
            for r in payments
            if r[peer["column"]] == row[peer["column"]] and r["importe"] > 0
        ]
        assert peer["n"] == len(mine)
        assert peer["median"] == pytest.approx(float(np.median([float(v) for v in mine])))
        assert peer["larger"] == sum(v > row["importe"] for v in mine)
        assert peer["share"] == pytest.approx(float(row["importe"] / sum(mine)))
    assert [p["column"] for p in found["peers"]] == ["proveedor", "cuenta", "usuario"]


def test_views_and_mistakes(marisma, tmp_path, ids):
    one = _called(ids, "first-two 49 · importe")
    text = sabueso("why", one, "--columns", "proveedor", cwd=marisma).stdout
    assert "S1311" in text and "times as many" in text and "concepto" not in text.split("next:")[0]
    sabueso("why", one, "--out", str(tmp_path / "w.xlsx"), cwd=marisma)
    assert sabueso("why", one, "--format", "csv", cwd=marisma).stdout.startswith(
        "column,value,rows"
    )
    for name in ("first 6 · importe", "P-018781", "62250 · 2025"):
        identity = next(i for label, i in ids.items() if label.startswith(name))
        sabueso("why", identity, "--out", str(tmp_path / "w.svg"), cwd=marisma)
        assert (tmp_path / "w.svg").read_bytes().count(b"<path") > 20
    entity = next(i for name, i in ids.items() if name.startswith("empleado E020"))
    assert "plus_mar" in sabueso("why", entity, cwd=marisma).stdout
    for arguments, message in (
        (["why", "PAY-00000"], "no exception"),
        (["why", one, "--columns", "usurio"], "did you mean 'usuario'"),
    ):
        done = sabueso(*arguments, cwd=marisma, code=2)
        assert message in done.stderr and done.stderr.count("\n") == 1


@pytest.fixture(scope="module")
def overlapping(tmp_path_factory):
    """Payments of one supplier that are exceptions, and the supplier that is one too."""
    case = tmp_path_factory.mktemp("overlapping")
    sabueso("open", ".", cwd=case)
    made = random.Random(3)
    lines = [
        f"E{p:02d}-{i},2024-{i + 1:02d}-05,S{p:02d},{made.gauss(500, 80):.2f}"
        for p in range(30)
        for i in range(12)
    ]
    lines += [f"X{i},2024-0{i + 1}-06,S07,{9000 + i}.00" for i in range(4)]
    (case / "p.csv").write_text("id,date,supplier,amount\n" + "\n".join(lines) + "\n")
    sabueso("intake", "p.csv", "--as", "pay", cwd=case)
    sabueso("try", "range", "pay", "--greatest", "5000", "--keep", "largest", cwd=case)
    sabueso("try", "distance", "pay", "--per", "supplier", "--measures", "sum(amount),min(amount)",
            "--keep", "suppliers", cwd=case)  # fmt: skip
    sabueso("screen", cwd=case)
    return case


def test_every_other_exception_on_the_same_party_is_counted(overlapping):
    """A row of a supplier that is an exception itself counts for both."""
    items = as_json("queue", "--top", "99", cwd=overlapping)
    rows = {i["id"] for i in items if i["kind"] == "row" and i["label"].startswith("X")}
    (entity,) = [i["id"] for i in items if i["kind"] == "entity" and "S07" in i["label"]]
    assert len(rows) == 4
    for identity in (*rows, entity):
        found = as_json("why", identity, cwd=overlapping)
        (beside,) = [b for b in found["beside"] if b["role"] == "party"]
        assert set(beside["exceptions"]) == (rows | {entity}) - {identity}


def test_a_value_that_makes_most_of_a_change_is_named_beside_a_larger_one_against_it(tmp_path):
    sabueso("open", ".", cwd=tmp_path)
    sums = {"a": (300, 100), "b": (100, 260), "c": (100, 240)}
    lines = [
        f"{year}-0{month}-05,62000,{who},{amount / 4:.2f}"
        for who, pair in sums.items()
        for year, amount in zip((2024, 2025), pair, strict=True)
        for month in (1, 2, 3, 4)
    ]
    lines += [
        f"{y}-0{m}-05,63000,{w},50.00" for y in (2024, 2025) for m in (1, 2, 3) for w in "abc"
    ]
    (tmp_path / "l.csv").write_text("date,account,preparer,amount\n" + "\n".join(lines) + "\n")
    sabueso("intake", "l.csv", "--as", "led", cwd=tmp_path)
    sabueso("try", "periods", "led", "--per", "account", "--base", "2024", "--current", "2025",
            "--amount-limit", "50", "--keep", "years", cwd=tmp_path)  # fmt: skip
    sabueso("screen", cwd=tmp_path)
    (item,) = as_json("queue", cwd=tmp_path)
    found = as_json("why", item["id"], cwd=tmp_path)
    assert found["drivers"][0]["values"][0]["value"] == "a"
    (first, *_) = found["sentences"]
    assert first.startswith("preparer b makes 160.0% of the change: 100.00 before, 260.00 after")
    assert "without it the change is −60.00 and not +100.00" in first
    assert not any("spread" in sentence for sentence in found["sentences"])
