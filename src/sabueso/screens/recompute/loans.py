"""The instalments of a loan by its terms beside what was recorded."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal, InvalidOperation
from statistics import median_low
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.population import Population, Reason, missing
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table, money
from sabueso.screens.finding import Flags
from sabueso.screens.grouping import UNITS, dated, without_date
from sabueso.screens.recompute.result import Explained, Scheduled, Solved
from sabueso.screens.subject import Cluster, Subject
from sabueso.stats.annuity import (
    Instalment,
    Terms,
    due_dates,
    nearest_due,
    schedule,
    sign_changes,
    solve,
)

MOST_ROWS = 100_000
NUMBERS = ("principal", "rate", "periods", "payment", "balloon", "grace", "per_year")
KNOWN = (*NUMBERS, "first", "due", "day_count", "table")


@dataclass(frozen=True)
class Paid:
    """A recorded payment: its day, minor units, and where it stands."""

    day: date
    units: int
    file: str
    line: int
    identity: str | None


@dataclass(frozen=True)
class Loan:
    """A loan as agreed and as recorded."""

    reasons: list[Reason]
    schedule: list[Scheduled]
    terms: Terms
    solved: Solved | None
    explained: Explained | None
    rounding_left: Decimal
    flags: Flags
    differing: int


def terms_named(table: Table, name: str) -> dict[str, Any]:
    """Terms that stand under a name among the facts of the plan.

    Raises
    ------
    UserError
        If there are none, or one is not known.
    """
    prefix = name.strip().removeprefix("facts.") + "."
    found = {k.removeprefix(prefix): v for k, v in table.facts.items() if k.startswith(prefix)}
    if not found:
        raise UserError(
            f"--terms {name!r}: the plan has no facts of that name; expected [facts.{prefix[:-1]}] with principal, "
            "rate and periods"
        )
    unknown = [key for key in found if key not in KNOWN]
    if unknown:
        raise UserError(f"--terms {name!r}: {unknown[0]!r} is no term; expected {', '.join(KNOWN)}")
    return {key: value for key, value in found.items() if key != "table"}


def loan_of(
    population: Population, measure: Column, given: Mapping[str, Any], tolerance: Decimal | None
) -> Loan:
    """Compare a loan's recorded instalments with those of its terms; a missing term is solved for."""
    table = population.table
    when = dated(table, "recompute")
    reasons = [missing(measure), without_date(when)]
    paid = _paid(population, measure, when, reasons)
    if not paid:
        raise UserError("there is no recorded instalment to compare with the terms")
    unit = Decimal(1).scaleb(-measure.scale)
    terms = _terms(given, paid[0].day)
    typical = money(median_low([p.units for p in paid]), measure.scale)
    seen = terms.payment if terms.payment is not None else typical
    try:
        whole, solved = _solved(terms, seen, paid, measure.scale)
        planned = schedule(whole, unit)
    except ValueError as error:
        raise UserError(f"recompute: {error}") from None
    assert whole.periods is not None
    dues = due_dates(whole.first, whole.periods, whole.per_year)
    places = nearest_due([p.day for p in paid], dues)
    beside = _beside(planned, paid, places, measure.scale)
    limit = tolerance if tolerance is not None else unit / 2
    return Loan(
        reasons=reasons,
        schedule=beside,
        terms=whole,
        solved=solved,
        explained=_explained(whole, planned, beside, limit),
        rounding_left=planned[-1].balance - whole.balloon,
        flags=_flags(beside, paid, places, limit),
        differing=sum(abs(s.difference) > limit for s in beside),
    )


def _paid(
    population: Population, measure: Column, when: Column, reasons: list[Reason]
) -> list[Paid]:
    identity = population.table.role("id")
    values: dict[str, exp.Expr] = {
        "day": sql.cast(sql.column(when.name), "DATE"),
        UNITS: sql.minor_units(measure),
        "identity": exp.null() if identity is None else sql.cast(sql.column(identity.name), "TEXT"),
    }
    base = population.base(values, reasons, rows=True)
    ordered = exp.select("*").from_(base.subquery("b"))
    names = ("day", FILE_COLUMN, LINE_COLUMN)
    select = ordered.order_by(*(sql.ordered(sql.column(name)) for name in names))
    found = population.query(select.limit(MOST_ROWS + 1))
    if found.num_rows > MOST_ROWS:
        raise UserError(
            f"more than {MOST_ROWS:,} rows are no instalments of one loan; choose its rows with --where"
        )
    return [
        Paid(row["day"], int(row[UNITS]), row[FILE_COLUMN], int(row[LINE_COLUMN]), row["identity"])
        for row in found.to_pylist()
    ]


