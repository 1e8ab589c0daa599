"""What is assumed of the amounts of a table: which they are, their signs, and why there are none."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Mapping, Sequence

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.currencies import WITHOUT_CENTS, of_one_currency
from sabueso.base.words import listed
from sabueso.intake.formats.beside_sides import Beside
from sabueso.intake.formats.called import looks_like_code, looks_like_date, worded
from sabueso.intake.formats.dates import DateFormat
from sabueso.intake.formats.days import in_both_orders, of_the_other_order, yearless
from sabueso.intake.formats.deciding import decide
from sabueso.intake.formats.detection import base_of
from sabueso.intake.formats.downward import plain
from sabueso.intake.formats.header_words import HUNDREDTHS, WORDS
from sabueso.intake.formats.hints import Hints
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.intake.formats.role_words import BY, OF_SPANS
from sabueso.intake.formats.roles import is_no_money, may_have
from sabueso.intake.formats.two_days import earlier_of_two
from sabueso.intake.formats.year_month import month_of
from sabueso.intake.interface import Assumed
from sabueso.intake.reading import Reading
from sabueso.population.expressions import quoted_name
from sabueso.population.period_names import names_period, span_named
from sabueso.population.table import LINE_COLUMN, Role
from sabueso.report import numbers as num

LEAST_NOUGHTS = 3
MOST_TRIED = 50
"""Distinct texts of a column among which one is looked for that is no number."""
LEAST_WHOLE, MOST_ROUND = 20, 0.2
"""Amounts from which their last digits tell that nobody rounded them; share of zeros up to which they do."""


def texts_of(sample: pa.Table, name: str) -> list[str]:
    """What fills a column of the first lines, trimmed."""
    return [text.strip() for text in sample.column(name).to_pylist() if text and text.strip()]


def are_periods(name: str, texts: Sequence[str]) -> bool:
    """Whether a column is called as those of periods are, and each of its texts names one."""
    return names_period(name) and all(span_named(text) for text in set(texts))


def made_of(debit: str, credit: str, minus: Collection[str]) -> str:
    """How one amount is made of two sides, of which some have a minus of their own."""
    if not minus:
        return f"{debit} less {credit}"
    if set(minus) == {"credit"}:
        return f"{debit} with {credit}, which is negative already"
    if set(minus) == {"debit"}:
        return f"{debit} without its minus, less {credit}"
    return f"{debit} less {credit}, both without their minus"


def assumed_roles(reading: Reading) -> list[Assumed]:
    """What was assumed of the amounts of a table's first file: which they are, and their signs."""
    roles, prior = reading.roles, reading.prior
    amount = roles.get("amount")
    if amount is None and not prior.columns and not prior.complete:
        return [*_no_day(reading), *_no_number(reading), *_no_amount(reading)]
    if prior.columns or prior.complete or amount is None or "amount" in prior.roles:
        return []
    found: list[Assumed] = [*_no_date(reading), *_no_day(reading), *_no_number(reading)]
    found += _one_of_several(reading, amount)
    if "debit" in roles and "credit" in roles:
        found.append(_of_sides(reading, amount, roles["debit"], roles["credit"]))
    elif "side" in roles:
        text = f"the sign of {amount} is that of the side in {roles['side']}"
        found.append(Assumed(text, "roles.side", (amount,)))
    if _may_be_cents(reading, amount):
        text = f"no amount of {amount} has decimals: they are taken as whole units of money, and not as hundredths"
        found.append(Assumed(text, "columns", (amount,)))
    shown: Mapping[str, int] = reading.layout.units.get(amount, {})
    if shown and not of_one_currency(shown) and amount in reading.settings.types:
        told = listed([f"{sign} ({many:,})" for sign, many in shown.items()])
        text = f"the cells of {amount} are shown in {told}, and are added up as the plan says"
        found.append(Assumed(text, "read.types", (amount,)))
    if amount in reading.layout.sample.column_names:
        texts = texts_of(reading.layout.sample, amount)
        if len(texts) >= LEAST_NOUGHTS and not any(set(text) & set("123456789") for text in texts):
            text = f"every amount of {amount} on the first {len(texts):,} lines that have one is 0: formulas that were never computed stand so"
            found.append(Assumed(text, "roles.amount", (amount,)))
    given = {*roles.values(), LINE_COLUMN}
    others = [
        name
        for name, f in reading.formats.items()
        if isinstance(f, NumberFormat) and (f.scale or _may_be_money(name)) and f.unit != "%"
        and name not in given and "%" not in name and not is_no_money(name)
    ]  # fmt: skip
    if others:
        text = _chosen("amounts", amount, others)
        found.append(Assumed(text, "roles.amount", (amount,)))
    return found


