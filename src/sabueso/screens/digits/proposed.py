"""Leading digits of a table's amounts, as they are proposed: one sign, and without price lists."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.finding import Finding
from sabueso.screens.proposal import Proposal, is_budget, settings_of, signs_of

Run = Callable[[Population, str], Finding[Any]]
"""The test of some digits on a population."""

MOST_FLAGGED = 4
"""Classes of the first digit that may depart where the law describes the rest."""
LEAST = {"first": 1_000, "first-two": 3_000}
"""Rows from which a test of these digits is proposed."""
LEAST_LAST_TWO = 10_000
NAMES = {"first": "first digit", "first-two": "first-two digits"}
NARROW = frozenset({"narrow_range"})
PRICES, PRICE_SHARE, LEAST_OF_LIST, MOST_LISTS = 5, 0.30, 100, 8
"""An account is a price list where this share of its rows is on so many amounts."""
ORDER = 10


def proposed_digits(
    run: Run, population: Population, against: frozenset[str]
) -> Iterator[Proposal]:
    """First and first-two digits, where nothing speaks against them."""
    table = population.table
    measure = table.role("amount")
    if measure is None or is_budget(table):
        return
    signs = signs_of(population, measure)
    if signs.rows < LEAST["first"]:
        return
    conditions = [c for c in (signs.where(measure),) if c]
    account = table.role("account")
    lists = [] if account is None else price_lists(population, measure, account)
    narrow = [] if account is None else narrow_accounts(population, measure, account)
    narrow = [each for each in narrow if each not in lists]
    if account is not None and (lists or narrow):
        shown = ", ".join(map(literal, [*lists, *narrow]))
        conditions.append(f"{quoted_name(account.name)} not in ({shown})")
    where = " and ".join(conditions) or None
    chosen = replace(population, where=where)
    behind = table.role("preparer") or table.role("party")
    without = (
        f", without the price list{'s' if len(lists) > 1 else ''} {', '.join(map(str, lists))}"
        if lists
        else ""
    )
    if narrow:
        listed = ", ".join(map(str, narrow))
        without += f", without {listed}, whose amounts lie within one order of magnitude"
    yield from _last_two(run, chosen, where, without)
    for digits, least in LEAST.items():
        finding = run(chosen, digits)
        doubtful = {c.code for c in finding.cautions} & (against | NARROW)
        if finding.population.used < least or doubtful:
            continue
        # Where more than a few classes depart, the law does not describe what was recorded there, and its
        # classes are nobody's work list.
        many = [c for c in finding.groups[0].classes if c.flagged and c.share > c.expected]
        if len(many) > max(MOST_FLAGGED, len(finding.groups[0].classes) // 15):
            continue
        doubts = ", ".join(c.code for c in finding.cautions)
        yield Proposal(
            f"{NAMES[digits]} of {table.name}", settings_of(
                digits=digits, by_whom=None if behind is None else behind.name, side="high",
                where=where,
            ),
            "Amounts that people make up do not begin as amounts that arise from trade."
            if digits == "first" else
            "Amounts kept just under a limit, or made up, pile up on the classes that begin them.",
            f"{finding.population.used:,} amounts of one sign{without}" + (f"; with care: {doubts}" if doubts else ""),
        )  # fmt: skip


def _last_two(run: Run, chosen: Population, where: str | None, without: str) -> Iterator[Proposal]:
    """The last two digits by party, where few classes are too frequent: round amounts of somebody."""
    party = chosen.table.role("party")
    if party is None:
        return
    finding = run(chosen, "last-two")
    many = [c for g in finding.groups for c in g.classes if c.flagged and c.share > c.expected]
    if finding.population.used < LEAST_LAST_TWO or not 0 < len(many) <= MOST_FLAGGED:
        return
    # Hours by quarters times whole rates end in few digits, and nobody chose them.
    classes = finding.groups[0].classes
    if 2 * sum(c.count > 0 for c in classes) < len(classes):
        return
    yield Proposal(
        f"last two digits of {chosen.table.name}",
        settings_of(digits="last-two", by_whom=party.name, side="high", where=where),
        "Amounts that somebody rounds, or ends in digits of a liking.",
        f"{finding.population.used:,} amounts of one sign{without}",
    )


def narrow_accounts(population: Population, measure: Column, account: Column) -> list[object]:
    """Accounts whose amounts, all but the hundredth at either end, lie within one order of magnitude: their
    first digits are those of their level, and of nothing else. At most :data:`MOST_LISTS`, the largest first."""
    key = sql.column("k", "b")
    units = sql.column("units", "b")
    base = population.base(
        {"k": sql.column(account.name), "units": sql.magnitude(sql.minor_units(measure))}
    )
    some = exp.GT(this=units.copy(), expression=sql.integer(0))
    ends = ("0.01", "0.99")
    select = exp.select(
        key,
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.quantiles(units.copy(), ends), "ends"),
    ).from_(base.subquery("b"))
    select = select.where(some).group_by(key.copy())
    found = []
    for row in population.query(select).to_pylist():
        low, high = (
            sql.exact_quantile(v, share) for v, share in zip(row["ends"], ends, strict=True)
        )
        if row["k"] is not None and row["n"] >= LEAST_OF_LIST and high < ORDER * low:
            found.append((int(row["n"]), row["k"]))
    return [k for _, k in sorted(found, key=lambda pair: (-pair[0], str(pair[1])))[:MOST_LISTS]]


def price_lists(population: Population, measure: Column, account: Column) -> list[object]:
    """Accounts whose amounts are prices: most of their rows are on a few of them. At most
    :data:`MOST_LISTS`, the largest first."""
    key, value = sql.column(account.name), sql.column(measure.name)
    counted = population.used(
        exp.select(exp.alias_(key, "k"), exp.alias_(value, "v"), exp.alias_(sql.count(), "n"))
        .where(sql.both([exp.Not(this=sql.is_missing(each.copy())) for each in (key, value)]))
        .group_by(key.copy(), value.copy())
    ).subquery("c")
    rank = exp.Window(
        this=exp.RowNumber(),
        partition_by=[sql.column("k", "c")],
        order=exp.Order(
            expressions=[
                sql.ordered(sql.column("n", "c"), descending=True), sql.ordered(sql.column("v", "c"))
            ]
        ),
    )  # fmt: skip
    ranked = exp.select(
        exp.alias_(sql.column("k", "c"), "k"), exp.alias_(sql.column("n", "c"), "n"), exp.alias_(rank, "place")
    ).from_(counted).subquery("r")  # fmt: skip
    first = exp.LTE(this=sql.column("place", "r"), expression=sql.integer(PRICES))
    rows = exp.Sum(this=sql.column("n", "r"))
    select = (
        exp.select(
            exp.alias_(sql.column("k", "r"), "k"), exp.alias_(rows, "rows"),
            exp.alias_(exp.Sum(this=exp.Case().when(first, sql.column("n", "r"))), "prices"),
        )
        .from_(ranked).group_by(sql.column("k", "r"))
    )  # fmt: skip
    found = [
        (int(row["rows"]), row["k"])
        for row in population.query(select).to_pylist()
        if row["rows"] >= LEAST_OF_LIST and row["prices"] > PRICE_SHARE * int(row["rows"])
    ]
    return [k for _, k in sorted(found, key=lambda pair: (-pair[0], str(pair[1])))[:MOST_LISTS]]
