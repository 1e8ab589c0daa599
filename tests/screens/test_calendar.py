"""The calendar against independent calculations, and whose Sunday is a finding."""

from __future__ import annotations

import csv
import shlex
from datetime import date, datetime, timedelta
from decimal import Decimal

import numpy as np
import pytest
import scipy.stats

from conftest import inside, inside_json, screened
from sabueso.base.errors import UserError
from sabueso.stats.cells import excess, habits

START = date(2024, 1, 1)


def test_residuals_and_exact_p_against_scipy():
    counts = np.array([[400, 300, 2], [500, 420, 9], [90, 80, 0], [300, 250, 1]])
    habit = habits(counts, 3)
    assert habit.tolist() == [
        [True, True, False],
        [True, True, False],
        [True, True, False],
        [True, True, False],
    ]
    found = excess(counts, habit)
    totals, n = counts.sum(axis=1), counts.sum()
    column = counts[:, 2]
    here = totals * column.sum() / n
    assert found.expected[:, 2] == pytest.approx(here)
    spread = np.sqrt(here * (1 - totals / n) * (1 - column.sum() / n))
    assert found.residual[:, 2] == pytest.approx((column - here) / spread)
    wide = max(np.mean(found.residual[:, 2] ** 2), 1)
    assert found.overdispersion == pytest.approx(wide)
    exact = scipy.stats.hypergeom.sf(1, n, column.sum(), totals[0])
    widened = scipy.stats.norm.sf(found.residual[0, 2] / np.sqrt(wide))
    assert found.p[0, 2] == pytest.approx(max(exact, widened) if wide > 1 else exact)
    assert found.p[1, 2] == pytest.approx(scipy.stats.norm.sf(found.residual[1, 2] / np.sqrt(wide)))
    assert np.isnan(found.p[2, 2]) and np.isnan(found.p[:, :2]).all()


def _entries(seed=1, odd=True):
    """Four bookkeepers in office hours, a sailor of every day, a batch at night; one bookkeeper at night."""
    rng = np.random.default_rng(seed)
    rows = []

    def add(who, day, hour, times=1):
        for _ in range(times):
            at = datetime(day.year, day.month, day.day, hour, int(rng.integers(0, 60)))
            rows.append(
                {
                    "id": f"E{len(rows):05d}",
                    "who": who,
                    "at": at,
                    "amount": Decimal(int(rng.integers(100, 9000))),
                }
            )

    for offset in range(364):
        day = START + timedelta(days=offset)
        if day.weekday() < 5:
            for who in ("ana", "bea", "car", "dan"):
                for _ in range(4):
                    add(who, day, int(rng.integers(8, 18)))
        add("sea", day, int(rng.integers(7, 20)))
        add("sea", day, int(rng.integers(7, 20)))
        add("bot", day, 3)
    if odd:
        for week in range(9):
            add("dan", START + timedelta(days=6 + 28 * week), 2)
        add("ana", START + timedelta(days=13), 11)  # one Sunday, once
    return rows


def test_a_bookkeepers_night_is_a_finding_and_a_sailors_sunday_is_none(populate, tmp_path):
    people = populate(_entries(), date="at", preparer="who", amount="amount", id="id")
    found = screened(people, "calendar")
    assert {f["subject"]["who"] for f in found["flags"]} == {"dan"}
    assert any(f["subject"]["hour"] == "02" for f in found["flags"])
    whole = found["groups"][0]
    assert sum(cell["rows"] for cell in whole["cells"]) == found["population"]["used"]
    sailor = next(g for g in found["groups"] if g["group"] == {"who": "sea"})
    assert sailor["flagged"] == 0
    assert all(cell["usual"] for cell in sailor["cells"] if cell["cell"] == {"weekday": "Sun"})
    quiet = screened(
        populate(_entries(odd=False), date="at", preparer="who", amount="amount", id="id"),
        "calendar",
    )
    assert quiet["flag_count"] == 0


def test_what_a_person_records_in_one_minute_is_one(populate):
    rows = _entries(odd=False)
    burst = [
        {"id": f"B{i}", "who": "bea", "at": datetime(2024, 3, 10, 2, 5), "amount": Decimal(5)}
        for i in range(60)
    ]
    found = screened(
        populate(rows + burst, date="at", preparer="who", amount="amount", id="id"), "calendar"
    )
    assert found["flag_count"] == 0
    bea = next(g for g in found["groups"] if g["group"] == {"who": "bea"})
    (cell,) = [c for c in bea["cells"] if c["cell"] == {"hour": "02"}]
    assert (cell["count"], cell["rows"]) == (1, 60)


@pytest.mark.long
def test_false_alarms_are_as_stated(populate):
    flagged = 0
    for seed in range(24):
        rng = np.random.default_rng(seed)
        rows = [
            {"id": f"R{i}", "who": "abcdef"[int(rng.integers(0, 6))], "amount": Decimal(1),
             "at": datetime(2024, 1, 1) + timedelta(minutes=int(rng.integers(0, 300 * 1440)))}
            for i in range(600)
        ]  # fmt: skip
        flagged += bool(
            screened(
                populate(rows, date="at", preparer="who", amount="amount"), "calendar", least=1
            )["flag_count"]
        )
    assert flagged <= 4  # of 24 at 5 %: more than 4 come once in a hundred


@pytest.mark.parametrize("names", [("time", "comment"), ("hour", "weekday")])
def test_cells_lead_to_their_rows(tmp_path, names):
    """Also where the client's columns are called as the sides of a cell are."""
    with (tmp_path / "j.csv").open("w", newline="") as handle:
        rows = csv.writer(handle)
        rows.writerow(["id", "date", names[0], "preparer", "amount", names[1]])
        for row in _entries():
            rows.writerow(
                [
                    row["id"],
                    row["at"].date(),
                    f"{row['at']:%H:%M:%S}",
                    row["who"],
                    f"{row['amount']}.00",
                    "Tue",
                ]
            )
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    inside("intake", "../j.csv", "--as", "j", cwd=case)
    inside("try", "calendar", "j", "--keep", "clock", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    (item, *_) = inside_json("queue", "--screen", "clock", cwd=case)
    opened = inside_json("dig", item["id"], cwd=case)
    assert 5 <= len(opened["rows"]) <= 9 and "dan" in item["label"] and "None" not in item["label"]
    inside("why", item["id"], cwd=case)
    inside("paper", cwd=case)
    inside("try", "calendar", "j", "--out", "clock.png", cwd=case)
    (step,) = [
        w for w in inside("try", "calendar", "j", cwd=case).stdout.splitlines() if "--where" in w
    ]
    assert "rows shown" in inside(*shlex.split(step.split("sabueso ")[1]), cwd=case).stdout


def test_what_does_not_suit_is_said(populate):
    with pytest.raises(UserError, match="names no preparer"):
        screened(populate(_entries()[:300], date="at", amount="amount"), "calendar")
    with pytest.raises(UserError, match="needs a date"):
        screened(populate(_entries()[:300], preparer="who", amount="amount"), "calendar")
