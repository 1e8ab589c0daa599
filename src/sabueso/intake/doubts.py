"""What a sample leaves open of marks and orders: settled by the rest of the file, asked, or refused."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.errors import UserError
from sabueso.intake.formats.dates import DateFormat
from sabueso.intake.formats.deciding import Format
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.intake.interface import Ambiguous
from sabueso.intake.reading import Reading, Tally


def check_told(reading: Reading) -> None:
    """Refuse numbers that may be thousands or decimals, where nothing in the whole file tells; and dates
    that may be of either order of day and month, where somebody is there to be asked."""
    path, settings, tally = reading.path, reading.settings, reading.tally
    confirmed, odd = tally.confirmed, tally.odd
    for name, found in reading.formats.items():
        if (
            isinstance(found, DateFormat)
            and found.assumed
            and name not in confirmed
            and settings.ask
        ):
            text = either_order(tally, name)
            raise Ambiguous(
                f"{path}: the days of column {name!r} may be months, and nothing in the file tells which: {text}",
                [(order, "dates", order) for order in ("day first", "month first")],
            )
        if isinstance(found, NumberFormat) and found.assumed and found.thousands:
            if name in confirmed:
                continue
            text = odd.get(name, f"12{found.thousands}345")
            whole = re.sub(rf"[^0-9({re.escape('-')}]", "", text)
            point = found.thousands
            decimals = re.sub(r"[^0-9.,(-]", "", text).replace(point, ".")
            raise Ambiguous(
                f"{path}: column {name!r} may be read in two ways, {text!r} as {whole} or as "
                f"{decimals}, and nothing in the file tells which; say what its decimal mark is: --decimal "
                f"{found.decimal!r} for {whole}, --decimal {point!r} for {decimals}",
                [(whole, "decimal", found.decimal), (decimals, "decimal", point)],
            )


MOSTLY = 0.5
LEAST_JUDGED = 4


def check_mostly_read(path: Path, tally: Tally, unit: str = "lines") -> None:
    """Refuse a file of which more than half would be quarantined: it is not what it was taken for. ``unit`` is what
    its lines are called."""
    read = tally.accepted + len(tally.damaged)
    if tally.accepted and len(tally.damaged) <= MOSTLY * read:
        return
    if not tally.damaged or (read < LEAST_JUDGED and tally.accepted):
        return
    first = tally.damaged[0]
    shown = "" if not first.column else f", column {first.column!r}"
    what = "a delimiter, an encoding or a column's type" if unit == "lines" else "a column's type"
    advice = f"{what} is set under read of the table in case.toml"
    if unit in ("lines", "rows"):
        advice = f"If another line is the header, say so with --header-line N; {advice}"
    raise UserError(
        f"{path}: {len(tally.damaged):,} of {read:,} {unit} cannot be read, the first of them line "
        f"{first.line}{shown}: {first.reason}; nothing was taken in. {advice[:1].upper()}{advice[1:]}"
    )


def confirm_marks(cells: pa.Table, formats: Mapping[str, Format], tally: Tally) -> None:
    """Texts that tell that assumed thousands are some: two marks in one, or none in a small number."""
    for name, found in formats.items():
        if not (isinstance(found, NumberFormat) and found.assumed and found.thousands):
            continue
        if name in tally.confirmed:
            continue
        texts = pc.unique(cells.column(name).cast(pa.string()))
        mark = re.escape(found.thousands)
        telling = pc.match_substring_regex(
            texts, rf"{mark}[0-9]*{mark}|\A[^0-9.,]*[1-9][0-9]{{0,2}}[^0-9.,]*\z"
        )
        if pc.any(telling).as_py():
            tally.confirmed.add(name)
        elif name not in tally.odd:
            marked = [t for t in texts.to_pylist() if t and found.thousands in t]
            if marked:
                tally.odd[name] = marked[0].strip()


def either_order(tally: Tally, name: str) -> str:
    """Where the dates of a column lie by either order of day and month."""
    if name not in tally.ranges:
        return ""
    low, high, other_low, other_high = tally.ranges[name]
    return (
        f"{low:%Y-%m} to {high:%Y-%m}, by the other order of day and month {other_low:%Y-%m} to "
        f"{other_high:%Y-%m}"
    )


def _note_either(good: pa.Table, name: str, tally: Tally) -> None:
    days = [d for d in pc.unique(good.column(name).cast(pa.date32())).to_pylist() if d is not None]
    if not days:
        return
    swapped = [d.replace(month=d.day, day=d.month) for d in days if d.day <= 12]
    ends = [min(days), max(days), *([min(swapped), max(swapped)] if swapped else [])]
    if len(ends) == 4:
        known = tally.ranges.get(name, ends)
        tally.ranges[name] = [
            min(known[0], ends[0]), max(known[1], ends[1]), min(known[2], ends[2]), max(known[3], ends[3])
        ]  # fmt: skip


def confirm_orders(good: pa.Table, formats: Mapping[str, Format], tally: Tally) -> None:
    """A day above 12 anywhere in the file settles an order of day and month that was assumed."""
    for name, found in formats.items():
        if isinstance(found, DateFormat) and found.assumed and name not in tally.confirmed:
            latest = pc.max(pc.day(good.column(name))).as_py()
            if latest is not None and latest > 12:
                tally.confirmed.add(name)
                tally.ranges.pop(name, None)
            else:
                _note_either(good, name, tally)
