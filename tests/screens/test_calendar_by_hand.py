"""Hours and weekdays of random preparers: habits, expected batches and every p from the plain rows."""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime, timedelta
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from conftest import screened
from known import holm
from sabueso.population.drill import rows as rows_of

MONDAY = datetime(2024, 1, 1)
DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")


@st.composite
def ledgers(draw):
    """Office hours, a shift at weekends, a few nights, batches of several rows within a minute."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    weeks, rows = draw(st.integers(4, 20)), []
    for who in range(draw(st.integers(2, 5))):
        nights, shift = draw(st.integers(0, 6)), draw(st.booleans())
        moments = [
            (
                7 * int(rng.integers(0, weeks)) + int(rng.integers(0, 5)),
                int(rng.normal(12, 2.5)) % 24,
            )
            for _ in range(draw(st.sampled_from([10, 40, 150])))
        ]
        if shift:
            moments += [(7 * week + 5, 9) for week in range(weeks)]
        moments += [
            (7 * int(rng.integers(0, weeks)) + int(rng.integers(0, 7)), 3) for _ in range(nights)
        ]
        for day, hour in moments:
            when = MONDAY + timedelta(days=day, hours=hour, minutes=int(rng.integers(0, 60)))
            for _ in range(int(rng.choice([1, 1, 3]))):
                rows.append(
                    {"id": f"R{len(rows):04d}", "who": f"p{who}", "when": when + timedelta(seconds=int(rng.integers(0, 60))),
                     "amount": Decimal(int(rng.integers(-9000, 9000))).scaleb(-2)}
                )  # fmt: skip
    return rows


def _cell(look, when):
    return tuple(
        {"weekday": DAYS[when.weekday()], "hour": f"{when.hour:02d}"}[side] for side in look
    )


def _habits(look, who, batches, weeks_in, weeks):
    """Cells of somebody's habit: half of an even spread, or a week out of four in an hour of a weekday of it."""
    mine = [when for name, when in batches if name == who]
    counts = defaultdict(int)
    for when in mine:
        counts[_cell(look, when)] += 1
    often = {_cell(look, MONDAY + timedelta(days=w, hours=h)) for (name, w, h), n in weeks_in.items()
             if name == who and 4 * n >= max(weeks, 4)}  # fmt: skip
    if len(look) == 2:
        days, hours = (_habits((side,), who, batches, weeks_in, weeks) for side in look)
        return {day + hour for day in days for hour in hours} | often
    even = 7 if look == ("weekday",) else 24
    return {cell for cell, n in counts.items() if n * even >= 0.5 * len(mine)} | often


LOOKS = (("hour",), ("weekday",), ("weekday", "hour"))


@given(ledgers(), st.sampled_from([0.05, 0.4]), st.sampled_from([1, 2, 3]))
def test_every_cell(populate, rows, alpha, least):
    people = populate(rows, id="id", amount="amount", date="when", preparer="who")
    content = screened(people, "calendar", alpha=alpha, least=least)
    minutes = defaultdict(list)
    for row in rows:
        minutes[row["who"], row["when"].replace(second=0)].append(row)
    many = defaultdict(int)
    for who, _ in minutes:
        many[who] += 1
    kept = sorted(who for who, n in many.items() if n >= 20)
    assert {t["group"]["who"] for t in content["not_tested"]} == set(many) - set(kept)
    batches = [(who, when) for who, when in minutes if who in kept]
    weeks = len({(when - MONDAY).days // 7 for _, when in minutes})
    seen = defaultdict(set)
    for who, when in batches:
        seen[who, when.weekday(), when.hour].add((when - MONDAY).days // 7)
    weeks_in = {cell: len(found) for cell, found in seen.items()}

    judged = []
    for look in LOOKS:
        habit = {who: _habits(look, who, batches, weeks_in, weeks) for who in kept}
        counts = defaultdict(int)
        for who, when in batches:
            counts[who, _cell(look, when)] += 1
        cells, squares = [], []
        for cell in {cell for _, cell in counts}:
            inside = [who for who in kept if cell not in habit[who]]
            whole, marked = sum(many[w] for w in inside), sum(counts[w, cell] for w in inside)
            if len(inside) < 2 or not marked or marked == whole:
                continue
            for who in inside:
                expected, share = many[who] * marked / whole, marked / whole
                spread = np.sqrt(expected * (1 - share) * (1 - many[who] / whole))
                residual = (counts[who, cell] - expected) / spread
                squares.append(residual**2)
                if counts[who, cell]:
                    exact = stats.hypergeom.sf(counts[who, cell] - 1, whole, marked, many[who])
                    cells.append((who, cell, expected, residual, exact))
        over = max(np.mean(squares), 1.0) if squares else 1.0
        for who, cell, expected, residual, exact in cells:
            p = stats.norm.sf(residual / np.sqrt(over))
            if expected < 5:
                p = exact if over == 1 else max(exact, p)
            judged.append((look, who, cell, counts[who, cell], expected, p))
    assert content["tests_made"] == len(judged)
    adjusted = holm([each[-1] for each in judged])

    named = {(look, who, cell): i for i, (look, who, cell, *_) in enumerate(judged)}
    expected_flags = {}
    for who in kept:
        told = set()
        for look in LOOKS:
            # Of one look each cell stands for itself; of a finer one what a coarser told is left out.
            mine = sorted((i for (a, b, _), i in named.items() if (a, b) == (look, who)), key=lambda i: adjusted[i])  # fmt: skip
            for i in mine:
                _, _, cell, count, *_ = judged[i]
                members = {(d, f"{h:02d}") for d in DAYS for h in range(24)
                           if cell == tuple({"weekday": d, "hour": f"{h:02d}"}[side] for side in look)}  # fmt: skip
                if adjusted[i] < alpha and count >= least and not members <= told:
                    told |= members
                    expected_flags[who, look, cell] = i
    found = {}
    for flag in content["flags"]:
        sides = {s: flag["subject"][s] for s in ("weekday", "hour") if flag["subject"].get(s)}
        found[flag["subject"]["who"], tuple(sides), tuple(sides.values())] = flag
    assert set(found) == set(expected_flags)
    for (who, look, cell), i in expected_flags.items():
        flag, (*_, count, expected, p) = found[who, look, cell], judged[i]
        own = [
            r
            for (name, when), each in minutes.items()
            if name == who and _cell(look, when) == cell
            for r in each
        ]
        assert (flag["count"], flag["rows"]) == (count, len(own))
        assert Decimal(flag["amount"]) == sum(r["amount"] for r in own if r["amount"] > 0)
        assert flag["expected"] == pytest.approx(expected)
        assert flag["p"] == pytest.approx(p, rel=1e-6, abs=1e-14)
        assert flag["p_adjusted"] == pytest.approx(adjusted[i], rel=1e-6, abs=1e-12)
        condition = " and ".join(
            f"{side} = '{value}'" for side, value in zip(look, cell, strict=True)
        )
        narrowed = populate(
            rows, f"who = '{who}' and {condition}", id="id", amount="amount", date="when"
        )
        assert {r["id"] for r in rows_of(narrowed, limit=1000).rows} == {r["id"] for r in own}
