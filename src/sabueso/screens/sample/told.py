"""The evaluation of a sample as blocks and as data."""

from __future__ import annotations

from sabueso.base.plain import plain
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Line, Marked, Table, Tone
from sabueso.screens.drawn import Evaluated
from sabueso.screens.finding import Finding
from sabueso.screens.sample.evaluation import Evaluation, up
from sabueso.screens.sample.result import SampleGroup

APART = (
    "only what was drawn is projected: exceptions that screens flagged are judged one by one, and are no part "
    "of these figures"
)


def told(found: Evaluation, finding: Finding[SampleGroup]) -> Evaluated:
    """An evaluation as every form shows it."""
    return Evaluated(
        content=plain(found),
        blocks=_blocks(found, finding),
        items=found.items,
        judged=found.judged,
        conclusion=_sentence(found.conclusion),
        lacking=_sentence(found.lacking),
        within=found.within,
    )


def _blocks(found: Evaluation, finding: Finding[SampleGroup]) -> list[Block]:
    scale = finding.scale
    state = f"{found.judged:,} of {num.many(found.items, 'item')} judged, {found.errors:,} in error"
    if found.error_total is not None and found.errors:
        state += (
            f", {len(found.without_amount):,} of them without an amount"
            if found.without_amount
            else f", {num.amount(found.error_total, scale)} in all"
        )
    blocks: list[Block] = [Line(state)]
    if found.money is not None:
        blocks += [Gap(), _money(found, scale)]
    if found.rate is not None:
        blocks += [Gap(), _rate(found)]
    if found.estimates:
        blocks += [Gap(), _estimates(found, scale)]
    blocks += [Line(f"caution {c.code}: {c.text}", "mark") for c in found.cautions]
    blocks.append(Gap())
    if found.conclusion is not None:
        tone: Tone = "mark" if found.within is False else "strong"
        blocks.append(Line(f"conclusion: {found.conclusion}", tone))
    else:
        blocks.append(Line(f"no conclusion: {found.lacking}", "mark"))
    return [*blocks, Line(APART, "muted")]


def _money(found: Evaluation, scale: int) -> Table:
    money = found.money
    assert money is not None
    limit = f"upper limit ({num.percent(found.confidence, 0)})"
    columns = [
        Column("errors", "left"), Column("taken whole"), Column("projected"), Column(limit),
    ]  # fmt: skip
    rows: list[list[Cell]] = [
        ["recorded too high", num.amount(money.known, scale), num.amount(money.projected, scale),
         Marked(num.amount(up(money.upper, scale), scale), "strong")],
    ]  # fmt: skip
    if money.low_known or money.low_projected:
        rows.append(
            ["recorded too low", num.amount(money.low_known, scale), num.amount(money.low_projected, scale),
             num.amount(up(money.low_upper, scale), scale)]
        )  # fmt: skip
    return Table(columns, rows)


def _rate(found: Evaluation) -> Table:
    rate = found.rate
    assert rate is not None
    level = num.percent(found.confidence, 0)
    columns = [
        Column("items in error", "left"), Column("share"), Column(f"from ({level})"), Column("to"),
        Column(f"no more than ({level})"),
    ]  # fmt: skip
    shares = (rate.rate, rate.low, rate.high, up(rate.upper, 4))
    return Table(columns, [[num.count(found.errors), *(num.percent(s, 2) for s in shares)]])


def _estimates(found: Evaluation, scale: int) -> Table:
    level = num.percent(found.confidence, 0)
    columns = [
        Column("recorded too high by", "left"), Column("estimate"), Column("standard error"),
        Column(f"from ({level})"), Column("to"),
    ]  # fmt: skip
    rows: list[list[Cell]] = [
        [f"by the {e.name}", *(num.amount(v, scale) for v in (e.error, e.se, e.low, e.high))]
        for e in found.estimates
    ]
    return Table(columns, rows)


def _sentence(text: str | None) -> str:
    return f"{text[0].upper()}{text[1:]}." if text else ""
