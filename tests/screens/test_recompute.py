"""Recomputation: instalments against closed forms and solved backwards; products, balances, totals."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from conftest import inside, inside_json, populated, screened
from sabueso.base.errors import UserError
from sabueso.population.table import Linked
from sabueso.screens.match.proposed import proposed_matches
from sabueso.screens.recompute.proposed import proposed_recomputations
from sabueso.screens.recompute.sums import relations
from sabueso.stats.annuity import (
    Terms,
    due_dates,
    level_payment,
    nearest_due,
    schedule,
    sign_changes,
    solve,
)

FIRST = date(2024, 1, 31)
CENT = Decimal("0.01")


def _plain(principal, rate, periods, per_year=12, balloon=0.0, begin=False):
    """The textbook formula, in floats."""
    i = rate / per_year
    if i == 0:
        return (principal - balloon) / periods
    paid = (principal - balloon * (1 + i) ** -periods) * i / (1 - (1 + i) ** -periods)
    return paid / (1 + i) if begin else paid


@given(
    st.integers(1_000, 10**7), st.floats(0.0001, 0.6), st.integers(1, 480),
    st.sampled_from([12, 4, 2, 1]), st.floats(0, 0.5), st.booleans(),
)  # fmt: skip
def test_instalments_are_those_of_the_closed_form_and_give_their_terms_back(
    principal, rate, periods, per_year, left, begin
):
    balloon = round(principal * left, 2)
    terms = Terms(
        Decimal(principal), Decimal(str(rate)), periods, None, FIRST, per_year,
        due="begin" if begin else "end", balloon=Decimal(str(balloon)),
    )  # fmt: skip
    payment = level_payment(terms)
    assert float(payment) == pytest.approx(
        _plain(principal, rate, periods, per_year, balloon, begin), rel=1e-10
    )
    back = solve(Terms(**{**vars(terms), "principal": None}), payment)
    assert float(back.principal) == pytest.approx(principal, rel=1e-12)
    # Of so many periods at such a rate the last is told by digits beyond those that are reckoned with.
    if not left and (1 + rate / per_year) ** periods < 1e30:
        assert solve(Terms(**{**vars(terms), "periods": None}), payment).periods == periods
    assume(not (begin and periods == 1))
    found = solve(Terms(**{**vars(terms), "rate": None}), payment).rate
    assert float(found) == pytest.approx(rate, rel=1e-9)


def test_published_annuity_figures():
    """100,000 at 6 % a year in 360 months; 10,000 at 8 % in 4 years; nothing at all; interest in advance."""
    month = Terms(Decimal(100_000), Decimal("0.06"), 360, None, FIRST)
    assert round(level_payment(month), 10) == Decimal("599.5505251528")
    year = Terms(Decimal(10_000), Decimal("0.08"), 4, None, FIRST, per_year=1)
    assert round(level_payment(year), 8) == Decimal("3019.20804454")
    assert level_payment(Terms(Decimal(1200), Decimal(0), 24, None, FIRST)) == 50
    with pytest.raises(ValueError, match="principal and rate are missing"):
        solve(Terms(None, None, 12, None, FIRST), Decimal(10))
    with pytest.raises(ValueError, match="no whole number of periods explains"):
        solve(Terms(Decimal(1200), Decimal(0), None, None, FIRST), Decimal(500))
    with pytest.raises(ValueError, match="do not even repay"):
        solve(Terms(Decimal(1200), None, 12, None, FIRST), Decimal(90))


@pytest.mark.parametrize("count", ["30/360", "actual/365", "actual/360"])
@pytest.mark.parametrize("grace", [0, 3])
def test_a_schedule_repays_what_was_lent(count, grace):
    terms = Terms(
        Decimal(250_000), Decimal("0.047"), 36, None, FIRST, grace=grace, balloon=Decimal(20_000), day_count=count
    )  # fmt: skip
    lines = schedule(terms, CENT)
    assert abs(lines[-1].balance - 20_000) < Decimal("0.40")
    assert sum(x.payment - x.interest for x in lines) == 250_000 - lines[-1].balance
    if grace:
        assert all(x.payment == x.interest and x.balance == 250_000 for x in lines[:3])
    if count == "actual/365":
        assert lines[1].interest < lines[0].interest  # February has fewer days
    assert len({x.payment for x in lines[grace:]}) == 1


def test_dates_and_signs():
    assert due_dates(date(2023, 11, 30), 4, 12)[3] == date(2024, 2, 29)
    assert due_dates(date(2023, 11, 15), 3, 4)[2] == date(2024, 5, 15)
    dues = due_dates(FIRST, 3, 12)
    near = [date(2024, 1, 2), date(2024, 2, 10), date(2024, 4, 2), date(2024, 5, 30)]
    assert nearest_due(near, dues) == [0, 0, 2, None]
    assert sign_changes([Decimal(-1), Decimal(3), Decimal(-1)]) == 2


def _paid(amounts, start=FIRST, off=0):
    dues = due_dates(start, len(amounts), 12)
    return [
        {"id": f"C{k}", "day": day + timedelta(days=off), "amount": amount}
        for k, (day, amount) in enumerate(zip(dues, amounts, strict=True), 1)
    ]


LOAN = {"what": "instalments", "principal": "120000", "rate": "0.05", "periods": 24}


def test_what_differs_is_one_finding_for_each_run(populate):
    right = level_payment(Terms(Decimal(120_000), Decimal("0.05"), 24, None, FIRST)).quantize(CENT)
    amounts = [right] * 24
    amounts[4] += 10
    for k in range(9, 20):
        amounts[k] += Decimal("33.30")
    rows = [r for r in _paid(amounts, off=-2) if r["id"] != "C22"]
    rows.append({"id": "late", "day": date(2026, 3, 1), "amount": Decimal("5.00")})
    people = populate(rows, id="id", date="day", amount="amount")
    found = screened(people, "recompute", **LOAN, first="2024-01-31")
    (group,) = found["groups"]
    assert group["checked"] == 25 and group["differing"] == 14
    assert Decimal(group["difference_total"]) == 10 + 11 * Decimal("33.30") - right + 5
    told = [(f["subject"], f["amount"], len(f["members"])) for f in found["flags"]]
    assert told == [
        ({"instalment": "22", "difference": str(-right)}, str(-right), 0),
        ({"instalment": "10", "difference": "33.30"}, "366.30", 11),
        ({"instalment": "5", "difference": "10.00"}, "10.00", 1),
        ({"instalment": "25", "difference": "5.00"}, "5.00", 1),
    ]
    assert group["schedule"][-1]["cumulated"] == group["difference_total"]


def test_one_missing_term_is_solved_for(populate):
    rows = _paid([Decimal("5264.57")] * 24)
    people = populate(rows, id="id", date="day", amount="amount")
    without = {k: v for k, v in LOAN.items() if k != "rate"}
    (group,) = screened(people, "recompute", **without)["groups"]
    assert group["solved"]["rate"] == pytest.approx(0.05, abs=2e-6) and group["differing"] == 0
    without = {k: v for k, v in LOAN.items() if k != "periods"}
    assert screened(people, "recompute", **without)["groups"][0]["solved"]["periods"] == 24
    with pytest.raises(UserError, match="principal and rate are missing"):
        screened(people, "recompute", what="instalments", periods=24)
    for wrong, said in (
        ({"first": "31.1.24"}, "expected a date"), ({"per_year": 5}, "1, 2, 3, 4, 6 or 12"),
        ({"rate": "42"}, "as a share"), ({"grace": 24}, "24 instalments in all"), ({"terms": "none"}, "no facts of that name"),
    ):  # fmt: skip
        with pytest.raises(UserError, match=said):
            screened(people, "recompute", **{**LOAN, **wrong})
    with pytest.raises(UserError, match="is of a loan"):
        screened(people, "recompute", rate="0.05")


@given(
    st.lists(
        st.tuples(st.integers(-50, 50), st.integers(0, 99_999), st.integers(-3, 3)),
        min_size=1,
        max_size=30,
    )
)
def test_products_differ_by_more_than_rounding_makes(populate, lines):
    """Prices known to three decimals: half a thousandth times the quantity, and half a cent."""
    rows = []
    for quantity, price, off in lines:
        exact = Decimal(quantity) * Decimal(price).scaleb(-3)
        rows.append(
            {
                "qty": Decimal(quantity),
                "price": Decimal(price).scaleb(-3),
                "amount": exact.quantize(CENT) + off * CENT,
            }
        )
    people = populate(rows, amount="amount", quantity="qty", price="price")
    found = screened(people, "recompute")
    far = [
        r for r in rows
        if abs(r["amount"] - r["qty"] * r["price"]) > Decimal("0.005") + abs(r["qty"]) * Decimal("0.0005")
    ]  # fmt: skip
    (group,) = found["groups"]
    assert (group["checked"], group["differing"]) == (len(rows), len(far))
    assert Decimal(group["difference_total"]) == sum(
        r["amount"] - r["qty"] * r["price"] for r in far
    )
    own = screened(people, "recompute", expect="qty * price", tolerance="1000")
    assert own["flag_count"] == 0


def test_balances_follow_from_one_another(populate):
    rng = np.random.default_rng(3)
    rows, held = [], {"a": Decimal(0), "b": Decimal(50)}
    for k in range(200):
        who = "ab"[int(rng.integers(0, 2))]
        amount = Decimal(int(rng.integers(-9999, 9999))) / 100
        held[who] += amount
        rows.append(
            {
                "who": who,
                "day": date(2024, 1, 1) + timedelta(days=k // 3),
                "amount": amount,
                "left": held[who],
            }
        )
    clean = populate(rows, date="day", amount="amount")
    asked = {"what": "balance", "balance": "left", "per": "who"}
    assert screened(clean, "recompute", **asked)["flag_count"] == 0
    rows[50]["left"] += 1
    found = screened(populate(rows, date="day", amount="amount"), "recompute", **asked)
    assert [f["difference"] for f in found["flags"]] == ["1.000000", "-1.000000"]
    assert found["groups"][0]["not_checked"] == 2


@pytest.mark.parametrize("newest_first", [False, True])
@pytest.mark.parametrize("less", [False, True])
def test_a_statement_runs_its_own_way_and_is_found(tmp_path, less, newest_first):
    """Money out less money in makes a balance smaller; banks print the newest line first."""
    rng, held, lines = np.random.default_rng(8), Decimal(1000), []
    for k in range(160):
        amount = Decimal(int(rng.integers(1, 99999))) / 100
        out = bool(rng.integers(0, 2))
        held += -amount if out else amount
        sides = ("", amount) if out != less else (amount, "")
        day = date(2024, 1, 1) + timedelta(days=k // 3)
        lines.append(f"{day},text {k},{sides[0]},{sides[1]},{held}")
    taken = lines.pop(77)  # a line that is gone
    rows = lines[::-1] if newest_first else lines
    (tmp_path / "bank.csv").write_text("\n".join(["Date,Text,Debit,Credit,Balance", *rows]) + "\n")
    inside("open", ".", cwd=tmp_path)
    inside("intake", "bank.csv", "--as", "bank", cwd=tmp_path)
    (found,) = [
        s for s in inside_json("survey", "--propose", "--keep", cwd=tmp_path)["screens"]
        if s["test"] == "recompute"
    ]  # fmt: skip
    assert found["settings"] == {"what": "balance", "balance": "Balance"} and found["flagged"] == 1
    told = inside(
        "try", "recompute", "bank", "--what", "balance", "--balance", "Balance", cwd=tmp_path
    ).stdout
    assert ("less the amount" in told) is less and ("the newest first" in told) is newest_first
    flag = inside_json(
        "try", "recompute", "bank", "--what", "balance", "--balance", "Balance", cwd=tmp_path
    )["flags"][0]
    amount = Decimal(taken.split(",")[2] or taken.split(",")[3])
    assert abs(Decimal(flag["difference"])) == amount, "the line after it has what is missing"


def test_what_holds_for_nearly_every_row_is_proposed(tmp_path):
    rng, lines = np.random.default_rng(4), ["Order,Date,Qty,Unit Cost,Net,VAT,Gross,Cost Center"]
    for k in range(400):
        quantity, price = int(rng.integers(1, 60)), Decimal(int(rng.integers(100, 9000))) / 100
        net = quantity * price
        tax = (net * Decimal("0.2")).quantize(CENT)
        gross = net + tax + (7 if k % 100 == 50 else 0)
        lines.append(
            f"O{k},2024-01-{1 + k % 28:02},{quantity},{price},{net},{tax},{gross},{1000 + k % 5}"
        )
    (tmp_path / "orders.csv").write_text("\n".join(lines) + "\n")
    inside("open", ".", cwd=tmp_path)
    roles = inside_json("intake", "orders.csv", "--as", "orders", cwd=tmp_path)["roles"]
    assert (roles["price"], roles["quantity"], roles["amount"]) == ("Unit Cost", "Qty", "Net")
    found = {
        s["name"]: s for s in inside_json("survey", "--propose", "--keep", cwd=tmp_path)["screens"]
        if s["test"] == "recompute"
    }  # fmt: skip
    assert found["Gross of orders is Net and VAT"]["flagged"] == 4
    assert found["Qty times Unit Cost of orders"]["flagged"] == 0
    inside("screen", cwd=tmp_path)
    items = inside_json("queue", "--screen", "Gross of orders is Net and VAT", cwd=tmp_path)
    assert {item["subject"]["Order"] for item in items} == {"O50", "O150", "O250", "O350"}


def test_totals_tie_with_their_parts(tmp_path):
    (tmp_path / "invoices.csv").write_text("invoice,total\nF1,30.00\nF2,7.00\nF4,1.00\n")
    (tmp_path / "lines.csv").write_text(
        "number,invoice,amount\n1,F1,10.00\n2,F1,20.00\n3,F2,6.50\n4,F3,2.00\n"
    )
    inside("open", ".", cwd=tmp_path)
    for name in ("invoices", "lines"):
        inside("intake", f"{name}.csv", "--as", name, cwd=tmp_path)
    asked = ("try", "recompute", "invoices", "--what", "totals", "--by", "invoice", "--equals", "sum(total)",
             "--expect", "sum(amount)", "--other", "lines", "--other-on", "invoice")  # fmt: skip
    found = inside_json(*asked, cwd=tmp_path)
    assert {f["subject"]["invoice"]: f["difference"] for f in found["flags"]} == {
        "F3": "-2.000000", "F4": "1.000000", "F2": "0.500000",
    }  # fmt: skip
    assert found["groups"][0]["checked"] == 4
    both = inside_json(*asked, "--among", "both", cwd=tmp_path)
    assert [f["subject"]["invoice"] for f in both["flags"]] == ["F2"]
    assert both["groups"][0]["checked"] == 2
    assert "nothing differs" in inside(*asked, "--tolerance", "2", cwd=tmp_path).stdout
    said = inside(*asked[:-1], "amount,number", cwd=tmp_path, code=2).stderr
    assert "expected as many" in said
    for key, held in (("amount", "numbers"), ("date '2024-01-01'", "days")):
        said = inside(*asked[:-1], key, cwd=tmp_path, code=2).stderr
        assert f"holds text, and {key} of 'lines', which names the groups there, {held}" in said, (
            said
        )


def test_the_loan_of_the_sample_by_the_terms_of_its_plan(marisma, tmp_path):
    import shutil

    case = tmp_path / "case"
    shutil.copytree(marisma, case, ignore=shutil.ignore_patterns("papers"))
    plan = (case / "case.toml").read_text(encoding="utf-8")
    if "[facts" not in plan:
        plan += "\n[facts.loan]\nprincipal = 1200000\nrate = 0.042\nperiods = 24\n"
        (case / "case.toml").write_text(plan, encoding="utf-8")
    asked = ("try", "recompute", "loan", "--what", "instalments", "--terms", "loan")
    found = inside_json(*asked, cwd=case)
    (flag,) = found["flags"]
    assert (flag["subject"]["instalment"], flag["last"], flag["amount"]) == ("14", 24, "4239.40")
    assert found["groups"][0]["explained"]["rate"] == pytest.approx(0.056869, abs=1e-6)
    inside(*asked, "--keep", "the loan", cwd=case)
    inside(*asked, "--out", "a.png", cwd=case)
    inside("screen", "the loan", cwd=case)
    (item,) = inside_json("queue", "--screen", "the loan", cwd=case)
    assert item["label"] == "from instalment 14 on 385.40 each"
    rows = inside_json("dig", item["id"], "--rows", cwd=case)["rows"]
    assert len(rows) == 11 and {r["importe"] for r in rows} == {"52602.19"}
    (first, *_) = inside_json("why", item["id"], cwd=case)["sentences"]
    assert first == (
        "Instalments 14 to 24, 2025-02-28 to 2025-12-31, are each 52,602.19 where 52,216.79 is due: 385.40, 4,239.40 in "
        "all."
    )


def _proposed_sums(population):
    return [p.settings["on"] for p in proposed_recomputations(population, object()) if "expect" in p.settings]  # fmt: skip


def test_a_sum_that_is_proposed_holds_for_nearly_all_rows(populate):
    """Net and tax are gross, be the tax nothing on some; what is left where something is taken off is never less than
    nothing; and an amount made of debit and credit says nothing of them."""
    whole = [
        {"n": Decimal(i * 137 + 10001).scaleb(-2), "t": Decimal(0 if i % 4 == 0 else i * 29 + 101).scaleb(-2)}
        for i in range(200)
    ]  # fmt: skip
    billed = [{"gross": r["n"] + r["t"], **r} for r in whole]
    assert _proposed_sums(populate(billed, amount="n")) == ["gross"]
    cut = [
        {"before": Decimal(i * 31).scaleb(-2), "amount": Decimal(3000).scaleb(-2), "after": max(Decimal(i * 31 - 3000), Decimal(0)).scaleb(-2)}
        for i in range(1, 200)
    ]  # fmt: skip
    (left,) = proposed_recomputations(populate(cut, amount="amount"), object())
    assert left.settings["expect"] == "greatest(before - amount, 0)"
    sides = [{"debit": r["n"], "credit": r["t"] + 1, "amount": r["n"] - r["t"] - 1} for r in whole]
    assert _proposed_sums(populate(sides, amount="amount", debit="debit", credit="credit")) == []


def test_a_net_pay_is_what_is_left_of_the_gross(populate):
    """Deductions of many kinds, left blank where there are none, one that hardly anybody has and nobody at first; two
    nets that are wrong are what is flagged."""
    rng, rows = np.random.default_rng(5), []
    for i in range(3000):
        base, extra, tax, fund, care = rng.integers(1, 900_000, 5).tolist()
        extra, care = extra * (i % 3 == 0), care * (i % 2 == 0)
        court = 7_777 * (i > 2_500 and i % 40 == 0)
        gross = base + extra
        net = gross - tax - fund - care - court + {90: 90_000, 91: -1}.get(i, 0)
        cents = {"base": base, "extra": extra or None, "gross": gross, "tax": tax, "fund": fund, "care": care or None,
                 "court": court, "net": net, "units": i * 7 + 1}  # fmt: skip
        rows.append(
            {
                "id": f"P{i}",
                **{n: None if v is None else Decimal(v).scaleb(-2) for n, v in cents.items()},
            }
        )
    people = populate(rows, id="id", amount="gross")
    found = {
        p.settings["on"]: p
        for p in proposed_recomputations(people, object())
        if "expect" in p.settings
    }
    assert set(found) == {"gross", "net"}
    assert (
        found["net"].settings["expect"]
        == "gross - tax - fund - coalesce(care, 0) - coalesce(court, 0)"
    )
    assert found["net"].because.startswith("it holds for 2,998 of 3,000 rows")
    flagged = screened(people, "recompute", **found["net"].settings)["flags"]
    assert {f["subject"]["id"] for f in flagged} == {"P90", "P91"}


def _wages(seed=4):
    """Wages of hours at the rate of a list, overtime at half as much again; dues with one decimal; two rates and one net
    are other."""
    rng, rows = np.random.default_rng(seed), []
    staff = [
        {"emp": f"E{i}", "hourly": Decimal(int(rng.integers(1_500, 5_000))).scaleb(-2)}
        for i in range(40)
    ]
    for i in range(400):
        rate = staff[i % 40]["hourly"] + (5 if i in (50, 90) else 0)
        hours, over = (
            Decimal(int(rng.integers(20, 41))),
            Decimal(int(rng.integers(0, 9)) * (i % 3 == 0)),
        )
        gross = (rate * hours).quantize(CENT) + (rate * over * Decimal("1.5")).quantize(CENT)
        tax, dues = (gross / 8).quantize(CENT), Decimal("12.5")
        rows.append(
            {
                "id": f"P{i}",
                "emp": f"E{i % 40}",
                "hours": hours,
                "over": over,
                "rate": rate,
                "gross": gross,
            }
        )
        rows[-1] |= {"tax": tax, "dues": dues, "net": gross - tax - dues + (1 if i == 70 else 0)}
    return staff, rows


def test_wages_are_hours_at_the_rate_of_whoever_worked_them(tmp_path):
    """What differs from the list is one finding for each rate that somebody has not, with all that was paid at it."""
    staff, rows = _wages()
    tables = {"pay": rows, "staff": staff}
    roles = {"id": "id", "amount": "gross", "price": "rate", "party": "emp"}
    with populated(tmp_path, tables, **roles) as pay:
        master = replace(pay.tables["staff"], roles={"price": "hourly"})
        table = replace(pay.table, links={"emp": Linked(master, "emp")})
        pay = replace(pay, table=table, tables={"pay": table, "staff": master})
        found = {p.name: p for p in proposed_recomputations(pay, object())}
        assert set(found) == {
            "net of pay is gross less tax less dues",
            "rate times hours and 1.5 over of pay",
        }
        flagged = [
            [
                f["subject"]["id"]
                for f in screened(pay, "recompute", **found[name].settings)["flags"]
            ]
            for name in sorted(found)
        ]
        (other,) = (p for p in proposed_matches(pay) if p.name == "rate of pay other than in staff")
        rates = screened(pay, "match", **other.settings)["flags"]
    assert flagged == [["P70"], []]
    assert [(f["subject"]["emp"], f["amount"]) for f in rates] == [
        ("E10", str(rows[50]["gross"] + rows[90]["gross"]))
    ]


def test_a_charge_of_its_own_stands_beside_what_was_used(populate):
    rng, rows = np.random.default_rng(7), []
    for i in range(500):
        rate, service = ((Decimal("1.42"), 12), (Decimal("1.18"), 35))[i % 2]
        used = Decimal(int(rng.integers(0, 90)))
        total = (used * rate).quantize(CENT) + service + (40 if i in (7, 90) else 0)
        rows.append(
            {"id": f"B{i}", "rate": rate, "used": used, "service": Decimal(service).quantize(CENT)}
        )
        rows[-1]["total"] = total
    people = populate(rows, id="id", amount="total", price="rate")
    (found,) = proposed_recomputations(people, object())
    assert found.name == "rate times used, and service of ledger"
    flags = screened(people, "recompute", **found.settings)["flags"]
    assert {f["subject"]["id"] for f in flags} == {"B7", "B90"}


def test_what_is_paid_is_never_less_than_nothing(populate):
    rng, rows = np.random.default_rng(6), []
    for i in range(600):
        allowed, copay = (
            Decimal(int(v)).scaleb(-2) for v in (rng.integers(1_000, 9_000), rng.integers(0, 1_500))
        )
        paid = max(allowed - copay, Decimal("0.00")) + (2 if i == 11 else 0)
        rows.append({"id": f"C{i}", "allowed": allowed, "copay": copay, "paid": paid})
    people = populate(rows, id="id", amount="paid")
    (found,) = proposed_recomputations(people, object())
    assert found.name.endswith(" is allowed less copay, or nothing")
    assert found.settings["expect"] == "greatest(allowed - copay, 0)"
    (flag,) = screened(people, "recompute", **found.settings)["flags"]
    assert flag["subject"]["id"] == "C11"


@pytest.mark.parametrize(
    ("more", "made", "told"),
    [
        ({"discount_pct": (0, 10, 25)}, lambda p, d: p * (1 - d / 100), "qty * price * (1 - discount_pct / 100)"),
        ({"Rabatt": (0, 1, 5)}, lambda p, d: p - d, "qty * price - Rabatt"),
        ({"VAT %": (5, 20)}, lambda p, d: p * (1 + d / 100), 'qty * price * (1 + "VAT %" / 100)'),
        ({"colour": (1, 2, 3)}, lambda p, d: p, None),
    ],
    ids=["per cent", "money", "tax", "neither"],
)  # fmt: skip
def test_a_price_less_its_discount_is_proposed_as_it_holds(populate, more, made, told):
    rng, rows = np.random.default_rng(2), []
    ((name, values),) = more.items()
    for i in range(400):
        qty, price, d = (
            int(rng.integers(1, 9)),
            Decimal(int(rng.integers(100, 9_000))) / 100,
            Decimal(int(rng.choice(values))),
        )
        total = made(qty * price, d).quantize(CENT)
        rows.append(
            {
                "id": f"P{i}",
                "qty": Decimal(qty),
                "price": price,
                name: d,
                "total": total + (3 if i in (7, 90) else 0),
            }
        )
    people = populate(rows, id="id", quantity="qty", price="price", amount="total")
    (found,) = [
        p for p in proposed_recomputations(people, object()) if p.name.startswith("qty times price")
    ]
    plain = (
        (found.settings.get("expect") or "")
        .replace("coalesce(", "")
        .replace(", 0)", "")
        .replace("(qty * price)", "qty * price")
    )
    assert (plain or None) == told
    assert {
        f["subject"]["id"] for f in screened(people, "recompute", **found.settings)["flags"]
    } == {"P7", "P90"}


@given(st.integers(0, 2**32 - 1), st.integers(3, 9), st.integers(0, 2))
def test_relations_are_those_that_were_made(seed, columns, more):
    """Columns at random and one or two made of them: what is found holds on nine rows of ten, and tells those made."""
    rng = np.random.default_rng(seed)
    own = rng.integers(1, 10**6, (300, columns)) * (rng.random((300, columns)) < 0.8)
    signs = [rng.choice([-1, 1], 2 + min(more, columns - 2))]
    made = [own[:, : len(signs[0])] @ signs[0]]
    made[0][rng.random(300) < 0.05] += 1
    values = np.column_stack([own, *made]).astype(object)
    found = relations(values)
    assert found == [(*signs[0].tolist(), *[0] * (columns - len(signs[0])), -1)]
    assert relations(own.astype(object)) == []


@pytest.mark.parametrize("owner", ["heading", "account", None])
def test_a_balance_that_begins_anew_is_proposed_of_whose_it_is(populate, owner):
    """That it holds for nearly all rows of all is no reason to tell those with which it begins anew."""
    rows, held = [], Decimal(0)
    for k in range(160):
        held = held if k % 20 and owner else Decimal(0) if owner else held
        held += (amount := Decimal(k * 7919 % 5000 - 2500).scaleb(-2))
        day = date(2024, 1, 1) + timedelta(days=k)
        rows.append({"of": f"A{k // 20}", "day": day, "amount": amount, "left": held})
    if owner == "heading":
        rows = [{"heading": row.pop("of"), **row} for row in rows]
    roles = {"account": "of"} if owner == "account" else {}
    people = populate(rows, date="day", amount="amount", **roles)
    (found,) = [
        p.settings for p in proposed_recomputations(people, object()) if "balance" in p.settings
    ]
    named = {"heading": ["heading"], "account": ["of"], None: None}[owner]
    assert [name.strip('"') for name in found.get("per") or []] == (named or [])
