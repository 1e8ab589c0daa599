"""What is said of how a file was read: each column, notes, assumptions, and rows with their signs."""

from __future__ import annotations

import re

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.plain import Values
from sabueso.base.words import first_few, listed
from sabueso.intake.doubts import either_order
from sabueso.intake.formats.called import looks_like_date
from sabueso.intake.formats.convert import SIGNED, Converted
from sabueso.intake.formats.dates import DateFormat
from sabueso.intake.formats.days import beside_known, yearless
from sabueso.intake.formats.detection import base_of, differing
from sabueso.intake.formats.downward import filled_cells, printed_once
from sabueso.intake.formats.hints import Hints
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.intake.interface import Assumed
from sabueso.intake.may_not_count import may_not_count
from sabueso.intake.readers.cells import num_lines
from sabueso.intake.reading import Reading
from sabueso.intake.told_roles import are_periods, assumed_roles, made_of, texts_of
from sabueso.population.period_names import may_be_months, names_month
from sabueso.population.table import LINE_COLUMN, Role
from sabueso.report import numbers as num


def described(reading: Reading) -> dict[str, str]:
    """How each column was read, those that were made of others included."""
    roles = reading.roles
    texts = {name: f.described() for name, f in reading.formats.items()}
    amount = base_of(roles.get("amount", ""), reading.settings)
    for column in reading.columns:
        if column.name not in texts and not column.is_place:
            pair = made_of("debit", "credit", reading.minus)
            made = pair if column.name == SIGNED else f"{amount} at the plan's rates"
            texts[column.name] = made
    if "side" in roles and amount in texts:
        texts[amount] += f", sign by {roles['side']}"
    return texts


def _differences(reading: Reading) -> list[str]:
    lacking, adding = differing(reading.layout, reading.settings, reading.prior)
    notes = [f"lacks {', '.join(lacking)} of the table: missing there"] if lacking else []
    return notes + ([f"adds {', '.join(adding)} to the table"] if adding else [])


def notes_of(reading: Reading) -> list[str]:
    """What is to be said of how a file was read, what was assumed among it."""
    formats, tally = reading.formats, reading.tally
    found: list[str] = [*reading.layout.notes, *_differences(reading)]
    if tally.headers:
        again = "once" if tally.headers == 1 else f"{tally.headers:,} times"
        found.append(f"the header stands among the rows {again} more, and is no row")
    if tally.titles:
        verb = num.verb(tally.titles, "says", "say")
        is_are = num.verb(tally.titles, "is no row", "are no rows")
        found.append(
            f"{num_lines(tally.titles)} {verb} again what stands above the header, and {is_are}"
        )
    for name, f in formats.items():
        if isinstance(f, (DateFormat, NumberFormat)) and f.assumed:
            dated = isinstance(f, DateFormat)
            figures, read = either_order(tally, name), f"{name}: read as {f.described()}"
            text = f"{read}; nothing in the file contradicts it" + (
                f": {figures}" if figures else ""
            )
            key = "read.dates" if dated else "read.decimal"
            alike = f"{read}; nothing in the files contradicts it"
            found.append(Assumed(text, key, () if dated else (name,), alike, figures))
    found += _days_in_two_ways(reading)
    written = {
        "machine": "numbers that a program wrote as binary floats are read to 15 digits, and to 12 decimals at most",
        "cut": "numbers that state more than 12 decimals are rounded to 12",
    }
    for style, text in written.items():
        numbers = ((name, f) for name, f in formats.items() if isinstance(f, NumberFormat))
        names = [name for name, f in numbers if style in f.styles]
        found += [f"{first_few(names, 4)}: {text}"] if names else []
    found += [
        f"{name}: {text!r} is read as missing, {count:,} time{'s' if count != 1 else ''}"
        for (name, text), count in sorted(tally.absent.items())
    ]
    found += [*_of_balances(reading), *_by_month(reading), *_of_no_year(reading)]
    found += [
        *_last_record(reading),
        *_cut_short(reading),
        *assumed_roles(reading),
        *may_not_count(reading),
    ]
    return found + _left_blank(reading)


