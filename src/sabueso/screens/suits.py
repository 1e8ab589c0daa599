"""Which tests suit a table: yes, with care, or no, each with the reason in figures."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population, missing
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column
from sabueso.screens import find_screen
from sabueso.screens.interface import Finding
from sabueso.stats.description import Description

Verdict = Literal["yes", "with care", "no"]
AGAINST = {"assigned_numbers", "repeated_prices", "bounded"}
"""Cautions that say that a population is none for leading digits."""


@dataclass(frozen=True)
class Suit:
    """A test, whether it suits, why, and the options to try it with."""

    test: str
    verdict: Verdict
    reason: str
    options: str = ""


def suits(population: Population, described: Description | None) -> list[Suit]:
    """One line for each core test, on the table's amount."""
    return [
        *_digits(population, described),
        *_limits(described),
        *_distance(population),
        *_periods(population),
    ]


def _digits(population: Population, described: Description | None) -> Iterator[Suit]:
    if described is None:
        yield Suit("digits", "no", "the table has no amount")
        return
    screen = find_screen("digits")
    finding: Finding = screen.run(population, screen.settings())
    found = {c.code: c.text for c in finding.cautions}
    against = [code for code in found if code in AGAINST]
    if against:
        yield Suit("digits", "no", found[against[0]])
    elif found:
        first = next(iter(found))
        yield Suit("digits", "with care", found[first])
    else:
        n = finding.population.used
        yield Suit("digits", "yes", f"{n:,} amounts over several orders of magnitude")


def _limits(described: Description | None) -> Iterator[Suit]:
    if described is None:
        yield Suit("zscore", "no", "the table has no amount")
        yield Suit("fences", "no", "the table has no amount")
        return
    skewness, kurtosis = described.skewness, described.kurtosis
    if described.n < 11 or not described.sd:
        yield Suit(
            "zscore",
            "no",
            f"{described.n:,} amounts with s {described.sd or 0:g}: no limit means anything",
        )
    elif abs(skewness or 0) > 1 or (kurtosis or 0) > 3:
        yield Suit(
            "zscore",
            "with care",
            f"skewness {skewness or 0:.1f}, excess kurtosis {kurtosis or 0:.1f}: on the log scale",
            "--scale log",
        )
    else:
        yield Suit(
            "zscore", "yes", f"skewness {skewness or 0:.1f}, excess kurtosis {kurtosis or 0:.1f}"
        )
    if not described.iqr:
        yield Suit(
            "fences", "no", "the middle half of the amounts is one value: there is no spread"
        )
    elif abs(skewness or 0) > 2:
        yield Suit(
            "fences",
            "with care",
            f"skewness {skewness or 0:.1f}: many lie beyond the upper fence, on the log scale fewer",
            "--scale log",
        )
    else:
        yield Suit("fences", "yes", f"interquartile range {float(described.iqr):,.2f}")


def _distance(population: Population) -> Iterator[Suit]:
    table = population.table
    measures = [
        c for c in table.columns if c.type == "number" and c.name not in (FILE_COLUMN, LINE_COLUMN)
    ]
    names = ",".join(c.name for c in measures)
    party = table.role("party")
    if len(measures) >= 2:
        per = f"--per {party.name} " if party is not None else ""
        yield Suit(
            "distance", "yes", f"{len(measures)} measures: {names}", f"{per}--measures {names}"
        )
    elif len(measures) == 1 and party is not None:
        options = f'--per {party.name} --measures "sum({names}),count(*)"'
        yield Suit(
            "distance",
            "with care",
            f"one measure, {names}: by {party.name} its sum and count",
            options,
        )
    else:
        yield Suit("distance", "no", f"{len(measures)} measures are too few")


def _periods(population: Population) -> Iterator[Suit]:
    table = population.table
    date, account = table.role("date"), table.role("account")
    if date is None or date.type not in ("date", "timestamp"):
        yield Suit("periods", "no", "the table has no date")
        return
    years = _years(population, date)
    if len(years) < 2:
        only = years[0] if years else "none"
        yield Suit("periods", "with care", f"one year only, {only}: against a budget, or by months")
        return
    line = account.name if account is not None else "a column"
    last = years[-2:]
    options = f"--per {line} --base {last[0]} --current {last[1]}"
    yield Suit("periods", "yes", f"{len(years)} years: {', '.join(map(str, years))}", options)


def _years(population: Population, date: Column) -> list[int]:
    year = exp.alias_(sql.year(sql.column(date.name), population.table.fiscal_year_starts), "y")
    select = population.used(exp.select(year), [missing(date)])
    each = exp.select(sql.column("y")).from_(select.subquery("b")).group_by(sql.column("y"))
    return sorted(row["y"] for row in population.query(each).to_pylist())
