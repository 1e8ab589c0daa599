"""Answers of a few rows come row by row, and are remembered: they are what the engine gives as Arrow, of the rows as
they stand."""

from __future__ import annotations

import os
from dataclasses import replace
from datetime import date, datetime
from decimal import Decimal

import duckdb
import pytest
import sqlglot
import sqlglot.expressions as exp
from hypothesis import given
from hypothesis import strategies as st

from conftest import table_of
from sabueso.population import sql
from sabueso.population.engines import EngineSettings, open_engine
from sabueso.population.engines.embedded import ALONE_BYTES
from sabueso.population.engines.few_rows import as_table, gives_few

VALUES = {
    "BOOLEAN": st.booleans(),
    "INTEGER": st.integers(-(2**31), 2**31 - 1),
    "BIGINT": st.integers(-(2**63), 2**63 - 1),
    "HUGEINT": st.integers(-(2**127), 2**127 - 1),
    "DECIMAL(18,2)": st.decimals(-(10**15), 10**15, places=2),
    "DECIMAL(38,6)": st.decimals(-(10**20), 10**20, places=6),
    "DOUBLE": st.floats(allow_nan=False),
    "VARCHAR": st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0")),
    "DATE": st.dates() | st.sampled_from(["infinity", "-infinity", "20000-01-01", "0044-03-15 (BC)"]),
    "TIMESTAMP": st.datetimes() | st.sampled_from(["infinity", "-infinity", "12000-01-01 10:00:00"]),
    "TIME": st.times(),
    "BIGINT[]": st.lists(st.integers(-9, 9) | st.none()),
    "INTERVAL": st.just("3 days"),
}  # fmt: skip


@pytest.fixture(scope="module")
def connection():
    with duckdb.connect(":memory:") as opened:
        yield opened


@given(data=st.data())
def test_they_are_what_arrow_gives(connection, data):
    kinds = data.draw(st.lists(st.sampled_from(sorted(VALUES)), min_size=1, max_size=4))
    rows = [
        [data.draw(st.none() | VALUES[kind]) for kind in kinds]
        for _ in range(data.draw(st.integers(0, 3)))
    ]
    marks = ", ".join(f"CAST(? AS {kind}) AS c{place}" for place, kind in enumerate(kinds))
    connection.execute(f"CREATE OR REPLACE TABLE t AS SELECT {marks} LIMIT 0", [None] * len(kinds))
    for row in rows:
        connection.execute(f"INSERT INTO t SELECT {marks}", row)
    found = connection.execute("SELECT * FROM t")
    few = as_table(found.description, found.fetchall())
    arrow = connection.sql("SELECT * FROM t").to_arrow_table()
    edges = {date.min, date.max, datetime.min, datetime.max}
    strange = any(
        (kind in ("DATE", "TIMESTAMP") and (isinstance(each, str) or each in edges))
        or (kind == "HUGEINT" and isinstance(each, int) and abs(each) >= 10**38)
        for row in rows
        for kind, each in zip(kinds, row, strict=True)
    )
    assert (few is None) == (strange or "INTERVAL" in kinds)
    assert few is None or (few.equals(arrow) and few.schema == arrow.schema)


@pytest.mark.parametrize(
    ("text", "few"),
    [
        ("SELECT SUM(a) FROM t", True),
        ("SELECT 1 + MAX(a) AS m, COUNT(*) FILTER(WHERE b) FROM t HAVING COUNT(*) > 3", True),
        ("SELECT EXACT_SUM(a) FROM t", True),
        ("SELECT a FROM t LIMIT 100", True),
        ("SELECT a FROM t LIMIT 101", False),
        ("SELECT SUM(a) FROM t GROUP BY b", False),
        ("SELECT SUM(a) OVER () FROM t", False),
        ("SELECT SUM(a) FILTER(WHERE b) OVER () FROM t", False),
        ("SELECT (SELECT MAX(b) FROM c) FROM t", False),
        ("SELECT a IN (SELECT MAX(b) FROM c) FROM t", False),
        ("SELECT DISTINCT a FROM t", False),
        ("SELECT SUM(a) FROM t UNION ALL SELECT SUM(b) FROM t", False),
    ],
)
def test_the_form_of_a_statement_says_that_they_are_few(text, few):
    assert gives_few(sqlglot.parse_one(text, dialect="duckdb"), {"EXACT_SUM"}) is few


def _total(name="ledger"):
    total = exp.select(exp.alias_(exp.Sum(this=sql.column("amount")), "total"))
    return total.from_(exp.table_(name, quoted=True))


def _rows(*amounts):
    return [{"id": f"R{i}", "amount": Decimal(each)} for i, each in enumerate(amounts)]


def _asked(engine, tree):
    return engine.query(tree).column("total")[0].as_py()


def test_they_are_of_the_rows_as_they_stand(tmp_path):
    engine = open_engine(EngineSettings())
    ledger = table_of(_rows("1.10", "2.20"), tmp_path / "a.parquet")
    engine.attach(ledger)
    told = [engine.query(_total()) for _ in range(2)]
    assert told[0] is told[1] and _asked(engine, _total()) == Decimal("3.30")
    # Another table under the same name.
    engine.attach(table_of(_rows("5.00"), tmp_path / "b.parquet"))
    assert _asked(engine, _total()) == Decimal("5.00")
    # A staged result, and then another under its name, also of a name that a table had.
    rows = exp.select("id", "amount").from_(exp.table_("ledger", quoted=True))
    for least, total in ((0, 5), (9, None)):
        engine.stage("_near", rows.copy().where(sql.column("amount") > least))
        for tree in (_total("_near"), exp.select("SUM(amount) AS total").from_("_near")):
            assert _asked(engine, tree) == (total and Decimal(total))
    engine.close()


def test_of_files_that_may_change_none_is_remembered(tmp_path):
    engine = open_engine(EngineSettings())
    ledger = table_of(_rows("1.10"), tmp_path / "a.parquet")
    parts = tuple(replace(part, base=str(tmp_path)) for part in ledger.parts)
    engine.attach(replace(ledger, parts=parts))
    assert _asked(engine, _total()) == Decimal("1.10")
    table_of(_rows("1.10", "7.00"), tmp_path / "a.parquet")
    assert _asked(engine, _total()) == Decimal("8.10")
    engine.close()


def test_more_threads_are_for_a_table_of_many_rows(tmp_path, monkeypatch):
    def threads(engine):
        return engine._connection.execute("SELECT current_setting('threads')").fetchall()[0][0]

    small = table_of(_rows("1.10"), tmp_path / "a.parquet")
    for given_threads, most, before, after in (
        (0, ALONE_BYTES, 1, 1),
        (0, 0, 1, os.cpu_count()),
        (3, 0, 3, 3),
    ):
        monkeypatch.setattr("sabueso.population.engines.embedded.ALONE_BYTES", most)
        engine = open_engine(EngineSettings(threads=given_threads))
        assert threads(engine) == before
        engine.attach(small)
        assert threads(engine) == after
        engine.close()
