"""Two engines, the same figures: every building block, the core screens whole, and a real cluster."""

from __future__ import annotations

import json
import os
import random
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import date, datetime, timedelta
from decimal import Decimal
from fractions import Fraction
from math import ceil, floor
from pathlib import Path

import pyarrow as pa
import pytest
import sqlglot.expressions as exp

from conftest import inside, inside_json, sabueso, screened, table_of
from sabueso.population import expressions, sql
from sabueso.population.calendar import Span
from sabueso.population.derived import with_derived
from sabueso.population.drill import Asked, drill, rows
from sabueso.population.driving import Candidate, of_change, of_rows, rate_and_volume
from sabueso.population.engines import Engine, EngineSettings, QueryError, open_engine
from sabueso.population.nothing import states_nothing
from sabueso.population.pairs import correlations
from sabueso.population.peers import peers_of
from sabueso.population.population import Population
from sabueso.screens import many_rows, worths

pytestmark = pytest.mark.skipif(
    shutil.which("java") is None,
    reason="install Java 17 or newer: without it the tests of the Spark engine do not run",
)


@pytest.fixture(scope="module")
def engines() -> Iterator[tuple[Engine, Engine]]:
    """The embedded engine and a local Spark session, one for all tests of this file."""
    both = (
        open_engine(EngineSettings()),
        open_engine(EngineSettings(kind="spark", master="local[2]", threads=2)),
    )
    yield both
    for engine in both:
        engine.close()


def _value(rng: random.Random) -> int:
    size = rng.choice([1, 5, 9, 10, 95, 99, 100, 995, 999, 1000, 1001, 4999, 10**6, 10**12])
    return rng.choice([-1, 1]) * (size + rng.choice([0, 0, 1, -1]) * (size > 1))


def _ledger(n: int = 3000) -> list[dict]:
    """Amounts at the edges of classes, sums beyond 64 bits, gaps, ties, dates at ends of periods."""
    rng = random.Random(7)
    ends = [date(2024, 2, 29), date(2023, 12, 31), date(2024, 1, 1), date(2025, 6, 30)]
    found = []
    for i in range(n):
        units = 0 if rng.random() < 0.02 else _value(rng)
        amount = None if rng.random() < 0.02 else Decimal(units).scaleb(-2)
        spread = Decimal(int(rng.lognormvariate(9, 1.3))).scaleb(-2)
        day = rng.choice(ends) if i % 7 == 0 else date(2024, 1, 1) + timedelta(days=i % 700)
        found.append(
            {
                "id": f"R{i:05d}",
                "day": None if i % 101 == 0 else day,
                "account": None if i % 97 == 0 else f"6{rng.randrange(12):02d}",
                "who": rng.choice("abcdeé"),
                "amount": amount,
                "cost": spread if i % 40 else -spread,
                "hours": Decimal(rng.randrange(1, 400)).scaleb(-1),
            }
        )
    return found


@pytest.fixture(scope="module")
def populations(engines, tmp_path_factory) -> tuple[Population, Population]:
    path = tmp_path_factory.mktemp("both") / "rows.parquet"
    table = table_of(_ledger(), path, id="id", date="day", account="account", amount="cost")
    for engine in engines:
        engine.attach(table)
    return tuple(Population(e, table, tables={"ledger": table}) for e in engines)  # type: ignore[return-value]


DERIVED = {
    "both": "amount + cost",
    "product": "hours * cost",
    "signed": "case when who = 'a' then -cost else cost end",
    "share": "cast(cost / nullif(hours, 0) as decimal(18, 3))",
    "quarter_of": "quarter",
    "large": "abs(both) > 100",
    "name": "upper(who) || '-' || account",
    "late": "cast(day as timestamp)",
}


