"""What drives an exception, as terminal text."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.table import Table as Grid
from rich.text import Text

from sabueso.case.behind import Why
from sabueso.case.causes import is_its_own
from sabueso.population.driving import Driver, Value
from sabueso.population.peers import Peers
from sabueso.report import numbers as num
from sabueso.report.blocks import Sheet
from sabueso.report.commands import shell
from sabueso.report.palette import AMBER, SEA, STONE
from sabueso.show.console import next_steps, notes, open_table, title

MOST_COLUMNS, MOST_VALUES, ALPHA = 4, 4, 0.05


def show_why(console: Console, found: Why) -> None:
    """Print what drives an exception."""
    item = found.exception
    title(console, f"{item.id} · {item.label}", f"{item.table}, {item.kind}")
    verb = "is" if found.rows == 1 else "are"
    unit = f" {found.currency}" if found.currency else f" of {found.on}" if found.on else ""
    amount = "" if found.amount is None else f", {num.amount(found.amount, found.scale)}{unit}"
    console.print(
        Text(
            f" {num.many(found.rows, 'row')} of {found.population_rows:,} {verb} behind it{amount}"
        )
    )
    console.print()
    show_sentences(console, found)
    if found.contribution:
        _show_contribution(console, found)
    if found.peers:
        show_peers(console, found)
    drivers = [d for d in found.drivers if found.asked or not is_its_own(found, d)]
    telling = [d for d in drivers if found.asked or found.change or _tells(d)]
    for driver in telling[:MOST_COLUMNS]:
        _show_driver(console, found, driver)
    quiet = [d.column for d in drivers if d not in telling]
    if quiet:
        console.print(Text(f"\n no value stands out in {', '.join(quiet)}", style=STONE))
    _show_largest(console, found)
    _show_history(console, found)
    console.print()
    if found.not_considered and not found.peers:
        by_reason: dict[str, list[str]] = {}
        for column, reason in found.not_considered:
            by_reason.setdefault(reason, []).append(column)
        lines = (f"{', '.join(names)}: {reason}" for reason, names in by_reason.items())
        notes(console, "not considered", lines, STONE)
        console.print()
    next_steps(console, _next(found))


def why_sheet(found: Why) -> Sheet:
    """Every value of every column looked at."""
    head = ["column", "value", "rows", "of_all", "expected", "amount", "p", "p_adjusted", "base",
            "change", "part"]  # fmt: skip
    rows: list[list[Any]] = [
        [driver.column, *(getattr(value, name) for name in head[1:])]
        for driver in found.drivers
        for value in driver.values
    ]
    return Sheet("drivers", head, rows)


def _show_driver(console: Console, found: Why, driver: Driver) -> None:
    console.print()
    if found.change:
        head = [
            ("before", "right"),
            ("after", "right"),
            ("change", "right"),
            ("of the change", "right"),
        ]
    else:
        head = [("rows", "right"), ("expected", "right"), ("of its own", "right"), ("adj. p", "right"),
                ("", "left")]  # fmt: skip
    table = open_table([(driver.column, "flex"), *head])
    for value in driver.values[:MOST_VALUES]:
        name = num.shown(value.value)
        table.add_row(f" {name}", *_cells(found, value))
    console.print(table)
    rest = len(driver.values) - MOST_VALUES
    if rest > 0:
        console.print(Text(f" … and {rest:,} more values", style=STONE))


def _times(times: float) -> str:
    return f"{times:,.1f}" if times < 1000 else f"{times:,.0f}"


def _cells(found: Why, value: Value) -> list[str | Text]:
    if found.change:
        amounts = [num.amount(v, found.scale) for v in (value.base, value.amount, value.change)]
        return [*amounts, num.percent(value.part)]
    telling = value.p_adjusted is not None and value.p_adjusted < ALPHA
    times = value.rows / value.expected if value.expected else 0.0
    return [
        num.count(value.rows),
        num.expected(value.expected or 0.0),
        num.percent(value.rows / value.of_all),
        num.p_value(value.p_adjusted),
        Text(f"▲ {_times(times)} times as many", style=AMBER) if telling else Text(""),
    ]


def show_peers(console: Console, found: Why) -> None:
    """A row among those of its party, account and preparer."""
    console.print()
    table = open_table(
        [("among the rows of", "flex"), ("n", "right"), ("median", "right"), ("larger", "right"),
         ("of their amounts", "right"), ("by size", "left")]
    )  # fmt: skip
    for peer in found.peers:
        table.add_row(
            f" {peer.column} {num.shown(peer.value)}",
            num.count(peer.n), num.number(peer.median, found.scale), num.count(peer.larger),
            num.percent(peer.share), bars_text(peer) if peer.bars else Text(""),
        )  # fmt: skip
    console.print(table)


def _show_contribution(console: Console, found: Why) -> None:
    console.print()
    table = open_table([("measure", "left"), ("of the distance", "right")])
    for name, share in sorted(found.contribution.items(), key=lambda pair: -pair[1]):
        table.add_row(f" {name}", Text(f"{share:.0f}%", style=SEA))
    console.print(table)


def _tells(driver: Driver) -> bool:
    """Whether a value has more of the rows than chance would give it."""
    return any(v.p_adjusted is not None and v.p_adjusted < ALPHA for v in driver.values)


def show_sentences(console: Console, found: Why) -> None:
    """What is behind it in words, the most telling first."""
    for place, sentence in enumerate(found.sentences, 1):
        grid = Grid.grid(padding=(0, 1))
        grid.add_column(no_wrap=True)
        grid.add_column(overflow="fold")
        grid.add_row(Text(f" {place}", style=SEA), Text(sentence))
        console.print(grid)


STEPS = " ▁▂▃▄▅▆▇█"


def bars_text(peer: Peers) -> Text:
    """The peers by size from the smallest to the largest, and where the row stands among them."""
    most = max(peer.bars)
    text = Text()
    for place, n in enumerate(peer.bars):
        step = 0 if not n else max(1, round(n / most * (len(STEPS) - 1)))
        own = place == peer.at
        text.append("▲" if own else STEPS[step], style=AMBER if own else SEA)
    return text


def _show_history(console: Console, found: Why) -> None:
    """The figure over the periods, each with a bar."""
    if len(found.history) < 2:
        return
    console.print()
    table = open_table([("period", "left"), ("rows", "right"), ("amount", "right"), ("", "left")])
    sizes = [abs(float(p.amount if p.amount is not None else p.rows)) for p in found.history]
    most = max(sizes) or 1.0
    for period, size in zip(found.history, sizes, strict=True):
        amount = "–" if period.amount is None else num.amount(period.amount, found.scale)
        bar = Text("█" * round(24 * size / most), style=SEA)
        table.add_row(f" {period.name}", num.count(period.rows), amount, bar)
    console.print(table)


def _show_largest(console: Console, found: Why) -> None:
    # Of a few rows all are the largest, and nothing is left without them.
    if found.rows <= len(found.largest) or not found.largest or found.on is None:
        return
    total = sum((row[found.on] for row in found.largest), 0 * found.largest[0][found.on])
    console.print(
        Text(
            f"\n the {len(found.largest)} largest rows hold {num.amount(total, found.scale)}; without them "
            f"it is {num.amount(found.without_largest, found.scale)} in "
            f"{num.many(found.rows - len(found.largest), 'row')}"
        )
    )


def _next(found: Why) -> list[str]:
    item = found.exception
    steps = [f"sabueso dig {item.id}"]
    if found.drivers and found.drivers[0].values:
        steps = [f"sabueso dig {item.id} --by {shell(found.drivers[0].column)}"]
    return [*steps, f'sabueso review {item.id} --referred --reason "…" --as KL']
