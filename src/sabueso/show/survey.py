"""A survey as terminal text: tables and links, columns and suitable tests, single measures."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from decimal import Decimal
from fractions import Fraction
from typing import Any

from rich.console import Console
from rich.text import Text

from sabueso.base.plain import Json
from sabueso.base.words import listed
from sabueso.case.events import RuleOutcome
from sabueso.case.linking import LEAST_SHARE, is_by_chance
from sabueso.population.links import Link
from sabueso.population.pairs import Correlation
from sabueso.population.period_names import names_period
from sabueso.population.population import Account, within_exact
from sabueso.population.survey import ColumnSurvey, MeasureSurvey, Wanted
from sabueso.population.table import Column, Table
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.report.commands import shell
from sabueso.report.palette import AMBER, SEA, STONE
from sabueso.show.account import account_lines
from sabueso.show.console import next_steps, notes, open_table, title
from sabueso.show.rules import show_rules
from sabueso.stats.description import Description, middle_bins, stem_and_leaf

BAR = 40
MARKS = {"yes": ("✓", SEA), "with care": ("△", AMBER), "no": ("×", STONE)}
MOST_PAIRS = 40
MOST_GROUPS = 20
MOST_NAMED = 6


def show_tables(
    console: Console,
    tables: Sequence[Json],
    links: Sequence[Link],
    currencies: Mapping[str, str],
    kept: Sequence[Link] = (),
    more: bool = False,
) -> None:
    """All tables of the case: rows, period, sum, roles, and the links between them; ``currencies`` are
    those of the tables with amounts."""
    named = sorted(set(currencies.values()))
    title(console, f"survey · {num.many(len(tables), 'table')}", listed(named))
    head = [
        ("table", "left"), ("rows", "right"), ("columns", "right"), ("from", "left"), ("to", "left"),
        ("sum of amounts", "right"), ("doubts", "right"),
    ]  # fmt: skip
    shown = open_table(head)
    for t in tables:
        total = "–" if t["total"] is None else num.amount(Decimal(t["total"]))
        if len(named) > 1 and t["table"] in currencies:
            total = f"{total} {currencies[t['table']]}"
        shown.add_row(
            f" {t['table']}", num.count(t["rows"]), num.count(t["columns"]), t["first_date"] or "–",
            t["last_date"] or "–", total, num.count(len(t["doubts"])) if t["doubts"] else "–",
        )  # fmt: skip
    console.print(shown)
    doubts = [f"{t['table']}: {text}" for t in tables for text in t["doubts"]]
    if doubts:
        console.print()
        notes(console, "doubt", doubts)
    if links:
        console.print()
        found = open_table(
            [("link", "left"), ("", "left"), ("rows found", "right"), ("share", "right")]
        )
        for link in links:
            found.add_row(
                f" {link.column}", f"→ {link.other}", f"{link.found:,} of {link.rows:,}",
                num.percent(link.share),
            )  # fmt: skip
        console.print(found)
        notes(
            console, "weak",
            (f"{link.column} → {link.other}: {link.rows - link.found:,} rows find nothing"
             for link in links if link.share < LEAST_SHARE),
        )  # fmt: skip
        chance = [f"{link.column} → {link.other}" for link in links if is_by_chance(link)]
        others = f" and {len(chance) - MOST_NAMED:,} more" if len(chance) > MOST_NAMED else ""
        said = "such numbers are found among any that count rows, and no name says that these are meant"
        notes(
            console,
            "chance",
            [f"{', '.join(chance[:MOST_NAMED])}{others}: {said}"] if chance else [],
        )
    if kept:
        added = ", ".join(link.column for link in kept)
        console.print(Text(f" written to case.toml: {added}", style=STONE))
    console.print()
    largest = max(tables, key=lambda t: t["rows"])["table"]
    steps = [f"sabueso survey {largest}"]
    steps.append(
        "sabueso survey --keep-links" if more else f"sabueso dig {largest} --measure count"
    )
    next_steps(console, steps)


def show_columns(
    console: Console,
    table: Table,
    columns: Sequence[ColumnSurvey],
    whole: Sequence[tuple[str, str]],
    rules: Sequence[RuleOutcome],
    suits: Sequence[Suit],
    amount: Column | None,
    account: Account,
    trees: Sequence[Sequence[str]] = (),
) -> None:
    """One table: its columns, what is suspicious, and which tests suit it."""
    rows = columns[0].rows if columns else 0
    title(console, f"{table.name} · {num.many(len(columns), 'column')}", num.many(rows, "row"))
    head = [
        ("column", "left"), ("type", "left"), ("role", "left"), ("missing", "right"), ("distinct", "right"),
        ("least", "flex"), ("greatest", "flex"), ("most frequent", "flex"),
    ]  # fmt: skip
    shown = open_table(head)
    for c in columns:
        top = ", ".join(f"{_value(value, c.column)} {n:,}" for value, n in c.top[:2])
        shown.add_row(
            f" {c.column.name}", c.column.type, Text(c.role, style=SEA),
            num.count(c.missing) if c.missing else "–", num.count(c.distinct), _value(c.least, c.column),
            _value(c.greatest, c.column), top,
        )  # fmt: skip
    console.print(shown)
    doubts = [f"{code}: {text}" for code, text in whole]
    doubts += [f"{code} {c.column.name}: {text}" for c in columns for code, text in c.doubts]
    if doubts:
        console.print()
        notes(console, "doubt", doubts)
    if trees:
        if not doubts:
            console.print()
        notes(console, "tree", [" → ".join(tree) for tree in trees], SEA)
    if rules:
        console.print()
        show_rules(console, rules, amounts=amount is not None)
    console.print()
    if suits:
        tests = open_table([("test", "left"), ("suits", "left"), ("because", "wrap")])
        for s in suits:
            mark, style = MARKS[s.verdict]
            tests.add_row(f" {s.test}", Text(f"{mark} {s.verdict}", style=style), s.reason)
        console.print(tests)
        console.print()
    for line in account_lines(
        account, amount.scale if amount else 0, table.currency if amount else ""
    ):
        console.print(Text(line))
    steps = [f"sabueso survey {table.name} {shell(amount.name)}"] if amount else []
    if amount and not suits:
        steps = [f"sabueso survey {table.name} --where {shell(within_exact(amount))}"]
    good = [s for s in suits if s.verdict != "no" and s.ready]
    if good:
        first = next((s for s in good if s.verdict == "yes"), good[0])
        steps.append(f"sabueso try {first.test} {table.name} {first.options}".rstrip())
    next_steps(console, steps)


def show_measure(
    console: Console, survey: MeasureSurvey, *, stem: bool, number: Wanted, dated: bool
) -> None:
    """One measure described, with its histogram or stem-and-leaf, or by groups."""
    p = survey.population
    dates = f", {p.first_date} to {p.last_date}" if p.first_date else ""
    by = f" by {', '.join(survey.by)}" if survey.by else ""
    title(console, f"{survey.table} · {survey.on}{by}", f"{num.many(p.used, 'row')}{dates}")
    if not survey.groups:
        console.print(Text(" no row has a value"))
    elif survey.by:
        _show_groups(console, survey)
    else:
        _show_figures(console, survey, survey.groups[0][1])
        console.print()
        if stem:
            _show_stem(console, survey)
        else:
            _show_histogram(console, survey, number)
        console.print()
        _show_extremes(console, survey)
    console.print()
    for line in account_lines(p, survey.scale, survey.currency, survey.on):
        console.print(Text(line))
    base = f"sabueso survey {survey.table} {shell(survey.on)}"
    # A name for a file wherever it is written.
    figure = re.sub(r"\W+", "_", survey.on).strip("_") or "measure"
    other = [base] if survey.by else [f"{base} --by month"] if dated else []
    next_steps(console, [*other, f"{base} --out {figure}.png"])


def _show_figures(console: Console, survey: MeasureSurvey, d: Description) -> None:
    """What there is and what is missing; what stands out; shape; place; spread."""
    scale = survey.scale

    def money(value: Fraction | float | None) -> str:
        return num.number(None if value is None else float(value), scale)

    interval = "–" if d.interval is None else " to ".join(map(money, d.interval))
    missing = survey.population.left_out.get("missing", 0)
    total = num.amount(Decimal(d.total.numerator) / d.total.denominator, scale)
    tenths = {10: "lowest tenth to", 90: "highest tenth from"}
    parts: list[tuple[str, list[tuple[str, str]]]] = [
        ("what there is", [
            ("rows with a value", num.count(d.n)), ("without", num.count(missing)), ("sum", total),
            ("distinct", num.count(d.distinct)), ("zero", num.count(d.zero)),
            ("negative", num.count(d.negative)),
        ]),
        ("what stands out", [
            ("greatest", money(d.greatest)), ("99 in 100 up to", money(d.percentiles[99])),
            ("95 in 100 up to", money(d.percentiles[95])),
            ("least", money(d.least)), ("1 in 100 up to", money(d.percentiles[1])),
            ("5 in 100 up to", money(d.percentiles[5])),
        ]),
        ("shape", [
            ("skewness G1", _with_error(d.skewness, d.skewness_error)),
            ("excess kurtosis G2", _with_error(d.kurtosis, d.kurtosis_error)),
        ]),
        ("place", [
            ("median", money(d.median)), ("mean", money(d.mean)), ("its 95% interval", interval),
            ("trimmed 5% a side", money(d.trimmed)), ("Huber's estimate", money(d.huber)),
            ("standard error", money(d.standard_error)),
        ]),
        ("spread", [
            ("middle half from", money(d.percentiles[25])), ("to", money(d.percentiles[75])),
            ("interquartile", money(d.iqr)), ("range", money(d.greatest - d.least)),
            *((tenths[q], money(d.percentiles[q])) for q in (10, 90)),
            ("s", money(d.sd)), ("variance", money(d.variance)),
        ]),
    ]  # fmt: skip
    table = open_table([("", "left")] + [("", "left"), ("", "right")] * 2)
    for name, figures in parts:
        for start in range(0, len(figures), 2):
            cells = [cell for pair in figures[start : start + 2] for cell in pair]
            table.add_row(f" {name if not start else ''}", *cells, *[""] * (4 - len(cells)))
    console.print(table)


def _with_error(value: float | None, error: float | None) -> str:
    if value is None:
        return "–"
    return num.number(value, 2) + ("" if error is None else f" (± {error:.2f})")


def _show_histogram(console: Console, survey: MeasureSurvey, number: Wanted) -> None:
    """Every row is in a bin: those asked for, or equal ones and an open one at either end."""
    found = survey.histogram(number, within=20)
    total = sum(found.counts) + found.below + found.above
    first, last = (0, len(found.counts) - 1) if number else middle_bins(found.counts)
    rows = [
        (_edge(survey, found.edges[i]), _edge(survey, found.edges[i + 1]), found.counts[i])
        for i in range(first, last + 1)
    ]
    below = found.below + sum(found.counts[:first])
    above = found.above + sum(found.counts[last + 1 :])
    if below:
        rows.insert(0, ("below", rows[0][0], below))
    if above:
        rows.append((rows[-1][1], "and above", above))
    most = max(max(count for *_, count in rows), 1)
    table = open_table(
        [("from", "right"), ("to", "right"), ("rows", "right"), ("share", "right"), ("", "left")]
    )
    for low, high, count in rows:
        bar = Text(_bar(count / most), style=STONE if "below" in low or "and" in high else SEA)
        table.add_row(low, high, num.count(count), num.percent(count / total), bar)
    console.print(table)


def _edge(survey: MeasureSurvey, edge: Fraction) -> str:
    exact = Decimal(edge.numerator) / edge.denominator
    return num.amount(round(exact, survey.scale), survey.scale)


def _bar(share: float) -> str:
    eighths = round(share * BAR * 8)
    return "█" * (eighths // 8) + ("▏▎▍▌▋▊▉"[eighths % 8 - 1] if eighths % 8 else "")


def _show_stem(console: Console, survey: MeasureSurvey) -> None:
    """Rows of digits, with one of them read aloud, and what lies beyond them."""
    found = stem_and_leaf(survey.values, survey.counts, survey.scale)
    unit = Decimal(found.leaf.numerator) / found.leaf.denominator
    width = max(len(str(s)) for s, _ in found.rows) + 1
    for s, leaves in found.rows:
        console.print(Text(f" {s:>{width}} ╎ {leaves}".replace("-", num.MINUS)))
    stem, leaves = max(found.rows, key=lambda row: len(row[1]))
    if leaves:
        value = num.amount((10 * stem + int(leaves[0])) * unit, survey.scale)
        text = (
            f" read {stem} ╎ {leaves[0]} as {value} and up to {num.amount(unit, survey.scale)} more"
        )
        text += (
            f"; a digit stands for {found.each:,} rows" if found.each > 1 else "; a digit is a row"
        )
        console.print(Text(text.replace("-", num.MINUS), style=STONE))
    if found.below or found.above:
        beyond = f" beyond the digits: {found.below:,} rows below and {found.above:,} above"
        console.print(Text(beyond, style=STONE))


def _show_extremes(console: Console, survey: MeasureSurvey) -> None:
    table = open_table([("highest", "left"), ("", "right"), ("lowest", "left"), ("", "right")])
    for high, low in zip(survey.highest, survey.lowest, strict=True):
        cells = []
        for row in (high, low):
            cells += [
                str(row["id"] or f"{row['file']} line {row['line']}"),
                num.amount(row["amount"]),
            ]
        table.add_row(" " + cells[0], *cells[1:])
    console.print(table)


def _show_groups(console: Console, survey: MeasureSurvey) -> None:
    names = ("n", "sum", "mean", "median", "s", "Q1", "Q3", "least", "greatest")
    table = open_table([("group", "flex"), *((name, "right") for name in names)])
    for key, d in survey.groups[:MOST_GROUPS]:
        figures = (
            d.mean,
            d.median,
            d.sd,
            d.percentiles[25],
            d.percentiles[75],
            d.least,
            d.greatest,
        )
        table.add_row(
            f" {num.group_name(key)}", num.count(d.n),
            num.amount(Decimal(d.total.numerator) / d.total.denominator, survey.scale),
            *(num.number(None if v is None else float(v), survey.scale) for v in figures),
        )  # fmt: skip
    console.print(table)
    if len(survey.groups) > MOST_GROUPS:
        more = num.many(len(survey.groups) - MOST_GROUPS, "group")
        console.print(Text(f" … and {more} more", style=STONE))


def show_pairs(console: Console, table: str, found: Sequence[Correlation]) -> None:
    """Pearson's r of every two measures, each with its n and p, and the correlation of their ranks."""
    title(console, f"{table} · correlation of {num.many(len(found), 'pair')}")
    grouped = any(c.group for c in found)
    shown = open_table(
        [
            *([("group", "left")] if grouped else []), ("measure", "left"), ("with", "left"), ("n", "right"),
            ("r", "right"), ("adj. p", "right"), ("rank", "right"), ("", "left"),
        ]
    )  # fmt: skip
    ordered = sorted(found, key=lambda c: -abs(c.r or 0))
    for c in ordered[:MOST_PAIRS]:
        bar = "" if c.r is None else _bar(abs(c.r) / 2)
        group = [f" {num.group_name(c.group)}"] if grouped else []
        shown.add_row(
            *group, c.first if grouped else f" {c.first}", c.second, num.count(c.n), num.signed(c.r, 3),
            num.p_value(c.p_adjusted), num.signed(c.rho, 3), Text(bar, style=SEA),
        )  # fmt: skip
    console.print(shown)
    if len(found) > MOST_PAIRS:
        rest = f" … and {len(found) - MOST_PAIRS:,} more; all of them with --out FILE.csv"
        console.print(Text(rest, style=STONE))
    console.print()
    tested = sum(c.p is not None for c in found)
    console.print(
        Text(
            f" {num.many(tested, 'pair')} tested, p adjusted for so many; it supposes rows that do not depend on one "
            "another"
        )
    )
    if found:
        best = max(found, key=lambda c: abs(c.r or 0))
        next_steps(
            console, [f'sabueso try distance {table} --measures "{best.first},{best.second}"']
        )


def _value(value: Any, column: Column) -> str:
    if isinstance(value, Decimal) and not names_period(column.name):
        return num.amount(value, 0)
    return "–" if value is None else str(value)
