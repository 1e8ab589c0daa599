"""Lines of two periods as they are shown and recorded: their figures, parts, bands and flags."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction

import pyarrow as pa

from sabueso.base.plain import ByColumn, Cells
from sabueso.population.table import Column, money
from sabueso.screens.finding import Flags
from sabueso.screens.periods.expected import Compared
from sabueso.screens.periods.judging import (
    Key,
    Limits,
    Side,
    moved,
    rate_percent,
    reading_of,
    volume_percent,
)
from sabueso.screens.periods.partial import pace
from sabueso.screens.periods.result import ComparedLine, Parts
from sabueso.screens.subject import own_name
from sabueso.stats.change import Change, RateVolume, compare, rate_and_volume


def rates_of(
    quantity: Column | None, keys: Sequence[Key], lines: Sequence[Change], old: Side, new: Side
) -> tuple[Sequence[RateVolume | None], RateVolume | None]:
    if quantity is None:
        return [None] * len(lines), None
    return rate_and_volume(
        [line.base for line in lines],
        [line.current for line in lines],
        [old.quantities.get(k, Fraction(0)) for k in keys],
        [new.quantities.get(k, Fraction(0)) for k in keys],
    )


def at_pace(
    sides: Compared,
    keys: Sequence[Key],
    lines: Sequence[Change],
    parts: Sequence[RateVolume | None],
    quantity: Column | None,
) -> Sequence[tuple[Change, RateVolume | None]]:
    """Lines with the fuller of the two periods cut to what the data of the other reach: a month of which half
    has passed is no fall. The lines themselves where both are whole, or their days are not known."""
    old, new = sides.old, sides.new
    before, now = sides.before.span, sides.now.span
    share = Fraction(1)
    if before is not None and now is not None and old.days and new.days:
        share = pace(None if sides.several else (before, old.days), (now, new.days))
    if share == 1:
        return list(zip(lines, parts, strict=True))
    if share < 1:
        old = _cut(old, share)
    else:
        new = _cut(new, 1 / share)
    paced = compare([old.amounts.get(k, 0) for k in keys], [new.amounts.get(k, 0) for k in keys])
    return list(zip(paced, rates_of(quantity, keys, paced, old, new)[0], strict=True))


def _cut(side: Side, share: Fraction) -> Side:
    return Side(
        {key: round(amount * share) for key, amount in side.amounts.items()},
        {key: many * share for key, many in side.quantities.items()},
        side.days,
    )


def _number(value: Fraction | None, factor: int = 1) -> float | None:
    return None if value is None else float(value * factor)


def line_of(
    key: ByColumn,
    line: Change,
    part: RateVolume | None,
    flagged: bool,
    scale: int,
    deviate: float | None = None,
) -> ComparedLine:
    return ComparedLine(
        key=key,
        base=money(line.base, scale),
        current=money(line.current, scale),
        change=money(line.change, scale),
        change_percent=_number(line.percent),
        part_of_change=_number(line.part),
        base_share=_number(line.base_share),
        current_share=_number(line.current_share),
        share_shift=_number(line.share_shift, 100),
        reading=line.reading,
        flagged=flagged,
        rate_volume=parts_of(part, scale),
        deviate=deviate,
        rate_percent=_number(rate_percent(part, line)),
        volume_percent=_number(volume_percent(part, line)),
    )


def parts_of(part: RateVolume | None, scale: int) -> Parts | None:
    """Parts as amounts; volume and mix are rounded and the rate takes the rest, so that they add
    to the change to the last unit."""
    if part is None:
        return None
    change = part.volume + part.rate + part.mix
    volume, mix = round(part.volume), round(part.mix)
    return Parts(
        volume=money(volume, scale),
        rate=money(int(change) - volume - mix, scale),
        mix=money(mix, scale),
    )


def flags_of(lines: Sequence[ComparedLine], settings: Limits, sides: Compared) -> Flags:
    """Flagged lines, the largest change first. The period is part of the subject."""
    rows = []
    by = settings.flag_by
    for line in sorted(lines, key=lambda item: -abs(moved(item, by))):
        if not line.flagged:
            continue
        amount = moved(line, by)
        row: Cells = {"subject": {**line.key, own_name("period", line.key): sides.now.name}}
        percent = line.change_percent
        if sides.axis.labelled:
            row["within"] = sides.axis.condition(sides.now)
        row |= {
            "score": float(amount),
            "limit": float(settings.amount_limit or 0),
            "direction": "high" if amount > 0 else "low",
            "p": None,
            "p_adjusted": None,
            "amount": amount,
            "base": line.base,
            "current": line.current,
            "change_percent": percent,
            "share_shift": line.share_shift,
            "reading": reading_of(line, by),
            "deviate": line.deviate,
            "rate_percent": line.rate_percent,
            "volume_percent": line.volume_percent,
        }
        rows.append(row)
    return Flags("line", pa.Table.from_pylist(rows) if rows else pa.table({}))


def with_band(
    line: ComparedLine, key: Key, band: tuple[int, int] | None, sides: Compared, scale: int
) -> ComparedLine:
    """A line with the band that it is expected in, and the periods that this comes from."""
    if band is not None:
        low, high = (money(edge, scale) for edge in band)
        line = replace(line, low=low, high=high)
    if line.flagged and sides.history:
        past = {name: money(side.amounts.get(key, 0), scale) for name, side in sides.history}
        line = replace(line, history=past)
    return line
