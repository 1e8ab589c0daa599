"""Cautions that several tests share, each with the figures that call for it."""

from __future__ import annotations

from collections.abc import Sequence
from hashlib import sha256

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Account, Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.finding import Caution


def percent(part: float, whole: float) -> float:
    return 100 * part / whole if whole else 0.0


def few_percent(value: float) -> str:
    """A percentage that may be next to nothing."""
    return f"{value:.2g}%" if value >= 1e-4 else "next to none"


def mixed_signs(negative: int, used: int, advice: str) -> Caution | None:
    """More than 5 % of the rows have the other sign."""
    fewer = min(negative, used - negative)
    if used == 0 or fewer / used <= 0.05:
        return None
    which = "credits (negative)" if negative == fewer else "positive"
    return Caution(
        "mixed_signs",
        f"{percent(fewer, used):.1f}% of the rows are {which}; {advice}",
        {"other_sign": fewer, "share": fewer / used},
    )


def many_zeros(account: Account) -> Caution | None:
    """More than 5 % of the rows that hold a value are 0."""
    zeros = account.left_out.get("zero", 0)
    if zeros == 0 or zeros / (account.used + zeros) <= 0.05:
        return None
    share = zeros / (account.used + zeros)
    return Caution(
        "many_zeros",
        f"{100 * share:.1f}% of the amounts are zero",
        {"zeros": zeros, "share": share},
    )


COPIED = 0.10
LOOKED_AT = 100_000
"""Rows of which copies are looked for; of more, those of every k-th amount, k a prime."""
_PRIMES = (1, 3, 7, 13, 31, 61, 127, 251, 509, 1021, 2039)
_OF_ITS_OWN = ("id", "document", "date", "entered")
"""Roles whose values differ from copy to copy."""


def copied_rows(
    population: Population, measure: Column, reasons: Sequence[Reason], used: int
) -> Caution | None:
    """More than a tenth of the rows repeat another in the measure and all texts, dates and ids apart.

    Rows are then not independent, and any p is too small. Copies have their amount in common: where
    rows are many, all rows of every k-th amount stand for the whole.
    """
    table = population.table
    own = {table.roles.get(role) for role in _OF_ITS_OWN}
    texts = [
        c.name for c in table.columns if c.type == "text" and not c.is_place and c.name not in own
    ]
    if not texts or not used:
        return None
    step = next((p for p in _PRIMES if used / p <= LOOKED_AT), _PRIMES[-1])
    rows, copies = _counted(population, measure, reasons, texts, step)
    if not rows or copies / rows <= COPIED:
        return None
    looked = "" if step == 1 else f" (of every {step}th amount)"
    return Caution(
        "copied_rows",
        f"{percent(copies, rows):.1f}% of the rows{looked} repeat another in {measure.name} and every text: "
        "rows that are not independent make any p too small",
        {"share": copies / rows, "looked_at": rows},
    )


def _counted(
    population: Population,
    measure: Column,
    reasons: Sequence[Reason],
    texts: Sequence[str],
    step: int,
) -> tuple[int, int]:
    """The rows looked at, and those of them that repeat an earlier one.

    Tests of a programme leave out other amounts of the same rows: copies are counted once by amount.
    """
    own = {c.name for r in reasons for c in r.condition.find_all(exp.Column)} <= {measure.name}
    rest = () if own else tuple(map(str, reasons))
    asked = population.table.name, population.asked, population.set_aside
    key = "copied_rows", *asked, measure.name, step, rest
    if key not in population.known:
        # It stays in the engine, for the tests that follow, under a name that tells what it is of.
        name = f"_copies_{sha256(repr(key).encode()).hexdigest()[:12]}"
        tree = _copies(population, measure, () if own else reasons, texts, step)
        population.stage(name, tree)
        population.known[key] = name
    fields = [
        exp.alias_(exp.Sum(this=sql.column(name)), name, quoted=True) for name in ("rows", "copies")
    ]
    kept = exp.Table(this=exp.to_identifier(population.known[key], quoted=True))
    select = exp.select(*fields).from_(kept)
    for reason in reasons if own else ():
        held = exp.Coalesce(this=reason.condition.copy(), expressions=[exp.false()])
        select = select.where(exp.Not(this=exp.paren(held)))
    found = population.query(select).to_pylist()[0]
    return int(found["rows"] or 0), int(found["copies"] or 0)


def _copies(
    population: Population,
    measure: Column,
    reasons: Sequence[Reason],
    texts: Sequence[str],
    step: int,
) -> exp.Select:
    """By amount the ``rows`` looked at, and the ``copies`` among them."""
    values: dict[str, Tree] = {measure.name: sql.column(measure.name)}
    values |= {f"{measure.name}{i}": sql.column(name) for i, name in enumerate(texts)}
    chosen = list(reasons)
    if step > 1:
        rest = exp.Mod(this=sql.magnitude(sql.minor_units(measure)), expression=sql.integer(step))
        chosen.append(Reason("", exp.NEQ(this=rest, expression=sql.integer(0))))
    keys = [sql.column(name, "b") for name in values]
    amount = sql.column(measure.name, "b")
    each = exp.select(amount, exp.alias_(sql.count(), "n", quoted=True))
    each = each.from_(population.base(values, chosen).subquery("b")).group_by(*keys)
    n = sql.column("n", "e")
    more = exp.Sub(this=n.copy(), expression=sql.integer(1))
    named = sql.column(measure.name, "e")
    fields = [
        exp.alias_(sql.cast(exp.Sum(this=n), "BIGINT"), "rows", quoted=True),
        exp.alias_(sql.cast(exp.Sum(this=exp.paren(more)), "BIGINT"), "copies", quoted=True),
    ]
    return exp.select(named, *fields).from_(each.subquery("e")).group_by(named.copy())
