"""What a file's columns hold: formats and roles by a sample, by the plan, by earlier files."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
import pyarrow as pa

from sabueso.base.currencies import least_decimals, of_one_currency
from sabueso.base.errors import UserError, nearest
from sabueso.intake.formats.beside_sides import leave_another_figure
from sabueso.intake.formats.called import (
    looks_like_code,
    looks_like_date,
    looks_like_measure,
    looks_like_moment,
    names_a_day_of,
    says_whether,
    worded,
)
from sabueso.intake.formats.convert import CODE_ROLES, SIGNED, TOTALS_COLUMNS, says_missing
from sabueso.intake.formats.currencies import (
    currency_column,
    stated_currency,
)
from sabueso.intake.formats.dates import DateFormat
from sabueso.intake.formats.days import are_nameless_days, refuse_both_orders
from sabueso.intake.formats.deciding import Format, TextFormat, decide
from sabueso.intake.formats.header import is_header
from sabueso.intake.formats.hints import Hints
from sabueso.intake.formats.moving import settle_moving
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.intake.formats.one_currency import (
    in_one_currency,
    leave_anothers,
    ledgers_sides,
    own_currency,
)
from sabueso.intake.formats.own_accounts import leave_own_accounts
from sabueso.intake.formats.people import beside_approver
from sabueso.intake.formats.role_words import OF_EXCHANGE
from sabueso.intake.formats.roles import guess_roles, may_have
from sabueso.intake.formats.serial import settle_serial
from sabueso.intake.formats.several_currencies import refuse_currencies, refuse_shown
from sabueso.intake.formats.sides import both_filled, side_column
from sabueso.intake.formats.stated import states_total
from sabueso.intake.formats.two_days import earlier_of_two
from sabueso.intake.interface import Layout
from sabueso.intake.settings import ReadSettings
from sabueso.population.period_names import names_period
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Role


class Widen(Exception):
    """A column's texts need another format than the sample told; the file is read again."""

    def __init__(self, column: str, format: Format) -> None:
        super().__init__(column)
        self.column, self.format = column, format


class Told(Exception):
    """Columns of which the sample showed nothing are filled further down; the file is read again."""

    def __init__(self, texts: Mapping[str, list[str]]) -> None:
        super().__init__(", ".join(texts))
        self.texts = texts


@dataclass(frozen=True)
class Prior:
    """What earlier files of the same table settled: columns, roles. ``derived`` are columns that the plan
    makes; with ``complete`` no role is guessed beside those that it gives, and never one of ``of_none``. ``called`` is what the rows
    say they are from, where that is not the file's own name. ``minus`` are the sides whose amounts had a
    minus of their own, where there were sides."""

    columns: Mapping[str, Column] = field(default_factory=dict)
    roles: Mapping[str, str] = field(default_factory=dict)
    derived: frozenset[str] = frozenset()
    complete: bool = False
    of_none: frozenset[str] = frozenset()
    called: str = ""
    minus: frozenset[str] | None = None


def check_columns(path: Path, layout: Layout, settings: ReadSettings, prior: Prior) -> None:
    """Columns are matched by name; one that the table lacks, or has, is said and refused."""
    if not prior.columns:
        return
    missing, surplus = differing(layout, settings, prior)
    if (missing or surplus) and settings.columns != "may differ":
        parts = [f"lacks {', '.join(missing)}"] if missing else []
        parts += [f"adds {', '.join(surplus)}"] if surplus else []
        raise UserError(
            f"{path}, line {layout.header_line}: the header {' and '.join(parts)} against the "
            "columns taken before; take it as another table with --as, say under read.names in case.toml which column is "
            'called otherwise, or let them differ: read.columns = "may differ"'
        )


def differing(layout: Layout, settings: ReadSettings, prior: Prior) -> tuple[list[str], list[str]]:
    """Columns of the table that a file lacks, and those it adds."""
    if not prior.columns:
        return [], []
    have, want = set(layout.header), {c.name for c in prior.columns.values() if not c.is_place}
    amount = prior.roles.get("amount", "")
    if SIGNED not in have and base_of(amount, settings) == SIGNED:
        want.discard(SIGNED)  # made from the debit and credit columns
    if settings.rates:
        want.discard(amount)  # converted by the rates
    return sorted(want - have), sorted(have - want)


