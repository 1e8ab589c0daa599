"""The digits view: each class as a bar with its expected tick and tolerance band."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import TypeVar

from sabueso.report import numbers as num
from sabueso.report.blocks import Bar, Block, Cell, Column, Drawing, Gap, Line, Marked, Sheet, Table
from sabueso.report.commands import shell
from sabueso.screens.digits.classes import asked_conditions, class_condition
from sabueso.screens.digits.result import (
    ChangedClass,
    DigitChange,
    DigitClass,
    DigitGroup,
    DigitMore,
    Repeated,
)
from sabueso.screens.subject import own_key
from sabueso.screens.view import View, and_more
from sabueso.stats.digit_verdict import DEPARTING, NO_DEPARTURE, NONCONFORMING, SLIGHT

MOST_CLASSES, MOST_STRONG, MOST_GROUPS, MOST_BEHIND = 10, 16, 20, 8
C = TypeVar("C", DigitClass, ChangedClass)


class DigitsView(View[DigitGroup]):
    """One group: its classes; several: the groups, furthest from expectation first."""

    subjects = ("class", "classes")
    conforming = "conforming amounts"
    places = 4

    def headline(self) -> str:
        s = self.finding.used
        what = f"{s['digits']} digits"
        if s["of"] == "differences":
            what += " of the differences"
        if s["sign"] in ("positive", "negative"):
            what += f", {s['sign']} amounts"
        if s["at_least"] is not None:
            what += f", of at least {s['at_least']}"
        if s["compare"]:
            return f"{what}, {s['compare'][1]} against {s['compare'][0]}"
        return what + self.by()

    @property
    def _test(self) -> str:
        return str(self.finding.settings["digits"])

    def name(self) -> str:
        by = self.by().replace(", ", " and ")
        return f"{self.finding.settings['digits']} digits of {self.finding.source}{by}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        finding = self.finding
        if not finding.groups:
            return [Line("no rows to test")]
        change = _change(finding.more)
        if change is not None:
            return self._changed(change, whole=whole)
        if finding.by:
            return self._groups(whole=whole)
        (group,) = finding.groups
        found: list[Block] = []
        if finding.settings["of"] == "differences":
            few = group.few_digits or 0
            left = (
                f", {few:,} more have too few digits for the test and are left out" if few else ""
            )
            text = (
                f"{group.n:,} differences between {group.n + few + 1:,} distinct amounts{left}; no row is "
                "behind a difference, and none is flagged"
            )
            found += [Line(text), Gap()]
        found += [*_classes(group, finding.scale, whole=whole), Gap()]
        found += [Line(verdict(group, self._test)), Line(_excess(group))]
        if group.mantissa_p is not None:
            text = (
                f"Kolmogorov-Smirnov D {group.ks:.4f} (limit {group.ks_limit:.4f}), "
                f"mantissa arc L² {group.mantissa_l2:.2g}, {num.p_text(group.mantissa_p)}"
            )
            found.append(Line(text))
        found += _summation(group)
        found += _behind(group, finding.settings.get("by_whom"))
        return [*found, *_repeated(group, finding.scale)]

    def _groups(self, *, whole: bool) -> list[Block]:
        ranked = sorted(self.finding.groups, key=lambda g: -g.times_chance)
        shown = ranked if whole else ranked[:MOST_GROUPS]
        columns = [
            Column(", ".join(self.finding.by), "flex"), Column("n"), Column("MAD"),
            Column("by chance"), Column("ratio"), Column("chi-square p"),
            Column("flagged classes", "flex"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                num.group_name(g.group),
                num.count(g.n),
                f"{g.mad:.4f}",
                f"{g.mad_expected:.4f}",
                f"{g.times_chance:.1f}",
                num.p_value(g.chi_square_p),
                Marked(", ".join(map(_arrow, g.flagged[:6]))),
            ]
            for g in shown
        ]
        return [Table(columns, rows, rest=and_more(len(ranked) - len(shown), "group"))]

    def _changed(self, change: DigitChange, *, whole: bool) -> list[Block]:
        """Two periods side by side, class by class."""
        names = [num.group_name(change.before), num.group_name(change.after)]
        columns = [Column("digits"), *map(Column, names)]
        columns += [Column(n) for n in ("points", "expected", "z", "adj. p")] + [Column("", "left")]
        expected = {c.digits: c.expected for c in self.finding.groups[0].classes}
        classes = change.classes
        places = 1 if len(classes) <= MOST_CLASSES else 2
        shown = classes if whole else _strongest(classes)
        rows: list[list[Cell]] = [
            [
                Marked(c.digits, "strong" if c.flagged else "plain"),
                num.percent(c.before, places), num.percent(c.after, places),
                num.signed(c.difference, places), num.percent(expected[c.digits], places),
                num.signed(c.z, 1), num.p_value(c.p_adjusted),
                Marked(("▲ more often" if c.z > 0 else "▼ less often") if c.flagged else ""),
            ]
            for c in shown
        ]  # fmt: skip
        left = len(classes) - len(shown)
        rest = f"… and {left} classes that changed less" if left else ""
        text = (
            f"the two differ by chi-square {change.chi_square:,.1f} on {change.chi_square_df}, "
            f"{num.p_text(change.chi_square_p)}"
        )
        each = (
            Line(f"{num.group_name(g.group)}, n {g.n:,}: {verdict(g, self._test)}", "muted")
            for g in self.finding.groups
        )
        return [Table(columns, rows, rest=rest), Gap(), Line(text), *each]

    def flagged(self) -> list[Block]:
        return []  # the classes above say it

    def figures(self, group: DigitGroup) -> dict[str, float | None]:
        return {"mad": group.mad}

    def sheet(self) -> Sheet:
        """Every class of every group."""
        header = list(DigitClass.__dataclass_fields__)
        rows: list[list[Cell]] = [
            [*g.group.values(), *(getattr(c, name) for name in header)]
            for g in self.finding.groups
            for c in g.classes
        ]
        groups = [f"group {label}" for label in self.finding.by]
        return Sheet("classes", [*groups, *(header if rows else [])], rows)

    def steps(self, where: str | None) -> list[str]:
        finding = self.finding
        flag = next(finding.flags.rows(1), None)
        if flag is None or flag["direction"] != "high":
            return []
        test, on, named = finding.settings["digits"], finding.on or "", flag["subject"]
        conditions = [class_condition(on, test, named[own_key(test, named)])]
        conditions += asked_conditions(on, finding.settings)
        conditions += [f"({where})"] if where else []
        by = finding.settings.get("by_whom") or "month"
        condition = shell(" and ".join(conditions))
        return [f"sabueso dig {finding.source} --where {condition} --by {by}"]

    def drawing(self, kind: str = "plain") -> Drawing | None:
        from sabueso.screens.digits.figure import digits_drawing

        return digits_drawing(self.finding, _change(self.finding.more))


def verdict(group: DigitGroup, test: str) -> str:
    """One conclusion, from flags, chi-square and excess deviation together, with its figures."""
    law = "equal shares" if test == "last-two" else "the law"
    most = f"{group.largest_difference:.{2 if len(group.classes) > MOST_CLASSES else 1}f} points"
    head = {
        NO_DEPARTURE: f"no departure from {law} can be shown with {group.n:,} rows",
        SLIGHT: f"departs from {law}, by no more than {most} in any class",
        DEPARTING: f"departs from {law}, by up to {most} in a class",
        NONCONFORMING: f"nonconforming, by up to {most} in a class",
    }[group.conformity]
    return (
        f"{head}: MAD {_mad(group.mad)} ({_mad(group.mad_expected)} expected by chance), chi-square "
        f"{group.chi_square:,.1f} on {group.chi_square_df}, {num.p_text(group.chi_square_p)}"
    )


def _excess(group: DigitGroup) -> str:
    """How far the deviation is beyond chance, and the published reading with what it leaves out."""
    text = (
        f"excess MAD {_mad(group.mad_excess)} (95% {_mad(group.mad_excess_low)} to "
        f"{_mad(group.mad_excess_high)})"
    )
    if group.mad_range is None:
        return text
    return f"{text}; the published ranges, which leave n out, read the MAD as {group.mad_range}"


def _mad(value: float) -> str:
    return num.number(value, 5 if abs(value) < 0.001 else 4)


def _change(more: DigitMore | None) -> DigitChange | None:
    return None if more is None else more.change


def _strongest(classes: Sequence[C]) -> list[C]:
    """The flagged classes with the largest |z|, else the largest of all, in the classes' order."""
    if len(classes) <= MOST_CLASSES:
        return list(classes)
    flagged = [c for c in classes if c.flagged]
    chosen = sorted(flagged or classes, key=lambda c: -abs(c.z))[:MOST_STRONG]
    return sorted(chosen, key=lambda c: c.digits)


