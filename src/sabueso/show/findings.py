"""A finding as terminal text: heading, what was found, cautions, reconciliation, next commands."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from rich.console import Console
from rich.text import Text

from sabueso.screens.digit_classes import asked_conditions, class_condition
from sabueso.screens.interface import Finding
from sabueso.show import numbers as num
from sabueso.show.account import account_lines
from sabueso.show.console import next_steps, notes, open_table, shell, title
from sabueso.show.digits import show_digits
from sabueso.show.palette import AMBER, STONE

SHOWN = 20


def show_finding(console: Console, finding: Finding, *, where: str | None, kept: str = "") -> None:
    """Print a finding."""
    account = finding.population
    what = [finding.table]
    if finding.on:
        what.append(finding.on)
    what.append(_how(finding))
    span = f", {account.first_date} to {account.last_date}" if account.first_date else ""
    title(console, " · ".join(what), f"{num.many(account.rows, 'row')}{span}")
    first = [c for c in finding.cautions if c.code == "not_normal" and finding.test == "zscore"]
    if first:
        # Whether a limit in standard deviations means anything comes before the limit.
        notes(console, "caution", (f"{c.code}: {c.text}" for c in first))
        console.print()
    if finding.test == "digits":
        show_digits(console, finding)
    elif finding.test == "periods":
        _show_periods(console, finding)
    elif finding.test == "distance":
        _show_distance(console, finding)
    elif finding.test == "range":
        _show_range(console, finding)
    else:
        _show_limits(console, finding)
    if "aim" in finding.more:
        _show_ladder(console, finding)
    if "with_set_aside" in finding.more:
        _show_aside(console, finding)
    console.print()
    rest = [c for c in finding.cautions if c not in first]
    notes(console, "caution", (f"{c.code}: {c.text}" for c in rest))
    if finding.not_tested:
        _show_not_tested(console, finding)
    if rest or finding.not_tested:
        console.print()
    reconciliation(console, finding)
    next_steps(console, _next(finding, where, kept))


def reconciliation(console: Console, finding: Finding) -> None:
    """``rows … = used … + left out …`` and what the rows used add up to."""
    for line in account_lines(finding.population, finding.scale, finding.currency):
        console.print(Text(line))
    if finding.tests_made:
        word = {"digits": "class", "periods": "line"}.get(finding.test, "subject")
        plural = "classes" if word == "class" else None
        console.print(
            Text(
                f" flagged {len(finding.flags):,} of {num.many(finding.tests_made, word, plural)} tested"
            )
        )


def _how(finding: Finding) -> str:
    s = finding.settings
    by = f" by {', '.join(finding.by)}" if finding.by else ""
    if finding.test == "digits":
        what = f"{s['digits']} digits"
        if s["of"] == "differences":
            what += " of the differences"
        if s["sign"] in ("positive", "negative"):
            what += f", {s['sign']} amounts"
        if s["at_least"] is not None:
            what += f", of at least {s['at_least']}"
        if s["compare"]:
            return f"{what}, {s['compare'][1]} against {s['compare'][0]}"
        return f"{what}{by}"
    if finding.test == "zscore":
        kind = "modified z-score" if s["method"] == "modified" else "z-score"
        scale = " on the log scale" if s["scale"] == "log" else ""
        if s["method"] == "sequential":
            return f"up to {s['most']} sequential deviates{scale}{by}"
        return f"{kind} beyond {s['limit'].normalize():f}{scale}{by}"
    if finding.test == "fences":
        scale = " on the log scale" if s["scale"] == "log" else ""
        kind = "skew-adjusted " if s["fence"] == "skew-adjusted" else ""
        return f"beyond the {kind}{s['beyond']} fences{scale}{by}"
    if finding.test == "top":
        ends = {"high": "largest", "low": "smallest", "both": "largest and smallest"}[s["side"]]
        return f"the {ends} {s['aim'] or s['share'] or '1%'}{by}"
    if finding.test == "range":
        return "outside what is declared"
    if finding.test == "distance":
        return f"{s['fit']} distance on {', '.join(s['measures'])}{by}"
    return f"{s['current']} against {s['base']}, per {', '.join(s['per'])}"


def _show_not_tested(console: Console, finding: Finding) -> None:
    first = finding.not_tested[0]
    rows = sum(t.rows for t in finding.not_tested)
    line = (
        f"{num.many(len(finding.not_tested), 'group')} ({num.many(rows, 'row')}); the first: "
        f"{num.group_name(first.group)}, {first.reason}"
        if first.group
        else first.reason
    )
    notes(console, "not tested", [line], STONE)


LIMIT_COLUMNS = {
    "zscore": {"mean": "mean", "sd": "s", "median": "median", "low": "low", "high": "high"},
    "fences": {"q1": "Q1", "median": "median", "q3": "Q3", "low": "low", "high": "high"},
    "top": {"share": "share", "k": "k", "cutoff": "cut-off"},
}
"""Figures of a group that stand in the terminal, and what they are called."""


def _show_limits(console: Console, finding: Finding) -> None:
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


ASIDE_FIGURES = {
    "zscore": ("mean", "sd", "low", "high"),
    "fences": ("q1", "q3", "low", "high"),
    "top": ("cutoff",),
    "digits": ("mad",),
}
"""Figures of the one group that are compared with and without the rows set aside."""


def _show_aside(console: Console, finding: Finding) -> None:
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


def _show_ladder(console: Console, finding: Finding) -> None:
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


def _show_range(console: Console, finding: Finding) -> None:
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
            " " + row_name(flag["subject"]),
            *(_clip(flag["context"][name], 40) for name in context),
            num.amount(flag["amount"], finding.scale),
            Text(flag["rule"], style=AMBER),
        )
    console.print(table)
    _rest(console, finding)


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
            " " + row_name(flag["subject"]),
            *(_clip(flag["context"][name], 40) for name in context),
            num.amount(flag["amount"], finding.scale),
            num.number(flag["score"], 2 if finding.test == "top" else 1),
            *([] if finding.test == "top" else [fence or num.p_value(flag.get("p_adjusted"))]),
            _mark(flag["direction"]),
        )
    console.print(table)
    _rest(console, finding)


def _show_distance(console: Console, finding: Finding) -> None:
    for g in finding.groups[:6]:
        table = open_table([("measure", "left"), ("center", "right"), ("s", "right")])
        for j, name in enumerate(g["measures"]):
            spread = g["covariance"][j][j] ** 0.5
            table.add_row(" " + name, num.number(g["center"][j]), num.number(spread))
        named = f"{num.group_name(g['group'])}: " if g["group"] else ""
        console.print(
            Text(
                f" {named}{g['n']:,} subjects, limit of d² {g['limit']:.2f}, flagged {g['flagged']:,}"
            )
        )
        console.print(table)
    if len(finding.groups) > 6:
        console.print(
            Text(f" … and {num.many(len(finding.groups) - 6, 'group')} more", style=STONE)
        )
    if not len(finding.flags):
        console.print(Text("\n nothing is beyond the limit"))
        return
    console.print()
    measures = finding.settings["measures"]
    wide = [(name, "right") for name in measures[:4]]
    table = open_table(
        [("subject", "flex"), *wide, ("d²", "right"), ("classical", "right"), ("driven by", "flex")]
    )
    for flag in finding.flags.rows(SHOWN):
        driver = max(flag["contribution"], key=lambda name: flag["contribution"][name])
        if finding.flags.kind == "row":
            name = row_name(flag["subject"])
        else:
            name = num.group_name(flag["subject"])
        values = [num.number(flag["values"][m]) for m in measures[:4]]
        table.add_row(
            " " + name,
            *values,
            num.number(flag["score"], 1),
            num.number(flag["classical"], 1),
            Text(f"{driver} {flag['contribution'][driver]:.0f}%", style=AMBER),
        )
    console.print(table)
    _rest(console, finding)


def _show_periods(console: Console, finding: Finding) -> None:
    group = finding.groups[0]
    lines = sorted(group["lines"], key=lambda line: (not line["flagged"], -abs(line["change"])))
    shown = [line for line in lines if line["flagged"]][:25] or lines[:10]
    labels = list(shown[0]["key"]) if shown else finding.settings["per"]
    table = open_table(
        [
            *((label, "flex") for label in labels),
            (group["base"], "right"),
            (group["current"], "right"),
            ("change", "right"),
            ("%", "right"),
            ("points", "right"),
            ("", "left"),
        ]
    )
    places = finding.scale if max((abs(x["current"]) for x in lines), default=0) < 10**6 else 0

    def cells(line: dict[str, Any]) -> list[str]:
        return [
            num.amount(round(line[name], places), places) for name in ("base", "current", "change")
        ]

    for line in shown:
        keys = ["(missing)" if v is None else str(v) for v in line["key"].values()]
        table.add_row(
            " " + keys[0],
            *keys[1:],
            *cells(line),
            num.signed(line["change_percent"]),
            num.signed(line["share_shift"]),
            Text(
                f"{'▲' if line['change'] > 0 else '▼'} {line['reading']}"
                if line["flagged"]
                else line["reading"],
                style=AMBER if line["flagged"] else STONE,
            ),
        )
    total = group["total"]
    table.add_row(
        " total", *[""] * (len(labels) - 1), *cells(total), num.signed(total["change_percent"]), "", "",
        style="bold",
    )  # fmt: skip
    console.print(table)
    if len(lines) > len(shown):
        console.print(
            Text(
                f" … and {num.many(len(lines) - len(shown), 'line')} more, in the total",
                style=STONE,
            )
        )
    parts = group.get("rate_volume")
    if parts:
        console.print(
            Text(
                f"\n of the change {num.amount(total['change'], finding.scale)}: volume "
                f"{num.amount(parts['volume'], finding.scale)}, rate "
                f"{num.amount(parts['rate'], finding.scale)}, mix {num.amount(parts['mix'], finding.scale)}"
            )
        )


def _rest(console: Console, finding: Finding) -> None:
    more = len(finding.flags) - SHOWN
    if more > 0:
        console.print(Text(f" … and {more:,} more; all of them with --out FILE.csv", style=STONE))


def _mark(direction: str) -> Text:
    return Text({"high": "▲ high", "low": "▼ low"}.get(direction, "◆ far"), style=AMBER)


def row_name(subject: dict[str, Any]) -> str:
    """A row by its id, else by file and line."""
    identity = [v for k, v in subject.items() if k not in ("file", "line")]
    if identity and identity[0] is not None:
        return str(identity[0])
    return f"{subject['file']}:{subject['line']}"


def _clip(value: Any, width: int) -> str:
    text = "–" if value is None else " ".join(str(value).split())
    return text if len(text) <= width else text[: width - 1] + "…"


def _next(finding: Finding, where: str | None, kept: str) -> list[str]:
    if kept:
        return [f"sabueso screen {shell(kept)}", "sabueso queue"]
    steps = []
    and_where = f" and ({where})" if where else ""
    if finding.test == "digits":
        flag = next(finding.flags.rows(1), None)
        if flag is not None and flag["direction"] == "high":
            test, on = finding.settings["digits"], finding.on or ""
            conditions = [class_condition(on, test, flag["subject"][test])]
            conditions += asked_conditions(on, finding.settings)
            condition = " and ".join(conditions) + and_where
            by = finding.settings.get("by_whom") or "month"
            steps.append(f"sabueso dig {finding.table} --where {shell(condition)} --by {by}")
    elif finding.test == "periods" and len(finding.flags):
        flag = next(finding.flags.rows(1))
        key = next(k for k in flag["subject"] if k != "period")
        condition = f"{key} = '{flag['subject'][key]}'{and_where}"
        steps.append(
            f"sabueso dig {finding.table} --where {shell(condition)} --by {key} --across year"
        )
    elif len(finding.flags) and finding.flags.kind == "row":
        flag = next(finding.flags.rows(1))
        subject = flag["subject"]
        identity = [k for k in subject if k not in ("file", "line")]
        if flag.get("group"):
            key, value = next(iter(flag["group"].items()))
            steps.append(
                f"sabueso dig {finding.table} --where {shell(f'{key} = {value!r}')} --rows"
            )
        elif identity:
            steps.append(
                f"sabueso dig {finding.table} --where {shell(f'{identity[0]} = {subject[identity[0]]!r}')} --rows"
            )
    elif len(finding.flags) and finding.flags.kind == "entity":
        key, value = next(iter(next(finding.flags.rows(1))["subject"].items()))
        steps.append(f"sabueso dig {finding.table} --where {shell(f'{key} = {value!r}')} --rows")
    steps.append(f"{_command(finding, where)} --keep {shell(_name(finding))}")
    return steps


def _command(finding: Finding, where: str | None) -> str:
    """The command that gives this finding again."""
    from sabueso.screens import find_screen

    defaults = find_screen(finding.test).settings.model_fields
    parts = [f"sabueso try {finding.test} {finding.table}"]
    for name, value in finding.settings.items():
        if (
            name in ("where",)
            or name not in defaults
            or value in (None, [], defaults[name].default)
        ):
            continue
        if name == "base" and finding.settings.get("against"):
            continue
        if name == "limit" and finding.test == "zscore" and value in (3, Decimal("3.5")):
            continue
        if name in ("limit", "inner", "outer") and finding.settings.get("aim"):
            continue  # solved for
        text = ",".join(value) if isinstance(value, list) else str(value)
        parts.append(f"--{name.replace('_', '-')} {shell(text)}")
    if where:
        parts.append(f"--where {shell(where)}")
    return " ".join(parts)


def _name(finding: Finding) -> str:
    by = f" by {' and '.join(finding.by)}" if finding.by else ""
    if finding.test == "digits":
        return f"{finding.settings['digits']} digits of {finding.table}{by}"
    if finding.test == "periods":
        return f"{finding.table} {finding.settings['current']} against {finding.settings['base']}"
    return f"{finding.test} of {finding.table}{by}"
