"""Instalments that are the annuity of a loan at its rate over its months, as they are proposed: found in some rows, counted
in all."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from itertools import islice, product
from typing import NamedTuple

import numpy as np

from sabueso.population import sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.screens.first_rows import Coded, first_of_both
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of
from sabueso.screens.recompute.priced import held, is_rule
from sabueso.stats.additive import HOLDS, same_but_rounded

MOST_SEEN = 500
MOST_NUMBERS, MOST_KINDS, MOST_TRIED = 16, 12, 3_000
"""Numbers that are tried, different texts of a column of terms, and ways."""
LONGEST, HIGHEST = 600, 100
"""Months of a loan, and per cent a year."""
_MONTHS = re.compile(
    r"\s*([1-9][0-9]{0,2})\s*(?:m|mo|mos|mths?|months?|meses|mes|monate|mois|mesi|maanden|mån)\.?\s*",
    re.I,
)
_YEARS = re.compile(r"\s*([1-9][0-9]?)\s*(?:y|yrs?|years?|años|jahre|ans|anni|jaar|år)\.?\s*", re.I)


class _Number(NamedTuple):
    """A number of a row: its SQL, its name, what some rows have, its decimals; and the column that it is made of."""

    sql: str
    told: str
    seen: np.ndarray
    scale: int = 0
    made_of: str = ""

    @property
    def of(self) -> str:
        return self.made_of or self.sql


def proposed_annuities(population: Population) -> Iterator[Proposal]:
    """What is paid each month of what was lent, at the rate and over the months of its row.

    The annuity is P·i / (1 − (1 + i)^−n), with i a twelfth of the rate of a year, as any text on the mathematics of finance has it.
    """
    table = population.table
    columns = [c for c in table.numbers if c.name != table.roles.get("id")][:MOST_NUMBERS]
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE or len(columns) < 3:
        return
    texts = [c.name for c in table.columns if c.type == "text" and not c.is_place]
    trees = {c.name: sql.column(c.name) for c in columns}
    seen, coded = first_of_both(population, trees, texts, MOST_SEEN)
    numbers = [_Number(quoted_name(c.name), c.name, seen[c.name], c.scale) for c in columns]
    rates = list(_rates(numbers))
    spans = [*_spans([each for each in numbers if not each.scale]), *_worded(coded)]
    owns = [each for each in numbers if each.scale]
    for own, base, rate, span in islice(product(owns, numbers, rates, spans), MOST_TRIED):
        if len({own.sql, base.sql, rate.of, span.of}) < 4 or not _keeps(own, base, rate, span):
            continue
        each = f"({rate.sql} / 12)"
        made = f"{base.sql} * {each} / nullif(1 - pow(1 + {each}, -({span.sql})), 0)"
        found = held(population, table.column(own.told), made, "")
        if is_rule(found):
            if found.differing:
                yield Proposal(
                    f"{own.told} of {table.name} is the annuity of {base.told}",
                    settings_of(what="product", on=own.told, expect=made),
                    f"Rows whose {own.told} is not what {base.told} comes to a month at its rate over its term.",
                    f"at {rate.told} over {span.told}: {found.because}",
                )
            return


def _keeps(own: _Number, lent: _Number, rate: _Number, months: _Number) -> bool:
    """Whether most of some rows have the annuity, of at least two terms or rates."""
    columns = (own.seen, lent.seen, rate.seen, months.seen)
    known = np.logical_and.reduce([~np.isnan(column) for column in columns])
    paid, principal, yearly, n = (column[known] for column in columns)
    if len(paid) < LEAST_OF_RULE or (principal > paid).mean() < HOLDS:
        return False
    each = yearly / 12
    with np.errstate(over="ignore"):
        made = principal * each / (1 - (1 + each) ** -n)
    same = same_but_rounded(paid, made, own.scale).mean()
    return bool(same >= HOLDS and len(np.unique(np.column_stack([each, n]), axis=0)) > 1)


def _rates(numbers: list[_Number]) -> Iterator[_Number]:
    """Rates of a year: per cent, or shares."""
    for each in numbers:
        some = each.seen[~np.isnan(each.seen)]
        if len(some) and (some > 0).all() and some.max() <= HIGHEST:
            yield _Number(
                f"{each.sql} / 100.0", f"{each.told} per cent", each.seen / 100, 0, each.sql
            )
            if some.max() < 1:
                yield each


def _spans(numbers: list[_Number]) -> Iterator[_Number]:
    """Months, or years."""
    for each in numbers:
        some = each.seen[~np.isnan(each.seen)]
        if len(some) and (some >= 1).all() and some.max() <= LONGEST:
            yield _Number(each.sql, f"{each.told} months", each.seen)
            if some.max() <= LONGEST / 12:
                yield _Number(f"12 * {each.sql}", f"{each.told} years", 12 * each.seen, 0, each.sql)


def _worded(coded: Mapping[str, Coded]) -> Iterator[_Number]:
    """Columns of a few texts that say how many months, or years: ``36 months``."""
    for name, of in coded.items():
        if not 0 < len(of.values) <= MOST_KINDS:
            continue
        months = [_months(value) for value in of.values]
        if None in months:
            continue
        cases = " ".join(
            f"when {literal(value)} then {n}" for value, n in zip(of.values, months, strict=True)
        )
        lengths = np.array([*map(float, filter(None, months)), np.nan])
        column = quoted_name(name)
        yield _Number(f"case {column} {cases} end", name, lengths[of.codes], 0, column)


def _months(text: str) -> int | None:
    """How many months a text says.

    Examples
    --------
    >>> _months(" 36 months"), _months("5 years"), _months("monthly")
    (36, 60, None)
    """
    if found := _MONTHS.fullmatch(text):
        return int(found[1])
    if found := _YEARS.fullmatch(text):
        return 12 * int(found[1])
    return None