def _days_in_two_ways(reading: Reading) -> list[str]:
    """What is said of days that stand year first beside others of one column."""
    sample, found = reading.layout.sample, list[str]()
    for name, f in reading.seen().items():
        both = isinstance(f, DateFormat) and f.beside
        if not both and (f.type != "text" or not looks_like_date(name)):
            continue
        texts = texts_of(sample, name)
        seen = beside_known(texts, Hints(dated=True))
        if seen is None:
            continue
        kinds = (
            f"{name}: of the first {len(texts):,} days {seen.known:,} stand year first or as a number, as a "
            f"spreadsheet gives its own, and {seen.texts:,} otherwise, such as {seen.example!r}"
        )
        if both:
            found.append(f"{kinds}; both are read")
        elif seen.swapped:
            text = (
                f"{kinds}; none of those is after the 12th of a month, and all of these are beyond: days were perhaps "
                "taken for months before the file was made, and the column stays text"
            )
            found.append(Assumed(text, "types"))
    return found


def _last_record(reading: Reading) -> list[str]:
    """What is said of a last line that is no row and states how many there are, or what they add up to."""
    tally, delimiter = reading.tally, getattr(reading.layout, "delimiter", "")
    last = max(tally.damaged, key=lambda d: d.line, default=None)
    if last is None or not delimiter or last.line < tally.file_lines - 1:
        return []
    cells = [cell.strip() for cell in last.text.split(delimiter)]
    told = []
    if str(tally.accepted) in (cell.lstrip("0") for cell in cells):
        told.append(f"{num.many(tally.accepted, 'row')}, as many as were read")
    for name, f in reading.formats.items():
        total = tally.sums.get(name)
        if not total or not isinstance(f, NumberFormat):
            continue
        stated = [cell for cell in cells if f.fits(cell)]
        if total in f.read(pa.array(stated, pa.string())).to_pylist():
            told.append(f"{num.amount(total, f.scale)}, what {name} adds up to")
    if not told:
        return []
    return [f"line {last.line:,}, the last, is no row and states {listed(told)}"]


_CUT = re.compile(r"[+-]?\d(?:[.,]\d+)?[eE]\+\d{1,3}")


def _cut_short(reading: Reading) -> list[str]:
    """What is said of long numbers, such as those of accounts, that were written with an exponent."""
    sample, found = reading.layout.sample, list[str]()
    for name, f in reading.seen().items():
        if f.type != "text":
            continue
        texts = texts_of(sample, name)
        cut = [t for t in texts if _CUT.fullmatch(t)]
        if cut:
            found.append(
                f"{name}: on {len(cut):,} of the first {num_lines(sample.num_rows)} stands a number with an exponent, "
                f"such as {cut[0]!r}, as spreadsheets write long ones: digits that are not shown are lost, and "
                "different numbers may look alike"
            )
    return found


def _of_balances(reading: Reading) -> list[Assumed]:
    """What is said of lines that state what an account stood at."""
    told = reading.tally.balances
    if not told:
        return []
    line, words = told[0]
    state, are = ("states", "is no row") if len(told) == 1 else ("state", "are no rows")
    text = (
        f"{num_lines(len(told))} {state} what an account stood at, such as {words!r} on line {line}, "
        f"and {are}"
    )
    return [Assumed(text, "read.balances")]


def _of_no_year(reading: Reading) -> list[str]:
    """What is said of days without a year: which is theirs, or that nobody said it."""
    sample, found, seen = reading.layout.sample, list[str](), reading.seen()
    for name, f in reading.formats.items():
        if isinstance(f, DateFormat) and f.begins and reading.settings.year is None:
            text = f"{name}: days without a year are the nearest to the dates above the header, from {f.begins} on"
            found.append(Assumed(text, "read.year"))
        elif f.type != "date" and name in seen:
            texts = texts_of(sample, name)
            dated = looks_like_date(name)
            if len(texts) < LEAST_DAYS or are_periods(name, texts):
                continue
            form = yearless(texts, None, dated=dated)
            if form is not None and may_be_months(texts):
                text = f"{name}: {texts[0]!r} and its like are days without a year or months with one, and stay text"
                found.append(Assumed(text, "read.year"))
            elif form is not None:
                text = f"{name}: days without a year, such as {texts[0]!r}, are no dates: nothing says their year"
                found.append(Assumed(text, "read.year"))
    return found


