"""Findings of limits as terminal text: groups, flagged rows, steps, ladders, rows set aside."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.text import Text

from sabueso.screens.interface import Finding
from sabueso.screens.subject import of_key
from sabueso.show import numbers as num
from sabueso.show.console import open_table
from sabueso.show.palette import AMBER, STONE

SHOWN = 20
LIMIT_COLUMNS = {
    "zscore": {"mean": "mean", "sd": "s", "median": "median", "low": "low", "high": "high"},
    "fences": {"q1": "Q1", "median": "median", "q3": "Q3", "low": "low", "high": "high"},
    "top": {"share": "share", "k": "k", "cutoff": "cut-off"},
}
"""Figures of a group that stand in the terminal, and what they are called."""
ASIDE_FIGURES = {
    "zscore": ("mean", "sd", "low", "high"),
    "fences": ("q1", "q3", "low", "high"),
    "top": ("cutoff",),
    "digits": ("mad",),
}
"""Figures of the one group that are compared with and without the rows set aside."""


def show_limits(console: Console, finding: Finding) -> None:
    scale = finding.scale
    deviates = finding.test == "zscore"
    if finding.groups:
        named = dict(LIMIT_COLUMNS[finding.test])
        if finding.test == "fences" and finding.settings["fence"] == "skew-adjusted":
            named["medcouple"] = "medcouple"
        if finding.test == "top" and finding.settings["side"] == "both":
            named = {"share": "share", "k": "k", "cutoff_low": "low", "cutoff_high": "high"}
        head = [("group", "flex"), ("n", "right")] if finding.by else [(" n", "right")]
        head += [(name, "right") for name in (*named.values(), "flagged")]
        table = open_table(head)
        chosen = sorted(finding.groups, key=lambda g: -g["flagged"])
        for g in chosen[:10]:
            cells = [" " + num.group_name(g["group"])] if finding.by else []
            cells.append(num.count(g["n"]))
            cells += [_figure(name, g[name], scale) for name in named]
            table.add_row(*cells, num.count(g["flagged"]))
        console.print(table)
        if len(chosen) > 10:
            console.print(Text(f" … and {num.many(len(chosen) - 10, 'group')} more", style=STONE))
        if deviates and finding.settings["method"] == "sequential":
            _show_steps(console, finding)
    _show_flags(console, finding)
    effects = [g for g in finding.groups if deviates and g["flagged"] and g["without_flags"]]
    if effects:
        g = max(effects, key=lambda item: item["flagged"])
        before, after = g["with_flags"], g["without_flags"]
        where = f" in {num.group_name(g['group'])}" if finding.by else ""
        console.print()
        console.print(
            Text(
                f" without the {g['flagged']:,} flagged{where}: mean {num.number(before['mean'], scale)}"
                f" → {num.number(after['mean'], scale)}, median {num.number(before['median'], scale)} → "
                f"{num.number(after['median'], scale)}, s {num.number(before['sd'], scale)} → "
                f"{num.number(after['sd'], scale)}"
            )
        )


def _figure(name: str, value: Any, scale: int) -> str:
    if name == "share":
        return num.percent(value, 2)
    if name == "k":
        return num.count(value)
    if name == "medcouple":
        return num.signed(value, 3)
    return num.number(None if value is None else float(value), scale)


def _show_steps(console: Console, finding: Finding) -> None:
    """The steps of the sequential test in the group with the most outliers."""
    g = max(finding.groups, key=lambda item: item["flagged"])
    if not g["sequential"]:
        return
    console.print()
    where = f", {num.group_name(g['group'])}" if finding.by else ""
    table = open_table(
        [(f"removed{where}", "right"), ("deviate", "right"), ("limit", "right"), ("", "left")]
    )
    for step in g["sequential"][:12]:
        table.add_row(
            num.number(step["value"], finding.scale),
            f"{step['statistic']:.3f}",
            f"{step['limit']:.3f}",
            Text("◆ outlier", style=AMBER) if step["outlier"] else Text(""),
        )
    console.print(table)


def show_aside(console: Console, finding: Finding) -> None:
    """What the finding would be with the rows that reviewers set aside."""
    beside = finding.more["with_set_aside"]
    console.print()
    text = (
        f" with the {num.many(beside['rows'], 'row')} set aside: used {beside['used']:,}, flagged "
        f"{beside['flag_count']:,} (without {len(finding.flags):,})"
    )
    if len(finding.groups) == 1 and len(beside["groups"]) == 1 and not finding.by:
        without, whole = finding.groups[0], beside["groups"][0]
        places = 4 if finding.test == "digits" else finding.scale
        for name in ASIDE_FIGURES.get(finding.test, ()):
            pair = [None if g[name] is None else float(g[name]) for g in (whole, without)]
            text += (
                f", {name} {num.number(pair[0], places)} (without {num.number(pair[1], places)})"
            )
    elif beside["groups"]:
        text += f"; {num.many(len(beside['groups']), 'group')} with other figures"
    console.print(Text(text))


def show_ladder(console: Console, finding: Finding) -> None:
    """How many rows each limit around the one solved for would flag, and how much money."""
    aim = finding.more["aim"]
    console.print()
    table = open_table(
        [("limit", "right"), ("flagged", "right"), ("amount", "right"), ("", "left")]
    )
    for step in aim["ladder"]:
        chosen = step["limit"] == aim["limit"]
        table.add_row(
            f"{step['limit'].normalize():f}",
            num.count(step["flagged"]),
            num.amount(step["amount"], finding.scale),
            Text(f"◂ at most {aim['capacity']:,} rows", style=AMBER) if chosen else Text(""),
            style="bold" if chosen else "",
        )
    console.print(table)


def show_range(console: Console, finding: Finding) -> None:
    table = open_table([("rule", "wrap"), ("rows that break it", "right")])
    for rule in finding.groups[0]["rules"]:
        style = AMBER if rule["flagged"] else ""
        table.add_row(f" {rule['rule']}", Text(num.count(rule["flagged"]), style=style))
    console.print(table)
    if not len(finding.flags):
        console.print(Text("\n no row breaks what was declared"))
        return
    shown = list(finding.flags.rows(SHOWN))
    console.print()
    context = list(shown[0].get("context", {}))[:3]
    head = [
        ("row", "left"),
        *((name, "flex") for name in context),
        ("amount", "right"),
        ("breaks", "wrap"),
    ]
    table = open_table(head)
    for flag in shown:
        table.add_row(
            " " + of_key(finding.flags.kind, flag["subject"]).short(),
            *(_clip(flag["context"][name], 40) for name in context),
            num.amount(flag["amount"], finding.scale),
            Text(flag["rule"], style=AMBER),
        )
    console.print(table)
    show_rest(console, finding)


def _show_flags(console: Console, finding: Finding) -> None:
    """Flagged rows, strongest first."""
    if not len(finding.flags):
        console.print()
        console.print(Text(" nothing is beyond the limits"))
        return
    console.print()
    shown = list(finding.flags.rows(SHOWN))
    context = list(shown[0].get("context", {}))[:3]
    head = [("row", "left"), *((name, "flex") for name in context)]
    head += [("amount", "right"), ("score", "right"), ("adj. p", "right"), ("", "left")]
    if finding.test == "fences":
        head[-2] = ("fence", "left")
    if finding.test == "top":
        head[-3:-1] = [("beyond the cut-off", "right")]
    table = open_table(head)
    for flag in shown:
        fence = flag.get("fence")
        table.add_row(
            " " + of_key(finding.flags.kind, flag["subject"]).short(),
            *(_clip(flag["context"][name], 40) for name in context),
            num.amount(flag["amount"], finding.scale),
            num.number(flag["score"], 2 if finding.test == "top" else 1),
            *([] if finding.test == "top" else [fence or num.p_value(flag.get("p_adjusted"))]),
            _mark(flag["direction"]),
        )
    console.print(table)
    show_rest(console, finding)


def show_rest(console: Console, finding: Finding) -> None:
    more = len(finding.flags) - SHOWN
    if more > 0:
        console.print(Text(f" … and {more:,} more; all of them with --out FILE.csv", style=STONE))


def _mark(direction: str) -> Text:
    return Text({"high": "▲ high", "low": "▼ low"}.get(direction, "◆ far"), style=AMBER)


def _clip(value: Any, width: int) -> str:
    text = "–" if value is None else " ".join(str(value).split())
    return text if len(text) <= width else text[: width - 1] + "…"
