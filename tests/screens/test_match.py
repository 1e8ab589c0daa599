"""Keys of two tables against a plain comparison, and names that are nearly equal."""

from __future__ import annotations

import csv
import doctest
import random
import time
from collections import Counter
from datetime import date, timedelta
from decimal import Decimal
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from rapidfuzz import fuzz

import sabueso.stats.alike as likeness
from conftest import inside, inside_json, populated, screened
from sabueso.screens import find_screen
from sabueso.screens.match.view import MatchView

PEOPLE = [f"E{i:03d}" for i in range(40)]


def test_examples():
    assert doctest.testmod(likeness).failed == 0


@given(st.text(max_size=30))
def test_normalised_is_settled(text):
    once = likeness.normalised(text)
    assert likeness.normalised(once) == once
    assert likeness.normalised(f" {text.upper()}-") in (once, likeness.normalised(text.upper()))


@given(
    st.lists(st.text("abcdeáS. ", min_size=3, max_size=14), min_size=1, max_size=12),
    st.integers(60, 100),
)
def test_alike_names_against_all_pairs(names, threshold):
    found = {(i, k): score for i, k, score in likeness.alike(names, names, threshold)}
    plain = [" ".join(likeness.words(name)) for name in names]
    for i, one in enumerate(plain):
        for k, other in enumerate(plain):
            score = fuzz.ratio(one, other)
            share = {w[:3] for w in one.split()} & {w[:3] for w in other.split()}
            if one and share and score >= threshold:
                assert found[i, k] == pytest.approx(score)
            else:
                assert (i, k) not in found


def test_many_names_are_not_all_compared():
    rng = random.Random(4)
    words = [
        "".join(rng.choice("abcdefghijklmnop") for _ in range(rng.randint(5, 9)))
        for _ in range(3000)
    ]
    names = [" ".join(rng.sample(words, 3)) for _ in range(6000)]
    twice = [name[:-1] + "x" for name in names[:50]]
    began = time.monotonic()
    found = {i for i, k, _ in likeness.alike(twice, names, 90) if i == k}
    assert found == set(range(50)) and time.monotonic() - began < 60


