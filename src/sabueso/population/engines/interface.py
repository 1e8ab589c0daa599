"""What every engine does."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar, Protocol

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Part, Table


class QueryError(Exception):
    """The engine could not run a tree on these data; the text is its reason, one line."""


@dataclass(frozen=True)
class EngineSettings:
    """``[engine]`` of the plan. ``memory`` as in "4GB"; threads 0 means one per core.

    ``keep_order`` makes results follow the order of an input table: intake needs it. ``master`` and
    ``remote`` say where a cluster is.
    """

    kind: str = "duckdb"
    memory: str = ""
    threads: int = 0
    keep_order: bool = False
    master: str = ""
    remote: str = ""


class Engine(Protocol):
    """Runs syntax trees over attached tables and returns small Arrow tables.

    ``renders`` are the nodes of ``sql.OWN_NODES`` that it writes: all of them, or it is refused. An engine may say by
    ``moves_groups`` that it moves rows from one process to another to group them: few sums are then asked for without.
    """

    renders: ClassVar[frozenset[str]]

    def attach(self, table: Table) -> None:
        """Make a table's rows known under its name."""

    def query(self, tree: exp.Expr, **inputs: pa.Table) -> pa.Table:
        """Run a tree; ``inputs`` are small Arrow tables it may join, by name.

        Raises
        ------
        QueryError
            If the data do not allow it: a sum too large, a text compared with a number.
        """

    def stream(self, tree: exp.Expr, **inputs: pa.Table) -> Iterator[pa.RecordBatch]:
        """The same as :meth:`query`, batch by batch: the result need not fit the memory."""

    def stage(self, name: str, tree: exp.Expr, **inputs: pa.Table) -> None:
        """Keep a tree's result in the engine under a name, for the queries that follow; ``inputs`` as of
        :meth:`query`.

        Raises
        ------
        QueryError
            As :meth:`query`.
        """

    def unstage(self, name: str) -> None:
        """Let go of a staged result."""

    def lock(self) -> None:
        """From here on read nothing but what is attached."""

    def close(self) -> None:
        """Release files and memory."""


def part_files(part: Part) -> list[str]:
    """Absolute paths of a part's files, with forward slashes on every system."""
    return [Path(file).resolve().as_posix() for file in part.files]


def part_bytes(part: Part) -> int:
    """What a part's files take on the disk; one that is not there takes nothing, and is told of where it is read."""
    return sum(file.stat().st_size for file in map(Path, part.files) if file.exists())


def written(tree: exp.Expr, dialect: Any, texts: Mapping[str, str]) -> str:
    """The text of a tree with the nodes of ``sql.OWN_NODES`` as an engine calls them.

    ``texts`` have ``{0}``, ``{1}`` in the place of a node's parts. The nodes are written into a copy, the
    innermost first: a generator of the library cannot be derived from where the library is compiled.
    """
    root = exp.Paren(this=tree.copy())
    own = [node for node in root.find_all(exp.Anonymous) if node.name in texts]
    for node in reversed(own):
        parts = [part.sql(dialect=dialect, copy=False) for part in node.expressions]
        node.replace(exp.Var(this=texts[node.name].format(*parts)))
    return root.this.sql(dialect=dialect, copy=False)


def derived_columns(table: Table) -> list[tuple[str, exp.Expr]]:
    """Names of the derived columns with the trees of their values, each of its column's type, in order:
    one may be of those before it."""
    found: list[tuple[str, exp.Expr]] = []
    for each in table.derived:
        column = each.column
        kinds = {"text": "TEXT", "date": "DATE", "timestamp": "TIMESTAMP", "time": "TIME"}
        number = f"DECIMAL({column.precision}, {column.scale})"
        kind = exp.DataType.build(kinds.get(column.type, number), dialect="duckdb")
        found.append((column.name, exp.Cast(this=exp.paren(each.tree.copy()), to=kind)))
    return found


def base_length(part: Part) -> int:
    """Characters of a file's path before its name under the part's base; 0 without a base."""
    return 0 if part.base is None else len(Path(part.base).resolve().as_posix().rstrip("/")) + 1


def column_text(column: Column, part: Part, name: str, kind: str, file: str, line: str) -> str:
    """A column of the table as a part of it has it, as text of an engine's SELECT.

    Parameters
    ----------
    name, kind : str
        The column's name in quotes, and its type, as the engine writes them.
    file, line : str
        How the engine says a row's file under the part's base, and its number in it from 0.
    """
    have = next((c for c in part.columns if c.name == column.name), None)
    if part.base is not None and column.name == FILE_COLUMN:
        return f"{file} AS {name}"
    if part.base is not None and column.name == LINE_COLUMN:
        return f"{line} + 1 AS {name}"
    if have is None:
        return f"CAST(NULL AS {kind}) AS {name}"
    # The case's own files hold the types of their columns, others what they happen to.
    return name if have == column and part.base is None else f"CAST({name} AS {kind}) AS {name}"
