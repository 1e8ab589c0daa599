"""What each declared rule caught, and the proof that what was to be set aside is gone."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from sabueso.case.events import RuleOutcome
from sabueso.report import numbers as num
from sabueso.report.palette import AMBER
from sabueso.show.console import open_table

MOST_GAPS = 6


def show_rules(console: Console, rules: Sequence[RuleOutcome], *, amounts: bool) -> None:
    """Print rules as the register keeps them; ``amounts`` where the table has any."""
    head = [("rule", "wrap"), ("set aside", "right"), ("marked", "right"), ("missing", "right")]
    head += [("amount", "right")] if amounts else []
    table = open_table([*head, ("afterwards", "left")])
    for rule in rules:
        aside = rule.then == "set aside"
        broken = rule.set_aside or rule.left
        cells = [
            num.count(rule.set_aside) if aside else "–",
            "–" if aside else num.count(rule.left),
            num.count(rule.missing) if rule.rule == "sequence" else "–",
        ]
        if amounts:
            known = broken and rule.amount is not None
            cells.append(num.amount(rule.amount) if known else "–")
        table.add_row(f" {rule.title}", *cells, _afterwards(rule))
    console.print(table)
    for rule in rules:
        if rule.gaps:
            shown = ", ".join(rule.gaps[:MOST_GAPS])
            more = len(rule.gaps) - MOST_GAPS
            tail = f" and {more:,} more" if more > 0 else ""
            console.print(Text(f" missing of {rule.title}: {shown}{tail}", style=AMBER))


def _afterwards(rule: RuleOutcome) -> Text:
    rows, left = rule.rows, rule.left
    if rule.then == "set aside" and (rule.set_aside or left):
        return Text(f"{left:,} of {rows:,} rows break it", style=AMBER if left else "")
    if left:
        return Text("they stay, marked", style=AMBER)
    if rule.missing:
        return Text("no repeats", style=AMBER)
    return Text(f"kept by all {rows:,} rows")