@pytest.fixture(scope="module")
def case(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Staff with days of work, pay, suppliers; two who were paid without a day, one account shared."""
    folder = tmp_path_factory.mktemp("match")

    def write(name: str, head: list[str], rows: list[list[str]]) -> None:
        with (folder / f"{name}.csv").open("w", newline="", encoding="utf-8") as handle:
            csv.writer(handle).writerows([head, *rows])

    rng = random.Random(9)
    accounts = ["".join(rng.choice("0123456789") for _ in range(20)) for _ in range(140)]
    write(
        "staff",
        ["id", "name", "iban"],
        [[p, f"Person {p}", f"ES{accounts[i]}"] for i, p in enumerate(PEOPLE)],
    )
    firms = [
        [f"S{i:03d}", f"Firm {i:03d} {'SL' if i % 2 else 'SA'}", f"ES{accounts[40 + i]}"]
        for i in range(100)
    ]
    spaced = " ".join(f"ES{accounts[7]}"[i : i + 4] for i in range(0, 22, 4))
    firms[30][2] = spaced.lower()  # an employee's, written otherwise
    firms[60][1], firms[61][1], firms[61][2] = (
        "Águilas del Sur S.L.",
        "Aguilas del Sur, S.A.",
        firms[60][2],
    )
    write("suppliers", ["id", "name", "iban"], firms)
    months = [f"2025-{m:02d}" for m in range(1, 7)]
    gone = {("E005", m) for m in months[:4]} | {("E019", "2025-06")}
    write("days", ["employee", "date"], [
        [p, f"{m}-{d:02d}"] for p in PEOPLE for m in months for d in (3, 14) if (p, m) not in gone
    ])  # fmt: skip
    write(
        "pay",
        ["employee", "date", "amount"],
        [[p, f"{m}-28", f"{1500 + 10 * i}.00"] for i, p in enumerate(PEOPLE) for m in months],
    )
    inside("open", "case", cwd=folder)
    for name in ("staff", "suppliers", "days", "pay"):
        inside("intake", f"../{name}.csv", "--as", name, cwd=folder / "case")
    plan = folder / "case" / "case.toml"
    text = plan.read_text()
    for name in ("days", "pay"):
        text = text.replace(
            f"[tables.{name}]\n", f'[tables.{name}]\nlinks = {{employee = "staff.id"}}\n'
        )
    plan.write_text(text)
    return folder / "case"


def test_matches_are_proposed_where_links_speak_for_them(case):
    found = inside_json("survey", "--propose", cwd=case)
    names = {each["name"] for each in (found if isinstance(found, list) else found["screens"])}
    assert {
        "employee of pay without days", "iban of staff among suppliers too", "iban of suppliers twice",
    } <= names  # fmt: skip


def test_paid_without_a_day_of_work(case):
    arguments = ("try", "match", "pay", "--other", "days", "--on", "employee", "--when", "month")
    found = inside_json(*arguments, cwd=case)
    assert [(f["subject"], f["periods"], f["amount"]) for f in found["flags"]] == [
        ({"employee": "E005"}, ["2025-01", "2025-02", "2025-03", "2025-04"], "6200.00"),
        ({"employee": "E019"}, ["2025-06"], "1690.00"),
    ]
    (group,) = found["groups"]
    for side in (group["left"], group["right"]):
        assert side["matched"] + side["absent"] == side["keys"]
        assert side["matched_rows"] + side["absent_rows"] == side["rows"]
    assert float(group["left"]["matched_amount"]) + float(group["left"]["absent_amount"]) == float(
        group["left"]["amount"]
    )
    inside(*arguments, "--keep", "idle", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    items = inside_json("queue", "--screen", "idle", cwd=case)
    assert [len(inside_json("dig", each["id"], cwd=case)["rows"]) for each in items] == [4, 1]
    inside("paper", cwd=case)
    inside("redo", cwd=case)


def test_one_account_on_two_masters_and_twice_on_one(case):
    shared = ("try", "match", "suppliers", "--other", "staff", "--on", "iban", "--find", "present")
    assert inside_json(*shared, cwd=case)["flag_count"] == 0
    (flag,) = inside_json(*shared, "--keys", "normalised", cwd=case)["flags"]
    assert flag["partners"][0]["id"] == "E007" and flag["differs"] == ["accents, case or marks"]
    twice = ("try", "match", "suppliers", "--other", "suppliers", "--find", "present")
    found = inside_json(*twice, "--on", "iban", "--keys", "normalised", cwd=case)
    assert [f["rows"] for f in found["flags"]] == [2] and found["kind"] == "cluster"
    # By other columns, or of other rows, they are two sides of one table, and each side is told.
    apart = inside_json(*twice, "--on", "iban", "--other-where", "id > 'S050'", cwd=case)
    assert apart["kind"] == "entity" and apart["groups"][0]["right"]["keys"] == 48
    crossed = inside_json(*twice[:-1], "absent", "--on", "name", "--other-on", "iban", cwd=case)
    assert crossed["flag_count"] == crossed["groups"][0]["left"]["keys"] == 100
    alike = inside_json(*twice, "--on", "name", "--keys", "alike", "--threshold", "97", cwd=case)
    assert {"S060", "S061"} in [set(f["ids"]) for f in alike["flags"]]
    assert "alike" in {c["code"] for c in alike["cautions"]}
    inside(*twice, "--on", "iban", "--keys", "normalised", "--keep", "one account", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    (item,) = inside_json("queue", "--screen", "one account", cwd=case)
    assert {r["id"] for r in inside_json("dig", item["id"], cwd=case)["rows"]} == {"S060", "S061"}


def test_a_column_of_each_rows_own_is_proposed_whatever_stands_for_nothing_in_it(tmp_path):
    """One row in four states no account: the two that share one are met all the same."""
    accounts = [f"ES{7 * 10**18 + i * 7919:020d}" if i % 4 else ("n/a", "-", "00000000000")[i % 3] for i in range(200)]  # fmt: skip
    accounts[9] = accounts[10]
    lines = [f"S{i:03d},Firm {i},{account}" for i, account in enumerate(accounts)]
    (tmp_path / "suppliers.csv").write_text("\n".join(["id,name,iban", *lines]) + "\n")
    inside("open", ".", cwd=tmp_path)
    inside("intake", "suppliers.csv", "--as", "suppliers", cwd=tmp_path)
    (screen,) = inside_json("survey", "--propose", "--keep", cwd=tmp_path)["screens"]
    assert (screen["test"], screen["settings"]["find"], screen["flagged"]) == (
        "match",
        "present",
        1,
    )


def test_a_key_written_in_two_ways_leads_to_all_its_rows(tmp_path):
    rows = ["ES12 3456,100", "ES12 3456,200", "es123456,50", "es123456,25", "ES77,10", "-,11", "-,12", "n/a,13", "N/A,14"]  # fmt: skip
    lines = [f"P{i},2025-01-0{i},{row}.00" for i, row in enumerate(rows, start=1)]
    (tmp_path / "pay.csv").write_text("\n".join(["id,date,iban,amount", *lines]) + "\n")
    inside("open", ".", cwd=tmp_path)
    inside("intake", "pay.csv", "--as", "pay", cwd=tmp_path)
    asked = ("try", "match", "pay", "--other", "pay", "--on", "iban", "--find", "present", "--keys")
    text = inside(*asked, "normalised", "--keep", "one account", cwd=tmp_path).stdout
    assert "with a key that states nothing 4" in text and "flagged 1 of 3 keys" in text
    inside("screen", cwd=tmp_path)
    (item,) = inside_json("queue", cwd=tmp_path)
    assert item["amount"] == "375.00"
    dug = inside_json("dig", item["id"], "--rows", cwd=tmp_path)
    assert [row["id"] for row in dug["rows"]] == ["P2", "P1", "P3", "P4"]
    said = " ".join(inside("why", item["id"], cwd=tmp_path).stdout.split())
    assert "iban ES12 3456 has 2 rows of 300.00, and es123456 2 rows of 75.00, unlike in" in said
    assert item["label"] == "ES12 3456 ~ es123456"
    plain = inside(*asked, "exact", cwd=tmp_path).stdout
    assert "flagged 2 of 3 keys" in plain
    # Of another table: what stands for nothing is among no keys, and absent like any other.
    inside("intake", "pay.csv", "--as", "again", cwd=tmp_path)
    asked = ("try", "match", "pay", "--other", "again", "--on", "iban")
    assert inside_json(*asked, "--find", "present", cwd=tmp_path)["flag_count"] == 3
    assert inside_json(*asked, "--other-where", "amount > 40", cwd=tmp_path)["flag_count"] == 4


def test_what_does_not_suit_is_said(case):
    def refused(*arguments: str) -> str:
        return inside("try", "match", "pay", *arguments, cwd=case, code=2).stderr

    assert "there is no table 'dayz'" in refused("--other", "dayz", "--on", "employee")
    assert "as many columns" in refused(
        "--other", "days", "--on", "employee", "--other-on", "employee,date"
    )
    assert "one column, of names" in refused(
        "--other", "days", "--on", "employee,date", "--keys", "alike"
    )
    none = inside_json(
        "try",
        "match",
        "pay",
        "--other",
        "staff",
        "--on",
        "employee",
        "--other-on",
        "name",
        cwd=case,
    )
    assert "mostly_absent" in {c["code"] for c in none["cautions"]}


def _yard(seed):
    """Random orders, receipts and invoices, and what is over among them by a plain look."""
    rng = np.random.default_rng(seed)
    orders, receipts, invoices, over = [], [], [], {}
    for k in range(60):
        key, price = f"O{k:02d}", int(rng.integers(100, 9000))
        ordered = [int(rng.integers(1, 40)) for _ in range(rng.integers(0, 3))]
        came = [int(rng.integers(1, 40)) for _ in range(rng.integers(0, 3))]
        billed = [(int(rng.integers(1, 40)), price + int(rng.choice([0, 0, 0, 7]))) for _ in range(rng.integers(0, 3))]  # fmt: skip
        orders += [(key, q, price, q * price) for q in ordered]
        receipts += [(key, q) for q in came]
        invoices += [(key, q, p, q * p) for q, p in billed]
        if not billed:
            continue
        quantity, amount = sum(q for q, _ in billed), sum(q * p for q, p in billed)
        names = set()
        if quantity > sum(ordered):
            names.add("over_ordered")
        if quantity > sum(came):
            names.add("over_received")
        if ordered and Fraction(amount, quantity) > price:
            names.add("over_price")
        if names:
            own = price if ordered else Fraction(amount, quantity)
            due = min(sum(ordered), sum(came))
            beyond = (quantity - due) * own if names & {"over_ordered", "over_received"} else 0
            dearer = amount - price * quantity if "over_price" in names else 0
            over[key] = names, round(Fraction(beyond + dearer))
    return orders, receipts, invoices, over


@pytest.mark.parametrize(("seed", "priced"), [(0, False), (1, True), (2, False), (3, True)])
def test_invoices_beside_orders_and_receipts_by_a_plain_look(tmp_path, seed, priced):
    """Of orders the amount is told, or the price alone."""
    orders, receipts, invoices, over = _yard(seed)

    def cents(n):
        return f"{n // 100}.{n % 100:02d}"

    def write(name, header, rows):
        (tmp_path / name).write_text(
            "\n".join([header, *(",".join(map(str, r)) for r in rows)]) + "\n"
        )

    head = ["id", "order", "quantity", "price", "amount"][: 4 if priced else 5]
    rows = [(f"A{i}", k, q, cents(p), cents(a)) for i, (k, q, p, a) in enumerate(orders)]
    write("orders.csv", ",".join(head), [row[: len(head)] for row in rows])
    # Receipts count in hundredths: another scale of the same quantity.
    write("receipts.csv", "id,po,quantity", [(f"B{i}", k, f"{q}.00") for i, (k, q) in enumerate(receipts)])  # fmt: skip
    write("bills.csv", "id,order,quantity,price,amount", [(f"C{i}", k, q, cents(p), cents(a)) for i, (k, q, p, a) in enumerate(invoices)])  # fmt: skip
    inside("open", "case", cwd=tmp_path)
    for name in ("orders", "receipts", "bills"):
        inside("intake", f"../{name}.csv", "--as", name, cwd=tmp_path / "case")
    command = ["try", "match", "bills", "--other", "orders", "--receipts", "receipts", "--on", "order", "--receipts-on", "po"]  # fmt: skip
    found = inside_json(*command, cwd=tmp_path / "case")
    flags = {f["subject"]["order"]: f for f in found["flags"]}
    assert {k: set(f["over"]) for k, f in flags.items()} == {k: names for k, (names, _) in over.items()}  # fmt: skip
    for key, (_, excess) in over.items():
        assert Decimal(flags[key]["amount"]) * 100 == excess
    (group,) = found["groups"]
    billed = {k for k, *_ in invoices}
    assert group["three_way"]["keys"] == len(billed)
    assert group["three_way"]["without_order"] == len(billed - {k for k, *_ in orders})
    assert group["three_way"]["without_receipt"] == len(billed - {k for k, *_ in receipts})
    assert Decimal(group["three_way"]["excess"]) * 100 == sum(e for _, e in over.values())
    # A tolerance takes out what is over by less, and all else stays.
    wide = inside_json(*command, "--quantity-tolerance", "50%", "--price-tolerance", "10%", cwd=tmp_path / "case")  # fmt: skip
    assert {f["subject"]["order"] for f in wide["flags"]} <= set(flags)
    assert all("over_price" not in f["over"] for f in wide["flags"] if f["ordered_price"] and f["price"] <= 1.1 * f["ordered_price"])  # fmt: skip
    text = inside(*command, cwd=tmp_path / "case").stdout
    assert "over the receipt" in text
    assert "ordered" in text


@pytest.mark.parametrize(
    ("given", "words"),
    [
        (["--receipts", "nothing"], "there is no table"),
        (["--receipts", "staff"], "names no quantity"),
        (["--price-tolerance", "2%"], "go with receipts alone"),
        (["--receipts", "receipts", "--quantity-tolerance", "much"], "a share such as 2%"),
        (["--receipts", "receipts", "--keys", "alike"], "the keys as they are"),
    ],
)  # fmt: skip
def test_what_three_tables_do_not_tell_is_one_sentence(marisma, given, words):
    said = inside("try", "match", "invoices", "--other", "orders", "--on", "pedido", *given, cwd=marisma, code=2)  # fmt: skip
    assert words in said.stderr


def test_what_the_other_table_has_instead_is_told(tmp_path):
    """Two keys together: an account other than the master's, and somebody whom the master lacks."""
    pay = [
        {"id": f"P{i}", "who": f"S{i % 9}", "iban": f"ES{i % 9:09}", "amount": Decimal(100 + i)}
        for i in range(90)
    ]
    pay[40] |= {"iban": "ES999999999"}
    pay[50] |= {"who": "S77"}
    master = [{"who": f"S{i}", "iban": f"ES{i:09}"} for i in range(9)]
    with populated(tmp_path, {"pay": pay, "master": master}, id="id", amount="amount") as people:
        found = screened(people, "match", other="master", on=["who", "iban"])
    told = {f["subject"]["who"]: f["instead"] for f in found["flags"]}
    assert told == {"S4": ["ES000000004"], "S77": []}
    view = MatchView(find_screen("match").recorded(found))
    reasons = {f["subject"]["who"]: view.reason(f) for f in found["flags"]}
    assert reasons["S4"].endswith("is absent among master, which has ES000000004 for S4.")
    assert reasons["S77"].endswith("is absent among master, which has no who S77.")


def test_nobody_is_absent_before_the_first_row_of_the_other_table(tmp_path):
    """Bills of the month after the last delivery are of it, and nobody has a delivery then."""
    bills = [
        {"id": f"B{m}-{i}", "who": f"C{i}", "day": date(2024, m, 9), "amount": Decimal(100 + i)}
        for m in range(1, 9)
        for i in range(6)
    ]
    came = [
        {"who": f"C{i}", "day": date(2024, m, 2)}
        for m in (2, 3, 4, 6, 7)
        for i in range(6)
        if (m, i) != (3, 5)
    ]
    roles = {"id": "id", "amount": "amount", "date": "day"}
    with populated(tmp_path, {"bills": bills, "came": came}, **roles) as people:
        found = screened(people, "match", other="came", on=["who"], when="month")
    assert {f["subject"]["who"]: f["periods"] for f in found["flags"]} == {
        **{f"C{i}": ["2024-05"] for i in range(5)},
        "C5": ["2024-03", "2024-05"],
    }
    (caution,) = (c for c in found["cautions"] if c["code"] == "beyond_its_rows")
    assert caution["keys"] == 12  # January and August


@pytest.mark.long
def test_claims_that_no_policy_covers_are_proposed_and_told(tmp_path):
    """Policies have gaps between them and one has no end; what lies in none is told with its day, and what lies in
    one with its span."""
    rng = random.Random(2)
    clients = [[f"C{i:03}", f"Client {i}"] for i in range(60)]
    policies, claims = [], []
    for who, _ in clients:
        first = date(2022, 1, 1) + timedelta(days=rng.randrange(60))
        for year in range(2):
            last = first + timedelta(days=364)
            policies.append([f"PL{len(policies)}", who, first, "" if who == "C007" and year else last, "300.00"])  # fmt: skip
            claims += [
                [f"CL{len(claims) + n}", who, first + timedelta(days=rng.randrange(365)), f"{rng.randint(10, 900)}.50"]
                for n in range(4)
            ]  # fmt: skip
            first = last + timedelta(days=60)
    claims += [[f"CL{len(claims) + n}", f"C0{20 + n}", date(2021, 11, 5), "77.00"] for n in range(3)]  # fmt: skip
    claims.append([f"CL{len(claims)}", "C007", date(2029, 1, 1), "50.00"])
    files = {
        "clients": (["client", "name"], clients),
        "policies": (["policy", "client", "valid_from", "valid_to", "premium"], policies),
        "claims": (["claim", "client", "loss_date", "amount"], claims),
    }
    (tmp_path / "in").mkdir()
    for name, (head, rows) in files.items():
        with (tmp_path / "in" / f"{name}.csv").open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows([head, *rows])
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    proposed = inside_json("intake", "../in", "--yes", cwd=case)["screens"]
    name = "loss_date of claims outside policies"
    (found,) = (s for s in proposed if s["name"] == name)
    assert (found["flagged"], found["because"]) == (
        3,
        "3 of 484 rows lie in no such span of their client",
    )
    inside("screen", name, cwd=case)
    (first, *_) = inside_json("queue", "--screen", name, cwd=case)
    said = " ".join(inside("why", first["id"], cwd=case).stdout.split())
    assert "has 1 row of 77.00 on 2021-11-05, which lies in no span from valid_from to valid_to in policies." in said  # fmt: skip
    within = ["try", "match", "claims", "--other", "policies", "--on", "client", "--find", "present", "--during"]  # fmt: skip
    assert "2029-01-01" in inside(*within, "valid_from,valid_to", "--where", "amount = 50", cwd=case).stdout  # fmt: skip
    inside(*within, "valid_from,valid_to", "--where", "amount = 50", "--keep", "of one", cwd=case)
    inside("screen", "of one", cwd=case)
    (open_one,) = inside_json("queue", "--screen", "of one", cwd=case)
    said = " ".join(inside("why", open_one["id"], cwd=case).stdout.split())
    since = max(row[2] for row in policies if row[1] == "C007")
    assert f"on 2029-01-01, which lies in what policies has from {since} without an end." in said
    undated = [*within[:2], "clients", *within[3:]]
    assert "--during needs a date in the role date" in inside(*undated, "valid_from,valid_to", cwd=case, code=2).stderr  # fmt: skip
    for columns, words in (
        ("valid_from,valid_to,valid_from", "during names two columns"),
        ("valid_from,premium", "holds number; expected days"),
        ("valid_from,valid_until", "has no column 'valid_until'"),
    ):
        assert words in inside(*within, columns, cwd=case, code=2).stderr
    assert "goes with none of when" in inside(*within, "valid_from,valid_to", "--when", "day", cwd=case, code=2).stderr  # fmt: skip


@pytest.mark.parametrize("how", [["--when", "day"], ["--during", "first,last"]])
def test_days_with_a_time_lead_to_their_rows(tmp_path, how):
    moments = [f"2025-01-{1 + i // 4:02} {5 + i % 4 * 5:02}:07:00" for i in range(40)]
    rows = [f"S{i},E{i % 3},{moment},{i}.50" for i, moment in enumerate(moments)]
    (tmp_path / "swipes.csv").write_text("id,emp,at,amount\n" + "\n".join(rows) + "\n")
    (tmp_path / "leave.csv").write_text(
        "emp,first,last,date\nE1,2025-01-03,2025-01-05,2025-01-03\n"
    )
    inside("open", "c", cwd=tmp_path)
    for name in ("swipes", "leave"):
        inside("intake", f"../{name}.csv", "--as", name, cwd=tmp_path / "c")
    inside("try", "match", "swipes", "--other", "leave", "--on", "emp", *how, "--find", "present", "--keep", "z", cwd=tmp_path / "c")  # fmt: skip
    inside("screen", cwd=tmp_path / "c")
    (item,) = inside_json("queue", cwd=tmp_path / "c")
    last = "2025-01-03" if "--when" in how else "2025-01-05"
    expected = sum(m[:10] <= last and m[:10] >= "2025-01-03" and i % 3 == 1 for i, m in enumerate(moments))  # fmt: skip
    found = inside_json("dig", item["id"], "--rows", cwd=tmp_path / "c")
    assert len(found["rows"]) == expected > 0
    inside("try", "match", "swipes", "--other", "swipes", "--on", "emp", "--when", "day", "--find", "present", "--keep", "twice", cwd=tmp_path / "c")  # fmt: skip
    inside("screen", cwd=tmp_path / "c")
    twice = inside_json("queue", "--screen", "twice", cwd=tmp_path / "c")
    opened = [inside_json("dig", item["id"], "--rows", cwd=tmp_path / "c")["rows"] for item in twice]  # fmt: skip
    by_day = Counter((i % 3, moment[:10]) for i, moment in enumerate(moments))
    assert sorted(map(len, opened)) == sorted(n for n in by_day.values() if n > 1) != []


def test_rows_without_a_day_are_in_no_period(tmp_path):
    """Two rows that nobody dated are not on one day."""
    rows = [{"who": f"C{i % 5}", "day": date(2024, 1, 1 + i)} for i in range(20)]
    rows += [{"who": "C1", "day": None}, {"who": "C1", "day": None}, {"who": "C2", "day": date(2024, 1, 3)}]  # fmt: skip
    there = [{"who": "C1", "day": None}, {"who": "C3", "day": date(2024, 1, 4)}]
    with populated(tmp_path, {"came": rows, "seen": there}, date="day") as came:
        twice = screened(came, "match", other="came", on=["who"], when="day", find="present")
        seen = screened(came, "match", other="seen", on=["who"], when="month", find="present")
    assert [f["subject"] for f in twice["flags"]] == [{"who": "C2", "day": "2024-01-03"}]
    assert twice["population"]["left_out"]["missing_date"] == 2
    assert [f["subject"] for f in seen["flags"]] == [{"who": "C3"}]
