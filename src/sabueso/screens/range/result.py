"""How many rows break each rule that is declared."""

from __future__ import annotations

from dataclasses import dataclass

import pyarrow as pa

from sabueso.base.plain import ByColumn

HAS = "has"
"""What a row has that is not among the values of a list."""
SIZES = {
    "days": "int64",
    "by": "float64",
    "others": "int64",
    "above": "float64",
    "below": "float64",
    "short": "float64",
    "after": "int64",
    "over": "float64",
    "again": "int64",
    "worse": "float64",
    "hours": "float64",
}
"""What a row may be out of its rule by, with the kind of number."""


@dataclass(frozen=True)
class Rule:
    """A rule in words, and the rows that break it."""

    rule: str
    flagged: int


@dataclass(frozen=True)
class Rules:
    """All rules of a table."""

    group: ByColumn
    n: int
    rules: list[Rule]
    flagged: int


def with_sizes(kept: pa.Table, sizes: list[str]) -> pa.Table:
    """How much a row is out of its rule, under the name of what is counted: ``days``, and ``hours`` of moments; ``by``, less than
    nothing where a reading is below the one before it, and not above the one after; ``others``, which have another value; ``above`` its
    limit, or ``below`` it; what is ``short`` after it; the days ``after`` another, all of them; the days by which it goes ``over`` an earlier one;
    the rows before it that are the same ``again``; by how much it is ``worse`` than the best one."""
    scores = kept.column("score").to_pylist()
    place = kept.schema.get_field_index("score")
    kept = kept.set_column(place, "score", pa.array(map(abs, scores), pa.float64()))
    for name, kind in SIZES.items():
        if name in sizes:
            own = [s if size == name else None for s, size in zip(scores, sizes, strict=True)]
            kept = kept.append_column(
                name, pa.array(own, pa.float64()).cast(pa.type_for_alias(kind))
            )
    return kept
