"""Which periods are compared, by their names or by words that hold for any month's files."""

from __future__ import annotations

from datetime import date

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.calendar import Span
from sabueso.population.population import Population, missing
from sabueso.screens.grouping import dated

LATEST = {f"latest {unit}": unit for unit in ("year", "quarter", "month", "day")}
PRIOR, YEAR_BEFORE = "prior", "year before"


def current_span(population: Population, name: str) -> Span:
    """The period judged: by its name, or the latest that the rows reach into.

    Raises
    ------
    UserError
        If it is no period, or the rows have no date.
    """
    first_month = population.table.fiscal_year_starts
    words = " ".join(name.lower().replace("-", " ").split())
    if words not in LATEST:
        return Span.of(name, first_month, "current")
    column = dated(population.table, "periods")
    day = sql.cast(sql.column(column.name), "DATE")
    select = population.used(exp.select(exp.alias_(exp.Max(this=day), "last")), [missing(column)])
    last = population.query(select).to_pylist()[0]["last"]
    if not isinstance(last, date):
        raise UserError(f"current {name!r}: no row has a date")
    return Span.latest(LATEST[words], last, first_month)


def base_span(now: Span, name: str | None, first_month: int) -> Span:
    """The period compared with: by its name, ``prior`` or ``year before``.

    Raises
    ------
    UserError
        If none is named, it is no period, or it overlaps the current one.
    """
    if name is None:
        raise UserError(
            "periods needs --base PERIOD (or prior, year-before), --mean-of K, or --against TABLE for "
            "a budget"
        )
    words = " ".join(name.lower().replace("-", " ").split())
    if words == PRIOR:
        return now.before(1, first_month)
    if words == YEAR_BEFORE:
        return now.year_before(first_month)
    before = Span.of(name, first_month, "base")
    if before.overlaps(now):
        raise UserError(f"base {before.name} and current {now.name} overlap")
    return before
