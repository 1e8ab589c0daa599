"""What the plan asks of a table's rows: its rules, one currency, the client's control figures."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal

from sabueso.base.currencies import CODES, OF_ONE, OF_SEVERAL, coded
from sabueso.base.errors import UserError
from sabueso.base.plain import Json
from sabueso.base.words import listed
from sabueso.case.events import RuleOutcome, Source
from sabueso.case.folder import Case
from sabueso.case.plan_parts import TableSection
from sabueso.intake.interface import Assumed, FileReport
from sabueso.intake.rules.judging import RuleReport, judge
from sabueso.intake.settings import ReadSettings
from sabueso.population.engines import Engine
from sabueso.population.table import Part, Table, unify
from sabueso.screens.rules.declared import AnyRule, Exists


@dataclass(frozen=True)
class Control:
    """A figure that the client gave for a file or the whole table, beside what was taken in."""

    of: str
    figure: str
    stated: Decimal
    found: Decimal

    @property
    def agrees(self) -> bool:
        return self.stated == self.found

    def as_json(self) -> Json:
        return {
            "of": self.of,
            "figure": self.figure,
            "stated": format(self.stated, "f"),
            "found": format(self.found, "f"),
            "agrees": self.agrees,
        }


@dataclass(frozen=True)
class ToJudge:
    """A table with its rules and roles; ``taken`` are the sources that stay beside what was just read."""

    table: str
    rules: Sequence[AnyRule]
    roles: dict[str, str]
    taken: Sequence[Source]


def judge_files(
    case: Case,
    what: ToJudge,
    reports: Sequence[FileReport],
    outputs: Sequence[Part],
    engine: Engine,
) -> tuple[list[FileReport], list[RuleReport]]:
    """The plan's rules over the table as it will be: what was taken before, less what a new file
    replaces, and the new files, each the one file of a part of ``outputs``.

    Raises
    ------
    UserError
        If a rule does not suit the table, or would set rows of attached files aside.
    """
    if any(part.base for part in outputs):
        for rule in what.rules:
            if rule.then == "set aside":
                raise UserError(
                    f"rule {rule.title!r} sets rows aside, which attached files do not allow: let it "
                    "mark them, or take the files in without --attach"
                )
    replaced = {report.replaces for report in reports}
    before = [case.part(s) for s in what.taken if s.sha256 not in replaced]
    columns = unify([*before, *outputs], what.table)
    currency = case.plan.case.currency
    whole = Table(what.table, "", columns, tuple(before), what.roles, currency)
    named = {rule.other for rule in what.rules if isinstance(rule, Exists)} - {what.table}
    others = {
        name: case.table(name, links=0)
        for name in named
        if name in case.plan.tables and case.sources(name)
    }
    files = [(r, part.files[0]) for r, part in zip(reports, outputs, strict=True)]
    return judge(engine, whole, outputs, others, what.rules, files)


def latest_rules(case: Case, table: str) -> list[RuleOutcome]:
    """The rules of a table as its last intake judged them."""
    events = case.register.events("rules", subject=table)
    return [RuleOutcome.of(rule) for rule in events[-1].body["rules"]] if events else []


def one_currency(
    case: Case, what: ToJudge, read: ReadSettings, reports: Sequence[FileReport]
) -> str:
    """The one currency of the table's amounts: amounts of several are never added up.

    Raises
    ------
    UserError
        If the rows have more than one, and the plan no rates.
    """
    own = case.plan.case.currency
    table, name = what.table, what.roles.get("currency")
    if read.rates or "amount" not in what.roles:
        return own
    found: dict[str, str] = {}
    replaced = {report.replaces for report in reports}
    for source in what.taken:
        if source.sha256 not in replaced:
            found |= {coded(each, own): source.file for each in source.currencies}
    for report in reports:
        found |= {coded(each, own): report.file for each in report.currencies}
    if len(found) > 1:
        one, other = list(found)[:2]
        if name is None:
            raise UserError(
                f"table {table!r}: the amounts of {found[one]} are in {one} and those of {found[other]} in "
                f"{other}, which do not add up; take them in as two tables"
            )
        some = list(found)[:MOST_NAMED]
        named = [f"{each} ({found[each]})" for each in some]
        if len(set(found.values())) == 1:
            named = [*some[:-1], named[-1]]
        if len(found) > len(some):
            named.append(f"{len(found) - len(some)} more")
        rates = ", ".join(f'{_key(each)} = "…"' for each in found if each != own)
        give = f"give what one unit is in {own} as"
        if own not in found and not case.plan.case.says_currency:
            give = (
                f"say as case.currency which one all is told in, one of these "
                f"or another ({own} where nothing is said), and give what one unit of each other is in it as"
            )
        otherwise = f"; an amount that states none is taken to be in {own}" if own in found else ""
        if not all(each in CODES or each in OF_ONE or each in OF_SEVERAL for each in found):
            otherwise += (
                f'; if these are no currencies, say so with tables.{table}.roles.currency = ""'
            )
        raise UserError(
            f"column {name!r} of table {table!r} holds {listed(named)}, which do not add up: {give} "
            f"tables.{table}.read.rates = {{ {rates} }}, or set all but one aside with a rule{otherwise}"
        )
    return next(iter(found), own)


MOST_NAMED = 6
"""Currencies of a table that are named where it has several."""


def _key(currency: str) -> str:
    """A currency as a key of the plan: quoted where it is no code."""
    return (
        currency
        if re.fullmatch("[A-Za-z0-9_-]+", currency)
        else json.dumps(currency, ensure_ascii=False)
    )


def currency_assumed(
    case: Case, table: str, roles: Mapping[str, str], reports: Sequence[FileReport]
) -> list[FileReport]:
    """The reports, saying of amounts which state no currency that the case's default is theirs, or what those of
    another table state."""
    said, own = case.plan.case, case.plan.case.currency
    stating = case.sources(said.currency_of) if said.currency_of not in ("", table) else []
    learnt = any(coded(each, own) == own for source in stating for each in source.currencies)
    if "amount" not in roles or (said.says_currency and not learnt):
        return list(reports)
    by = f"nobody said one: they are told in {own}"
    if said.says_currency:
        stating_table = case.plan.tables.get(said.currency_of)
        has_amounts = stating_table is not None and "amount" in stating_table.roles
        so = f"those of {said.currency_of} are" if has_amounts else f"{said.currency_of} names it"
        by = f"nobody said one: they are told in {own}, as {so}"
    note = Assumed(f"the amounts state no currency, and {by}", "case.currency")
    return [r if r.currencies else replace(r, notes=[*r.notes, note]) for r in reports]


def controls(
    case: Case,
    table: str,
    section: TableSection | None,
    reports: Sequence[FileReport],
    amount: str | None,
    kept: bool,
) -> list[Control]:
    """The client's control figures of the plan against the files read and all that is taken."""
    if section is None:
        return []
    each = {r.file: (r.accepted, r.sums.get(amount or "")) for r in reports}
    taken = {s.file: (s.accepted, s.sums.get(amount or "")) for s in case.sources(table)}
    # What was read and not kept stands beside what the table has.
    every = taken if kept else taken | each
    sums = [total for _, total in every.values() if total is not None]
    whole = sum(rows for rows, _ in every.values()), sum(sums, Decimal(0)) if sums else None
    found = []
    control = section.control
    for of, given, (rows, total) in [
        ("the table", control, whole),
        *((name, given, every[name]) for name, given in control.files.items() if name in every),
    ]:
        if given.rows is not None:
            found.append(Control(of, "rows", Decimal(given.rows), Decimal(rows)))
        if given.sum is not None:
            found.append(Control(of, "sum", given.sum, Decimal(0) if total is None else total))
    return found
