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
    if finding.by:
        _show_groups(console, finding)
        return
    group = finding.groups[0]
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
    _show_behind(console, group, finding.settings.get("by_whom"))


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