def converted_name(base: str, currency: str) -> str:
    """The column that holds a column's amounts in the case's currency."""
    return f"{base}_{currency.lower()}"


def base_of(amount: str, settings: ReadSettings) -> str:
    """The column that the amounts were converted from, or the amounts' own."""
    return amount.removesuffix(f"_{settings.currency.lower()}") if settings.rates else amount


def detect(
    layout: Layout, settings: ReadSettings, prior: Prior
) -> tuple[dict[str, Format], dict[Role, str]]:
    """Formats and roles by the sample, by what is given, and by what is settled."""
    formats, roles = _detected(layout, settings, prior)
    refuse_shown(layout, roles, settings)
    return formats, roles


def _detected(
    layout: Layout, settings: ReadSettings, prior: Prior
) -> tuple[dict[str, Format], dict[Role, str]]:
    sample = _without_totals(_without_headers(layout.sample, layout.on_lines))
    samples = {
        name: [v.strip() for v in sample.column(name).to_pylist() if v and v.strip()]
        for name in layout.header
    }
    if settings.year is None and layout.year:
        settings = settings.model_copy(update={"year": layout.year})
    formats = _formats(samples, settings, prior)
    for name, shown in layout.units.items():
        found = formats.get(name)
        by_name = stated_currency(name, {}, settings.currency)
        if isinstance(found, NumberFormat) and not found.unit and by_name is None:
            formats[name] = replace(found, unit=of_one_currency(shown))
    if prior.roles:
        known = {**prior.roles, "amount": base_of(prior.roles.get("amount", ""), settings)}
        given = {r: c for r, c in known.items() if c in layout.header}
        if not prior.columns:
            _check_roles(prior, layout, settings)
        if prior.columns or prior.complete:
            return formats, given  # type: ignore[return-value]
    else:
        given = {}
    guessed = _guessed(
        layout, samples, formats, given, rates=bool(settings.rates), of_none=prior.of_none
    )
    beside_approver(guessed, samples, formats)
    for role in ("preparer", "approver"):
        # Approved: yes or no is nobody.
        if role in guessed and role not in given and says_whether(samples[guessed[role]]):
            del guessed[role]
    for role in (*CODE_ROLES, "currency", "side"):
        if role in guessed:
            formats[guessed[role]] = TextFormat()
    return formats, guessed


def _formats(
    samples: Mapping[str, list[str]], settings: ReadSettings, prior: Prior
) -> dict[str, Format]:
    """The format of each column; one whose marks are ambiguous follows those that are not."""
    hints = {name: _hints(name, values, settings, prior) for name, values in samples.items()}
    present = {
        name: [v for v in values if not says_missing(v, settings.missing)] or values
        for name, values in samples.items()
    }
    formats = {name: decide(present[name], hints[name]) for name in samples}
    for name, values in samples.items():
        if hints[name].kind == "date" and not settings.dates:
            refuse_both_orders(name, formats[name], present[name])
        if isinstance(formats[name], TextFormat) and looks_like_measure(name):
            refuse_currencies(name, values, settings)
    _in_one_order(formats, present, hints)
    sure = [
        f.decimal
        for f in formats.values()
        if isinstance(f, NumberFormat) and f.scale and not f.assumed
    ]
    if settings.decimal is not None or not sure:
        return formats
    mark = max(set(sure), key=sure.count)
    for name, found in list(formats.items()):
        if isinstance(found, NumberFormat) and found.assumed:
            # The decimal mark of the rest is the other one: these are thousands.
            if found.thousands == mark:
                formats[name] = decide(present[name], replace(hints[name], decimal=mark))
            else:
                formats[name] = replace(found, assumed=False)
    return formats


def _in_one_order(
    formats: dict[str, Format], texts: Mapping[str, list[str]], hints: Mapping[str, Hints]
) -> None:
    """Give days that are read in either order that of the columns beside them, where all these have one."""
    orders = {f.order for f in formats.values() if isinstance(f, DateFormat) and not f.assumed}
    orders &= {"day first", "month first"}
    if len(orders) != 1:
        return
    for name, found in list(formats.items()):
        if isinstance(found, DateFormat) and found.assumed:
            other = decide(texts[name], replace(hints[name], dates=next(iter(orders))))
            if isinstance(other, DateFormat):
                formats[name] = replace(other, assumed=False)


