"""One test by account beside hand-written SQL on the same Parquet: python bench/by_group.py [--rows N].

A made-up ledger of 2,000 accounts is taken in once. Then digits, zscore and fences by account are
computed in turn by Sabueso (the engine, the statistics, every flag) and by the same result written by
hand as SQL on DuckDB, each in a process of its own. The clock of both starts after the imports and
stops when the answer stands in memory; the answers must agree, or the run stops.
"""

from __future__ import annotations

import argparse
import json
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from math import isclose, log10
from pathlib import Path
from typing import Any

from ledger import write_ledger

PROGRAM = [sys.executable, "-m", "sabueso"]
SETTINGS: dict[str, dict[str, Any]] = {
    "digits": {"by": ["account"]},
    "zscore": {"by": ["account"], "limit": "8"},
    "fences": {"by": ["account"], "outer": "12", "beyond": "outer"},
}


def ours(test: str, case: str) -> dict[str, Any]:
    """A test through the program's own packages."""
    from sabueso.case.folder import Case
    from sabueso.case.trying import run_test
    from sabueso.population.engines import EngineSettings, open_engine
    from sabueso.screens import find_screen

    find_screen(test)
    open_engine(EngineSettings()).close()  # what is imported late is imported now
    folder = Case.find(case)
    folder.table("ledger")  # opens the register, whose library is imported late too
    start = time.perf_counter()
    finding = run_test(folder, test, "ledger", SETTINGS[test])
    seconds = time.perf_counter() - start
    groups = finding.groups
    folder.close()
    if test == "digits":
        names = ("n", "chi_square", "mad", "mantissa_l2")
    elif test == "zscore":
        names = ("n", "mean", "sd", "median", "mad")
    else:
        names = ("n", "q1", "median", "q3")
    answer = {name: sum(float(getattr(g, name)) for g in groups) for name in names}
    if test == "zscore":
        answer["without"] = sum(float(g.without_flags.mean) for g in groups)
    flagged = finding.flags.table
    return {"seconds": seconds, "answer": answer | {"groups": len(groups), "flagged": len(flagged)}}


def theirs(test: str, parquet: str) -> dict[str, Any]:
    """The same by hand."""
    import duckdb
    import numpy as np

    duckdb.connect().close()
    start = time.perf_counter()
    db = duckdb.connect()
    db.execute("SET enable_progress_bar = false; SET preserve_insertion_order = false")
    db.execute(
        "CREATE VIEW ledger AS SELECT *, CAST(amount * 100 AS BIGINT) AS units "
        f"FROM read_parquet('{parquet}')"
    )
    context = "entry, date, account, supplier, preparer, text, units"
    if test == "digits":
        found = db.sql(
            """
            SELECT account, CAST(left(CAST(abs(units) AS VARCHAR), 1) AS INTEGER) AS digit, count(*) AS n,
                   sum(units) AS total, sum(abs(units)) AS size, count(*) FILTER (units < 0) AS negative,
                   sum(cos(2 * pi() * log10(abs(units)))) AS c, sum(sin(2 * pi() * log10(abs(units)))) AS s
            FROM ledger WHERE units <> 0 GROUP BY account, digit
            """
        ).fetchnumpy()
        # What the cautions say of the amounts, whichever their group.
        db.sql(
            "SELECT quantile_cont(abs(units), [0.01, 0.5, 0.99]), count(DISTINCT units) FROM ledger"
        ).fetchall()
        db.sql(
            "SELECT units, count(*) AS n FROM ledger GROUP BY units ORDER BY n DESC LIMIT 5"
        ).fetchall()
        accounts, at = np.unique(found["account"].astype(str), return_inverse=True)
        counts = np.zeros((len(accounts), 9))
        counts[at, found["digit"] - 1] = found["n"]
        sums = [np.bincount(at, found[k]) for k in ("c", "s")]
        kept = counts.sum(axis=1) >= 50
        n, counts = counts.sum(axis=1)[kept], counts[kept]
        expected = np.array([log10(1 + 1 / d) for d in range(1, 10)])
        share = counts / n[:, None]
        sigma = np.sqrt(expected * (1 - expected) / n[:, None])
        off, half = np.abs(share - expected), 1 / (2 * n[:, None])
        z = (off - np.where(half < off, half, 0)) / sigma
        from scipy.special import ndtr, ndtri

        p = np.sort(2 * ndtr(-z).ravel())
        adjusted = np.maximum.accumulate(p * np.arange(p.size, 0, -1))
        passed = p[adjusted < 0.05].max(initial=-1)
        band = ndtri(1 - 0.05 / 18) * sigma
        flagged = ((2 * ndtr(-z) <= passed) & (off > band)).sum()
        answer = {
            "n": n.sum(),
            "chi_square": (n[:, None] * (share - expected) ** 2 / expected).sum(),
            "mad": off.mean(axis=1).sum(),
            "mantissa_l2": ((sums[0][kept] / n) ** 2 + (sums[1][kept] / n) ** 2).sum(),
            "groups": len(n),
            "flagged": int(flagged),
        }
    elif test == "zscore":
        db.execute(
            """
            CREATE TEMP TABLE g AS
            SELECT account, count(*) AS n, avg(units) AS mean, stddev_samp(units) AS sd,
                   quantile_cont(units, [0.5, 0.95]) AS q, mad(units::DOUBLE) AS mad,
                   skewness(units) AS skew, kurtosis(units) AS kurt
            FROM ledger GROUP BY account HAVING count(*) >= 3
            """
        )
        row = db.sql(
            "SELECT sum(n), sum(mean) / 100, sum(sd) / 100, sum(q[1]) / 100, sum(mad) / 100, count(*) FROM g"
        ).fetchall()[0]
        flagged = db.sql(
            f"SELECT {context}, (units - mean) / sd AS z FROM ledger JOIN g USING (account) "
            "WHERE abs(units - mean) > 8 * sd ORDER BY abs(z) DESC"
        ).to_arrow_table()
        without = db.sql(
            """
            SELECT sum(m) / 100 FROM (SELECT avg(units) AS m, stddev_samp(units), sum(units),
                                             quantile_cont(units, [0.5, 0.95])
            FROM ledger JOIN g USING (account) WHERE abs(units - mean) <= 8 * sd GROUP BY account)
            """
        ).fetchall()[0]
        names = ("n", "mean", "sd", "median", "mad", "groups")
        answer = dict(zip(names, row, strict=True))
        answer |= {"without": without[0], "flagged": len(flagged)}
    else:
        db.execute(
            """
            CREATE TEMP TABLE g AS SELECT account, count(*) AS n, quantile_cont(units, [0.25, 0.5, 0.75]) AS q
            FROM ledger GROUP BY account HAVING count(*) >= 5
            """
        )
        row = db.sql(
            "SELECT sum(n), sum(q[1]) / 100, sum(q[2]) / 100, sum(q[3]) / 100, count(*) FROM g"
        ).fetchall()[0]
        flagged = db.sql(
            f"SELECT {context} FROM ledger JOIN g USING (account) WHERE units > q[3] + 12 * (q[3] - q[1]) "
            "OR units < q[1] - 12 * (q[3] - q[1])"
        ).to_arrow_table()
        answer = dict(zip(("n", "q1", "median", "q3", "groups"), row, strict=True))
        answer["flagged"] = len(flagged)
    seconds = time.perf_counter() - start
    return {"seconds": seconds, "answer": {k: float(v) for k, v in answer.items()}}


