"""Every test on a large ledger, beside SQL written by hand for the same result on the same Parquet.

Usage: python bench/every_test.py [--rows N] [--rounds K] [--only TEST,…] [--markdown]

Each figure is a whole process, start included: the program's, and one of the embedded engine's own library that
runs the queries and fetches what they return. The SQL is what an analyst would write for the same figures and marks,
with the population that they are of: it explains and warns of nothing.
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import duckdb

LEDGER = """
copy (select 'E' || lpad((i + i // 1000003)::varchar, 9, '0') as id,
  date '2024-01-01' + cast(i * 731 // {rows} as int) as date,
  time '07:00:00' + to_minutes(cast(hash(i, 12) % 700 as int)) as hour,
  cast(60000 + hash(i, 2) % 2000 as varchar) as account,
  'S' || lpad(cast(floor(50000 * pow((hash(i, 7) % 1000003) / 1000003.0, 3)) as int)::varchar, 5, '0') as supplier,
  'U' || (hash(i, 3) % 60) as preparer,
  'F' || (hash(i, 10) % {rows}) as document,
  cast(1 + hash(i, 5) % 400 as decimal(18, 1)) as units,
  cast(exp(2 + (hash(i, 6) % 1000) / 500.0) as decimal(18, 2)) as price,
  cast(exp(3 + 1.2 * sqrt(-2 * ln(1 - (hash(i, 8) % 1000000) / 1000001.0))
    * cos(6.283185307 * (hash(i, 9) % 1000000) / 1e6)) as decimal(18, 2)) as amount,
  cast(round(units * price, 2) + case when hash(i, 13) % 10000 = 0 then 10 else 0 end as decimal(18, 2)) as net,
  'text ' || (hash(i, 11) % 40) as text
  from range({rows}) t(i)) to '{path}' (format parquet)
"""
SUPPLIERS = """
copy (select 'S' || lpad(i::varchar, 5, '0') as id, 'Firm ' || i as name,
  date '2019-01-01' + cast(hash(i, 1) % 2000 as int) as created
  from range(49000) t(i)) to '{path}' (format parquet)
"""

Bench = tuple[list[str], list[str]]
POPULATION = "select count(*), sum(amount), min(date), max(date) from l"
"""No figure without its population."""
CENTS = "cast(amount * 100 as bigint)"
FIRST_TWO = "substr(cast(abs(cast(amount * 100 as bigint)) as varchar), 1, 2)"

BENCHES: dict[str, Bench] = {
    "digits": (
        ["digits", "ledger", "--digits", "first-two"],
        [f"select {FIRST_TWO} d, count(*), sum(amount) from l where amount <> 0 group by 1"],
    ),
    "zscore by account": (
        ["zscore", "ledger", "--by", "account", "--limit", "5"],
        [
            "with g as (select account, avg(amount) m, stddev_samp(amount) s from l group by 1) select l.* from "
            "l join g using (account) where abs(amount - m) > 5 * s order by abs(amount - m) / s desc",
        ],
    ),
    "fences by account": (
        ["fences", "ledger", "--by", "account", "--inner", "9", "--outer", "12"],
        [
            "with g as (select account, quantile_cont(amount, [0.25, 0.75]) q from l group by 1) select l.* "
            "from l join g using (account) where amount > q[2] + 9 * (q[2] - q[1]) or amount < q[1] - 9 * "
            "(q[2] - q[1]) order by amount desc",
        ],
    ),
    "periods": (
        ["periods", "ledger", "--per", "account", "--base", "2024", "--current", "2025"],
        [
            "select account, sum(amount) filter (year(date) = 2024), sum(amount) filter (year(date) = 2025), "
            "count(*) from l group by 1",
            "select account, date_trunc('month', date), sum(amount), count(*) from l group by 1, 2",
        ],
    ),
    "distance of rows": (
        ["distance", "ledger", "--measures", "amount,units,price", "--aim", "100"],
        [
            "with x as (select cast(amount as double) a, cast(units as double) b, cast(price as double) c "
            "from l), m as (select avg(a) ma, avg(b) mb, avg(c) mc, var_samp(a) va, var_samp(b) vb, "
            "var_samp(c) vc, covar_samp(a, b), covar_samp(a, c), covar_samp(b, c) from x) select a, b, c, "
            "(a - ma)^2 / va + (b - mb)^2 / vb + (c - mc)^2 / vc d from x, m order by d desc limit 100",
        ],
    ),
    "distance of suppliers": (
        [
            "distance", "ledger", "--per", "supplier", "--measures",
            "sum(amount),count(*),avg(price),stddev(amount),sum(units),max(amount)",
        ],
        [
            "select supplier, sum(amount), count(*), avg(price), stddev_samp(amount), sum(units), max(amount) "
            "from l group by 1",
        ],
    ),
    "relation": (
        ["relation", "ledger", "--measures", "units,amount"],
        [
            "with x as (select cast(units as double) x, cast(amount as double) y from l), r as (select "
            "corr(x, y), regr_slope(y, x) b, regr_intercept(y, x) a, regr_sxx(y, x) sxx, regr_syy(y, x) syy, "
            "avg(x) mx, count(*) n from x) select count(*) filter (abs(y - a - b * x) > 5 * "
            "sqrt(syy / n)), sum((x - mx)^2 * (y - a - b * x)^2), max(abs(y - a - b * x)) from x, r",
            "with x as (select cast(units as double) x, cast(amount as double) y from l) select corr(r, s) "
            "from (select rank() over (order by x) + count(*) over (partition by x) / 2.0 r, rank() over "
            "(order by y) + count(*) over (partition by y) / 2.0 s from x)",
        ],
    ),
    "repeats": (
        ["repeats", "ledger", "--same", "supplier,account"],
        [
            "select * from (select *, count(*) over (partition by supplier, account, amount) n, lag(date) over "
            "(partition by supplier, account, amount order by date) before from l) where n > 1 and date - before <= 7 "
            "order by amount desc limit 1000",
            "select supplier, sum(c * (c - 1)) / 2 from (select supplier, amount, count(*) c from l group by "
            "1, 2) group by 1",
        ],
    ),
    "match": (
        ["match", "ledger", "--other", "suppliers", "--on", "supplier", "--other-on", "id"],
        [
            "select l.supplier, count(*), sum(amount), min(l.id) from l left join s on l.supplier = s.id where "
            "s.id is null group by 1 order by 3 desc",
            "select found, count(*), sum(n), sum(total) from (select supplier, count(*) n, sum(amount) total from l "
            "group by 1) k left join (select id, true found from s) on supplier = id group by 1",
            "select supplier is null, count(*) from s left join (select distinct supplier from l) on supplier = id "
            "group by 1",
        ],
    ),
    "payees": (
        ["payees", "ledger", "--created", "supplier.created"],
        [
            "with p as (select supplier, max(date) last, count(*) n, sum(amount) total from l group by 1) "
            "select r, f, m, count(*), sum(total) from (select ntile(5) over (order by last) r, ntile(5) "
            "over (order by n) f, ntile(5) over (order by total) m, total from p) group by 1, 2, 3",
            "with d as (select supplier, date, count(*) n from l group by 1, 2) select * from (select *, "
            "date - lag(date) over (partition by supplier order by date) gap, sum(n) over (partition by "
            "supplier order by date range between interval 10 days preceding and current row) busy, sum(n) "
            "over (partition by supplier order by date) before from d) where gap > 200 or busy > 5000",
            "select supplier, count(*) from l join s on l.supplier = s.id where date < created group by 1",
        ],
    ),
    "sequence": (
        ["sequence", "ledger", "--of", "id"],
        [
            "select * from (select cast(substr(id, 2) as bigint) n, date, lag(cast(substr(id, 2) as bigint)) "
            "over w before, lag(date) over w earlier from l window w as (order by cast(substr(id, 2) as bigint), "
            "id)) where n - before > 1 or n = before or date < earlier",
            "select regexp_replace(id, '[0-9]', '9', 'g') f, count(*) from l group by 1",
        ],
    ),
    "calendar": (
        ["calendar", "ledger", "--by", "preparer"],
        [
            "select preparer, isodow(date) d, hour(minute) h, count(*), sum(n), sum(total), count(distinct date) "
            "from (select preparer, date, date_trunc('minute', date + hour) as minute, count(*) n, "
            "sum(greatest(amount, 0)) total from l group by 1, 2, 3) group by 1, 2, 3",
        ],
    ),
    "event": (
        ["event", "ledger", "--at", "2025-05-21", "--per", "supplier"],
        [
            "select supplier, count(*), count(distinct date), count(*) filter (date between '2025-05-13' and "
            "'2025-05-20'), count(distinct date) filter (date between '2025-05-13' and '2025-05-20'), "
            "sum(amount) filter (date between '2025-05-13' and '2025-05-20') from l group by 1",
        ],
    ),
    "recompute": (
        ["recompute", "ledger", "--on", "net", "--expect", "units * price"],
        [
            "select *, round(units * price, 2) - net off from l where abs(round(units * price, 2) - "
            "net) > 0.01 order by abs(round(units * price, 2) - net) desc limit 1000",
            "select count(*), sum(round(units * price, 2) - net), sum(net) from l where "
            "abs(round(units * price, 2) - net) > 0.01",
        ],
    ),
    "split": (
        ["split", "ledger", "--limit", "200", "--within", "3"],
        [
            "select supplier, count(*) filter (amount >= 180 and amount < 200), count(*) filter (amount >= "
            "160 and amount < 180), sum(amount) from l where amount < 200 group by 1",
            "select preparer, count(*) filter (amount >= 180 and amount < 200), count(*) filter (amount >= "
            "160 and amount < 180) from l where amount < 200 group by 1",
            "with d as (select supplier, date, count(*) n, sum(amount) total from l where amount between 100 "
            "and 199.99 group by 1, 2) select * from (select *, sum(total) over w t, sum(n) over w k from d "
            "window w as (partition by supplier order by date range between interval 3 days preceding and "
            "current row)) where t > 200 and k > 1",
            "with p as (select supplier, date, amount, row_number() over (partition by supplier order by date) k from l "
            "where amount between 50 and 199.99), r as (select o, supplier, amount, row_number() over (partition by o, "
            "supplier order by hash(k, o, supplier)) k from p, range(8) t(o)), d as (select o, p.supplier, p.date, r.amount from p "
            "join r using (supplier, k)) select supplier, count(*) / 8 from (select supplier, sum(amount) over w t, "
            "count(*) over w k from d window w as (partition by o, supplier order by date range between current row "
            "and interval 3 days following)) where t >= 200 and k > 1 group by 1",
        ],
    ),
    "traits": (
        ["traits", "ledger", "--per", "id"],
        [
            "create temp table e as with a as (select account, count(*) na from l group by 1), ap as (select "
            "account, preparer, count(*) nap from l group by 1, 2), h as (select preparer, hour(hour) o, count(*) "
            "nh from l group by 1, 2), d as (select preparer, isodow(date) o, count(*) nd from l group by 1, 2), t "
            "as (select text, count(distinct supplier) nt from l group by 1) select id, max(na < 1000) seldom, "
            "max(nap < 20) strange, max(nh < 1000) odd, max(nd < 1000) rest, max(amount >= 1000 and amount % 100 = "
            "0) round, max(nt between 2 and 3) copied, max(l.text is null) empty, count(*) n, min(account) filter "
            "(amount > 0) debit, min(account) filter (amount < 0) credit from l join a using (account) join ap "
            "using (account, preparer) join h on h.preparer = l.preparer and h.o = hour(hour) join d on d.preparer "
            "= l.preparer and d.o = isodow(date) left join t using (text) group by 1",
            "select debit, credit, count(*) from e group by 1, 2",
            "select seldom, strange, odd, rest, round, copied, empty, count(*), sum(n) from e group by all",
            "select e.id, sum(amount) from e join l using (id) where strange and odd or round and odd group by 1",
        ],
    ),
    "range": (
        ["range", "ledger", "--least", "0.5", "--greatest", "900"],
        [
            "select * from l where amount < 0.5 or amount > 900 order by abs(amount) desc",
        ],
    ),
}  # fmt: skip


def timed(command: list[str], cwd: Path) -> tuple[float, float]:
    """Seconds and most megabytes of a process; its memory is known on POSIX systems."""
    began = time.perf_counter()
    process = subprocess.Popen(command, cwd=cwd, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    if hasattr(os, "wait4"):
        errors = process.stderr.read() if process.stderr else b""
        _, status, usage = os.wait4(process.pid, 0)
        code = os.waitstatus_to_exitcode(status)
        megabytes = usage.ru_maxrss / (2**20 if sys.platform == "darwin" else 2**10)
    else:
        _, errors = process.communicate()
        code, megabytes = process.returncode, float("nan")
    if code not in (0, 3):
        sys.exit(f"{' '.join(command)}: {errors.decode()[-600:]}")
    return time.perf_counter() - began, megabytes


def by_hand(queries: list[str], folder: Path) -> list[str]:
    """A process that runs the queries and fetches what they return."""
    lines = [
        "import duckdb",
        "c = duckdb.connect()",
        f"c.execute(\"create view l as select * from '{(folder / 'ledger.parquet').as_posix()}'\")",
        f"c.execute(\"create view s as select * from '{(folder / 'suppliers.parquet').as_posix()}'\")",
        *(f"c.execute({query!r}).to_arrow_table()" for query in queries),
    ]
    return [sys.executable, "-c", "\n".join(lines)]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--only", default="")
    parser.add_argument("--markdown", action="store_true")
    asked = parser.parse_args()
    wanted = [name.strip() for name in asked.only.split(",") if name.strip()]
    chosen = {k: v for k, v in BENCHES.items() if not wanted or v[0][0] in wanted or k in wanted}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        duckdb.sql(LEDGER.format(rows=asked.rows, path=(folder / "ledger.parquet").as_posix()))
        duckdb.sql(SUPPLIERS.format(path=(folder / "suppliers.parquet").as_posix()))
        program = [sys.executable, "-m", "sabueso"]
        timed([*program, "open", "case"], folder)
        case = folder / "case"
        for table in ("ledger", "suppliers"):
            timed([*program, "intake", f"../{table}.parquet", "--as", table, "--attach"], case)
        timed([*program, "survey", "--keep-links"], case)
        form = "| {} | {} | {} | {} | {} |" if asked.markdown else "{:24}{:>10}{:>10}{:>8}{:>8}"
        print(f"{asked.rows:,} rows, medians of {asked.rounds}")
        print(form.format("test", "seconds", "SQL", "ratio", "MB"))
        if asked.markdown:
            print("|---|---|---|---|---|")
        for label, (words, queries) in chosen.items():
            ours, theirs, memory = [], [], 0.0
            for _ in range(asked.rounds):
                seconds, megabytes = timed([*program, "try", *words], case)
                ours.append(seconds)
                memory = max(memory, megabytes)
                theirs.append(timed(by_hand([*queries, POPULATION], folder), folder)[0])
            mine, hand = statistics.median(ours), statistics.median(theirs)
            cells = f"{mine:.2f}", f"{hand:.2f}", f"{mine / hand:.2f}", f"{memory:.0f}"
            print(form.format(label, *cells), flush=True)


if __name__ == "__main__":
    main()
