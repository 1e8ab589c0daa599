"""The digits view: each class as a bar with its expected tick and tolerance band."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.text import Text

from sabueso.screens.interface import Finding
from sabueso.show import numbers as num
from sabueso.show.console import open_table
from sabueso.show.palette import AMBER, INK, SEA, STONE

EIGHTHS = " ▏▎▍▌▋▊▉█"
MOST_CLASSES = 10


def show_digits(console: Console, finding: Finding) -> None:
    """One group: its classes; several: the groups, furthest from expectation first."""
    if not finding.groups:
        console.print(Text(" no rows to test"))
        return
    if "change" in finding.more:
        _show_change(console, finding)
        return
    if finding.by:
        _show_groups(console, finding)
        return
    group = finding.groups[0]
    if finding.settings["of"] == "differences":
        console.print(
            Text(
                f" {group['n']:,} differences between {group['n'] + 1:,} distinct amounts; no row is "
                "behind a difference, and none is flagged\n"
            )
        )
    _show_classes(console, group, finding.settings["digits"])
    console.print()
    console.print(Text(f" {verdict(group)}"))
    if group["mantissa_p"] is not None:
        console.print(
            Text(
                f" Kolmogorov-Smirnov D {group['ks']:.4f} (limit {group['ks_limit']:.4f}), "
                f"mantissa arc L² {group['mantissa_l2']:.2g}, {num.p_text(group['mantissa_p'])}"
            )
        )
    _show_summation(console, group)
    _show_behind(console, group, finding.settings.get("by_whom"))
    _show_repeated(console, group, finding.scale)


def verdict(group: dict[str, Any]) -> str:
    """The fit in one line: the published reading, what chance gives, chi-square."""
    reading = f"{group['conformity']}: " if group["conformity"] else ""
    if group["conformity"] in ("close", "acceptable", "marginal"):
        reading = f"{group['conformity']} conformity: "
    return (
        f"{reading}MAD {group['mad']:.4f} ({group['mad_expected']:.4f} expected by chance), chi-square "
        f"{group['chi_square']:,.1f} on {group['chi_square_df']}, {num.p_text(group['chi_square_p'])}"
    )


def _show_classes(console: Console, group: dict[str, Any], test: str) -> None:
    classes = group["classes"]
    shown = classes
    if len(classes) > MOST_CLASSES:
        flagged = [c for c in classes if c["flagged"]]
        strongest = sorted(flagged or classes, key=lambda c: -abs(c["z"]))[:16]
        shown = sorted(strongest, key=lambda c: c["digits"])
    largest = max(max(c["share"], c["band_high"]) for c in shown)
    table = open_table(
        [
            ("digits", "right"), ("count", "right"), ("share", "right"), ("expected", "right"),
            ("points", "right"), ("of amount", "right"), ("", "left"), ("", "left"),
        ]
    )  # fmt: skip
    places = 1 if len(classes) <= 10 else 2
    width = min(max(console.width - 78, 16), 60)
    for c in shown:
        table.add_row(
            Text(c["digits"], style="bold" if c["flagged"] else ""),
            num.count(c["count"]),
            num.percent(c["share"], places),
            num.percent(c["expected"], places),
            num.signed(c["difference"], places),
            num.percent(c["amount_share"], 1),
            bar(c, largest, width),
            _remark(c),
        )
    console.print(table)
    if len(shown) < len(classes):
        inside = len(classes) - sum(c["flagged"] for c in classes)
        console.print(
            Text(
                f" {inside} of {len(classes)} classes are within the band or not significant",
                style=STONE,
            )
        )


def bar(c: dict[str, Any], largest: float, width: int) -> Text:
    """Observed as a filled bar, the band as a thin line, expected as a tick."""
    filled = c["share"] / largest * (width - 1)
    whole, part = int(filled), int((filled % 1) * 8)
    cells = ["█"] * whole + ([EIGHTHS[part]] if part else [])
    cells += [" "] * (width - len(cells))
    styles = [AMBER if c["flagged"] else SEA] * width
    low, high = (round(c[k] / largest * (width - 1)) for k in ("band_low", "band_high"))
    for i in range(low, high + 1):
        if cells[i] == " ":
            cells[i], styles[i] = "─", STONE
    tick = round(c["expected"] / largest * (width - 1))
    cells[tick], styles[tick] = "┃", f"bold {INK} on {SEA}" if tick < whole else "bold"
    text = Text()
    for cell, style in zip(cells, styles, strict=True):
        text.append(cell, style=style)
    return text


def _remark(c: dict[str, Any]) -> Text:
    if not c["flagged"]:
        return Text("")
    high = c["share"] > c["expected"]
    p = c["p_adjusted"]
    return Text(f"{'▲ above' if high else '▼ below'}, {num.p_text(p)}", style=AMBER)


def _show_summation(console: Console, group: dict[str, Any]) -> None:
    """Amount by digit: every leading-digit class is expected to hold the same share of the money."""
    if group.get("summation_mad") is None:
        return
    classes = group["classes"]
    most = max(classes, key=lambda c: c["magnitude_share"])
    even = 1 / len(classes)
    console.print(
        Text(
            f" amount by digit: each class is expected to hold {num.percent(even)} of the amounts, sign "
            f"apart; MAD {num.percent(group['summation_mad'], 2)}, most in {most['digits']} with "
            f"{num.percent(most['magnitude_share'])}",
            style=STONE,
        )
    )


def _show_repeated(console: Console, group: dict[str, Any], scale: int) -> None:
    """The most frequent exact amounts within the flagged classes, or else of all rows."""
    within = {k: v for k, v in group.get("repeated_in_class", {}).items() if v}
    lines = [
        f" most frequent in {label}: " + _times(items, scale)
        for label, items in list(within.items())[:6]
    ]
    if not lines and group.get("repeated"):
        lines = [f" most frequent amounts: {_times(group['repeated'][:4], scale)}"]
    if lines:
        console.print()
    for line in lines:
        console.print(Text(line))


def _times(items: list[dict[str, Any]], scale: int) -> str:
    return ", ".join(f"{num.amount(i['amount'], scale)} × {i['count']:,}" for i in items)


def _show_change(console: Console, finding: Finding) -> None:
    """Two periods side by side, class by class."""
    change = finding.more["change"]
    names = [num.group_name(change[k]) for k in ("before", "after")]
    table = open_table(
        [
            ("digits", "right"), (names[0], "right"), (names[1], "right"), ("points", "right"),
            ("expected", "right"), ("z", "right"), ("adj. p", "right"), ("", "left"),
        ]
    )  # fmt: skip
    expected = {c["digits"]: c["expected"] for c in finding.groups[0]["classes"]}
    classes = change["classes"]
    places = 1 if len(classes) <= MOST_CLASSES else 2
    shown = classes
    if len(classes) > MOST_CLASSES:
        flagged = [c for c in classes if c["flagged"]]
        strongest = sorted(flagged or classes, key=lambda c: -abs(c["z"]))[:16]
        shown = sorted(strongest, key=lambda c: c["digits"])
    for c in shown:
        mark = ("▲ more often" if c["z"] > 0 else "▼ less often") if c["flagged"] else ""
        table.add_row(
            Text(c["digits"], style="bold" if c["flagged"] else ""),
            num.percent(c["before"], places), num.percent(c["after"], places),
            num.signed(c["difference"], places), num.percent(expected[c["digits"]], places),
            num.signed(c["z"], 1), num.p_value(c["p_adjusted"]), Text(mark, style=AMBER),
        )  # fmt: skip
    console.print(table)
    if len(shown) < len(classes):
        rest = len(classes) - len(shown)
        console.print(Text(f" … and {rest} classes that changed less", style=STONE))
    console.print()
    console.print(
        Text(
            f" the two differ by chi-square {change['chi_square']:,.1f} on {change['chi_square_df']}, "
            f"{num.p_text(change['chi_square_p'])}"
        )
    )
    for group in finding.groups:
        console.print(
            Text(
                f" {num.group_name(group['group'])}, n {group['n']:,}: {verdict(group)}",
                style=STONE,
            )
        )


def _show_behind(console: Console, group: dict[str, Any], who: str | None) -> None:
    """Who stands behind the flagged classes, where it is significant."""
    behind = [b for b in group.get("behind", []) if b["p_adjusted"] < 0.05][:8]
    if not behind:
        if group.get("behind"):
            console.print(
                Text(f"\n no {who} is behind a flagged class more than chance would have it")
            )
        return
    console.print()
    table = open_table(
        [
            (f"behind, by {who}", "flex"), ("digits", "right"), ("rows", "right"),
            ("of the class", "right"), ("of all rows", "right"), ("adj. p", "right"),
        ]
    )  # fmt: skip
    for b in behind:
        table.add_row(
            " " + ("(missing)" if b["value"] is None else str(b["value"])),
            b["digits"],
            num.count(b["count"]),
            num.percent(b["share_of_class"]),
            num.percent(b["share_of_population"]),
            num.p_value(b["p_adjusted"]),
        )
    console.print(table)


def _show_groups(console: Console, finding: Finding) -> None:
    ranked = sorted(finding.groups, key=lambda g: -g["mad"] / g["mad_expected"])
    table = open_table(
        [
            (", ".join(finding.by), "flex"), ("n", "right"), ("MAD", "right"), ("by chance", "right"),
            ("ratio", "right"), ("chi-square p", "right"), ("flagged classes", "flex"),
        ]
    )  # fmt: skip
    for g in ranked[:20]:
        flagged = [c for c in g["classes"] if c["flagged"]]
        marks = ", ".join(
            f"{c['digits']}{'▲' if c['share'] > c['expected'] else '▼'}" for c in flagged[:6]
        )
        table.add_row(
            " " + num.group_name(g["group"]),
            num.count(g["n"]),
            f"{g['mad']:.4f}",
            f"{g['mad_expected']:.4f}",
            f"{g['mad'] / g['mad_expected']:.1f}",
            num.p_value(g["chi_square_p"]),
            Text(marks, style=AMBER),
        )
    console.print(table)
    if len(ranked) > 20:
        console.print(Text(f" … and {num.many(len(ranked) - 20, 'group')} more", style=STONE))
