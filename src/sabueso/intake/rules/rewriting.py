"""A file's rows written once more, without those that a rule sets aside."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from sabueso.base.plain import Cells
from sabueso.intake.interface import Damaged, FileReport
from sabueso.intake.parquet import open_writer
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN
from sabueso.screens.rules.declared import AnyRule

Reasons = Mapping[tuple[str, int], tuple[AnyRule, str]]
"""File and line of a row -> the rule that it breaks, and the texts of the columns judged."""
BATCH = 1 << 18


def without_rows(
    report: FileReport,
    output: Path,
    aside: Mapping[AnyRule, pa.Table],
    roles: Mapping[str, str],
    own: str,
) -> FileReport:
    """Write a file's Parquet again without the rows set aside, and account for them.

    The rows go to the file's damaged ones, each with the rule it broke.
    """
    reasons = _reasons(report, aside)
    if not reasons:
        return report
    rest = _Rest(reasons, dict(report.sums), dict(report.quarantined_sums), roles)
    source = pq.ParquetFile(output)
    rewritten = output.with_suffix(".again")
    try:
        writer = open_writer(rewritten, source.schema_arrow)
        try:
            for batch in source.iter_batches(batch_size=BATCH):
                kept = rest.of(pa.table(batch))
                if kept.num_rows:
                    writer.write_table(kept)
        finally:
            writer.close()
    except BaseException:
        source.close()
        rewritten.unlink(missing_ok=True)
        raise
    source.close()
    rewritten.replace(output)
    return rest.report(report, own)


def _reasons(report: FileReport, aside: Mapping[AnyRule, pa.Table]) -> Reasons:
    """Why rows of a file are set aside."""
    found: dict[tuple[str, int], tuple[AnyRule, str]] = {}
    for rule, rows in aside.items():
        # The parts of a file, such as the sheets of a workbook, are named after it.
        mine = pc.match_substring_regex(
            rows.column(FILE_COLUMN), rf"\A{re.escape(report.file)}(?:#|\z)"
        )
        for row in rows.filter(mine).to_pylist():
            found[row[FILE_COLUMN], row[LINE_COLUMN]] = rule, row["_value"]
    return found


@dataclass
class _Rest:
    """What stays of a file: its sums, dates and currencies; and the rows that go."""

    reasons: Reasons
    sums: dict[str, Decimal]
    aside_sums: dict[str, Decimal]
    roles: Mapping[str, str]
    gone: list[Damaged] = field(default_factory=list)
    dates: list[Any] = field(default_factory=list)
    currencies: set[str | None] = field(default_factory=set)

    def of(self, block: pa.Table) -> pa.Table:
        """The rows of a block that stay."""
        lines = pa.array(sorted({line for _, line in self.reasons}), pa.int64())
        out = np.array(pc.is_in(block.column(LINE_COLUMN), value_set=lines))
        chosen = block.filter(pa.array(out)).to_pylist() if out.any() else []
        for place, row in zip(np.flatnonzero(out), chosen, strict=True):
            if (row[FILE_COLUMN], row[LINE_COLUMN]) not in self.reasons:
                out[place] = False  # the same line of another sheet
                continue
            self._set_aside(row)
        kept = block.filter(pa.array(~out))
        if kept.num_rows and "currency" in self.roles:
            self.currencies |= set(pc.unique(kept.column(self.roles["currency"])).to_pylist())
        if kept.num_rows and "date" in self.roles:
            both = pc.min_max(kept.column(self.roles["date"])).as_py()
            self.dates += [each for each in both.values() if each is not None]
        return kept

    def _set_aside(self, row: Cells) -> None:
        self.gone.append(_damaged(row, *self.reasons[row[FILE_COLUMN], row[LINE_COLUMN]]))
        for name in self.sums:
            if row[name] is not None:
                self.sums[name] -= row[name]
                self.aside_sums[name] = self.aside_sums.get(name, Decimal(0)) + row[name]

    def report(self, before: FileReport, own: str) -> FileReport:
        """The file's report without the rows that went."""
        stated = self.currencies
        return replace(
            before,
            accepted=before.accepted - len(self.reasons),
            quarantined=before.quarantined + len(self.reasons),
            sums=self.sums,
            quarantined_sums=self.aside_sums,
            totals_lines=[
                replace(
                    line, accepted=self.sums.get(line.column, Decimal(0)),
                    quarantined=self.aside_sums.get(line.column, Decimal(0)),
                )
                for line in before.totals_lines
            ],
            damaged=sorted([*before.damaged, *self.gone], key=lambda d: d.line),
            first_date=str(min(self.dates)) if self.dates else None,
            last_date=str(max(self.dates)) if self.dates else None,
            currencies=tuple(
                c for c in before.currencies if c in stated or (None in stated and c == own)
            ),
        )  # fmt: skip


def _damaged(row: Cells, rule: AnyRule, value: str) -> Damaged:
    texts = (
        "" if v is None else str(v)
        for name, v in row.items()
        if name not in (FILE_COLUMN, LINE_COLUMN)
    )
    on = getattr(rule, "on", "")
    return Damaged(
        line=row[LINE_COLUMN],
        column=on if isinstance(on, str) else ", ".join(on),
        value=value,
        reason=f"breaks the rule: {rule.title}",
        text=" | ".join(texts),
    )
