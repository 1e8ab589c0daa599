"""Series of numbers that are proposed to be looked through: of what tells each row, and of papers such as cheques."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.first_rows import first_coded, numbers_by_head
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, few_of, settings_of
from sabueso.screens.sequence.looking import COMMON
from sabueso.screens.sequence.settings import SequenceSettings

if TYPE_CHECKING:
    from sabueso.screens.interface import Screen

MOST_MISSING = 0.02
"""Share of the numbers from the first to the last that are missing, up to which that is the exception."""
MOST_SEEN, LOOKED_AT, DENSE = 20_000, 2_000, 0.5
"""Rows by which it is judged whether papers have a series, and whether rows may have any, and share of its numbers that these
have, or of texts that begin otherwise."""
_HEAD = re.compile(r"[0-9]+[^0-9]*$")
OFTEN, HARDLY = 0.1, 0.02
"""Share of the steps from one number to the next at which the rows' day falls, from which and up to which it is none, or one, that
they go by."""
_NUMBERED = re.compile(r"(\D*)([0-9]{2,12})")


def proposed_sequences(screen: Screen, population: Population) -> Iterator[Proposal]:
    """A series that nearly all rows are in, or nearly all papers of one beginning, of which hardly a number is missing."""
    table = population.table
    if population.account(None).used < LEAST_OF_RULE:
        return
    column = table.role("id")
    if column is not None:
        yield from _of_rows(screen, population, column)
    document = table.role("document")
    # The numbers of bills are asked of the bills, and not of each table that names them.
    theirs = document is not None and document.name in table.links
    if document is not None and document.type == "text" and "amount" in table.roles and not theirs:
        yield from _of_papers(screen, population, document)


def _of_rows(screen: Screen, population: Population, column: Column) -> Iterator[Proposal]:
    table = population.table
    if _are_no_series(population, column):
        return
    settings = SequenceSettings(of=quoted_name(column.name))
    found = screen.run(population, settings)
    # Numbers may begin anew with each year, and then there is a series of each.
    many = [series for series in found.groups if series.count >= LEAST_OF_RULE]
    if sum(series.count for series in many) < COMMON * found.population.used:
        return
    out = sum(series.out_of_order or 0 for series in many)
    if out > few_of(found.population.used) or (out and _go_by_another(population, column)):
        # Given to what happens later too, such as what is taken back of a sale; or by another day than the row's.
        settings = SequenceSettings(of=settings.of, find=["gaps", "repeats", "form"])
        found = screen.run(population, settings)
        many = [series for series in found.groups if series.count >= LEAST_OF_RULE]
    numbers, missing = sum(s.numbers for s in many), sum(s.missing for s in many)
    span = numbers + missing
    if missing > MOST_MISSING * span or not len(found.flags):
        return
    ordered = "order" in settings.find
    yield Proposal(
        f"numbers of {table.name}",
        settings_of(of=settings.of, find=None if ordered else list(settings.find)),
        "Numbers that are missing, or were used twice.",
        f"{numbers:,} of {span:,} numbers of {column.name} are there",
    )


def _are_no_series(population: Population, column: Column) -> bool:
    """Whether what stands before the last digits is another in most of some rows, as in what was drawn by chance."""
    values = first_coded(population, [column.name], LOOKED_AT)[column.name].values
    heads = {_HEAD.sub("", text.strip()) for text in values}
    return len(values) >= LEAST_OF_RULE and len(heads) > DENSE * len(values)


def _go_by_another(population: Population, column: Column) -> bool:
    """Whether numbers go by another of the rows' days than the one that they are dated by: what was prescribed long before it
    was sold is numbered as it was sold."""
    table, date = population.table, population.table.dated()
    days = [c.name for c in table.columns if c.type in ("date", "timestamp")]
    if date is None or len(days) < 2:
        return False
    seen = first_coded(population, [column.name, *days], MOST_SEEN)
    ids = np.array(seen[column.name].values, dtype=object)[seen[column.name].codes]
    order = np.lexsort((ids.astype(str), np.char.str_len(ids.astype(str))))
    falls = {}
    for name in days:
        ranks = np.argsort(np.argsort(np.array(seen[name].values, dtype=str)))
        codes = seen[name].codes[order]
        steps = np.diff(ranks[codes[codes >= 0]])
        falls[name] = float((steps < 0).mean()) if len(steps) else 1.0
    own = falls.pop(date.name)
    return own > OFTEN and min(falls.values()) < HARDLY


def _of_papers(screen: Screen, population: Population, column: Column) -> Iterator[Proposal]:
    """Papers may well have several rows each, and papers of others any number: those of one beginning, that are missing."""
    head = _series(population, column)
    if head is None:
        return
    table, name = population.table, quoted_name(column.name)
    where = None
    if head:
        where = f"substr({name}, 1, {len(head)}) = {literal(head)}"
    rows = replace(population, where=where)
    settings = SequenceSettings(of=name, find=["gaps"])
    found = screen.run(rows, settings)
    main = max(found.groups, key=lambda s: s.numbers, default=None)
    if main is None or not main.missing or not len(found.flags):
        return
    span = main.numbers + main.missing
    if main.missing <= MOST_MISSING * span:
        yield Proposal(
            f"{column.name} of {table.name} missing" + (f", {head} …" if head else ""),
            settings_of(of=name, find=["gaps"], where=where),
            "Papers of a series that are in no row.",
            f"{main.numbers:,} of {span:,} numbers from {main.first} to {main.last} are there",
        )


def _series(population: Population, column: Column) -> str | None:
    """The beginning of the papers with the densest numbers of those with many, by some rows; None where they are
    anyhow."""
    values = first_coded(population, [column.name], MOST_SEEN)[column.name].values
    numbers = numbers_by_head(map(str.strip, values), _NUMBERED)
    dense = {}
    for head, own in numbers.items():
        share = len(own) / (max(own) - min(own) + 1)
        if len(own) >= LEAST_OF_RULE and share >= DENSE:
            dense[head] = len(own)
    return max(dense, key=lambda head: dense[head], default=None)