def child(who: str, test: str, place: str) -> dict[str, Any]:
    done = subprocess.run(
        [sys.executable, __file__, "--child", who, test, place],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        raise SystemExit(done.stderr)
    return dict(json.loads(done.stdout))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--child", nargs=3)
    args = parser.parse_args()
    if args.child:
        who, test, place = args.child
        import numpy  # noqa: F401
        import pyarrow  # noqa: F401
        import scipy.special  # noqa: F401

        found = (ours if who == "ours" else theirs)(test, place)
        found["peak"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(json.dumps(found))
        return
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_ledger(args.rows, str(folder / "ledger.csv"))
        subprocess.run([*PROGRAM, "open", "case"], cwd=folder, check=True, capture_output=True)
        subprocess.run(
            [*PROGRAM, "intake", "../ledger.csv", "--as", "ledger"],
            cwd=folder / "case", check=True, capture_output=True,
        )  # fmt: skip
        (parquet,) = (folder / "case/population/ledger").glob("*.parquet")
        print(f"{args.rows:,} rows by 2,000 accounts, medians of {args.rounds} rounds\n")
        print(
            "| test | Sabueso, s | SQL by hand, s | ratio | Sabueso, peak MB | SQL, peak MB | figures agree |"
        )
        print("|---|---:|---:|---:|---:|---:|---:|")
        for test in SETTINGS:
            pairs = []
            for _ in range(args.rounds):
                pairs.append(
                    (child("ours", test, str(folder / "case")), child("theirs", test, str(parquet)))
                )
            agree = 0
            for key, value in pairs[0][0]["answer"].items():
                other = pairs[0][1]["answer"][key]
                if not isclose(value, other, rel_tol=1e-6):
                    raise SystemExit(f"{test}: {key} is {value} here and {other} there")
                agree += 1
            mine, other = ([p[i] for p in pairs] for i in (0, 1))
            ratio = statistics.median(a["seconds"] / b["seconds"] for a, b in pairs)
            seconds = [statistics.median(x["seconds"] for x in side) for side in (mine, other)]
            peaks = [max(x["peak"] for x in side) for side in (mine, other)]
            print(
                f"| {test} | {seconds[0]:.2f} | {seconds[1]:.2f} | {ratio:.2f} | {peaks[0]:,.0f} | "
                f"{peaks[1]:,.0f} | {agree} |",
                flush=True,
            )


if __name__ == "__main__":
    main()
