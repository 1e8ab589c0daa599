"""Which subjects are far: beyond the limit, or the furthest that can be reviewed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Protocol

import numpy as np
import pyarrow as pa

from sabueso.base.plain import ByColumn
from sabueso.population import expressions
from sabueso.population.population import Population
from sabueso.screens.distance.fitted import Result
from sabueso.screens.finding import Flags
from sabueso.screens.measured import Measured, flags_of, struct_of, subject_columns
from sabueso.stats import distance as dist
from sabueso.stats.adjust import Method, adjust


class Asked(Measured, Protocol):
    """Settings that say how p is adjusted."""

    @property
    def adjust(self) -> Method: ...


def aimed(
    results: Sequence[tuple[ByColumn, Result]], capacity: int
) -> tuple[list[tuple[ByColumn, Result]], float]:
    """The same groups with limits such that no more subjects than can be reviewed lie beyond: those of the
    smallest p, over all groups; equal ones are all in or all out. And that p, 0 where none is left."""
    p = np.concatenate([r.p for _, r in results])
    far = np.concatenate([r.used for _, r in results])
    order = np.lexsort((-far, p))
    kept = min(capacity, len(order))
    if kept < len(order):
        edge = order[kept]
        while kept and p[order[kept - 1]] == p[edge] and far[order[kept - 1]] == far[edge]:
            kept -= 1
    chosen = np.zeros(len(p), dtype=bool)
    chosen[order[:kept]] = True
    found, start = [], 0
    for key, r in results:
        mine = chosen[start : start + len(r.rows)]
        start += len(r.rows)
        inside = r.used[~mine]
        limit = float(inside.max()) if len(inside) else 0.0
        found.append((key, replace(r, limit=limit)))
    return found, float(p[order[kept - 1]]) if kept else 0.0


def flagged_of(
    population: Population,
    subjects: pa.Table,
    results: Sequence[tuple[ByColumn, Result]],
    settings: Asked,
) -> tuple[Flags, list[int]]:
    """Subjects beyond the limit, strongest first, with each measure's share of d²."""
    family = sum(r.n for _, r in results)
    labels = [expressions.label(text, population.table) for text in settings.per]
    tables, counts = [], []
    all_p = np.concatenate([r.p for _, r in results]) if results else np.empty(0)
    every = adjust(all_p, "bh") if settings.adjust == "bh" else None
    start = 0
    for key, r in results:
        used = r.used
        inside = np.flatnonzero(used > r.limit)
        counts.append(len(inside))
        if len(inside):
            parts = dist.contributions(r.x[inside], r.location)
            percent = 100 * parts / parts.sum(axis=1, keepdims=True)
            chosen = subjects.take(pa.array(r.rows[inside]))
            columns = subject_columns(chosen, settings, labels)
            columns |= {f"g{i}": pa.array([v] * len(inside)) for i, v in enumerate(key.values())}
            columns |= {
                "score": pa.array(used[inside]),
                "limit": pa.array(np.full(len(inside), r.limit)),
                "direction": pa.array(["far"] * len(inside)),
                "p": pa.array(r.p[inside]),
                "classical": pa.array(r.classical[inside]),
                "robust": pa.array(
                    r.robust[inside] if r.robust is not None else [None] * len(inside)
                ),
                "contribution": struct_of(r.measures, percent.T),
                "values": struct_of(
                    settings.measures,
                    [chosen.column(f"m{j}").to_numpy() for j in range(len(settings.measures))],
                ),
            }
            if "amount" in chosen.column_names:
                columns["amount"] = chosen.column("amount")
            if every is not None:
                columns["p_adjusted"] = pa.array(every[start + inside])
            tables.append(pa.table(columns))
        start += len(r.rows)
    if not tables:
        return Flags("entity" if settings.per else "row", pa.table({})), counts
    flags = pa.concat_tables(tables, promote_options="default")
    order = np.lexsort((np.arange(len(flags)), -flags.column("score").to_numpy()))
    flags = flags.take(pa.array(order))
    if every is None:
        adjusted = adjust(flags.column("p").to_numpy(), settings.adjust, family)
        flags = flags.append_column("p_adjusted", pa.array(adjusted))
    return flags_of(population, settings, flags, list(results[0][0])), counts