def test_derived_columns_are_equal_on_both(engines, tmp_path):
    table = replace(
        table_of(_ledger(), tmp_path / "rows.parquet", id="id", date="day"), name="derived"
    )
    table = with_derived(table, DERIVED, "columns")
    kinds = {c.name: (c.type, c.scale) for c in table.columns if c.name in DERIVED}
    assert kinds["both"] == ("number", 2) and kinds["product"] == ("number", 3)
    assert kinds["share"] == ("number", 3) and kinds["large"] == ("text", 0)
    assert kinds["late"] == ("timestamp", 0) and kinds["quarter_of"][0] == "text"
    found = []
    for engine in engines:
        engine.attach(table)
        tree = exp.select(*(sql.column(name) for name in ("id", *DERIVED)))
        rows_ = engine.query(tree.from_('"derived"').order_by(sql.column("id"))).to_pylist()
        found.append(rows_)
    assert found[0] == found[1]
    for row, plain in zip(found[0], _ledger(), strict=True):
        if plain["amount"] is not None:
            assert row["both"] == plain["amount"] + plain["cost"]
        assert row["product"] == plain["hours"] * plain["cost"]
        assert row["signed"] == (-plain["cost"] if plain["who"] == "a" else plain["cost"])


def test_hours_between_moments_are_equal_and_right(engines, tmp_path):
    begin = datetime(2025, 3, 30, 22, 15, 30)
    spans = [0, 1, 59, 3_600, 5_400, 86_399, 86_400, 200_000]
    ends = [begin + timedelta(seconds=seconds) for seconds in spans]
    given = [
        {"n": n, "begin": begin, "end": end, "from": begin.time(), "to": end.time()}
        for n, end in enumerate(ends)
    ]
    known = replace(table_of(given, tmp_path / "spans.parquet"), name="spans")
    asked = {"on": 'hours("end", begin)', "back": 'hours(begin, "end")', "of day": 'hours("to", "from")'}  # fmt: skip
    fields = {name: expressions.scalar(text, known, "--on") for name, text in asked.items()}
    select = exp.select(*(exp.alias_(tree, name, quoted=True) for name, tree in fields.items()))
    for engine in engines:
        engine.attach(known)
        tree = select.from_("spans").order_by(sql.column("n"))
        for seconds, row in zip(spans, engine.query(tree.copy()).to_pylist(), strict=True):
            assert row["on"] == pytest.approx(seconds / 3600) == pytest.approx(-row["back"])
            assert row["of day"] == pytest.approx(seconds % 86_400 / 3600)


UNITS = exp.Cast(
    this=exp.Mul(this=sql.column("amount"), expression=sql.integer(100)),
    to=exp.DataType.build("BIGINT"),
)
FILLED = exp.NEQ(this=sql.column("amount"), expression=sql.integer(0))
DAY = sql.column("day")
BLOCKS = {
    "count": sql.count(),
    "exact_sum": sql.exact_sum(UNITS),
    "exact_square_sum": sql.exact_square_sum(UNITS),
    "exact_weighted_sum": sql.exact_weighted_sum(UNITS, sql.integer(10**6)),
    "exact_product_sum": sql.exact_product_sum(UNITS, sql.integer(10**9)),
    "sum beyond 64 bits": sql.exact_sum(
        exp.Mul(this=sql.magnitude(UNITS.copy()), expression=sql.integer(10**5))
    ),
    "only": sql.only(sql.count(), FILLED),
}
PER_ROW = {
    "minor_units": UNITS,
    "whole_division": sql.whole_division(UNITS, sql.integer(7)),
    "magnitude": sql.magnitude(UNITS),
    "log_units": sql.log_units(sql.column("amount"), 9),
    "try_cast": sql.cast(sql.column("hours"), "DOUBLE"),
    "same": sql.same(sql.column("account"), exp.null()),
    "both": sql.both([FILLED, exp.GT(this=DAY, expression=sql.cast(sql.text("2024-06-01"), "DATE"))]),
    "year": sql.year(DAY),
    "fiscal year": sql.year(DAY, 7),
    **{f"period {unit}": sql.period(DAY, unit) for unit in sql.PERIODS},
}  # fmt: skip
DIGITS = ("first", "second", "first-two", "first-three", "last-two")


def _both(populations, tree: exp.Expr) -> tuple[pa.Table, pa.Table]:
    return tuple(p.query(tree.copy()) for p in populations)


@pytest.mark.parametrize("name", BLOCKS)
def test_aggregates_are_equal(populations, name):
    """Ungrouped and grouped, the groups in the same order, a missing one last."""
    whole = exp.select(exp.alias_(BLOCKS[name].copy(), "x")).from_("ledger")
    account = sql.column("account")
    grouped = exp.select(account, exp.alias_(BLOCKS[name].copy(), "x")).from_("ledger")
    grouped = grouped.group_by(account.copy()).order_by(sql.ordered(account.copy()))
    for tree in (whole, grouped):
        here, there = _both(populations, tree)
        assert here.to_pylist() == there.to_pylist()
    assert here.column("account").to_pylist()[-1] is None


