"""Totals of groups and balances that run, against plain sums of random ledgers of few and of many decimals."""

from __future__ import annotations

from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

from hypothesis import assume, given
from hypothesis import strategies as st

from conftest import populated, screened

KEYS = st.sampled_from(["F1", "F2", "F3", "f1", " F2", None])
DECIMALS = st.sampled_from([0, 2, 6, 7, 9, 12])
UNITS = st.one_of(st.none(), st.integers(-999, 999))


@st.composite
def sides(draw):
    """Stated totals and the parts of them, to the same decimals, some of no key or no amount."""
    scale = draw(DECIMALS)
    unit = Decimal(1).scaleb(-scale)
    tables = {}
    for name, column in (("totals", "stated"), ("parts", "part")):
        drawn = draw(st.lists(st.tuples(KEYS, UNITS), min_size=1, max_size=15))
        assume(any(key for key, _ in drawn) and any(units is not None for _, units in drawn))
        # A first row of no key tells the decimals of the column.
        rows = [{"id": f"{name}0", "key": None, column: 7 * unit}]
        rows += [
            {"id": f"{name}{i}", "key": key, column: None if units is None else units * unit}
            for i, (key, units) in enumerate(drawn, 1)
        ]
        tables[name] = [dict(row, key=row["key"]) for row in sorted(rows, key=lambda r: r["key"] is None)]  # fmt: skip
    return tables, unit


def _summed(rows, column):
    found = {}
    for row in rows:
        if row["key"] is not None:
            found[row["key"]] = found.get(row["key"], Decimal(0)) + (row[column] or 0)
    return found


@given(sides(), st.sampled_from([None, 0, 1, 40]))
def test_totals_beside_their_parts(tmp_path_factory, drawn, allowed):
    """A group that one side lacks is beside nothing there; a row of no key is of no group."""
    tables, unit = drawn
    tolerance = None if allowed is None else allowed * unit
    with populated(tmp_path_factory.mktemp("totals"), tables, id="id", amount="stated") as people:
        found = screened(
            people, "recompute", what="totals", by="key", equals="sum(stated)", expect="sum(part)",
            other="parts", tolerance=tolerance,
        )  # fmt: skip
    stated, parts = _summed(tables["totals"], "stated"), _summed(tables["parts"], "part")
    every = {k: stated.get(k, Decimal(0)) - parts.get(k, Decimal(0)) for k in {*stated, *parts}}
    far = {k: d for k, d in every.items() if abs(d) > (tolerance or 0)}
    (group,) = found["groups"]
    assert (group["checked"], group["differing"]) == (len(every), len(far))
    assert Decimal(group["difference_total"]) == sum(far.values())
    told = {f["subject"]["key"]: f for f in found["flags"]}
    assert {k: Decimal(f["difference"]) for k, f in told.items()} == far
    sizes = [abs(Decimal(f["difference"])) for f in found["flags"]]
    assert sizes == sorted(sizes, reverse=True)
    for key, flag in told.items():
        assert Decimal(flag["recorded"]) == stated.get(key, 0)
        assert Decimal(flag["expected"]) == parts.get(key, 0)
        assert Decimal(flag["amount"]) == far[key]
        assert flag["direction"] == ("above" if far[key] > 0 else "below")
    assert found["population"]["used"] == sum(r["key"] is not None for r in tables["totals"])


@given(
    st.lists(st.tuples(st.sampled_from("ab"), st.integers(-999, 999), st.booleans()), min_size=12, max_size=40),
    DECIMALS, st.booleans(), st.booleans(), st.data(),
)  # fmt: skip
def test_balances_of_many_decimals(populate, moves, scale, less, newest_first, data):
    """However a statement runs, the rows that differ are those of the way by which the fewest do."""
    unit = Decimal(1).scaleb(-scale)
    held, rows = {"a": 100 * unit, "b": -7 * unit}, []
    for k, (who, units, day_ends) in enumerate(moves):
        held[who] += -units * unit if less else units * unit
        before = rows[-1]["day"] if rows else date(2024, 1, 1)
        day = before + timedelta(days=day_ends)
        rows.append(
            {"id": f"R{k:02}", "who": who, "day": day, "amount": units * unit, "left": held[who]}
        )
    off = data.draw(st.lists(st.integers(0, len(rows) - 1), max_size=2, unique=True))
    for place in off:
        rows[place]["left"] += unit
    listed = rows[::-1] if newest_first else rows
    people = populate(listed, id="id", date="day", amount="amount")
    found = screened(people, "recompute", what="balance", balance="left", per="who")

    def differing(sign, oldest_first):
        by_day = sorted(listed if oldest_first else listed[::-1], key=lambda r: r["day"])
        last, wrong = {}, {}
        for row in by_day:
            if row["who"] in last:
                off_by = row["left"] - (last[row["who"]] + sign * row["amount"])
                if off_by:
                    wrong[row["id"]] = off_by
            last[row["who"]] = row["left"]
        return wrong

    ways = [differing(1, True), differing(-1, True), differing(1, False), differing(-1, False)]
    best = min(ways, key=len)
    (group,) = found["groups"]
    told = {f["subject"]["id"]: Decimal(f["difference"]) for f in found["flags"]}
    assert told == best
    assert Decimal(group["difference_total"]) == sum(best.values())
    owners = defaultdict(int)
    for row in rows:
        owners[row["who"]] += 1
    assert (group["not_checked"], group["checked"]) == (len(owners), len(rows) - len(owners))


@given(
    st.lists(st.tuples(st.integers(-99, 99), st.integers(0, 999), st.integers(-2, 2)), min_size=1, max_size=12),
    DECIMALS, DECIMALS,
)  # fmt: skip
def test_products_of_tiny_units(populate, lines, of_price, of_amount):
    """A factor is known to half a unit of its last decimal, and so is the amount; a whole one is exact."""
    rows = []
    for quantity, price, off in lines:
        exact = quantity * Decimal(price).scaleb(-of_price)
        unit = Decimal(1).scaleb(-of_amount)
        rows.append(
            {
                "qty": Decimal(quantity),
                "price": Decimal(price).scaleb(-of_price),
                "amount": exact.quantize(unit) + off * unit,
            }
        )
    people = populate(rows, amount="amount", quantity="qty", price="price")
    found = screened(people, "recompute")
    half = {"amount": Decimal("0.5").scaleb(-of_amount), "price": Decimal("0.5").scaleb(-of_price)}
    far, least = [], Decimal(1).scaleb(-max(6, of_amount))
    for row in rows:
        expected = row["qty"] * row["price"]
        allowed = half["amount"] + (abs(row["qty"]) * half["price"] if of_price else 0)
        off = row["amount"] - expected
        # What is expected is told to the decimals of the amount, at least to six.
        assume(
            abs(abs(off) - allowed) > least or off == 0 or (abs(off) == allowed and of_price <= 6)
        )
        if abs(off) > allowed:
            far.append(row["amount"] - expected.quantize(least))
    assert found["groups"][0]["differing"] == len(far)
    assert abs(Decimal(found["groups"][0]["difference_total"]) - sum(far)) <= len(rows) * least
