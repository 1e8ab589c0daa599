"""An intake as terminal text: what was detected, what became of every line, and the sums."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from decimal import Decimal

from rich.console import Console
from rich.text import Text

from sabueso.base.words import first_few, listed
from sabueso.case.events import RuleOutcome
from sabueso.case.taken import TakeReport
from sabueso.intake.interface import Assumed, FileReport, TotalsLine
from sabueso.population.expressions import quoted_name
from sabueso.report import numbers as num
from sabueso.report.commands import shell
from sabueso.report.palette import AMBER, SEA, STONE
from sabueso.show.console import next_steps, notes, open_table, said, title
from sabueso.show.rules import show_rules


def show_intake(console: Console, report: TakeReport) -> None:
    """Print the report of an intake."""
    files = num.many(len(report.files), "file")
    done = "attached" if report.attached else "taken in" if report.kept else "read, nothing kept"
    title(console, f"{report.table} · {files} {done}")
    for known in report.known:
        console.print(
            Text(
                f" {known.file} was taken in before ({known.at}), SHA-256 {known.sha256[:12]}…: left alone"
            )
        )
    if not report.files:
        console.print(Text(" nothing new"))
        return
    if report.known:
        console.print()
    _show_detected(console, report)
    _show_files(console, report)
    _show_damaged(console, report)
    _show_rules(console, report)
    _show_totals(console, report)
    for file in report.files:
        plain = (note for note in file.notes if not isinstance(note, Assumed))
        notes(console, "note", (f"{file.file}: {note}" for note in plain))
    _show_signed(console, report)
    console.print()
    _show_controls(console, report)
    _show_reconciliation(console, report)
    show_assumed(console, [report])
    if report.plan:
        console.print()
        said(console, " the table's part of case.toml, as found:")
        console.print()
        for line in report.plan.splitlines():
            console.print(Text(line), soft_wrap=True)
        console.print()
    if report.kept:
        steps = [f"sabueso dig {report.table}{_looked_at(report)}"]
        if report.amount is not None:
            steps.append(f"sabueso try digits {report.table}")
    else:
        steps = [f"sabueso intake PATH --as {report.table}"]
    next_steps(console, steps)


def _looked_at(report: TakeReport) -> str:
    """How a table is looked at first: by month, else by whom or what its amounts are."""
    if report.amount is None:
        return " --by month --measure count" if "date" in report.roles else " --measure count"
    if "date" in report.roles:
        return " --by month"
    groups = (
        report.roles[role] for role in ("account", "party", "preparer") if role in report.roles
    )
    name = next(groups, None)
    if name is None:
        return ""
    return f" --by {shell(quoted_name(name))}"


def show_changes(console: Console, report: TakeReport) -> None:
    """Print what a new reading of a table's files changes."""
    title(console, f"{report.table} · {num.many(len(report.files), 'file')} read again")
    if not report.changes:
        console.print(Text(" nothing differs from what was taken in"))
        return
    table = open_table([("figure", "flex"), ("before", "right"), ("now", "right")])
    for change in report.changes:
        table.add_row(" " + change.what, change.before, change.after)
    console.print(table)


def show_again(console: Console, report: TakeReport) -> None:
    """Print what came of reading a table's files again."""
    if not report.kept:
        show_changes(console, report)
        if report.changes:
            console.print()
            console.print(Text(" nothing was kept"))
            next_steps(console, [f"sabueso intake --as {report.table} --again --yes"])
        return
    show_changes(console, report)
    console.print()
    show_intake(console, report)


MOST_ASSUMED, MOST_NAMED = 20, 4
"""Assumptions that are shown, and tables that are named of one."""


def show_assumed(console: Console, reports: Sequence[TakeReport]) -> None:
    """Print what was assumed, that which touches the most money first, and the key that says otherwise.

    What is assumed of several tables by one key of the case is one line of theirs.
    """
    of_case: dict[str, list[tuple[str, Decimal]]] = {}
    keys: dict[str, str] = {}
    told: list[tuple[str, Decimal, str]] = []
    for report in reports:
        whole = len(report.files)
        for each, money, files in report.assumed:
            some = "" if files == whole else f" (in {num.many(files, 'file')} of {whole:,})"
            if each.key.startswith("case."):
                of_case.setdefault(f"{each}{some}", []).append((report.table, money))
                keys[f"{each}{some}"] = each.key
            else:
                told.append((f"{each}{some}", money, f"tables.{report.table}.{each.key}"))
    for said_, tables in of_case.items():
        tables.sort(key=lambda item: -item[1])
        # Of several tables a key of the case does not tell whose amounts are meant.
        names = [table for table, _ in tables]
        named = listed(names) if len(names) <= MOST_NAMED else first_few(names, MOST_NAMED)
        whose = f"{named}: " if len(reports) > 1 else ""
        money = sum((money for _, money in tables), Decimal(0))
        told.append((f"{whose}{said_}", money, keys[said_]))
    if not told:
        return
    told.sort(key=lambda item: -item[1])
    console.print()
    shown = open_table(
        [("assumed", "wrap"), ("money touched", "right"), ("say otherwise in case.toml", "left")]
    )
    for text, money, key in told[:MOST_ASSUMED]:
        shown.add_row(f" {text}", num.amount(money) if money else "–", key)
    console.print(shown)
    if len(told) > MOST_ASSUMED:
        console.print(Text(f" and {len(told) - MOST_ASSUMED:,} more: --format json", style=STONE))