def test_order_statistics_are_exact(populations):
    """The engines interpolate in floats that differ; what is read from them is the fraction itself."""
    shares = ("0", "0.05", "0.25", "0.5", "0.75", "0.95", "0.995", "1")
    account = sql.column("account")
    tree = exp.select(account, exp.alias_(sql.quantiles(UNITS, shares), "q")).from_("ledger")
    values: dict[str | None, list[int]] = {}
    for row in _ledger():
        if row["amount"] is not None:
            values.setdefault(row["account"], []).append(int(row["amount"] * 100))
    for found in _both(populations, tree.group_by(account.copy())):
        assert found.num_rows == len(values)
        for row in found.to_pylist():
            ordered = sorted(values[row["account"]])
            for value, share in zip(row["q"], shares, strict=True):
                place = (len(ordered) - 1) * Fraction(share)
                low, high = ordered[floor(place)], ordered[ceil(place)]
                exact = low + (place - floor(place)) * (high - low)
                assert sql.exact_quantile(value, share) == exact


def test_a_sum_does_not_wrap(populations):
    total = 10**5 * sum(abs(int(r["amount"] * 100)) for r in _ledger() if r["amount"] is not None)
    assert total > 2**63
    tree = exp.select(exp.alias_(BLOCKS["sum beyond 64 bits"].copy(), "x")).from_("ledger")
    for found in _both(populations, tree):
        assert int(found.to_pylist()[0]["x"]) == total


def test_values_per_row_are_equal(populations):
    trees = {f"c{i}": tree for i, tree in enumerate(PER_ROW.values())}
    select = exp.select(*(exp.alias_(tree.copy(), name) for name, tree in trees.items()))
    here, there = _both(populations, select.from_("ledger").order_by(*sql.place()))
    for name, title in zip(trees, PER_ROW, strict=True):
        assert here.column(name).to_pylist() == there.column(name).to_pylist(), title


def test_what_states_nothing_is_equal_and_right(engines, tmp_path):
    nothing = [
        "-",
        "--",
        " n/a ",
        "N/A",
        "0000",
        "0",
        "—",
        "…",
        " ",
        "Sin cuenta",
        "UNBEKANNT",
        "#REF!",
        "x",
    ]
    something = ["0a", "10", "ES-00", "é", "Ж", "n/a 7", "無題", "xy", "no. 5"]
    rows_ = [{"id": f"R{i:02d}", "key": key} for i, key in enumerate([*nothing, *something])]
    table = replace(table_of(rows_, tmp_path / "keys.parquet", id="id"), name="keys")
    for engine in engines:
        engine.attach(table)
        tree = exp.select(sql.column("key")).from_('"keys"')
        tree = tree.where(states_nothing(sql.column("key"))).order_by(sql.column("id"))
        assert engine.query(tree).column("key").to_pylist() == nothing


def test_digit_classes_are_equal_and_right(populations):
    fields = [exp.alias_(sql.digit_class(UNITS.copy(), t), f"c{i}") for i, t in enumerate(DIGITS)]
    select = exp.select(exp.alias_(UNITS.copy(), "units"), *fields).from_("ledger")
    here, there = _both(populations, select.where(FILLED.copy()).order_by(*sql.place()))
    assert here.to_pylist() == there.to_pylist()
    for row in here.to_pylist():
        text = str(abs(row["units"]))
        padded = text.ljust(3, "0")
        assert [row[f"c{i}"] for i in range(5)] == [
            int(padded[0]), int(padded[1]), int(padded[:2]), int(padded[:3]), int(text[-2:]),
        ]  # fmt: skip


