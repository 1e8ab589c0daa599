"""Clusters of repeated rows as flags, each with its rows and what tells them apart."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from math import log2
from typing import Any

import pyarrow as pa

from sabueso.base.plain import Cells
from sabueso.population.table import Column, Table, money
from sabueso.report import numbers as num
from sabueso.screens.finding import Flags
from sabueso.screens.repeats.clusters import Found
from sabueso.screens.repeats.documents import strongest
from sabueso.screens.repeats.judging import Repeated
from sabueso.screens.subject import Cluster, Subject

MOST_OTHERS = 4


def flags_of(
    repeated: Sequence[Repeated],
    found: pa.Table,
    table: Table,
    measure: Column,
    differs: Column | None,
) -> Flags:
    """Clusters as flags, with their rows."""
    identity = table.role("id")
    names = ["row_file", "row_line", *(["row_id"] if identity is not None else [])]
    chosen = found.take(
        pa.array([r.place for each in repeated for r in each.cluster.rows], pa.int64())
    )
    places = iter(chosen.select(names).to_pylist())
    rows: list[Cells] = []
    for each in repeated:
        cluster, excess = each.cluster, money(each.excess, measure.scale)
        own = [next(places) for _ in cluster.rows]
        first = own[0].get("row_id")
        first = first if first is not None else f"{own[0]['row_file']}:{own[0]['row_line']}"
        parts = map(str, each.party)
        amount = money(cluster.rows[0].units, measure.scale)
        rows.append(
            {
                "subject": {
                    "party": " / ".join(parts), "amount": format(amount, "f"), "first": str(first),
                },
                "score": None if each.p is None else -log2(each.p),
                "limit": None,
                "direction": "repeated",
                "p": each.p,
                "p_adjusted": None,
                "amount": excess,
                "rows": len(cluster.rows),
                "excess": excess,
                "days": cluster.days,
                "differs": _differs(cluster, differs, each.step),
                "reversed": False,
                "members": [
                    {
                        "file": at["row_file"], "line": int(at["row_line"]),
                        "id": None if at.get("row_id") is None else str(at["row_id"]),
                        "day": None if row.day is None else str(row.day),
                        "document": row.document,
                    }
                    for at, row in zip(own, cluster.rows, strict=True)
                ],
            }
        )  # fmt: skip
    return Flags("cluster", pa.Table.from_pylist(rows) if rows else pa.table({}), make=_subject)


def _subject(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    members = tuple((m["file"], m["line"]) for m in flag["members"])
    return Cluster(flag["subject"], members)


def _differs(cluster: Found, differs: Column | None, step: float | None) -> list[str]:
    """What tells the rows of a cluster apart."""
    days = cluster.days
    found = [] if days is None else ["same day" if not days else f"{num.many(days, 'day')} apart"]
    if step is not None:
        found.append(f"where rows of this amount come every {num.number(step, 0)} days")
    known = [row.document for row in cluster.rows if row.document]
    likeness = strongest(known)
    if likeness is not None:
        found.append(likeness)
    elif len(known) > 1:
        found.append("documents differ")
    if differs is not None:
        others = sorted({row.other for row in cluster.rows if row.other})
        more = f" and {len(others) - MOST_OTHERS} more" if len(others) > MOST_OTHERS else ""
        found.append(f"{differs.name} {', '.join(others[:MOST_OTHERS])}{more}")
    return found