LEAST_MONTHS, LEAST_DAYS = 3, 5


def _by_month(reading: Reading) -> list[str]:
    """What is said of a table that has a column for each month."""
    months = [
        name
        for name, f in reading.formats.items()
        if isinstance(f, NumberFormat) and names_month(name)
    ]
    if len(months) < LEAST_MONTHS:
        return []
    return [
        f"{len(months)} columns are called by months, {months[0]} to {months[-1]}: what stands in them is not compared "
        "over time, which needs a line for each month"
    ]


def _left_blank(reading: Reading) -> list[Assumed]:
    """What is said of columns, such as an account, a day or the first of all, that are filled on the first line of
    each group of lines alone."""
    sample = reading.layout.sample
    roles: tuple[Role, ...] = ("account", "party", "preparer", "document")
    masks = {name: filled_cells(sample.column(name)) for name in sample.column_names}
    day = reading.roles.get("date", "")
    # A debit stands where no credit does: what is counted is not printed once for several lines.
    counted = {n for n, f in reading.formats.items() if isinstance(f, NumberFormat) and f.scale}
    counted |= {
        reading.roles.get(role, "") for role in ("amount", "debit", "credit", "quantity", "price")
    }
    with_day = [
        n
        for n in masks
        if day in masks and n != day and n not in counted and (masks[n] == masks[day]).all()
    ]
    texts = [n for n, f in reading.formats.items() if f.type == "text" and n in masks]
    named = [reading.roles[r] for r in roles if r in reading.roles]
    named = [name for name in (*named, *texts[:1], *with_day) if name in masks]
    found = printed_once(sample, dict.fromkeys(named))
    where = dict.fromkeys(found, "on the first of them and never twice")
    if (other := next((name for name in with_day if name in found), None)) is not None:
        found[day], where[day] = found[other], f"on those of {other} alone"
    return [
        Assumed(
            f"{name} stands on {many:,} of the first {num_lines(sample.num_rows)}, {where[name]}: the lines below "
            "each are left without one",
            "read.fill",
        )
        for name, many in found.items()
    ]


def how_read(reading: Reading) -> Values:
    """Settings of ``read`` that say what was found, as far as the columns agree."""
    layout, formats = reading.layout, reading.formats
    found = dict(layout.found) | {k: v for k, v in layout.settled.items() if k != "types"}
    if reading.settings.period:
        found["period"] = reading.settings.period
    numbers = [f for f in formats.values() if isinstance(f, NumberFormat)]
    marks = {
        "decimal": {f.decimal for f in numbers if f.scale or f.thousands},
        "thousands": {f.thousands for f in numbers if f.thousands},
        "dates": {f.order for f in formats.values() if isinstance(f, DateFormat) and f.order},
    }
    return found | {name: next(iter(v)) for name, v in marks.items() if len(v) == 1}


MOST_SIGNED = 5


def note_signed(found: Converted, cells: pa.Table, reading: Reading) -> None:
    """Keep a few rows whose amount got its sign from another column, of either sign where there are."""
    roles, tally = reading.roles, reading.tally
    amount = roles.get("amount")
    shown = [roles[role] for role in ("debit", "credit", "side") if role in roles]
    if amount is None or len(tally.signed) >= MOST_SIGNED or not shown:
        return
    if amount in reading.layout.header:
        shown.insert(0, amount)
    values = found.values.column(amount)
    positive = pc.greater(values, 0).fill_null(False).to_numpy(zero_copy_only=False) & found.good
    negative = pc.less(values, 0).fill_null(False).to_numpy(zero_copy_only=False) & found.good
    places = sorted(
        {*np.flatnonzero(positive)[:3].tolist(), *np.flatnonzero(negative)[:3].tolist()}
    )
    for place in places[: MOST_SIGNED - len(tally.signed)]:
        row: dict[str, str | None] = {
            f"{name} as written": cells.column(name)[place].as_py() for name in shown
        }
        row["line"] = str(found.values.column(LINE_COLUMN)[place].as_py())
        tally.signed.append({**row, amount: format(values[place].as_py(), "f")})