def _terms(given: Mapping[str, Any], first: date) -> Terms:
    """Terms as the plan or the options have them.

    Raises
    ------
    UserError
        If a value is none of its kind.
    """
    values: dict[str, Any] = {
        "first": first,
        "principal": None,
        "rate": None,
        "periods": None,
        "payment": None,
    }
    for name, value in given.items():
        if value is None:
            continue
        try:
            if name in ("periods", "grace", "per_year"):
                values[name] = int(value)
            elif name in NUMBERS:
                values[name] = Decimal(str(value))
            elif name == "first":
                values[name] = value if isinstance(value, date) else date.fromisoformat(str(value))
            else:
                values[name] = str(value)
        except (ValueError, InvalidOperation):
            raise UserError(f"{name.replace('_', '-')} {value!r}: expected {_kind(name)}") from None
    terms = Terms(**values)
    if terms.due not in ("end", "begin") or terms.day_count not in (
        "30/360",
        "actual/365",
        "actual/360",
    ):
        raise UserError(
            "due is end or begin, and day-count 30/360, actual/365 or actual/360; the terms have "
            f"{terms.due!r} and {terms.day_count!r}"
        )
    if terms.per_year < 1 or 12 % terms.per_year:
        raise UserError(f"per-year {terms.per_year}: expected 1, 2, 3, 4, 6 or 12 instalments")
    if terms.grace and terms.due == "begin":
        raise UserError(
            "grace is of instalments at the end of a period; these are at its beginning"
        )
    for name in ("periods", "principal"):
        value = getattr(terms, name)
        if value is not None and value <= 0:
            raise UserError(f"{name} {value}: expected more than 0")
    if terms.rate is not None and not 0 <= terms.rate < 10:
        raise UserError(
            f"rate {terms.rate}: expected a yearly rate as a share, such as 0.042 for 4.2 %"
        )
    if terms.periods is not None and terms.grace >= terms.periods:
        raise UserError(f"grace {terms.grace}: there are {terms.periods} instalments in all")
    return terms


def _kind(name: str) -> str:
    if name == "first":
        return "a date such as 2024-01-31"
    return "a whole number" if name in ("periods", "grace", "per_year") else "a number"


def _solved(
    terms: Terms, seen: Decimal, paid: Sequence[Paid], scale: int
) -> tuple[Terms, Solved | None]:
    """The terms, a missing one as the payments seen have it."""
    missing_one = next(
        (n for n in ("principal", "rate", "periods") if getattr(terms, n) is None), None
    )
    if missing_one is None:
        return (terms if terms.payment is not None else replace(terms, payment=None)), None
    found = solve(terms, seen)
    flows = [-(found.principal or Decimal(1)), *(money(p.units, scale) for p in paid)]
    changes = sign_changes(flows)
    if missing_one == "rate":
        assert found.rate is not None
        return replace(found, payment=seen), Solved(rate=float(found.rate), sign_changes=changes)
    if missing_one == "periods":
        return replace(found, payment=seen), Solved(periods=found.periods, sign_changes=changes)
    assert found.principal is not None
    unit = Decimal(1).scaleb(-scale)
    whole = replace(found, principal=found.principal.quantize(unit), payment=seen)
    return whole, Solved(principal=whole.principal, sign_changes=changes)