def _hints(name: str, values: list[str], settings: ReadSettings, prior: Prior) -> Hints:
    """What the plan, earlier files and the name of a column tell of it."""
    role = next((role for role, column in prior.roles.items() if column == name), None)
    kind, known = settings.types.get(name), prior.columns.get(name)
    if kind is None and known is not None:
        kind = {"timestamp": "date", "time": "date"}.get(known.type, known.type)
    if kind is None and role in CODE_ROLES:
        kind = "text"
    return Hints(
        kind=kind,
        begins=settings.year or "",
        decimal=settings.decimal,
        thousands=settings.thousands,
        dates=settings.dates,
        code=role in CODE_ROLES or (role is None and looks_like_code(name, values)),
        dated=looks_like_date(name) or are_nameless_days(name, values),
        day_of=names_a_day_of(name),
        moment=looks_like_moment(name),
        measure=looks_like_measure(name),
        period=names_period(name),
    )


def _guessed(
    layout: Layout,
    samples: Mapping[str, list[str]],
    formats: Mapping[str, Format],
    given: Mapping[str, str],
    *,
    rates: bool = False,
    of_none: frozenset[str] = frozenset(),
) -> dict[Role, str]:
    """The roles of a table's first file: those given, and those guessed beside them, but for those that no column
    has; ``rates`` says that the plan has some for amounts of several currencies."""
    columns = [formats[name].column(name) for name in layout.header]
    distinct = {name: (len(set(values)), len(values)) for name, values in samples.items()}
    shares = {name for name, f in formats.items() if isinstance(f, NumberFormat) and f.unit == "%"}
    held = [column for column in columns if column.name not in shares]
    guessed = guess_roles(held, distinct, both_filled(layout.sample), formats)
    settle_serial(guessed, given, layout, samples)
    guessed = {role: name for role, name in guessed.items() if role not in of_none}
    if not {"amount", "debit", "credit"} & {*given, *of_none}:
        leave_another_figure(guessed, formats, layout.sample)
    if "date" not in guessed and "date" not in given:
        begins = earlier_of_two(guessed.values(), layout.sample, formats)
        guessed |= {} if begins is None else {"date": begins}
    leave_own_accounts(guessed, layout.sample)
    heading = layout.found.get("headings")
    if heading is not None and layout.added:
        heading = layout.added[0]
    if not {"amount", "debit", "credit"} & set(given):
        settle_moving(guessed, layout.sample, formats, heading)
    if given:
        # What the plan says of a table before its first file; the rest is guessed beside it.
        if "amount" in given:
            guessed = {r: c for r, c in guessed.items() if r not in ("debit", "credit")}
        free = {r: c for r, c in guessed.items() if r not in given and c not in given.values()}
        guessed = free | dict(given)  # type: ignore[assignment]
    if "amount" in guessed and "debit" not in guessed:
        side = side_column(samples, samples[guessed["amount"]])
        if side is not None:
            guessed = {r: c for r, c in guessed.items() if c != side} | {"side": side}
    if "amount" in guessed and "currency" not in {*guessed, *of_none}:
        foreign = "foreign" in worded(guessed["amount"])
        named = currency_column(
            {
                name: texts
                for name, texts in samples.items()
                if formats[name].type == "text" and (foreign or "foreign" not in worded(name))
            }
        )
        if named is not None and named not in guessed.values():
            guessed["currency"] = named
    if "currency" in guessed and "currency" not in given:
        own_currency(guessed, columns, samples)
        leave_anothers(guessed, columns)
    if heading is not None and heading != layout.found["headings"]:
        _named_above(guessed, heading, layout.found["headings"])
    if (
        heading is not None
        and "account" not in guessed
        and heading not in guessed.values()
        and _are_coded(samples[heading])
    ):
        guessed = {r: c for r, c in guessed.items() if c != heading} | {"account": heading}
    priced = guessed.get("price")
    of_exchange = priced is not None and not OF_EXCHANGE.isdisjoint(worded(priced))
    if of_exchange and "currency" in guessed and "quantity" not in guessed and "price" not in given:
        del guessed["price"]
    if not {"amount", "currency", "debit"} & set(given):
        if not {"amount", "debit"} & set(guessed):
            ledgers_sides(guessed, columns)
        if "currency" in guessed and not rates:
            in_one_currency(guessed, columns, samples)
    return {role: name for role, name in guessed.items() if role not in of_none}


