"""The five tests of the benchmark as hand-written SQL: five_sql.py LEDGER.csv|LEDGER.parquet ANSWERS.json.

The best that one writes by hand for this engine: the file is read once into a table.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import duckdb
import numpy as np
from scipy.special import betaincinv

db = duckdb.connect()
db.execute("SET enable_progress_bar = false; SET preserve_insertion_order = false")
if sys.argv[1].endswith(".csv"):
    db.execute(
        "CREATE TABLE ledger AS SELECT *, CAST(amount * 100 AS BIGINT) AS units FROM "
        f"read_csv('{sys.argv[1]}', types = {{'amount': 'DECIMAL(18,2)', 'account': 'VARCHAR'}})"
    )
else:
    db.execute(
        "CREATE VIEW ledger AS SELECT *, CAST(amount * 100 AS BIGINT) AS units "
        f"FROM read_parquet('{sys.argv[1]}')"
    )
answers = {}


def rows(statement: str) -> list[tuple]:
    return db.sql(statement).fetchall()


db.execute(
    "CREATE TEMP TABLE amounts AS SELECT units, count(*) AS n FROM ledger WHERE units <> 0 GROUP BY units"
)
classes = {
    digits: (n, total, cos, sin)
    for digits, n, total, cos, sin in rows(
        """
        SELECT CASE WHEN abs(units) < 10 THEN abs(units) * 10
               ELSE abs(units) // CAST(10 ** (length(CAST(abs(units) AS VARCHAR)) - 2) AS BIGINT) END AS digits,
               sum(n)::BIGINT, sum(units * n)::BIGINT,
               sum(n * cos(2 * pi() * log10(abs(units)))), sum(n * sin(2 * pi() * log10(abs(units))))
        FROM amounts GROUP BY digits
        """
    )
}
n = sum(c[0] for c in classes.values())
labels = np.arange(10, 100)
expected = np.log10(1 + 1 / labels)
counts = np.array([classes.get(k, (0,))[0] for k in labels.tolist()])
low, median, high = rows(
    "SELECT quantile_cont(abs(units), [0.01, 0.5, 0.99]) FROM ledger WHERE units <> 0"
)[0][0]
answers["digits"] = {
    "n": n,
    "counts": int((counts * labels).sum()),
    "amounts": sum(k * c[1] for k, c in classes.items()),
    "chi_square": n * float((((counts / n - expected) ** 2) / expected).sum()),
    "mad": float(np.abs(counts / n - expected).mean()),
    "mantissa_l2": (sum(c[2] for c in classes.values()) / n) ** 2
    + (sum(c[3] for c in classes.values()) / n) ** 2,
    "most_frequent": sum(
        r[0] for r in rows("SELECT n FROM amounts ORDER BY n DESC, units LIMIT 5")
    ),
    "distinct": rows("SELECT count(*) FROM amounts")[0][0],
    "percentiles": low + median + high,
}

db.execute(
    """
    CREATE TEMP TABLE groups AS
    SELECT account, count(*) AS n, avg(units) AS mean, stddev_samp(units) AS sd,
           quantile_cont(units, [0.5, 0.95]) AS q, mad(units::DOUBLE) AS mad,
           skewness(units) AS skew, kurtosis(units) AS kurt
    FROM ledger GROUP BY account HAVING count(*) >= 3
    """
)
figures = rows(
    "SELECT sum(n), sum(mean), sum(sd), sum(q[1]), sum(skew), sum(kurt), sum(mad), sum(q[2]) FROM groups"
)[0]
flagged = rows(
    """
    SELECT entry, date, account, supplier, preparer, text, units, (units - mean) / sd AS z
    FROM ledger JOIN groups USING (account) WHERE abs(units - mean) > 20 * sd ORDER BY abs(z) DESC
    """
)
without = rows(
    """
    SELECT sum(n), sum(mean), sum(sd), sum(q[1]), sum(total), sum(q[2]) FROM (
      SELECT count(*) AS n, avg(units) AS mean, stddev_samp(units) AS sd, sum(units) AS total,
             quantile_cont(units, [0.5, 0.95]) AS q
      FROM ledger JOIN groups USING (account) WHERE abs(units - mean) <= 20 * sd GROUP BY account)
    """
)[0]
unit = (1, 100, 100, 100, 1, 1, 100, 100)
names = ("count", "mean", "std", "median", "skew", "kurt", "mad", "p95")
answers["zscore"] = {
    "figures": {k: float(v) / u for k, v, u in zip(names, figures, unit, strict=True)},
    "without": {
        k: float(v) / u
        for k, v, u in zip(
            ("count", "mean", "std", "median", "sum", "p95"), without, (1, *[100] * 5), strict=True
        )
    },
    "flagged": len(flagged),
    "flagged_amount": sum(row[6] for row in flagged),
}

db.execute(
    """
    CREATE TEMP TABLE scales AS
    SELECT account, quantile_cont(amount::DOUBLE, 0.5) / 100 AS u
    FROM ledger WHERE units > 0 GROUP BY account
    """
)
db.execute(
    """
    CREATE TEMP TABLE fences AS
    SELECT account, any_value(u) AS u, quantile_cont(log10(1 + amount / u), [0.25, 0.5, 0.75]) AS q
    FROM ledger JOIN scales USING (account) WHERE units > 0 GROUP BY account HAVING count(*) >= 5
    """
)
flagged = rows(
    """
    SELECT entry, date, account, supplier, preparer, text, units
    FROM ledger JOIN fences USING (account)
    WHERE units > 0 AND (log10(1 + amount / u) > q[3] + 3 * (q[3] - q[1])
                         OR log10(1 + amount / u) < q[1] - 3 * (q[3] - q[1]))
    """
)
answers["fences"] = {
    "quartiles": list(
        rows("SELECT 10 ** avg(q[1]), 10 ** avg(q[2]), 10 ** avg(q[3]) FROM fences")[0]
    ),
    "flagged": len(flagged),
    "flagged_amount": sum(row[6] for row in flagged),
}

db.execute(
    """
    CREATE TEMP TABLE suppliers AS
    SELECT supplier, sum(amount)::DOUBLE AS a, count(*)::DOUBLE AS b FROM ledger GROUP BY supplier
    """
)
n, ma, mb, va, vb, vab = rows(
    "SELECT count(*), avg(a), avg(b), var_samp(a), var_samp(b), covar_samp(a, b) FROM suppliers"
)[0]
limit = float(1 - betaincinv((n - 3) / 2, 1, 0.001)) * (n - 1) ** 2 / n
flagged = rows(
    f"""
    SELECT supplier, (power(a - {ma!r}, 2) * {vb!r} - 2 * (a - {ma!r}) * (b - {mb!r}) * {vab!r}
                      + power(b - {mb!r}, 2) * {va!r}) / {va * vb - vab**2!r} AS d
    FROM suppliers WHERE d > {limit!r} ORDER BY d DESC
    """
)
answers["distance"] = {
    "subjects": n,
    "center": [ma, mb],
    "covariance": [va, vab, vab, vb],
    "flagged": len(flagged),
    "greatest": flagged[0][1] if flagged else 0.0,
}

lines = rows(
    """
    SELECT account, coalesce(sum(units) FILTER (year(date) = 2024), 0)::BIGINT AS base,
           coalesce(sum(units) FILTER (year(date) = 2025), 0)::BIGINT AS current
    FROM ledger GROUP BY account
    """
)
moved = [abs(b - a) for _, a, b in lines if abs(b - a) >= 5_000_00 and abs(b - a) >= 0.1 * abs(a)]
answers["periods"] = {
    "base": sum(a for _, a, _ in lines),
    "current": sum(b for _, _, b in lines),
    "flagged": len(moved),
    "moved": sum(moved),
}
with Path(sys.argv[2]).open("w") as file:
    json.dump(answers, file, default=float)
