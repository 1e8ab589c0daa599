"""How often do tests with a p flag ledgers in which nothing is but chance?

Ledgers are drawn whose parties, people, kinds, days and amounts have nothing to do with one another: of few rows and
many, of parties alike and not, with days even, without weekends, or more and more of them. Of each test it is counted
in how many ledgers it flags anything with an adjusted p below its alpha. Seeded: the same figures every time.

    python bench/chance.py              300 ledgers, some five minutes on one core
    python bench/chance.py --runs 60
"""

from __future__ import annotations

import argparse
import tempfile
from collections import Counter
from collections.abc import Mapping
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from sabueso.population.engines import EngineSettings, open_engine
from sabueso.population.population import Population
from sabueso.population.table import Column, Part, Table
from sabueso.screens import find_screen

SEED, DAYS, START = 77, 730, date(2023, 1, 2)
AWARD = "2024-03-04"
ASKED: dict[str, tuple[str, Mapping[str, Any]]] = {
    "crosstab, kinds by people": ("crosstab", {"of": ["kind"], "by": ["who"]}),
    "crosstab, kinds by parties": ("crosstab", {"of": ["kind"], "by": ["party"]}),
    "crosstab, a kind beside all others, by people": (
        "crosstab", {"by": ["who"], "beside": "ledger", "where": "kind = 'k3'"},
    ),
    "crosstab, a kind beside all others, by parties": (
        "crosstab", {"by": ["party"], "beside": "ledger", "where": "kind = 'k3'"},
    ),
    "event, 8 days around": ("event", {"at": AWARD, "side": "around", "per": ["party"]}),
    "event, 30 days before": (
        "event", {"at": AWARD, "side": "before", "window": 30, "per": ["party"]},
    ),
    "payees, silences and bursts": ("payees", {}),
    "relation, rows off a line": ("relation", {"measures": ["x", "y"]}),
    "split, below a limit and in pieces": ("split", {"limit": "1000"}),
    "sequence, numbers three in five of which are there": ("sequence", {"of": "paper"}),
    "sequence, months by parties": ("sequence", {"each": "month", "by": ["party"]}),
}  # fmt: skip


def _cents(values: np.ndarray) -> pa.Array:
    return pa.array([Decimal(int(v * 100)).scaleb(-2) for v in values], pa.decimal128(18, 2))


def _days(n: int, kind: int, rng: np.random.Generator) -> np.ndarray:
    """Even, even but for weekends, or more of them with time."""
    if kind == 2:
        return np.minimum(DAYS - 1, (rng.beta(2, 1.2, n) * DAYS).astype(int))
    days = rng.integers(0, DAYS, n)
    return np.where(np.isin(days % 7, (5, 6)), days - 2, days) if kind == 1 else days


def ledger(place: int, folder: Path) -> Table:
    """One ledger of chance alone."""
    rng = np.random.default_rng([SEED, place])
    n, parties, people = int(10 ** rng.uniform(2.3, 3.5)), rng.integers(5, 60), rng.integers(2, 8)
    shares = rng.dirichlet(np.ones(parties) * rng.choice([0.3, 1, 5]))
    x = np.exp(rng.normal(3, 0.7, n))
    texts = {
        "party": rng.choice(parties, n, p=shares),
        "who": rng.choice(people, n, p=rng.dirichlet(np.ones(people) * 2)),
        "kind": rng.choice(5, n, p=[0.5, 0.25, 0.15, 0.08, 0.02]),
        "paper": 10_000 + np.flatnonzero(rng.random(4 * n) < 0.6)[:n],
    }
    data = {
        "amount": _cents(np.exp(rng.normal(6, rng.choice([0.6, 1, 1.6]), n))),
        "x": _cents(x),
        "y": _cents(5 + 2 * x + rng.normal(0, 3, n)),
        "day": pa.array([START + timedelta(int(d)) for d in _days(n, place % 3, rng)]),
        **{name: pa.array([f"{name[0]}{v}" for v in values]) for name, values in texts.items()},
        "_file": pa.array(["f.csv"] * n),
        "_line": pa.array(range(2, n + 2), pa.decimal128(18, 0)),
    }
    path = folder / f"{place}.parquet"
    pq.write_table(pa.table(data), path)
    numbers = {"amount": 2, "x": 2, "y": 2, "_line": 0}
    columns = tuple(
        Column(name, "number", numbers[name])
        if name in numbers
        else Column(name, "date" if name == "day" else "text")
        for name in data
    )
    roles = {"amount": "amount", "date": "day", "party": "party", "preparer": "who"}
    return Table("ledger", "EUR", columns, (Part(columns, (path,)),), roles)  # type: ignore[arg-type]


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else None)
    parser.add_argument("--runs", type=int, default=300)
    runs = parser.parse_args().runs
    flagged, tests, alpha = Counter[str](), Counter[str](), dict[str, float]()
    with tempfile.TemporaryDirectory() as folder:
        for place in range(runs):
            table = ledger(place, Path(folder))
            engine = open_engine(EngineSettings())
            engine.attach(table)
            population = Population(engine, table, tables={"ledger": table})
            for name, (test, given) in ASKED.items():
                screen = find_screen(test)
                settings = screen.settings.from_plan(dict(given), test)
                rows = replace(population, where=given.get("where"))
                found, alpha[name] = screen.run(rows, settings), settings.alpha  # type: ignore[attr-defined]
                p = (flag.get("p_adjusted") for flag in found.flags.rows(1_000))
                flagged[name] += any(each is not None and each < alpha[name] for each in p)
                tests[name] += found.tests_made
            engine.close()
    print(f"Ledgers of chance alone in which a test flags anything, per cent of {runs}\n")
    print("| test | hypotheses each | alpha, % | flagged, % |")
    print("|---|---:|---:|---:|")
    for name in ASKED:
        share = 100 * flagged[name] / runs
        print(f"| {name} | {tests[name] / runs:,.0f} | {100 * alpha[name]:g} | {share:.1f} |")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