def _classes(group: DigitGroup, scale: int, *, whole: bool) -> list[Block]:
    """Classes with their bars; whole, every class with its p and amount, and the control total."""
    classes = group.classes
    shown = classes if whole else _strongest(classes)
    largest = max(max(c.share, c.band_high) for c in shown)
    places = 1 if len(classes) <= MOST_CLASSES else 2
    head = ["digits", "count", "share", "expected", "points"]
    head += ["z", "p", "adj. p", "amount"] if whole else []
    columns = [*map(Column, (*head, "of amount")), Column("", "bar"), Column("", "left")]
    rows: list[list[Cell]] = []
    for c in shown:
        more = [num.signed(c.z, 2), num.p_value(c.p), num.p_value(c.p_adjusted)]
        rows.append(
            [
                Marked(c.digits, "strong" if c.flagged else "plain"),
                num.count(c.count),
                num.percent(c.share, places),
                num.percent(c.expected, places),
                num.signed(c.difference, places),
                *([*more, num.amount(c.amount, scale)] if whole else []),
                num.percent(c.amount_share, 1),
                Bar(c.share, c.expected, c.band_low, c.band_high, largest, c.flagged),
                Marked(_remark(c)),
            ]
        )
    strong: frozenset[int] = frozenset()
    if whole:
        rows.append(_control(classes, scale))
        strong = frozenset([len(rows) - 1])
    rest = ""
    if len(shown) < len(classes):
        inside = len(classes) - len(group.flagged)
        rest = f"{inside} of {len(classes)} classes are within the band or not significant"
    return [Table(columns, rows, strong=strong, rest=rest)]


