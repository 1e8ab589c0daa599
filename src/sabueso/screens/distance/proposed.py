"""Which columns of a table can be measured together."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table
from sabueso.screens.distance.fitted import transformed
from sabueso.screens.grouping import Grouping
from sabueso.screens.measured import measured_subjects, peer_groups
from sabueso.screens.proposal import TAX, Proposal, settings_of

NO_MEASURES = ("id", "document", "account", "party", "preparer", "approver", "text")
LEAST_SHARE = 0.5
"""Share of the rows that must have all the measures."""
FEW_CODES = 0.1
"""Distinct values a row at which whole numbers of one length are codes and no measures."""


def proposed_measures(population: Population) -> list[Column]:
    """Number columns that measure something, and that enough rows have together.

    Line numbers, codes, constants and marks of two values are none; of a debit, a credit and the amount made of them the
    amount is taken.
    """
    table = population.table
    roles = {column: role for role, column in table.roles.items()}
    columns = [
        c
        for c in table.columns
        if c.type == "number"
        and c.name not in (FILE_COLUMN, LINE_COLUMN)
        and roles.get(c.name) not in NO_MEASURES
        and not (roles.get(c.name) in ("debit", "credit") and "amount" in table.roles)
        # The same money in its own currency, of amounts that rates were applied to.
        and f"{c.name}_{table.currency.lower()}" != table.roles.get("amount")
    ]
    kept = _measuring(population, columns) if columns else []
    if len(kept) < 2:
        return kept
    filled, together = _filled(population, kept)
    least = LEAST_SHARE * max(_rows(population), 1)
    # Those that the fewest rows have are left out first: the fewer are left, the more rows have all of them.
    order = sorted(range(len(kept)), key=lambda i: (filled[i], i))

    def after(dropped: int) -> list[Column]:
        return [kept[i] for i in sorted(order[dropped:])]

    def enough(dropped: int) -> bool:
        return _filled(population, after(dropped))[1] >= least

    if together >= least:
        return kept
    return after(bisect_left(range(len(kept) - 1), True, lo=1, key=enough))


def _rows(population: Population) -> int:
    return population.account(None).used


def _measuring(population: Population, columns: Sequence[Column]) -> list[Column]:
    fields = []
    for i, c in enumerate(columns):
        value = sql.column(c.name)
        distinct = exp.Count(this=exp.Distinct(expressions=[value.copy()]))
        figures = (
            exp.Count(this=value),
            distinct,
            exp.Min(this=value.copy()),
            exp.Max(this=value.copy()),
        )
        fields += [exp.alias_(f, f"{name}{i}") for name, f in zip("ndlg", figures, strict=True)]
    row = population.figures(fields)
    kept = []
    for i, c in enumerate(columns):
        n, distinct, least, greatest = (row[f"{name}{i}"] for name in "ndlg")
        whole = c.scale == 0
        lines = whole and n and distinct == n and int(greatest) - int(least) + 1 == n
        codes = (
            whole
            and n
            and least >= 100
            and len(str(least)) == len(str(greatest))
            and distinct < FEW_CODES * n
        )
        # Two values say whether something is so.
        if n and distinct > 2 and not lines and not codes:
            kept.append(c)
    return kept


def _filled(population: Population, columns: Sequence[Column]) -> tuple[list[int], int]:
    """Rows that have each of the columns, and those that have all of them."""
    present = [exp.Not(this=sql.is_missing(sql.column(c.name))) for c in columns]
    fields = [exp.alias_(sql.only(sql.count(), p), f"n{i}") for i, p in enumerate(present)]
    together = sql.only(sql.count(), sql.both(p.copy() for p in present))
    fields.append(exp.alias_(together, "all"))
    row = population.figures(fields)
    return [int(row[f"n{i}"]) for i in range(len(columns))], int(row["all"])


TOLD, LEAST_OF_PEERS = 0.9, 10
"""Share of a measure's variance that others account for from which it is left out; entities of a peer group
from which it counts there."""
LEAST_ENTITIES, MOST_PEERS, LEAST_EXPLAINED, MOST_MEASURES = 30, 15, 0.2, 5
LEAST_PREPARERS, SUBJECTS_OF_ONE = 15, 5
"""Those who prepare are fewer than parties; and there are to be so many of them for each measure."""
EQUAL_SHARES = 1e-9
MOST_UNLIKE = 0.03
"""Share of the entities that may be unlike others: of more the measures hang together otherwise than by their correlations."""
LEAST_ROWS_OF_ONE = 2
"""Rows of an entity, on average, from which its means are more than its rows."""


def proposed_entities(population: Population, measures: Sequence[Column]) -> Iterator[Proposal]:
    """The parties of a table by the means of several measures, beside those of their kind; where it names none, those
    who prepare its rows."""
    table = population.table
    party = table.role("party") or table.role("preparer")
    if party is None or len(measures) < 2:
        return
    entities, rows = entities_of(population, party)
    least = LEAST_ENTITIES if "party" in table.roles else LEAST_PREPARERS
    if entities < least or rows < LEAST_ROWS_OF_ONE * entities:
        return
    # A tax is what the law makes of an amount, by what it is for.
    free = [m for m in measures if not TAX.search(m.name)]
    chosen = free[: min(MOST_MEASURES, entities // SUBJECTS_OF_ONE)]
    peers = _peers(population, party, chosen, entities)
    every = chosen
    chosen = _independent(population, party, chosen, peers)
    if len(chosen) < 2:
        return
    figures = [f"avg({quoted_name(m.name)})" for m in chosen]
    among = "" if peers is None else f", among those of one {peers.name}"
    told = [m.name for m in every if m not in chosen]
    if told:
        among += f"; without {', '.join(told)}, which the others tell"
    yield Proposal(
        f"{party.name} of {table.name} unlike others" if peers is None
        else f"{party.name} unlike others of its {peers.name}",
        settings_of(measures=figures, per=[party.name], by=None if peers is None else [peers.text]),
        f"Whoever is ordinary in each of {', '.join(m.name for m in chosen)} and not in all of them together.",
        f"{entities:,} of {party.name} by the means of {', '.join(m.name for m in chosen)} together{among}",
        share=MOST_UNLIKE,
    )  # fmt: skip


@dataclass(frozen=True)
class Means:
    """What is measured of entities."""

    measures: list[str]
    per: list[str]
    by: list[str]


def _independent(
    population: Population, party: Column, measures: list[Column], peers: PeersOf | None
) -> list[Column]:
    """Those of some measures that the others do not tell, by the ranks of the entities among their peers.

    What is nearly a function of the others leaves a direction with next to no spread, in which a bend of
    that function, or the rounding of a sum, is as far out as can be. Dropped is, as long as there is one,
    the measure of which the others account for most.
    """
    settings = Means(
        [f"avg({quoted_name(m.name)})" for m in measures], [party.name],
        [] if peers is None else [peers.text],
    )  # fmt: skip
    subjects, _ = measured_subjects(population, settings)
    groups = peer_groups(subjects, Grouping.of(settings.by, population.table))
    return independent(measures, scores_of(subjects, [rows for _, rows in groups]))


def scores_of(subjects: pa.Table, groups: Sequence[np.ndarray]) -> np.ndarray | None:
    """Normal scores of each measure of subjects among those of their group; None where no group has enough."""
    names = [name for name in subjects.column_names if re.fullmatch(r"m[0-9]+", name)]
    values = np.column_stack([subjects.column(f"m{j}").to_numpy() for j in range(len(names))])
    values = values.astype(np.float64)
    scores = [transformed(values, rows, "rank") for rows in groups if len(rows) > LEAST_OF_PEERS]
    return np.vstack(scores) if scores else None


def independent(measures: Sequence[Column], scores: np.ndarray | None) -> list[Column]:
    """Those of some measures that the others do not tell, by their scores."""
    kept = list(range(len(measures)))
    if scores is not None:
        products = np.cov(scores, rowvar=False)
        while len(kept) > 1:
            told = _told_by_others(products[np.ix_(kept, kept)])
            most = int(np.argmax(told))
            if told[most] <= TOLD:
                break
            kept.pop(most)
    return [measures[place] for place in kept]


def _told_by_others(products: np.ndarray) -> np.ndarray:
    """The share of the variance of each measure that the others account for, by their covariances."""
    found = np.zeros(len(products))
    for place in np.flatnonzero(np.diag(products) > 0):
        # By least squares: the inverse of the covariances has no meaning where one measure is made of others.
        others = np.delete(np.arange(len(products)), place)
        shared = products[others, place]
        factors = np.linalg.lstsq(products[np.ix_(others, others)], shared, rcond=None)[0]
        found[place] = shared @ factors / products[place, place]
    return found


def entities_of(population: Population, party: Column) -> tuple[int, int]:
    key = sql.column(party.name)
    fields = (
        exp.alias_(exp.Count(this=exp.Distinct(expressions=[key])), "entities"),
        exp.alias_(exp.Count(this=key.copy()), "rows"),
    )
    row = population.query(population.used(exp.select(*fields))).to_pylist()[0]
    return int(row["entities"]), int(row["rows"])


@dataclass(frozen=True)
class PeersOf:
    """What tells whose peers somebody is: a column of the table, or of the master that the party is linked to."""

    name: str
    text: str
    """As an expression."""


def _candidates(table: Table, party: Column) -> Iterator[PeersOf]:
    taken = set(table.roles.values())
    for column in table.columns:
        if column.type == "text" and not column.is_place and column.name not in taken:
            yield PeersOf(column.name, quoted_name(column.name))
    link = table.links.get(party.name)
    if link is not None:
        named = {link.key, *(link.table.roles.get(role) for role in ("id", "party"))}
        for column in link.table.columns:
            if column.type == "text" and not column.is_place and column.name not in named:
                yield PeersOf(column.name, ".".join(map(quoted_name, (party.name, column.name))))


def _peers(
    population: Population, party: Column, measures: Sequence[Column], entities: int
) -> PeersOf | None:
    """The column of a few texts, one an entity, that accounts for most of the variance of the means."""
    best, explained = None, LEAST_EXPLAINED
    for candidate in _candidates(population.table, party):
        share = _explained(population, party, candidate, measures, entities)
        # What tells the same as a column before it differs by the rounding of sums.
        if share > explained + EQUAL_SHARES:
            best, explained = candidate, share
    return best


def _explained(
    population: Population,
    party: Column,
    candidate: PeersOf,
    measures: Sequence[Column],
    entities: int,
) -> float:
    """The share of the variance of the entities' means that groups of a column account for; 0 where an
    entity has several of its values, or there are too many."""
    values: dict[str, Tree] = {
        "e": sql.column(party.name),
        "g": expressions.scalar(candidate.text, population.table, "--by"),
        **{f"v{j}": sql.column(m.name) for j, m in enumerate(measures)},
    }
    means = [
        exp.alias_(sql.cast(exp.Avg(this=sql.column(f"v{j}", "b")), "DOUBLE"), f"m{j}")
        for j in range(len(measures))
    ]
    key, group = sql.column("e", "b"), sql.column("g", "b")
    each = (
        exp.select(key, group, *means)
        .from_(population.base(values).subquery("b"))
        .where(exp.Not(this=sql.is_missing(key.copy())))
        .group_by(key.copy(), group.copy())
        .subquery("e")
    )
    fields = [exp.alias_(sql.count(), "n")]
    for j in range(len(measures)):
        value = sql.column(f"m{j}", "e")
        fields += [
            exp.alias_(exp.Sum(this=value), f"s{j}"),
            exp.alias_(exp.Sum(this=exp.Mul(this=value.copy(), expression=value.copy())), f"q{j}"),
        ]
    select = exp.select(*fields).from_(each).group_by(sql.column("g", "e"))
    groups = population.query(select.limit(MOST_PEERS + 1)).to_pylist()
    total = sum(g["n"] for g in groups)
    if not 2 <= len(groups) <= MOST_PEERS or total > 1.1 * entities:
        return 0.0
    shares = []
    for j in range(len(measures)):
        some = [g for g in groups if g[f"s{j}"] is not None]
        n = sum(g["n"] for g in some)
        whole, squares = sum(g[f"s{j}"] for g in some), sum(g[f"q{j}"] for g in some)
        spread = squares - whole**2 / max(n, 1)
        between = sum(g[f"s{j}"] ** 2 / g["n"] for g in some) - whole**2 / max(n, 1)
        if spread > 0:
            shares.append(between / spread)
    return sum(shares) / len(shares) if shares else 0.0