def test_what_is_staged_and_what_is_joined(populations):
    """A staged result, and a small input table matched by keys of which one is missing."""
    account = sql.column("account")
    tree = exp.select(account, exp.alias_(sql.count(), "n")).from_("ledger")
    tree = tree.group_by(account.copy())
    limits = pa.table({"account": ["600", None], "least": pa.array([1, 2], pa.int64())})
    found = []
    for population in populations:
        with population.staged("counted", tree.copy()):
            joined = exp.select(sql.column("n", "counted"), sql.column("least", "limits"))
            on = sql.same(sql.column("account", "counted"), sql.column("account", "limits"))
            joined = joined.from_("counted").join("limits", on=on).order_by("least")
            found.append(population.query(joined, limits=limits).to_pylist())
    assert found[0] == found[1]
    assert len(found[0]) == 2


def test_what_data_do_not_allow_is_one_line(engines):
    wrong = exp.select(sql.cast(sql.column("who"), "INTEGER")).from_("ledger")
    for engine in engines:
        with pytest.raises(QueryError) as error:
            engine.query(wrong.copy())
        assert "\n" not in str(error.value) and "SQLSTATE" not in str(error.value)


SCREENS = [
    ("digits", {"on": "cost"}),
    ("digits", {"on": "amount", "digits": "first-two", "by_whom": "who"}),
    ("digits", {"on": "cost", "digits": "second", "by": "account", "min_group": 20}),
    ("zscore", {"on": "cost", "by": "account", "limit": "2"}),
    ("zscore", {"on": "cost", "method": "modified", "scale": "log", "where": "cost > 0"}),
    ("zscore", {"on": "amount"}),
    ("fences", {"on": "cost", "by": "account,quarter"}),
    ("fences", {"on": "cost", "rule": "weibull", "by": "who"}),
    ("fences", {"on": "cost", "scale": "log", "side": "high"}),
    ("digits", {"on": "cost", "sign": "each", "at_least": "2.50"}),
    ("digits", {"on": "cost", "of": "differences", "by": "who", "min_group": 5}),
    ("digits", {"on": "cost", "digits": "first-two", "compare": "2024,2025"}),
    ("zscore", {"on": "cost", "method": "sequential", "by": "account", "most": 5}),
    ("zscore", {"on": "cost", "by": "who", "aim": 9}),
    ("fences", {"on": "cost", "fence": "skew-adjusted", "by": "who"}),
    ("fences", {"on": "cost", "aim": 7, "side": "high"}),
    ("top", {"on": "cost", "share": "3%", "by": "account", "side": "both"}),
    ("range", {"on": "cost", "least": "-5", "greatest": "900.5", "not_above": "hours"}),
    ("range", {"rising": "hours", "same": "account", "per": "who"}),
    ("range", {"on": "cost", "not_below": "hours", "unique": "account,who"}),
    ("range", {"lowest": "cost", "per": "account", "chosen": "hours > 10"}),
    ("distance", {"measures": "cost,hours"}),
    ("relation", {"measures": "cost,hours", "by": "who"}),
    ("repeats", {"same": "who", "within": 20, "alpha": 1}),
    ("calendar", {"by": "who", "alpha": 0.9, "least": 1}),
    ("crosstab", {"of": "account", "by": "who", "alpha": 0.9, "least": 1, "times": "1"}),
    (
        "crosstab",
        {
            "where": "cost > 60",
            "by": "who",
            "beside": "ledger",
            "beside_where": "hours > 2",
            "alpha": 0.9,
            "least": 1,
            "times": "1",
        },
    ),
    (
        "traits",
        {
            "per": "id",
            "share": 0.9,
            "least": 1,
            "rare": 0.1,
            "words": "a,b",
            "holidays": "2024-02-29",
            "limit": "300",
            "period": "month",
            "back_within": 5,
        },
    ),
    (
        "event",
        {
            "at": "2024-09-01",
            "window": 30,
            "side": "around",
            "per": "who",
            "alpha": 0.99,
            "on": "cost",
        },
    ),
    ("recompute", {"expect": "hours * 10", "on": "cost"}),
    ("recompute", {"what": "balance", "balance": "cost", "per": "who", "on": "amount"}),
    (
        "recompute",
        {
            "what": "totals",
            "by": "account",
            "equals": "sum(cost)",
            "expect": "sum(hours)",
            "other": "ledger",
        },
    ),
    (
        "split",
        {
            "limit": "200",
            "per": "who",
            "by_whom": "account,who",
            "within": 9,
            "alpha": 0.9,
            "on": "cost",
        },
    ),
    ("sequence", {"of": "id", "by": "who", "find": "gaps,repeats,order,form", "incomplete": 0.99}),
    ("sequence", {"of": "id", "days": 0, "incomplete": 0.999}),
    ("match", {"other": "ledger", "on": "account", "find": "present", "keys": "normalised"}),
    ("payees", {"per": "who", "silent": 5, "alpha": 0.9, "top": 0.2}),
    ("relation", {"measures": "count(*),sum(cost)", "per": "account", "chosen": "cost > 0"}),
    ("distance", {"measures": "avg(cost),sum(hours),count(*)", "per": "who,account", "by": "who"}),
    ("distance", {"measures": "stddev(cost),median(hours),sum(cost)", "per": "who,account"}),
    ("periods", {"per": "account", "base": "2024", "current": "2025", "quantity": "hours"}),
    ("traits", {"per": "who", "source": "account", "least": 1, "share": 0.5}),
    ("sample", {"method": "random", "size": 40, "seed": 3}),
    ("sample", {"method": "money", "size": 50, "seed": 3}),
    ("sample", {"method": "strata", "size": 60, "seed": 3, "take_all": "5000"}),
]


