"""The queue's order: kinds take turns, a family of tests counts once, and each place is explained."""

from __future__ import annotations

from decimal import Decimal

import numpy as np
import pytest

from conftest import inside, inside_json, screened


@pytest.fixture
def case(tmp_path):
    """Payments in which one row is large twice over, another also of an odd supplier, and two repeat."""
    rng = np.random.default_rng(6)
    rows = [
        f"P{i:04d},2025-{1 + i % 12:02d}-{1 + i % 28:02d},S{i % 12:02d},{100 + rng.normal(0, 8):.2f}"
        for i in range(400)
    ]
    rows += ["X1,2025-05-05,S03,9000.00", "X2,2025-05-06,S04,8000.00", "X3,2025-06-07,S05,4567.89",
             "X4,2025-06-09,S05,4567.89"]  # fmt: skip
    (tmp_path / "pay.csv").write_text("id,date,supplier,amount\n" + "\n".join(rows) + "\n")
    inside("open", "case", cwd=tmp_path)
    inside("intake", "../pay.csv", "--as", "pay", cwd=tmp_path / "case")
    return tmp_path / "case"


def test_kinds_take_turns_and_a_family_counts_once(case):
    for command in (
        ["zscore", "pay", "--method", "modified", "--keep", "z"], ["fences", "pay", "--keep", "fences"],
        ["range", "pay", "--greatest", "7500", "--keep", "limit"], ["repeats", "pay", "--keep", "twice"],
        ["distance", "pay", "--per", "supplier", "--measures", "sum(amount),max(amount)", "--fit", "classical",
         "--alpha", "0.2", "--keep", "far"],
    ):  # fmt: skip
        inside("try", *command, cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    items = inside_json("queue", "--top", "500", cwd=case)
    kinds = [item["kind"] for item in items]
    # The first of each kind come before the second of any.
    assert kinds[:3] == ["entity", "cluster", "row"]
    # After that rows, of which two families speak, have two turns where the others have one.
    often = {"entity": 1, "cluster": 1, "row": 2}
    seen = dict.fromkeys(often, 0)
    for kind in kinds:
        left = [k for k in often if seen[k] < kinds.count(k)]
        assert seen[kind] / often[kind] == min(seen[k] / often[k] for k in left)
        seen[kind] += 1
    rows = [item for item in items if item["kind"] == "row"]
    # Two limits on one measure are one family; a declared range is another.
    assert {r["subject"]["id"] for r in rows[:2]} == {"X1", "X2"}
    assert "of 2 families of tests marked it" in rows[0]["because"]
    for row in rows:
        own = {m["screen"] for m in row["marks"]}
        if own == {"z", "fences"}:
            assert "2 screens of one family marked it" in row["because"]
        elif len(own) == 1:
            assert "1 screen marked it" in row["because"]
    assert f"of {len(rows):,} rows" in rows[0]["because"]
    assert [item["place"] for item in items] == list(range(1, len(items) + 1))


def test_a_class_that_somebody_carries_is_his(populate):
    rng = np.random.default_rng(3)
    rows = [
        {
            "id": f"R{i}",
            "who": f"u{i % 9}",
            "amount": Decimal(f"{10 ** (2 + 3 * rng.random()):.2f}"),
        }
        for i in range(6000)
    ]
    rows += [
        {"id": f"F{i}", "who": "u4", "amount": Decimal(f"{4800 + 199 * rng.random():.2f}")}
        for i in range(160)
    ]
    found = screened(
        populate(rows, amount="amount", id="id"), "digits", digits="first-two", by_whom="who"
    )
    named = {flag["subject"]["first-two"]: flag for flag in found["flags"]}
    assert {"48", "49"} <= set(named)
    for digits in ("48", "49"):
        flag = named[digits]
        own = [
            row
            for row in rows
            if row["who"] == "u4" and f"{row['amount']:.2f}".lstrip("0.")[:2] == digits
        ]
        assert flag["who"] == {"who": "u4"} and flag["count"] == len(own)
        assert Decimal(flag["amount"]) == sum(row["amount"] for row in own)
        item = next(c for c in found["groups"][0]["classes"] if c["digits"] == digits)
        assert item["count"] > flag["count"]
    # Where everybody has the excess, it is nobody's.
    rows = rows[:6000] + [
        {"id": f"F{i}", "who": f"u{i % 9}", "amount": Decimal(f"{4800 + 99 * rng.random():.2f}")}
        for i in range(250)
    ]
    found = screened(
        populate(rows, amount="amount", id="id"), "digits", digits="first-two", by_whom="who"
    )
    assert all("who" not in flag for flag in found["flags"]) and found["flag_count"]


def test_a_change_against_a_mean_leads_to_its_rows(case):
    arguments = ("periods", "pay", "--per", "supplier", "--current", "2025-06", "--mean-of", "3")
    inside("try", *arguments, "--percent-limit", "0.1", "--keep", "moved", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    (item, *_) = inside_json("queue", "--screen", "moved", cwd=case)
    rows = inside_json("dig", item["id"], "--rows", cwd=case)["rows"]
    assert rows and {row["date"][:7] for row in rows} == {"2025-06"}
    assert item["id"] in inside("why", item["id"], cwd=case).stdout


def test_evidence_is_added_up_for_whoever_is_behind(case):
    for command in (
        ["zscore", "pay", "--method", "modified", "--keep", "z"], ["fences", "pay", "--keep", "fences"],
        ["repeats", "pay", "--keep", "twice"], ["top", "pay", "--share", "1%", "--keep", "top"],
    ):  # fmt: skip
        inside("try", *command, cwd=case)
    inside("screen", cwd=case)
    items = inside_json("queue", "--top", "500", cwd=case)
    family = {"z": "limits", "fences": "limits", "top": "limits", "twice": "repeats"}
    looked_at = {
        s: inside_json("try", test, "pay", *words, cwd=case)["subjects"]
        for s, test, words in (
            ("z", "zscore", ["--method", "modified"]), ("fences", "fences", []), ("top", "top", ["--share", "1%"]),
            ("twice", "repeats", []),
        )
    }  # fmt: skip
    for item in items:
        most = {}
        for mark in item["marks"]:
            # Amounts far off make the rest no normal data: the rank counts, and not p.
            own = max(0.0, np.log2((looked_at[mark["screen"]] + 1) / mark["rank"]))
            name = family[mark["screen"]]
            most[name] = max(most.get(name, 0.0), own)
        assert item["evidence_bits"] == pytest.approx(sum(most.values()), abs=0.01)
    behind = inside_json("queue", "--per", "party", "--top", "99", cwd=case)
    plain = {}
    for item in items:
        rows = inside_json("dig", item["id"], "--rows", "--limit", "99", cwd=case)["rows"]
        for supplier in {r["supplier"] for r in rows}:
            plain.setdefault(supplier, []).append(item)
    assert {b["value"] for b in behind} == set(plain)
    for one in behind:
        own = plain[one["value"]]
        assert sorted(one["exceptions"]) == sorted(i["id"] for i in own)
        assert one["evidence_bits"] == pytest.approx(sum(i["evidence_bits"] for i in own), abs=0.05)
        assert Decimal(one["amount"]) == sum(abs(Decimal(i["amount"])) for i in own)
    bits = [b["evidence_bits"] for b in behind]
    assert bits == sorted(bits, reverse=True)
    assert "of many, or of none 0" in inside("queue", "--per", "party", cwd=case).stdout
    said = inside("queue", "--per", "preparer", cwd=case, code=2).stderr
    assert "no table of these exceptions names a column in that role" in said


def test_other_orders_and_kinds(case):
    inside("try", "top", "pay", "--share", "1%", "--keep", "top", cwd=case)
    inside("screen", cwd=case)
    inside("try", "repeats", "pay", "--keep", "twice", cwd=case)
    inside("screen", cwd=case)
    every = inside_json("queue", "--top", "99", cwd=case)

    def order(*words):
        return [i["id"] for i in inside_json("queue", "--top", "99", *words, cwd=case)]

    amounts = {i["id"]: abs(Decimal(i["amount"])) for i in every}
    by_amount = [amounts[i] for i in order("--sort", "amount")]
    assert by_amount == sorted(by_amount, reverse=True)
    clusters = [i["id"] for i in every if i["kind"] == "cluster"]
    assert order("--kind", "cluster") == clusters and clusters
    # What was known first comes first by age, whatever its turn.
    assert set(order("--sort", "age")[-len(clusters) :]) == set(clusters)
    bits = {i["id"]: i["evidence_bits"] for i in every}
    by_bits = [bits[i] for i in order("--sort", "bits")]
    assert by_bits == sorted(by_bits, reverse=True)
    assert "there is row, entity" in inside("queue", "--kind", "people", cwd=case, code=2).stderr


@pytest.mark.long
def test_the_queue_of_one_party_preparer_or_account(marisma):
    """By their own rows: an exception is of somebody when a few values, his among them, are all it has."""
    every = inside_json("queue", "--top", "500", cwd=marisma)
    for role, column, value in (("party", "proveedor", "S1036"), ("preparer", "preparado", "hnt")):  # fmt: skip
        found = {
            i["id"] for i in inside_json("queue", "--top", "500", f"--{role}", value, cwd=marisma)
        }
        assert found
        for item in every:
            if item["id"] in found:
                values = {
                    str(v) for row in inside_json("dig", item["id"], "--rows", "--limit", "3000", cwd=marisma)["rows"]
                    for name, v in row.items() if name in (column, "usuario")
                }  # fmt: skip
                assert value in values
            elif item["subject"].get(column) == value:
                pytest.fail(f"{item['id']} is of {value}")
    assert inside_json("queue", "--party", "nobody", cwd=marisma) == []
    said = inside("queue", "--table", "loan", "--party", "x", cwd=marisma, code=2)
    assert "names a column in that role" in said.stderr


def test_the_queue_and_whoever_is_behind_it_are_drawn(case):
    inside("try", "repeats", "pay", "--keep", "twice", cwd=case)
    inside("try", "range", "pay", "--greatest", "7500", "--keep", "limit", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    for name, options in (("queue", []), ("behind", ["--per", "party"])):
        inside("queue", *options, "--out", f"{name}.svg", cwd=case)
        assert "<svg" in (case / f"{name}.svg").read_text()
    nothing = inside("queue", "--status", "referred", "--out", "none.png", cwd=case, code=2)
    assert "there is nothing to draw" in nothing.stderr


def test_the_order_that_is_kept_is_the_order(case):
    """However the file that keeps it was damaged, or what was screened since."""
    inside("try", "repeats", "pay", "--keep", "twice", cwd=case)
    inside("try", "fences", "pay", "--keep", "fences", cwd=case)
    inside("screen", "--as", "KL", cwd=case)

    def ids(*options):
        return [item["id"] for item in inside_json("queue", "--top", "500", *options, cwd=case)]

    first, kept = ids(), case / ".order.json"
    whole = kept.read_text()
    assert ids("--verify") == first
    for damaged in ("", whole[: len(whole) // 2], whole.replace(first[0], first[-1]), "[]\n{}"):
        kept.write_text(damaged)
        assert ids() == first and kept.read_text() == whole
    inside("try", "zscore", "pay", "--method", "modified", "--keep", "z", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    assert kept.read_text() != whole and ids() == ids("--verify")
    own = [
        item["id"] for item in inside_json("queue", "--screen", "twice", "--top", "500", cwd=case)
    ]
    marked = inside_json("queue", "--top", "500", cwd=case)
    assert own == [i["id"] for i in marked if any(m["screen"] == "twice" for m in i["marks"])]


def test_a_payee_paid_once_is_that_payment_and_stands_there_once(case):
    text = (case.parent / "pay.csv").read_text()
    (case.parent / "paid.csv").write_text(text + "X5,2025-07-01,ONCE,8800.00\n")
    inside("intake", "../paid.csv", "--as", "paid", cwd=case)
    inside("try", "payees", "paid", "--top", "0.02", "--keep", "over time", cwd=case)
    inside("try", "fences", "paid", "--keep", "fences", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    items = inside_json("queue", "--top", "500", cwd=case)
    (once,) = [item for item in items if "X5" in item["label"] or "ONCE" in item["label"]]
    assert (once["kind"], once["subject"]) == ("row", {"id": "X5"})
    assert {mark["screen"] for mark in once["marks"]} == {"over time", "fences"}
    assert "of 2 families of tests marked it" in once["because"]
    # What each test says of it stands there, whichever of them comes first.
    assert (
        "Paid once, and much; 1 row of 8,800.00 in all, 2025-07-01."
        in inside("why", once["id"], cwd=case).stdout
    )