def _beside(
    planned: Sequence[Instalment], paid: Sequence[Paid], places: Sequence[int | None], scale: int
) -> list[Scheduled]:
    """Instalments with what was recorded for each; those not yet due at the last payment are left out."""
    recorded = [0] * len(planned)
    beyond: list[Paid] = []
    for each, place in zip(paid, places, strict=True):
        if place is None:
            beyond.append(each)
        else:
            recorded[place] += each.units
    last = max((p for p in places if p is not None), default=-1)
    if beyond:
        last = len(planned) - 1
    found: list[Scheduled] = []
    cumulated = Decimal(0)
    for one, units in zip(planned[: last + 1], recorded, strict=False):
        amount = money(units, scale)
        cumulated += amount - one.payment
        found.append(
            Scheduled(one.number, one.due, one.payment, amount, amount - one.payment, cumulated)
        )
    for number, each in enumerate(beyond, len(planned) + 1):
        amount = money(each.units, scale)
        cumulated += amount
        found.append(Scheduled(number, each.day, Decimal(0) * amount, amount, amount, cumulated))
    return found


def _explained(
    terms: Terms, planned: Sequence[Instalment], beside: Sequence[Scheduled], limit: Decimal
) -> Explained | None:
    """From the first instalment that differs on, where the later ones are alike: the rate that they are of,
    what was owed before being as agreed."""
    off = [s for s in beside if abs(s.difference) > limit and s.number <= len(planned)]
    later = [s for s in beside if off and off[0].number <= s.number <= len(planned)]
    if len(later) < 3 or len({s.recorded for s in later}) != 1 or terms.grace >= off[0].number:
        return None
    number, payment = off[0].number, later[0].recorded
    owed = planned[number - 2].balance if number > 1 else terms.principal
    assert owed is not None and terms.periods is not None
    rest = replace(
        terms, principal=owed, rate=None, periods=terms.periods - number + 1, payment=None,
        first=off[0].due, grace=0,
    )  # fmt: skip
    try:
        rate: float | None = float(solve(rest, payment).rate or 0)
    except ValueError:
        rate = None
    return Explained(number, payment, rate, owed)


def _flags(
    beside: Sequence[Scheduled], paid: Sequence[Paid], places: Sequence[int | None], limit: Decimal
) -> Flags:
    """One flag for each run of instalments that differ by the same, the largest in all first."""
    runs: list[list[Scheduled]] = []
    for one in beside:
        if abs(one.difference) <= limit:
            continue
        known = runs[-1] if runs else []
        follows = known and known[-1].number == one.number - 1
        if follows and known[-1].difference == one.difference:
            known.append(one)
        else:
            runs.append([one])
    many = max((s.number for s in beside), default=0)
    of: dict[int, list[Paid]] = {}
    beyond = many - sum(p is None for p in places)
    for each, place in zip(paid, places, strict=True):
        if place is None:
            beyond += 1
            of.setdefault(beyond, []).append(each)
        else:
            of.setdefault(place + 1, []).append(each)
    flags = [_flag(run, of) for run in runs]
    flags.sort(key=lambda f: (-abs(f["amount"]), f["from"]))
    return Flags("cluster", pa.Table.from_pylist(flags) if flags else pa.table({}), _rows_of)


def _flag(run: Sequence[Scheduled], of: Mapping[int, Sequence[Paid]]) -> Cells:
    members = [each for s in run for each in of.get(s.number, ())]
    total = sum((s.difference for s in run), Decimal(0))
    first = run[0]
    return {
        "subject": {"instalment": str(first.number), "difference": str(first.difference)},
        "score": float(abs(total)),
        "limit": None,
        "direction": "above" if total > 0 else "below",
        "p": None,
        "p_adjusted": None,
        "amount": total,
        "from": first.due.isoformat(),
        "to": run[-1].due.isoformat(),
        "instalments": len(run),
        "last": run[-1].number,
        "expected": first.expected,
        "recorded": first.recorded,
        "difference": first.difference,
        "members": [
            {"file": p.file, "line": p.line, "id": p.identity, "day": p.day.isoformat()}
            for p in members
        ],
    }


class _Instalments(Cluster):
    """Instalments one after another that differ by the same."""

    def label(self) -> str:
        return f"from instalment {self.named['instalment']} on {self.named['difference']} each"


def _rows_of(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    members = tuple((m["file"], m["line"]) for m in flag["members"])
    return _Instalments(flag["subject"], members)