@pytest.mark.parametrize(("test", "settings"), SCREENS, ids=lambda v: v if v is str else None)
def test_core_screens_are_equal_figure_by_figure(populations, test, settings):
    where = settings.get("where")
    found = [
        screened(Population(p.engine, p.table, where, tables=p.tables), test, **settings)
        for p in populations
    ]
    assert found[0] == found[1]
    assert found[0]["groups"] and json.dumps(found[0]) == json.dumps(found[1])


@pytest.mark.parametrize("test", ["zscore", "fences"])
def test_amounts_are_equal_in_slices_of_groups(populations, monkeypatch, test):
    """Where they are too many to be held at once, on both engines."""
    asked = {"on": "cost", "by": "account", "scale": "log"}
    whole = screened(replace(populations[0], known={}), test, **asked)
    monkeypatch.setattr(worths, "SLICE_ROWS", 700)
    for population in populations:
        assert screened(replace(population, known={}), test, **asked) == whole


@pytest.mark.parametrize("test", ["relation", "distance"])
def test_rows_by_the_million_are_equal_figure_by_figure(populations, monkeypatch, test):
    monkeypatch.setattr(many_rows, "MANY", 100)
    found = [screened(p, test, measures="cost,hours", alpha=0.05) for p in populations]
    assert "sampled_fit" in {c["code"] for c in found[0]["cautions"]}
    assert json.dumps(found[0]) == json.dumps(found[1])


CONDITIONS = [
    "ln(cost) > 3", "sqrt(cost) < 20", "cost/0 > 1", "cost % 0 > -1", "1/cost > 0.01", "not (ln(cost) > 3)",
    "log(cost) > 1", "log10(cost) <= 1", "cost ** 0.5 > 3", "cost ** -1 < 1", "pow(cost, 3) > 100", "sqrt(cost) is null",
    "dayofweek(day) = 0", "extract(dow from day) in (1, 6)", "extract(week from day) = 9", "log(1, cost) > 0",
    "cast(who as varchar) like '%!%%' escape '!'", "nullif(cost, 0) is null", "cost // 7 = 3",
    "greatest(cost, 3) is null", "least(3, ln(cost), hours) < 2", "greatest(3, 2) > 2", "not (greatest(hours, cost) > 3)",
]  # fmt: skip


@pytest.mark.parametrize("text", CONDITIONS)
def test_conditions_select_the_same_rows(populations, text):
    """Outside of a function's domain there is no value, and a name means the same, on both engines."""
    text = text.replace("day)", f"{populations[0].table.roles['date']})")
    here, there = (
        Population(p.engine, p.table, text, tables=p.tables).account(None).used for p in populations
    )
    assert here == there