def _show_signed(console: Console, report: TakeReport) -> None:
    """A few rows whose amount got its sign from another column."""
    rows = next((file.signed for file in report.files if file.signed), [])
    if not rows:
        return
    names = [name for name in rows[0] if name != "line"]
    console.print()
    table = open_table([("line", "right"), *((name, "right") for name in names)])
    for row in rows:
        table.add_row(
            row["line"] or "", *(row[name] or "" for name in names[:-1]), _signed(row[names[-1]])
        )
    console.print(table)


def _signed(amount: str | None) -> str:
    return "" if amount is None else num.amount(Decimal(amount))


MOST_COLUMNS, FEW_ALIKE = 60, 5
"""Columns that are shown, and further ones where no more than so many are read as they are."""


def _show_detected(console: Console, report: TakeReport) -> None:
    first = report.files[0]
    form = ", ".join(
        f"{key} {value}" for key, value in first.detected.items() if not key.startswith("column ")
    )
    console.print(Text(f" read as {form}"))
    odd = [f for f in report.files if f.detected != first.detected]
    if odd:
        for file in odd[:5]:
            named = ", ".join(
                f"{key.removeprefix('column ')} {value}"
                for key, value in file.detected.items()
                if first.detected.get(key) != value
            )
            console.print(Text(f" {file.file} as {named}"))
        if len(odd) > 5:
            console.print(Text(f" and {len(odd) - 5} more files otherwise", style=STONE))
    roles = {column: role for role, column in report.roles.items()}
    table = open_table([("column", "flex"), ("read as", "flex"), ("role", "left")])
    columns = [(c.name, first.detected.get(f"column {c.name}", "")) for c in first.columns if not c.is_place]  # fmt: skip
    # Of a wide table those that are something, and the first of those that are like others.
    told, like = columns, Counter(shown for _, shown in columns)
    if len(columns) > MOST_COLUMNS:
        later = [
            (name, shown)
            for name, shown in columns[MOST_COLUMNS:]
            if name in roles or like[shown] <= FEW_ALIKE
        ]
        told = [*columns[:MOST_COLUMNS], *later]
    for name, shown in told:
        table.add_row(" " + name, shown, Text(roles.get(name, ""), style=SEA))
    console.print()
    console.print(table)
    if len(told) < len(columns):
        rest = like - Counter(shown for _, shown in told)
        kinds = ", ".join(f"{n:,} {shown}" for shown, n in rest.most_common())
        said = f" and {rest.total():,} columns more: {kinds}; all with --format json"
        console.print(Text(said, style=STONE))
    console.print()


def _show_files(console: Console, report: TakeReport) -> None:
    amount = report.amount
    head = [
        ("file", "flex"),
        (f"{_unit(report)} read", "right"),
        ("accepted", "right"),
        ("quarantined", "right"),
    ]
    head += [("totals", "right"), ("blank", "right")]
    if amount:
        head.append((amount, "right"))
    table = open_table(head)
    files = report.files
    shown = (
        files
        if len(files) <= 12
        else [*files[:4], *(f for f in files[4:-2] if _odd(f)), *files[-2:]]
    )
    for f in shown:
        cells = [f.read, f.accepted, f.quarantined, f.totals, f.blank]
        style = AMBER if f.quarantined else ""
        row = [Text(f" {f.file}" + (" (replaces)" if f.replaces else ""))] + [
            Text(num.count(c), style=style if i == 2 else "") for i, c in enumerate(cells)
        ]
        if amount:
            row.append(Text(num.amount(f.sums.get(amount, Decimal(0)))))
        table.add_row(*row)
    if len(shown) < len(files):
        table.add_row(Text(f" … {len(files) - len(shown)} more, without quarantine", style=STONE))
    sums = [report.total(n) for n in ("read", "accepted", "quarantined", "totals", "blank")]
    last = [num.amount(report.amount_sum)] if amount else []
    table.add_row(" in all", *(num.count(s) for s in sums), *last, style="bold")
    console.print(table)


