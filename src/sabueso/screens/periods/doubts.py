"""What must be known before a comparison of periods is read."""

from __future__ import annotations

from collections.abc import Sequence

from sabueso.report import numbers as num
from sabueso.screens.finding import Caution
from sabueso.screens.periods.expected import Compared
from sabueso.screens.periods.partial import partial_periods
from sabueso.stats.change import Change


def cautions_of(lines: Sequence[Change], sides: Compared) -> list[Caution]:
    base, current = sides.name, sides.now.name
    found = []
    zero = [line for line in lines if line.base == 0 and line.current != 0]
    if zero:
        found.append(
            Caution(
                "base_zero",
                f"{len(zero):,} of {len(lines):,} lines {num.verb(len(zero))} nothing in {base}: no per cent for them",
                {"lines": len(zero)},
            )
        )
    for name, amounts in ((base, [x.base for x in lines]), (current, [x.current for x in lines])):
        if min(amounts, default=0) < 0 < max(amounts, default=0):
            gross, net = sum(abs(a) for a in amounts), abs(sum(amounts))
            told = (
                f"have both signs: shares are of a net total that is {100 * net / gross:.1f}% of the gross"
                if net
                else "add up to 0: there are no shares"
            )
            text = f"the lines of {name} {told}"
            found.append(Caution("mixed_signs", text, {"period": name}))
    if sides.without:
        found.append(
            Caution(
                "no_season",
                f"{num.many(sides.without, 'line')} of {len(lines):,} had a period with nothing, or of the other sign: "
                "no season can be fitted to them, and they are compared with the mean of the same part of each year",
                {"lines": sides.without},
            )
        )
    return [*found, *_partial(sides)]


def spared_lines(spared: int, sides: Compared) -> list[Caution]:
    """What is said of lines whose change is no more than what the days without rows make."""
    if not spared:
        return []
    some = "is" if spared == 1 else "are"
    text = (
        f"{num.many(spared, 'line')} beyond the limits {some} within them at the pace of the days that "
        f"{sides.name} and {sides.now.name} have, and {some} not flagged"
    )
    return [Caution("partial_period", text, {"lines": spared})]


def _partial(sides: Compared) -> list[Caution]:
    """Periods that the rows cover in part."""
    before, now, old, new = sides.before, sides.now, sides.old, sides.new
    found: list[Caution] = []
    if before.span is not None and now.span is not None and old.days | new.days:
        spans = (sides.name, before.span, old.days), (now.name, now.span, new.days)
        found += partial_periods(spans)
    n, m = len(before.values), len(now.values)
    if n and m and n != m and not sides.several:
        text = (
            f"{sides.name} is of {num.many(n, 'period')} of its column ({', '.join(before.values[:4])}"
            f"{' …' if n > 4 else ''}), {now.name} of {m:,}: they do not cover the same part of a year"
        )
        found.append(Caution("partial_period", text, {"period": now.name}))
    return found