@pytest.mark.parametrize(
    "asked",
    [
        Asked(by=["account", "who"], across="month"),
        Asked(by=["who", "weekday"], measures=["sum(amount)", "count(distinct account)", "share"],
              having="count(*) > 2", limit=3),
        Asked(by=["band(amount, 0, 100, 5000)", "account"], measures=["median(amount)", "avg(amount)",
              "max(amount) - min(amount)", "count(*) filter (where who = 'Ana')"], limit=2),
        Asked(by=["word_in(who, 'ana', 'maría luisa')", "trailing_zeros(amount)"], across="quarter",
              sort="rows asc", limit=4),
    ],
)  # fmt: skip
def test_drill_downs_are_equal(populations, asked):
    here, there = (drill(p, asked) for p in populations)
    assert here.total == there.total and here.population == there.population
    assert here.across_values == there.across_values
    here, there = (rows(p, limit=50) for p in populations)
    assert [r["id"] for r in here.rows] == [r["id"] for r in there.rows]


def test_what_drives_a_figure_is_equal(populations):
    """The queries behind ``why``."""
    where = "first_digit(cost) = 4"
    who, account, cost = (populations[0].table.column(n) for n in ("who", "account", "cost"))
    values = [Candidate(column.name, sql.column(column.name)) for column in (who, account)]
    several = [*values, Candidate("month", sql.period(sql.column("day"), "month"))]
    here, there = (of_rows(p, where, several, cost) for p in populations)
    assert here == there
    assert [of_rows(populations[0], where, [each], cost)[0] for each in several] == here
    sides = [Span.of(name).holds(sql.column("day")) for name in ("2024", "2025")]
    hours = populations[0].table.column("hours")
    here, there = (of_change(p, *sides, values, cost) for p in populations)
    assert here == there
    here, there = (rate_and_volume(p, *(s.copy() for s in sides), hours, cost) for p in populations)
    assert here == there and here is not None
    groups = [correlations(p, ["cost", "hours"], ["account"]) for p in populations]
    assert groups[0] == groups[1]
    assert any(c.rho is not None for c in groups[0])
    here, there = (
        peers_of(p, [(account, "604"), (account, None)], Decimal("12.50"), cost)
        for p in populations
    )
    assert here == there


@contextmanager
def _servers(folder: Path, awaited: str, times: int, *commands: list[str]) -> Iterator[None]:
    """Spark's own servers, each a process, until their log has said a word so often."""
    import pyspark

    home = Path(pyspark.__file__).parent
    launcher = home / "bin" / ("spark-class.cmd" if os.name == "nt" else "spark-class")
    own = {**os.environ, **_small(folder), "SPARK_HOME": str(home), "SPARK_WORKER_DIR": str(folder)}
    path = folder / "servers.log"
    processes = []
    with path.open("w+b") as log:
        try:
            for command in commands:
                processes.append(
                    subprocess.Popen([str(launcher), *command], env=own, stdout=log, stderr=log)
                )
            for _ in range(240):
                said = path.read_text("utf-8", "replace")
                if said.count(awaited) >= times:
                    break
                time.sleep(0.5)
            else:
                raise AssertionError(said[-2000:])
            yield
        finally:
            for process in processes:
                process.terminate()
            for process in processes:
                process.wait(20)


def _small(folder: Path) -> dict[str, str]:
    """An environment in which Spark cuts its work into few pieces, and compiles none of it: the rows here are few."""
    conf = folder / "conf"
    conf.mkdir(exist_ok=True)
    plain = {
        "spark.sql.shuffle.partitions": 2,
        "spark.sql.codegen.wholeStage": "false",
        "spark.sql.codegen.factoryMode": "NO_CODEGEN",
        "spark.ui.enabled": "false",
        "spark.executor.cores": 1,
    }
    (conf / "spark-defaults.conf").write_text("".join(f"{k} {v}\n" for k, v in plain.items()))
    return {"SPARK_CONF_DIR": str(conf)}


def _free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


@contextmanager
def _cluster(folder: Path) -> Iterator[str]:
    """A standalone cluster: a master and a worker with two executors, each a process of its own."""
    where, port = ["--host", "127.0.0.1", "--webui-port", "0"], str(_free_port())
    address = f"spark://127.0.0.1:{port}"
    master = ["org.apache.spark.deploy.master.Master", *where, "--port", port]
    worker = ["org.apache.spark.deploy.worker.Worker", *where, "--cores", "2", "--memory", "2g"]
    with _servers(folder, "Registering worker", 1, master, [*worker, address]):
        yield address