def _unit(report: TakeReport) -> str:
    """What was counted: lines, or what the format has instead."""
    units = {file.unit for file in report.files}
    return units.pop() if len(units) == 1 else "lines"


def _place(name: str, t: TotalsLine) -> str:
    return f"{name} line {t.line}" if t.line else f"{name}, {t.what}"


def _odd(file: FileReport) -> bool:
    return bool(file.quarantined) or not file.reconciled


def _show_damaged(console: Console, report: TakeReport) -> None:
    damaged = [(f.file, d) for f in report.files for d in f.damaged]
    if not damaged:
        return
    console.print()
    table = open_table(
        [("quarantined", "flex"), ("line", "right"), ("column", "flex"), ("reason", "wrap")]
    )
    for name, d in damaged[:12]:
        value = f"{d.value!r}: " if d.value else ""
        table.add_row(" " + name, num.count(d.line), d.column, value + d.reason)
    console.print(table)
    if len(damaged) > 12:
        console.print(
            Text(f" … and {len(damaged) - 12:,} more, in quarantine/{report.table}/", style=STONE)
        )


def _show_rules(console: Console, report: TakeReport) -> None:
    if not report.rules:
        return
    console.print()
    amounts = report.amount is not None
    show_rules(console, [RuleOutcome.of(rule.as_json()) for rule in report.rules], amounts=amounts)
    if report.kept and any(rule.left for rule in report.rules):
        where = f"quarantine/{report.table}/marked-….csv"
        console.print(Text(f" the rows marked are listed in {where}", style=STONE))


def _show_totals(console: Console, report: TakeReport) -> None:
    """The client's totals lines against the rows above them."""
    lines = [(f.file, t) for f in report.files for t in f.totals_lines]
    if not lines:
        return
    console.print()
    agree = [t for _, t in lines if t.agrees and not t.quarantined]
    what = "totals lines" if all(t.line for _, t in lines) else "stated totals"
    console.print(Text(f" {what} that equal the rows accepted: {len(agree):,} of {len(lines):,}"))
    for name, t in lines:
        if t.agrees and t.quarantined:
            text = (
                f" {_place(name, t)}: {t.column} {num.amount(t.stated)} equals accepted "
                f"{num.amount(t.accepted)}"
            )
            if t.stated != t.accepted:
                text += f" + quarantined {num.amount(t.quarantined)}"
            console.print(Text(text))
    for text in unequal_totals(report):
        console.print(Text(" " + text, style=AMBER))


def unequal_totals(report: TakeReport) -> Iterator[str]:
    """The client's totals lines that the rows do not add up to, each with the difference."""
    for name, t in ((f.file, t) for f in report.files for t in f.totals_lines if not t.agrees):
        text = (
            f"{_place(name, t)}: {t.column} stated {num.amount(t.stated)}, rows accepted "
            f"{num.amount(t.accepted)}, difference {num.amount(t.stated - t.accepted)}"
        )
        if t.quarantined:
            text += f" (quarantined rows with a readable amount: {num.amount(t.quarantined)})"
        yield text


def _show_controls(console: Console, report: TakeReport) -> None:
    """The control figures of the plan beside what was taken in."""
    for c in report.controls:
        show = num.amount if c.figure == "sum" else (lambda v: num.count(int(v)))
        text = f" control of {c.of}: {c.figure} stated {show(c.stated)}, "
        if c.agrees:
            console.print(Text(f"{text}the same found"))
        else:
            gap = f"found {show(c.found)}, difference {show(c.stated - c.found)}"
            console.print(Text(text + gap, style=AMBER))


def _show_reconciliation(console: Console, report: TakeReport) -> None:
    t = report.total
    console.print(
        Text(
            f" {_unit(report)} read {t('read'):,} = accepted {t('accepted'):,} + quarantined {t('quarantined'):,} "
            f"+ totals {t('totals'):,} + blank {t('blank'):,}"
        )
    )
    header = sum(f.header_lines for f in report.files)
    extra = f" + continued {t('continued'):,}" if t("continued") else ""
    console.print(
        Text(
            f" {_unit(report)} in the files {t('lines'):,} = read {t('read'):,} + header {header:,}{extra}",
            style=STONE,
        )
    )
    if report.amount is not None:
        unit = f" {report.currency}" if report.currency else ""
        again = ", the same read back from the case" if report.kept and not report.attached else ""
        console.print(Text(f" sum of {report.amount} {num.amount(report.amount_sum)}{unit}{again}"))