def _of_sides(reading: Reading, amount: str, debit: str, credit: str) -> Assumed:
    """How an amount has to do with the sides of the ledger: made of them, or beside them."""
    base = base_of(amount, reading.settings)  # at the plan's rates it has another name
    if base not in reading.layout.header:
        text = f"{amount} is {made_of(debit, credit, reading.minus)}"
        return Assumed(text, "read.minus" if reading.minus else "roles", (debit, credit))
    roles = {**reading.roles, "amount": base}
    beside = Beside.of(roles, reading.formats, reading.layout.sample)
    if beside.turned > beside.same:
        debit, credit = credit, debit
    kept = max(beside.same, beside.turned)
    if beside.is_difference and kept == beside.rows:
        text = f"{amount} is {debit} less {credit} in each of the first {beside.rows:,} rows with either"
    else:
        text = (
            f"the amounts are those of {amount}, which is {debit} less {credit} in {kept:,} of the first "
            f"{beside.rows:,} rows with either"
        )
    return Assumed(text, "roles.amount", (amount,))


def _may_be_money(name: str) -> bool:
    """Whether a column is called as amounts are, or the sides of a ledger."""
    roles: tuple[Role, ...] = ("amount", "debit", "credit")
    return any(may_have(role, name) for role in roles)


def _chosen(what: str, taken: str, others: Sequence[str]) -> str:
    more = " …" if len(others) > 4 else ""
    return f"the {what} of the table are those of {taken}, and not {', '.join(others[:4])}{more}"


def _one_of_several(reading: Reading, amount: str) -> list[Assumed]:
    """What is said of days, quantities or currencies, where several columns are called as such are."""
    found = []
    for role, what in (("date", "days"), ("quantity", "quantities"), ("currency", "currencies")):
        taken = reading.roles.get(role)  # type: ignore[call-overload]
        if taken is None or role in reading.prior.roles:
            continue
        kinds = _KINDS[role]
        others = [
            name
            for name, f in reading.formats.items()
            if f.type in kinds
            and name not in reading.roles.values()
            and may_have(role, name)  # type: ignore[arg-type]
            and not (isinstance(f, DateFormat) and f.of_months)
            and texts_of(reading.layout.sample, name)
            and not (role == "currency" and _same(reading, name, taken))
        ]
        if others:
            text = _chosen(what, taken, others)
            found.append(Assumed(text, f"roles.{role}", (amount,)))
        elif role == "date" and (later := _later_days(reading, taken)):
            text = f"the days of the table are those of {taken}, and not {later}, which hardly any row has earlier"
            found.append(Assumed(text, "roles.date", (amount,)))
        elif role == "date" and not OF_SPANS.isdisjoint(worded(taken)):
            text = f"the days of the table are those of {taken}, by whose name something begins or ends then"
            found.append(Assumed(text, "roles.date", (amount,)))
    return found


def _later_days(reading: Reading, taken: str) -> str:
    """The other column of days, where one of two is the table's since it comes first."""
    if may_have("date", taken):
        return ""  # told by its name
    others = [name for role, name in reading.roles.items() if role != "date"]
    days = [n for n, f in reading.formats.items() if f.type in _KINDS["date"] and n not in others]
    comes_first = earlier_of_two(others, reading.layout.sample, reading.formats) == taken
    return "".join(name for name in days if name != taken) if comes_first and len(days) == 2 else ""


_KINDS = {"date": ("date", "timestamp"), "quantity": ("number",), "currency": ("text",)}


def _same(reading: Reading, name: str, other: str) -> bool:
    """Whether two columns hold the same on every line that was looked at."""
    sample = reading.layout.sample
    return other in sample.column_names and sample.column(name).equals(sample.column(other))


def _may_be_cents(reading: Reading, amount: str) -> bool:
    """Whether amounts are whole numbers that nobody rounded: programs hand on amounts as cents too."""
    found, sample = reading.formats.get(amount), reading.layout.sample
    if not isinstance(found, NumberFormat) or found.scale or amount not in sample.column_names:
        return False
    if reading.settings.currency in WITHOUT_CENTS or found.unit:
        return False
    ends = pc.utf8_slice_codeunits(pc.utf8_trim_whitespace(plain(sample.column(amount))), -1)
    digits = pc.value_counts(ends.drop_null()).to_pylist()
    known = {count["values"]: count["counts"] for count in digits if count["values"]}
    many = sum(known.values())
    return many >= LEAST_WHOLE and known.get("0", 0) <= MOST_ROUND * many


def _no_date(reading: Reading) -> list[Assumed]:
    """What is said of several days none of which is called as that of a row is."""
    days = [name for name, f in reading.formats.items() if f.type in ("date", "timestamp")]
    if "date" in reading.roles or len(days) < 2:
        return []
    text = (
        f"no column is called as the day of a row is, and none is taken for it: {listed(days[:4])}"
    )
    return [Assumed(text + (" …" if len(days) > 4 else ""), "roles.date")]