@contextmanager
def _connect(folder: Path) -> Iterator[str]:
    """A server of Spark Connect."""
    port = str(_free_port())
    command = ["org.apache.spark.deploy.SparkSubmit", "--master", "local[2]"]
    command += ["--class", "org.apache.spark.sql.connect.service.SparkConnectServer"]
    for key, value in (("connect.grpc.binding.port", port), ("ui.enabled", "false")):
        command += ["--conf", f"spark.{key}={value}"]
    with _servers(folder, "Connect server started", 1, [*command, "spark-internal"]):
        yield f"sc://127.0.0.1:{port}"


def _case(folder: Path) -> Path:
    """A case with a ledger of some size, made in this process."""
    lines = ["pago,fecha,cuenta,proveedor,importe"]
    lines += [
        f"P{i},{2024 + i % 2}-0{1 + i % 9}-1{i % 9},62{i % 3},S{i % 17},{100 + i * i % 977}.{i % 90 + 10}"
        for i in range(1500)
    ]
    (folder / "pagos.csv").write_text("\n".join(lines) + "\n")
    inside("open", "c", cwd=folder)
    inside("intake", "../pagos.csv", "--as", "pagos", cwd=folder / "c")
    return folder / "c"


@pytest.mark.long
def test_spark_connect_gives_the_same_figures(tmp_path):
    case = _case(tmp_path)
    command = ["try", "fences", "pagos", "--by", "cuenta", "--format", "json"]
    here = inside(*command, cwd=case).stdout
    with _connect(tmp_path) as address, (case / "case.toml").open("a") as plan:
        plan.write(f'\n[engine]\nkind = "spark"\nremote = "{address}"\n')
        plan.flush()
        there = sabueso(*command, cwd=case)
    assert there.stdout == here and not there.stderr


@pytest.mark.long
def test_a_cluster_screens_and_papers_a_case(tmp_path):
    """End to end on a cluster of two executors; the findings are those of the embedded engine."""
    case = _case(tmp_path)
    tests = (
        ("top", "--share", "1%"),
        ("periods", "--per", "cuenta", "--base", "2024", "--current", "2025"),
    )
    for name, *options in tests:
        inside("try", name, "pagos", *options, "--keep", name, cwd=case)
    inside("screen", cwd=case)
    plan = case / "case.toml"
    with _cluster(tmp_path) as address:
        plan.write_text(f'{plan.read_text()}\n[engine]\nkind = "spark"\nmaster = "{address}"\n')
        done = sabueso("screen", cwd=case, **_small(tmp_path))
        assert not done.stderr
    assert inside_json("queue", cwd=case)
    inside("paper", cwd=case)
    findings = sorted((case / "runs" / "0001").glob("finding-*.json"))
    assert len(findings) == len(tests)
    for finding in findings:
        again = case / "runs" / "0002" / finding.name
        assert finding.read_bytes() == again.read_bytes()
    assert (case / "papers" / "working-paper.html").stat().st_size > 10_000
    # The cluster has gone: one sentence, and the case as it was.
    done = inside("screen", cwd=case, code=2)
    assert "cannot be reached" in done.stderr and done.stderr.count("\n") == 1
    assert not (case / "runs" / "0003").exists()


@pytest.mark.parametrize(
    ("engine", "message", "environment"),
    [
        ('kind = "spark"\nmaster = "http://x"', "expected local", {}),
        ('kind = "spark"\nremote = "http://x"', "expected an address such as sc://", {}),
        ('kind = "spark"\nremote = "sc://127.0.0.1:9"', "cannot be reached", {}),
        ('kind = "spark"', "needs Java 17", {"PATH": str(Path(sys.executable).parent), "JAVA_HOME": ""}),
        ('kind = "sparrow"', 'expected "duckdb" or "spark"', {}),
    ],
)  # fmt: skip
def test_an_engine_that_is_not_there_is_one_sentence(tmp_path, engine, message, environment):
    inside("open", "c", cwd=tmp_path)
    case = tmp_path / "c"
    (tmp_path / "x.csv").write_text("id,amount\n" + "".join(f"A{i},{i}.50\n" for i in range(30)))
    inside("intake", "../x.csv", "--as", "x", cwd=case)
    with (case / "case.toml").open("a") as plan:
        plan.write(f"\n[engine]\n{engine}\n")
    done = sabueso("try", "zscore", "x", cwd=case, code=2, **environment)
    assert message in done.stderr and done.stderr.count("\n") == 1
