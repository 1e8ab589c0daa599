"""Which columns of different tables hold the same values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import pyarrow as pa
import pyarrow.compute as pc
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column

LEAST_SHOWN, LEAST_FOUND = 0.05, 5
"""Share and number of the rows found from which two columns may have to do with each other."""
LEAST_WITHIN = 0.9
"""The share within one table, whose columns easily share a few codes."""


@dataclass(frozen=True)
class Link:
    """A column whose values are found in another table's column of unique values; ``counted`` where those are
    numbers without a gap, among which others of their length are by chance: any small number, or one that stands in all rows."""

    column: str
    other: str
    rows: int
    found: int
    counted: bool = False

    @property
    def share(self) -> float:
        return self.found / self.rows if self.rows else 0.0


MUCH, FEW = 0.3, 2
"""Part of the numbers of one length that a run of them is to have for others to be among them by chance; and different numbers
of a column that may be in any run."""
MOST_HELD = 50_000
"""Different texts of a column that are held to compare columns here, and not each pair by a query."""


@dataclass(frozen=True)
class _Texts:
    """A column of texts: how many there are and how many different ones, and these with how often each
    occurs, unless they are many."""

    population: Population
    column: Column
    filled: int
    distinct: int
    values: pa.Table | None

    @classmethod
    def of(cls, p: Population, c: Column) -> _Texts:
        value = sql.column(c.name)
        fields = [
            exp.alias_(exp.Count(this=value), "n"),
            exp.alias_(exp.Count(this=exp.Distinct(expressions=[value.copy()])), "d"),
        ]
        row = p.query(exp.select(*fields).from_(p.source())).to_pylist()[0]
        values = None
        if row["d"] <= MOST_HELD:
            counted = exp.select(exp.alias_(value.copy(), "value"), exp.alias_(sql.count(), "n"))
            known = exp.Not(this=sql.is_missing(value.copy()))
            counted = counted.from_(p.source()).where(known).group_by(value.copy())
            values = p.query(counted)
        return cls(p, c, row["n"], row["d"], values)

    @property
    def is_key(self) -> bool:
        """Whether no text occurs twice."""
        return 0 < self.distinct == self.filled

    @cached_property
    def is_count(self) -> bool:
        """Whether its texts are whole numbers without a gap that most of their length are among: those from one, or
        nought, on, or from a hundred to some hundreds."""
        if self.run is None or self.run[0]:
            return False
        _, first, last = self.run
        return first <= 1 or self.distinct >= MUCH * (9 * 10 ** (len(str(last)) - 1))

    @cached_property
    def run(self) -> tuple[str, int, int] | None:
        """The letters before whole numbers without a gap, the same in each or none, and the first and the last of these."""
        if not self.is_key or self.values is None:
            return None
        texts = self.values.column("value")
        parts = pc.extract_regex(texts, r"\A(?P<letters>[A-Za-z]*)(?P<number>0|[1-9][0-9]{0,8})\z")
        if parts.null_count:
            return None
        letters = pc.unique(pc.struct_field(parts, "letters")).to_pylist()
        ends = pc.min_max(pc.struct_field(parts, "number").cast(pa.int64())).as_py()
        gapless = ends["max"] - ends["min"] + 1 == self.distinct
        return (letters[0], ends["min"], ends["max"]) if gapless and len(letters) == 1 else None

    @property
    def name(self) -> str:
        return f"{self.population.table.name}.{self.column.name}"


def links(populations: Sequence[Population]) -> list[Link]:
    """Columns whose texts, or some of them, are found among the unique values of another table's column."""
    columns = [
        _Texts.of(p, c)
        for p in populations
        for c in p.table.columns
        if c.type == "text" and c.name not in (FILE_COLUMN, LINE_COLUMN)
    ]
    found = []
    for key in filter(lambda column: column.is_key, columns):
        for texts in columns:
            if texts is key or not texts.filled:
                continue
            own = texts.population is key.population
            if own and (texts.is_key or not _is_another(texts, key)):
                continue
            by_chance = key.is_count or (texts.distinct <= FEW and key.run is not None)
            link = Link(texts.name, key.name, texts.filled, _shared(texts, key), by_chance)
            least = LEAST_WITHIN if own else LEAST_SHOWN
            if link.share >= least and link.found >= LEAST_FOUND:
                found.append(link)
    return sorted(found, key=lambda link: (-link.share, link.column, link.other))


def _is_another(texts: _Texts, key: _Texts) -> bool:
    """Whether a column names other rows of its table, as parents do, and does not repeat the row's own key."""
    p = texts.population
    same = exp.EQ(this=sql.column(texts.column.name), expression=sql.column(key.column.name))
    own = exp.select(exp.alias_(sql.count(), "n")).from_(p.source()).where(same)
    return 2 * int(p.query(own).to_pylist()[0]["n"]) < int(p.account(None).rows)


def _shared(texts: _Texts, key: _Texts) -> int:
    """How many rows of a column hold a value of another one, which are unique."""
    if texts.values is not None and key.values is not None:
        held = pc.is_in(texts.values.column("value"), value_set=key.values.column("value"))
        return int(pc.sum(texts.values.column("n").filter(held)).as_py() or 0)
    p, other = texts.population, key.population.table
    left, right = sql.column(texts.column.name, "a"), sql.column(key.column.name, "b")
    select = exp.select(exp.alias_(sql.count(), "n")).from_(exp.alias_(p.source(), "a"))
    named = exp.alias_(exp.Table(this=exp.to_identifier(other.name, quoted=True)), "b")
    select = select.join(named, on=exp.EQ(this=left, expression=right), join_type="inner")
    return int(p.query(select).to_pylist()[0]["n"])