def _named_above(guessed: dict[Role, str], heading: str, column: str) -> None:
    """Give headings, and the column in which they stand, the roles that the two parts of its name say: of
    ``Vendor / Invoice`` the vendors stand above, and the invoices below."""
    above, mark, below = column.partition("/")
    if not mark:
        return
    told: tuple[tuple[tuple[Role, ...], str, str], ...] = (
        (("party", "account"), above, heading),
        (("document", "id"), below, column),
    )
    for roles, part, name in told:
        role = next((role for role in roles if may_have(role, part)), None)
        if role is not None:
            for other in [r for r, n in guessed.items() if r == role or n == name]:
                del guessed[other]
            guessed[role] = name


def _are_coded(headings: Sequence[str]) -> bool:
    """Whether headings begin with a code, as reports by account have them."""
    return bool(headings) and all(re.match(r"[0-9]{2,}", text) for text in headings)


def _without_totals(sample: pa.Table) -> pa.Table:
    """A sample without its rows that begin with a total's word, where those are few: a word under the
    dates of a short file makes no texts of them."""
    columns = sample.columns[:TOTALS_COLUMNS]
    if not columns:
        return sample
    # Asked once of all columns: to make the pattern takes longer than to look.
    texts = pa.concat_arrays([column.combine_chunks() for column in columns])
    worded = states_total(texts).reshape(len(columns), -1).any(axis=0)
    if 3 * worded.sum() > sample.num_rows:
        return sample
    return sample.filter(pa.array(~worded))


def _without_headers(sample: pa.Table, header: Sequence[str]) -> pa.Table:
    """A sample without the header once more, as reports print it on each page: it is no text of a column."""
    again = np.array([is_header(row, header) for row in sample.to_pylist()], dtype=bool)
    return sample.filter(pa.array(~again)) if again.any() else sample


def _check_roles(prior: Prior, layout: Layout, settings: ReadSettings) -> None:
    """Refuse roles of columns that the first file of a table does not have.

    Raises
    ------
    UserError
        With the column, and those that there are.
    """
    for role, column in prior.roles.items():
        if (
            column not in (*layout.header, SIGNED, *prior.derived)
            and base_of(column, settings) not in layout.header
        ):
            raise UserError(
                f"the role {role} is given to a column {column!r}, which the file does not have"
                f"{nearest(column, layout.header)}; its columns are {', '.join(layout.header[:12])}"
            )


def columns_of(
    layout: Layout, formats: dict[str, Format], roles: dict[Role, str], settings: ReadSettings
) -> tuple[Column, ...]:
    """Columns of the table, the signed or converted amount and the row's place included."""
    columns = [formats[name].column(name) for name in layout.header]
    if _is_pair(roles, layout):
        pair = [formats[roles[role]].column(roles[role]) for role in ("debit", "credit")]
        columns.append(
            Column(SIGNED, "number", max(c.scale for c in pair), max(c.precision for c in pair))
        )
        roles["amount"] = SIGNED
    if settings.rates and "amount" in roles and "currency" in roles:
        base = next(c for c in columns if c.name == roles["amount"])
        name = converted_name(base.name, settings.currency)
        taken = next((c.name for c in columns if c.name.lower() == name.lower()), None)
        if taken is not None:
            raise UserError(
                f"read.rates make a column {name!r}, and the file has a column {taken!r} already: give "
                "the amounts in the case's currency the role amount, or leave the rates out"
            )
        # Whole yen are not whole euros: what was converted has the decimals of the case's currency at least.
        scale = max(base.scale, least_decimals(settings.currency))
        columns.append(Column(name, "number", scale, 38))
        roles["amount"] = name
    return (*columns, Column(FILE_COLUMN, "text"), Column(LINE_COLUMN, "number"))


def _is_pair(roles: Mapping[Role, str], layout: Layout) -> bool:
    return (
        "debit" in roles
        and "credit" in roles
        and all(name.lower() != SIGNED for name in layout.header)
        and roles.get("amount") in (None, SIGNED)
    )
