"""What is said beside any finding, whatever its test."""

from __future__ import annotations

from typing import Any

from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Line, Marked, Table
from sabueso.screens.finding import Aim, Finding
from sabueso.screens.view import View


def not_tested_text(finding: Finding[Any]) -> str:
    """How many groups were not tested, and why the first was not."""
    first = finding.not_tested[0]
    if not first.group:
        return first.reason
    rows = sum(t.rows for t in finding.not_tested)
    return (
        f"{num.many(len(finding.not_tested), 'group')} ({num.many(rows, 'row')}); the first: "
        f"{num.group_name(first.group)}, {first.reason}"
    )


def flagged_text(view: View[Any]) -> str:
    """How much was flagged of how much, whether that is a test, and what chance alone would flag."""
    finding = view.finding
    looked_at = num.many(finding.looked_at, *view.subjects)
    if not finding.tests_made:
        return view.untested()
    text = f"flagged {len(finding.flags):,} of {looked_at} tested"
    if finding.flags_by_chance is None:
        return text
    few, data = _few(finding.flags_by_chance), view.conforming
    own = finding.flags.with_p() if view.judges_by_p else None
    if own is None or own == len(finding.flags):
        return f"{text}; on {data} chance alone would flag about {few}"
    told = num.count(own) if own else "none"
    return (
        f"{text}, {told} of them with a p, of which chance alone would give about {few} on {data}"
    )


def _few(count: float) -> str:
    """An expected number, with as many digits as mean something."""
    if count >= 10:
        return f"{count:,.0f}"
    return f"{count:.2g}" if count >= 0.001 else "none"


def beside_blocks(view: View[Any]) -> list[Block]:
    """What stands beside any finding: the ladder of a limit solved for, the rows set aside."""
    found: list[Block] = []
    if view.finding.aim is not None:
        found += [Gap(), _ladder(view.finding.aim, view.finding.scale)]
    if view.finding.with_set_aside is not None:
        found += [Gap(), Line(_aside(view))]
    return found


def _ladder(aim: Aim, scale: int) -> Table:
    """How many rows each limit around the one solved for would flag, and how much money."""
    columns = [Column("limit"), Column("flagged"), Column("amount"), Column("", "left")]
    rows: list[list[Cell]] = [
        [
            f"{rung.limit.normalize():f}",
            num.count(rung.flagged),
            num.amount(rung.amount, scale),
            Marked(f"◂ at most {aim.capacity:,} rows" if rung.limit == aim.limit else ""),
        ]
        for rung in aim.ladder
    ]
    chosen = frozenset(i for i, rung in enumerate(aim.ladder) if rung.limit == aim.limit)
    return Table(columns, rows, strong=chosen)


def _aside(view: View[Any]) -> str:
    """What the finding would be with the rows that reviewers set aside."""
    finding, beside = view.finding, view.finding.with_set_aside
    assert beside is not None
    text = (
        f"with the {num.many(beside.rows, 'row')} set aside: used {beside.used:,}, flagged "
        f"{beside.flag_count:,} (without {len(finding.flags):,})"
    )
    if len(finding.groups) == 1 and len(beside.groups) == 1 and not finding.by:
        places = finding.scale if view.places is None else view.places
        whole = beside.groups[0]
        for name, value in view.figures(finding.groups[0]).items():
            before, after = (num.number(v, places) for v in (_float(whole.get(name)), value))
            text += f", {name} {before} (without {after})"
    elif beside.groups:
        text += f"; {num.many(len(beside.groups), 'group')} with other figures"
    return text


def _float(value: Any) -> float | None:
    return None if value is None else float(value)