def _control(classes: Sequence[DigitClass], scale: int) -> list[Cell]:
    """What the classes add up to: all rows used, and their amount."""
    shares = [c.amount_share for c in classes if c.amount_share is not None]
    return [
        "total",
        num.count(sum(c.count for c in classes)),
        num.percent(sum(c.share for c in classes)),
        num.percent(sum(c.expected for c in classes)),
        *[""] * 4,
        num.amount(sum((c.amount for c in classes), Decimal(0)), scale),
        num.percent(sum(shares) if shares else None),
        "",
        "",
    ]


def _remark(c: DigitClass) -> str:
    if not c.flagged:
        return ""
    side = "▲ above" if c.share > c.expected else "▼ below"
    return f"{side}, {num.p_text(c.p_adjusted)}"


def _arrow(c: DigitClass) -> str:
    return f"{c.digits}{'▲' if c.share > c.expected else '▼'}"


def _summation(group: DigitGroup) -> list[Block]:
    """The sum of the significands, of which every class of equal width is expected to hold the same."""
    if group.summation_mad is None:
        return []
    most = max(group.classes, key=lambda c: abs(c.significand_z or 0))
    text = (
        f"of the significands each class is expected to hold {num.percent(1 / len(group.classes))}; "
        f"furthest is {most.digits} with {num.percent(most.significand_share)}, adjusted "
        f"{num.p_text(most.significand_p_adjusted or 0)}. Of the amounts no share is expected"
    )
    return [Line(text, "muted")]


def _repeated(group: DigitGroup, scale: int) -> list[Block]:
    """The most frequent exact amounts within the flagged classes, or else of all rows."""
    within = {k: v for k, v in (group.repeated_in_class or {}).items() if v}
    lines = [
        f"most frequent in {label}: {_times(items, scale)}"
        for label, items in list(within.items())[:6]
    ]
    if not lines and group.repeated:
        lines = [f"most frequent amounts: {_times(group.repeated[:4], scale)}"]
    return [Gap(), *map(Line, lines)] if lines else []


def _times(items: Sequence[Repeated], scale: int) -> str:
    return ", ".join(f"{num.amount(i.amount, scale)} × {i.count:,}" for i in items)


def _behind(group: DigitGroup, who: str | None) -> list[Block]:
    """Who stands behind the flagged classes, where it is significant."""
    behind = [b for b in group.behind or [] if b.p_adjusted < 0.05][:MOST_BEHIND]
    if not behind:
        text = f"no {who} is behind a flagged class more than chance would have it"
        return [Gap(), Line(text)] if group.behind else []
    columns = [Column(f"behind, by {who}", "flex")]
    columns += map(Column, ("digits", "rows", "of the class", "of all rows", "adj. p"))
    rows: list[list[Cell]] = [
        [
            "(missing)" if b.value is None else str(b.value),
            b.digits,
            num.count(b.count),
            num.percent(b.share_of_class),
            num.percent(b.share_of_population),
            num.p_value(b.p_adjusted),
        ]
        for b in behind
    ]
    return [Gap(), Table(columns, rows)]
