"""Rows that break the rules which the plan declares of their table, and numbers missing in a sequence."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlglot.expressions as exp
from pydantic import Field, TypeAdapter, ValidationError, field_validator

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import Cells
from sabueso.population.damaged import all_damaged, damaged_words
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Table
from sabueso.screens.finding import Finding, Flags
from sabueso.screens.interface import Screen
from sabueso.screens.limits.table import RowColumns
from sabueso.screens.proposal import Proposal
from sabueso.screens.range.declared import declared_finding
from sabueso.screens.range.result import Rules as RulesBroken
from sabueso.screens.rules.breaches import NEW, breach, gaps
from sabueso.screens.rules.declared import AnyRule, Rule
from sabueso.screens.rules.declared import Sequence as NumberSequence
from sabueso.screens.rules.view import RulesView
from sabueso.screens.settings import Settings, listed
from sabueso.screens.subject import NumberRange

if TYPE_CHECKING:
    from sabueso.stats.description import Description

MOST_GAPS = 100_000


class RulesSettings(Settings):
    """Settings of ``rules``."""

    rule: list[str] = Field(
        default_factory=list, description="rules by their names (default: all of the table)"
    )
    of: Literal["rows", "numbers"] = Field(
        "rows", description="rows that break a rule, or the numbers missing in a sequence"
    )

    _lists = field_validator("rule", mode="before")(listed)


class RulesScreen(Screen):
    """Declared rules, judged anew."""

    name = "rules"
    summary = "rows that break a rule declared in the plan; numbers missing in a sequence"
    reference = "none: the rules are the reader's own"
    settings = RulesSettings
    group = RulesBroken
    view = RulesView
    place = 45
    examples = (
        "sabueso try rules payments",
        "sabueso try rules payments --of numbers",
        'sabueso try rules journal --keep "entries that do not balance"',
    )

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        table = population.table
        if not table.rules:
            return
        rules = rules_of(table)
        shown = "; ".join(rule.title for rule in rules[:4]) + (" …" if len(rules) > 4 else "")
        purpose = "What the plan says of every row."
        yield Proposal(f"rules of {table.name}", {}, purpose, shown)
        if any(isinstance(rule, NumberSequence) for rule in rules):
            yield Proposal(
                f"numbers missing in {table.name}", {"of": "numbers"},
                "Numbers that follow one another lack none.", "a sequence is declared",
            )  # fmt: skip

    def run(self, population: Population, settings: RulesSettings) -> Finding[RulesBroken]:
        table = population.table
        rules = _chosen(table, settings.rule)
        measure = table.role("amount")
        found = _missing if settings.of == "numbers" else _broken
        flags, counts = found(population, rules)
        return declared_finding(self.name, population, measure, settings, flags, counts)


def rules_of(table: Table) -> list[AnyRule]:
    """The rules of a table as the plan declares them.

    Raises
    ------
    UserError
        If one is none.
    """
    adapter: TypeAdapter[AnyRule] = TypeAdapter(Rule)
    found = []
    for values in table.rules:
        try:
            found.append(adapter.validate_python(dict(values)))
        except ValidationError as error:
            message = error.errors()[0]["msg"].removeprefix("Value error, ")
            raise UserError(f"case.toml, tables.{table.name}.rules: {message}") from None
    return found


def _chosen(table: Table, names: Sequence[str]) -> list[AnyRule]:
    every = rules_of(table)
    if not every:
        raise UserError(
            f"table {table.name!r} has no rules; declare them in case.toml as [[tables.{table.name}.rules]]"
        )
    titles = {rule.title: rule for rule in every}
    for name in names:
        if name not in titles:
            raise UserError(f"table {table.name!r} has no rule {name!r}{nearest(name, titles)}")
    return [titles[name] for name in names] or every


def _breach(rule: AnyRule, population: Population) -> Tree:
    """The condition of a rule over the rows as they are, none of them newer than the others."""
    table = population.table
    try:
        tree = breach(rule, table, population.tables)
    except UserError as error:
        raise UserError(f"case.toml, tables.{table.name}.rules, {rule.title}: {error}") from None
    for order in tree.find_all(exp.Order):
        kept = [o for o in order.expressions if not (isinstance(o.this, exp.Column) and o.this.name == NEW)]  # fmt: skip
        order.set("expressions", kept)
    return tree


def _broken(
    population: Population, rules: Sequence[AnyRule]
) -> tuple[Flags, list[tuple[str, int]]]:
    """Rows that break a rule, the largest amounts first; each under the first rule that it breaks."""
    table = population.table
    measure = table.role("amount")
    columns = RowColumns.of(table, measure)
    parts, counts = [], []
    for place, rule in enumerate(rules):
        select = population.base(columns.trees()).where(_breach(rule, population))
        found = population.query(select)
        counts.append((rule.title, found.num_rows))
        found = found.append_column("place", pa.array(np.full(found.num_rows, place, np.int32)))
        parts.append(found.set_column(
            found.column_names.index("row_file"), "row_file", found.column("row_file").cast(pa.string())
        ))  # fmt: skip
    every = pa.concat_tables(parts, promote_options="default")
    every = every.take(pa.array(_first_of_each(every)))
    if measure is None:
        every = every.append_column("amount", pa.nulls(every.num_rows, pa.decimal128(18, 2)))
    size = pc.abs(pc.fill_null(every.column("amount").cast(pa.float64()), 0))
    order = [("_size", "descending"), ("row_file", "ascending"), ("row_line", "ascending")]
    every = every.append_column("_size", size)
    every = every.take(pc.sort_indices(every, sort_keys=order)).drop_columns(["_size"])
    titles = pa.array([rule.title for rule in rules], pa.string())
    broken = titles.take(every.column("place").combine_chunks())
    kept = columns.gathered(every.drop_columns(["place"]))
    kept = kept.append_column("rule", broken)
    kept = kept.append_column("score", pa.array(np.zeros(kept.num_rows)))
    kept = kept.append_column("direction", pa.array(["out"] * kept.num_rows, pa.string()))
    return Flags("row", kept), counts


def _first_of_each(rows: pa.Table) -> np.ndarray:
    """Places of the rows that stand for their file and line: the first of each."""
    file = rows.column("row_file").combine_chunks().dictionary_encode().indices.to_numpy()
    line = rows.column("row_line").to_numpy().astype(np.int64)
    keys = np.rec.fromarrays([file, line])
    return np.sort(np.unique(keys, return_index=True)[1])


def _missing(
    population: Population, rules: Sequence[AnyRule]
) -> tuple[Flags, list[tuple[str, int]]]:
    """Numbers that are missing, the longest gaps first."""
    table = population.table
    sequences = [rule for rule in rules if isinstance(rule, NumberSequence)]
    if not sequences:
        raise UserError(f"no rule of table {table.name!r} declares a sequence")
    found: list[Cells] = []
    counts = []
    damaged = damaged_words(table)
    for rule in sequences:
        column = rule.columns(table)[0].name
        rows = population.query(gaps(rule, table).limit(MOST_GAPS + 1)).to_pylist()
        if len(rows) > MOST_GAPS:
            raise UserError(
                f"rule {rule.title!r} of table {table.name!r}: there are more than {MOST_GAPS:,} gaps; numbers that "
                "lack so many do not follow one another"
            )
        rows = [row for row in rows if not _on_damaged_lines(row, damaged)]
        counts.append((rule.title, sum(r["before"] - r["after"] - 1 for r in rows)))
        found += [{**row, "column": column, "rule": rule.title} for row in rows]
    found.sort(key=lambda r: (r["after"] - r["before"], r["stem"], r["after"]))
    shown = [_flag(row) for row in found]
    names = (
        "subject",
        "rule",
        "first",
        "last",
        "missing",
        "score",
        "direction",
        "amount",
        "column",
    )
    data = {name: [flag[name] for flag in shown] for name in names if name != "amount"}
    flags = (
        pa.table(data) if shown else pa.table({name: pa.array([], pa.string()) for name in names})
    )
    if shown:
        flags = flags.append_column("amount", pa.nulls(len(shown), pa.decimal128(18, 2)))
    return Flags("range", flags, _range), counts


def _on_damaged_lines(row: Mapping[str, Any], damaged: frozenset[str]) -> bool:
    stem, width = row["stem"], row["width"]
    return all_damaged(
        row["after"] + 1, row["before"] - 1, lambda number: f"{stem}{number:0{width}d}", damaged
    )


def _flag(row: Mapping[str, Any]) -> Cells:
    """A gap as a flag: which numbers it lacks, and the two that are there on either side."""
    stem, width, after, before = row["stem"], row["width"], row["after"], row["before"]
    numbers = [f"{stem}{number:0{width}d}" for number in (after, after + 1, before - 1, before)]
    lacking = numbers[1] if numbers[1] == numbers[2] else f"{numbers[1]} – {numbers[2]}"
    return {
        "subject": {row["column"]: lacking}, "rule": row["rule"], "first": numbers[0], "last": numbers[3],
        "missing": before - after - 1, "score": float(before - after - 1), "direction": "out",
        "column": row["column"],
    }  # fmt: skip


def _range(flag: Mapping[str, Any], where: str | None, table: Table) -> NumberRange:
    subject = {name: value for name, value in flag["subject"].items() if value is not None}
    return NumberRange(subject, flag["column"], flag["first"], flag["last"])
