"""Two periods compared, every line and every flag, from plain sums of the same rows."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import ROUND_HALF_EVEN, Decimal
from fractions import Fraction

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from conftest import screened

PERIODS = {
    "2023": lambda d: d.year == 2023,
    "2024": lambda d: d.year == 2024,
    "2025": lambda d: d.year == 2025,
    "2024-Q1": lambda d: d.year == 2024 and d.month <= 3,
    "2025-Q1": lambda d: d.year == 2025 and d.month <= 3,
    "2024-11": lambda d: (d.year, d.month) == (2024, 11),
    "2024-12": lambda d: (d.year, d.month) == (2024, 12),
}
PAIRS = [("2024", "2025"), ("2023", "2024"), ("2024-Q1", "2025-Q1"), ("2024-11", "2024-12")]
EARLIER = {"2025": ["2024", "2023"], "2024-12": ["2024-11"]}


@st.composite
def ledgers(draw):
    """A row a day or more over three whole years, so that no period stops early."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    lines = [f"6{i:02d}" for i in range(draw(st.integers(2, 7)))]
    credits = draw(st.booleans())
    rows, day = [], date(2023, 1, 1)
    while day.year < 2026:
        for _ in range(int(rng.integers(1, 3))):
            line = lines[int(rng.integers(0, len(lines)))]
            if (line == lines[0] and day.year == 2024) or (line == lines[1] and day.year == 2025):
                line = lines[-1]
            units = int(rng.lognormal(8, 1)) * (-1 if credits and rng.random() < 0.4 else 1)
            rows.append(
                {"account": line, "who": "ab"[int(rng.integers(0, 2))], "day": day,
                 "amount": Decimal(units).scaleb(-2), "items": Decimal(int(rng.integers(1, 90))).scaleb(-1)}
            )  # fmt: skip
        day += timedelta(days=1)
    return rows


def _sums(rows, per, chosen, of):
    found = {}
    for row in rows:
        if PERIODS[chosen](row["day"]):
            key = tuple(row[name] for name in per)
            found[key] = found.get(key, 0) + Fraction(row[of])
    return found


def _near(found, expected):
    if expected is None:
        assert found is None
    else:
        assert abs(found - float(expected)) <= 1e-9 * max(1, abs(float(expected)))


def _cents(value):
    return (Decimal(value.numerator) / Decimal(value.denominator)).quantize(
        Decimal("0.01"), ROUND_HALF_EVEN
    )


@given(
    ledgers(),
    st.sampled_from(PAIRS),
    st.sampled_from([["account"], ["account", "who"]]),
    st.sampled_from([None, "5", "100"]),
    st.sampled_from(["0", "10", "75"]),
    st.sampled_from([None, "2", "0.5"]),
    st.booleans(),
)
def test_lines(populate, rows, pair, per, amount, percent, share, with_items):
    base, current = pair
    asked = {"per": per, "base": base, "current": current, "percent_limit": percent}
    asked |= {"amount_limit": amount} if amount else {}
    asked |= {"share_limit": share} if share else {}
    asked |= {"quantity": "items"} if with_items else {}
    people = populate(rows, date="day", account="account", amount="amount", quantity="items")
    content = screened(people, "periods", **asked)
    old, new = (_sums(rows, per, p, "amount") for p in pair)
    before, now = (_sums(rows, per, p, "items") for p in pair)
    (group,) = content["groups"]
    lines = {tuple(line["key"].values()): line for line in group["lines"]}
    assert set(lines) == set(old) | set(new)
    totals = sum(old.values()), sum(new.values())
    assert (Decimal(group["total"]["base"]), Decimal(group["total"]["current"])) == totals
    flagged = {tuple(f["subject"][n] for n in per) for f in content["flags"]}
    for key, line in lines.items():
        a, b = old.get(key, Fraction(0)), new.get(key, Fraction(0))
        change = b - a
        assert [Decimal(line[n]) for n in ("base", "current", "change")] == [a, b, change]
        rise = 100 * change / abs(a) if a else None
        _near(line["change_percent"], rise)
        shares = [v / t if t else None for v, t in zip((a, b), totals, strict=True)]
        shift = None if None in shares else 100 * (shares[1] - shares[0])
        if line["base_share"] is not None:
            _near(line["base_share"], shares[0])
        if line["share_shift"] is not None:
            _near(line["share_shift"], shift)
        if totals[1] != totals[0] and line["part_of_change"] is not None:
            _near(line["part_of_change"], change / (totals[1] - totals[0]))
        named = {"new": not a and b, "ceased": a and not b, "sign changed": a * b < 0,
                 "unchanged": a == b and a, "no activity": not a and not b}  # fmt: skip
        reading = next((word for word, holds in named.items() if holds), None)
        # Up is further from zero: a credit that grows.
        plain = "value up" if abs(b) > abs(a) else "value down"
        assert line["reading"].split(",")[0] == (reading or plain)
        limits = [x for x in (amount, percent) if x is not None]
        beyond = bool(change and limits) and all(
            (amount is None or abs(change) >= Fraction(amount),
             percent is None or rise is None or abs(rise) >= Fraction(percent))
        )  # fmt: skip
        known = line["share_shift"] is not None
        moved = bool(share and known and abs(shift) >= Fraction(share))
        assert line["flagged"] == (beyond or moved) == (key in flagged)
        if with_items and line.get("rate_volume") is not None:
            q0, q1 = before[key], now.get(key, Fraction(0))
            parts = line.get("rate_volume")
            assert Decimal(parts["volume"]) == _cents((q1 - q0) * a / q0)
            rate = (b / q1 - a / q0) * q1 if q1 else b
            assert abs(Fraction(parts["rate"]) - rate) <= Fraction(1, 100)
            assert sum(Decimal(parts[n]) for n in ("volume", "rate", "mix")) == change
        elif with_items:
            assert not before.get(key)
    assert content["flag_count"] == len(flagged)
    if with_items and group["rate_volume"] is not None:
        parts = group["rate_volume"]
        assert sum(Decimal(parts[n]) for n in ("volume", "rate", "mix")) == totals[1] - totals[0]


@given(ledgers(), st.sampled_from(sorted(EARLIER)), st.sampled_from([None, "1.5"]))
def test_the_mean_of_periods_before(populate, rows, current, limit):
    years = EARLIER[current]
    if len(years) < 2:
        return
    people = populate(rows, date="day", account="account", amount="amount")
    asked = {"per": "account", "current": current, "mean_of": len(years), "percent_limit": "0"}
    asked |= {"deviate_limit": limit} if limit else {}
    content = screened(people, "periods", **asked)
    sums = [_sums(rows, ["account"], year, "amount") for year in years]
    now = _sums(rows, ["account"], current, "amount")
    for line in content["groups"][0]["lines"]:
        key = tuple(line["key"].values())
        seen = [each.get(key, Fraction(0)) for each in sums]
        mean = sum(seen) / len(seen)
        assert Decimal(line["base"]) == _cents(mean)
        assert Decimal(line["current"]) == now.get(key, Fraction(0))
        change = Fraction(line["change"])
        assert change == Fraction(line["current"]) - Fraction(line["base"])
        spread = float(np.std([float(v) for v in seen], ddof=1))
        deviate = float(change) / spread if spread else None
        beyond = bool(change) and (limit is None or deviate is None or abs(deviate) >= float(limit))
        if deviate is None or abs(abs(deviate) - 1.5) > 1e-6:
            assert line["flagged"] == beyond
