"""What the engine in this process does with its memory."""

from __future__ import annotations

from pathlib import Path

import pytest
import sqlglot
import sqlglot.expressions as exp

from sabueso.population.engines import EngineSettings, QueryError, embedded, open_engine


def listed(rows: int) -> exp.Expr:
    """What fits into 16 bytes a row at least, and cannot go to the disk."""
    return sqlglot.parse_one(
        f"select count(*) as n, sum(len(l)) as m from (select list(i) as l from range({rows}) t(i))",
        dialect="duckdb",
    )


def test_without_a_limit_it_takes_more_when_something_needs_it(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(embedded, "LEAN", "60MB")
    for ask in ("query", "stream"):
        engine = open_engine(EngineSettings())
        assert isinstance(engine, embedded.EmbeddedEngine)
        spill = Path(engine._spill.name)
        assert spill.stat().st_mode & 0o077 == 0 or not hasattr(spill.stat(), "st_uid")
        engine.lock()
        found = engine.query(listed(20_000_000)) if ask == "query" else None
        batches = list(engine.stream(listed(20_000_000))) if ask == "stream" else []
        rows = found.to_pylist() if found is not None else batches[0].to_pylist()
        assert rows == [{"n": 1, "m": 20_000_000}]
        engine.close()
        assert not spill.exists()


def test_a_limit_that_was_given_is_kept() -> None:
    engine = open_engine(EngineSettings(memory="60MB"))
    engine.lock()
    with pytest.raises(QueryError, match=r"memory|allocate"):
        engine.query(listed(20_000_000))
    engine.close()


def test_nothing_but_what_is_attached_is_read_once_it_is_locked(tmp_path: Path) -> None:
    (tmp_path / "other.csv").write_text("a\n1\n")
    engine = open_engine(EngineSettings())
    engine.lock()
    read = sqlglot.parse_one(
        f"select * from read_csv('{tmp_path / 'other.csv'}')", dialect="duckdb"
    )
    with pytest.raises(QueryError, match=r"ermission|disabled"):
        engine.query(read)
    engine.close()