def _no_day(reading: Reading) -> list[Assumed]:
    """What is said of columns that are called as days are and are none, or of which some can only be of the other
    order of day and month."""
    found = []
    for name, f in reading.seen().items():
        dated = looks_like_date(name) or not _DAYS.isdisjoint(worded(name))
        if not dated:
            continue
        texts = texts_of(reading.layout.sample, name)
        if isinstance(f, DateFormat):
            other = of_the_other_order(f, Counter(texts))
            if other and f.order in _ORDERS and not f.beside:
                said = num.many(other.total(), "day", "days")
                text = (
                    f"{name}: {said} of the first {len(texts):,} can only be {_ORDERS[f.order]}, such as "
                    f"{next(iter(other))!r}, and {num.verb(other.total(), 'goes', 'go')} to quarantine: others may be so too"
                )
                found.append(Assumed(text, "read.dates"))
            continue
        figures = _with_figures(texts)
        if f.type != "text" or name in reading.roles.values() or not figures:
            continue
        if all(month_of(text) for text in set(figures)):
            continue  # which month of the year, beside a column of the year
        if are_periods(name, texts) or yearless(texts, None, dated=dated) is not None:
            continue
        both = in_both_orders(figures)
        if both is not None:
            text = (
                f"{name} holds days that can only be day first, such as {both[0]!r}, and some that can only be month "
                f"first, such as {both[1]!r}: the others may be either, and it stays text"
            )
            found.append(Assumed(text, "read.dates"))
            continue
        text = f"{name} is called as days are, and stays text: {figures[0]!r} is read as no day"
        found.append(Assumed(text, "types"))
    return found


def _with_figures(texts: Sequence[str]) -> list[str]:
    """The texts that have some figure, where most have; else none."""
    found = [text for text in texts if any(map(str.isdigit, text))]
    return found if 2 * len(found) > len(texts) else []


_DAYS = frozenset(WORDS["date"].split())
_ORDERS = {"day first": "month first", "month first": "day first"}
_MONEY = frozenset(" ".join(WORDS[role] for role in ("amount", "debit", "credit")).split())


_REFERENCES = frozenset(["reference", "ref", "referencia", "referenz", "riferimento", "type", "kind", "status"])  # fmt: skip
"""Words of a name that is no amount, whatever else it says."""


def _no_number(reading: Reading) -> list[Assumed]:
    """What is said of columns that are called as amounts are, and whose figures could not be read as numbers."""
    found = []
    for name, f in reading.seen().items():
        if f.type != "text" or name in reading.roles.values() or _MONEY.isdisjoint(worded(name)):
            continue
        if looks_like_code(name) or not _REFERENCES.isdisjoint(worded(name)):
            continue
        if not BY.isdisjoint(worded(name)):
            continue  # who received it, and not how much
        texts = texts_of(reading.layout.sample, name)
        if (
            (figures := _with_figures(texts))
            and not are_periods(name, texts)
            and not _are_numbered(texts)
        ):
            some = list(dict.fromkeys(figures))[:MOST_TRIED]
            odd = next((t for t in some if decide([t], Hints()).type != "number"), figures[0])
            text = f"{name} is called as amounts are, and stays text: {odd!r} is read as no number"
            found.append(Assumed(text, "columns"))
    return found


def _are_numbered(texts: Sequence[str]) -> bool:
    """Whether texts are numbers given to things: the same letters, and as many figures in each."""
    forms = {re.sub("[0-9]", "0", text) for text in texts if text}
    return len(forms) == 1 and re.fullmatch(r"[A-Za-z]{1,6}[-/ ]?0{4,}", min(forms)) is not None


def _no_amount(reading: Reading) -> list[Assumed]:
    """What is said of numbers with decimals none of which is called as amounts are."""
    numbers = [
        name
        for name, f in reading.formats.items()
        if isinstance(f, NumberFormat) and f.scale and f.unit != "%"
        and name not in reading.roles.values()
    ]  # fmt: skip
    cents = [
        name
        for name, f in reading.formats.items()
        if isinstance(f, NumberFormat) and not f.scale and not HUNDREDTHS.isdisjoint(worded(name))
    ]
    if cents:
        made = f"{quoted_name(cents[0])} * 0.01"
        text = f"{cents[0]} is in hundredths by its name, and no column is taken for the amounts: one is made by {made}"
        return [Assumed(text, "columns")]
    quantity, price = reading.roles.get("quantity"), reading.roles.get("price")
    if quantity is not None and price is not None:
        product = f"{quoted_name(quantity)} * {quoted_name(price)}"
        text = (
            f"no column is called as amounts are, and none is taken for them; what each row comes to is {product}: give "
            "it a name under columns, and the role amount"
        )
        return [Assumed(text, "columns")]
    if not numbers:
        return []
    told = listed(numbers[:4]) + (" …" if len(numbers) > 4 else "")
    return [
        Assumed(
            f"no column is called as amounts are, and none is taken for them: {told}",
            "roles.amount",
        )
    ]
