"""A finding as terminal text: heading, what was found, cautions, reconciliation, next commands."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.text import Text

from sabueso.population.expressions import equals
from sabueso.screens.digit_classes import asked_conditions, class_condition
from sabueso.screens.interface import Finding
from sabueso.screens.subject import of_key, own_key
from sabueso.show import numbers as num
from sabueso.show.account import account_lines
from sabueso.show.console import next_steps, notes, open_table, shell, title
from sabueso.show.digits import show_digits
from sabueso.show.limit_views import (
    LIMIT_COLUMNS,
    SHOWN,
    show_aside,
    show_ladder,
    show_limits,
    show_range,
    show_rest,
)
from sabueso.show.palette import AMBER, STONE
from sabueso.show.plain_views import show_plain


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
        show_range(console, finding)
    elif finding.test in LIMIT_COLUMNS:
        show_limits(console, finding)
    else:
        show_plain(console, finding)
    if "aim" in finding.more:
        show_ladder(console, finding)
    if "with_set_aside" in finding.more:
        show_aside(console, finding)
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
    s = finding.used
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
    if finding.test == "periods":
        return f"{s['current']} against {s['base']}, per {', '.join(s['per'])}"
    return f"{finding.test}{by}"


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
        name = of_key(finding.flags.kind, flag["subject"]).short()
        values = [num.number(flag["values"][m]) for m in measures[:4]]
        table.add_row(
            " " + name,
            *values,
            num.number(flag["score"], 1),
            num.number(flag["classical"], 1),
            Text(f"{driver} {flag['contribution'][driver]:.0f}%", style=AMBER),
        )
    console.print(table)
    show_rest(console, finding)


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


def _next(finding: Finding, where: str | None, kept: str) -> list[str]:
    if kept:
        return [f"sabueso screen {shell(kept)}", "sabueso queue"]
    steps = []
    and_where = f" and ({where})" if where else ""
    if finding.test == "digits":
        flag = next(finding.flags.rows(1), None)
        if flag is not None and flag["direction"] == "high":
            test, on = finding.settings["digits"], finding.on or ""
            named = flag["subject"]
            conditions = [class_condition(on, test, named[own_key(test, named)])]
            conditions += asked_conditions(on, finding.settings)
            condition = " and ".join(conditions) + and_where
            by = finding.settings.get("by_whom") or "month"
            steps.append(f"sabueso dig {finding.table} --where {shell(condition)} --by {by}")
    elif finding.test == "periods" and len(finding.flags):
        flag = next(finding.flags.rows(1))
        line = of_key(finding.flags.kind, flag["subject"])
        key, value = next(iter(line.clients().items()))
        condition = equals(key, value) + and_where
        steps.append(
            f"sabueso dig {finding.table} --where {shell(condition)} --by {key} --across year"
        )
    elif len(finding.flags):
        flag = next(finding.flags.rows(1))
        subject = of_key(finding.flags.kind, flag["subject"])
        # The group it was judged in, else the subject itself.
        opened = next(iter((flag.get("group") or subject.clients()).items()), None)
        if opened is not None:
            steps.append(f"sabueso dig {finding.table} --where {shell(equals(*opened))} --rows")
    steps.append(f"{command_of(finding, where)} --keep {shell(_name(finding))}")
    return steps


def command_of(finding: Finding, where: str | None) -> str:
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
        return f"{finding.table} {finding.settings['current']} against {finding.used['base']}"
    return f"{finding.test} of {finding.table}{by}"
