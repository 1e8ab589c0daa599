"""Small tables that are asked often are kept in memory: with the same rows, and never instead of what is attached."""

from __future__ import annotations

from decimal import Decimal

import pytest
import sqlglot.expressions as exp

from conftest import table_of
from sabueso.population import sql
from sabueso.population.engines import EngineSettings, QueryError, open_engine
from sabueso.population.engines.embedded import EmbeddedEngine
from sabueso.population.table import Column, Derived


@pytest.fixture
def engine():
    opened = open_engine(EngineSettings())
    assert isinstance(opened, EmbeddedEngine)
    yield opened
    opened.close()


def _asked(engine, name="ledger", over=0):
    total = exp.select(exp.alias_(exp.Sum(this=sql.column("amount")), "total"))
    total = total.from_(exp.table_(name, quoted=True)).where(sql.column("amount") > over / 10)
    return engine.query(total).column("total")[0].as_py()


def _is_kept(engine):
    known = engine._connection.execute("SELECT table_name FROM duckdb_tables()").fetchall()
    return ("ledger",) in known


def _rows(n, amount):
    return [{"id": f"R{i}", "amount": Decimal(amount)} for i in range(n)]


def test_it_is_kept_after_some_questions_and_gives_the_same(engine, tmp_path):
    engine.attach(table_of(_rows(50, "1.10"), tmp_path / "a.parquet"))
    engine.lock()
    told = [(_asked(engine, over=each), _is_kept(engine)) for each in range(9)]
    assert {total for total, _ in told} == {Decimal("55.00")}
    assert not told[0][1] and told[-1][1]


def test_what_is_attached_anew_is_what_is_asked(engine, tmp_path):
    for n, times in ((50, 9), (20, 9), (10, 1), (5, 1), (7, 9)):
        engine.attach(table_of(_rows(n, "2.00"), tmp_path / f"{n}.parquet"))
        assert {_asked(engine) for _ in range(times)} == {Decimal(2 * n)}


def test_one_that_cannot_be_kept_stays_as_it_is(engine, tmp_path):
    """A derived column has no value somewhere: who asks for it is told, all others are answered."""
    table = table_of(_rows(50, "2.00"), tmp_path / "a.parquet")
    wrong = sql.cast(sql.column("id"), "BIGINT")
    made = Derived(Column("wrong", "number", 0), wrong)
    engine.attach(
        type(table)(
            table.name, table.prefix, (*table.columns, made.column), table.parts, derived=(made,)
        )
    )
    assert {_asked(engine) for _ in range(9)} == {Decimal(100)} and not _is_kept(engine)
    asked = exp.select(exp.Max(this=sql.column("wrong"))).from_(exp.table_("ledger", quoted=True))
    with pytest.raises(QueryError, match="R"):
        engine.query(asked)


def test_files_of_others_and_large_ones_are_read_where_they_lie(engine, tmp_path, monkeypatch):
    monkeypatch.setattr("sabueso.population.engines.resident.MOST_BYTES", 100)
    engine.attach(table_of(_rows(50, "1.10"), tmp_path / "a.parquet"))
    assert {_asked(engine) for _ in range(9)} == {Decimal(55)} and not _is_kept(engine)
