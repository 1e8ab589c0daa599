"""The population described: tables and links, columns, measures, pairs."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Json, plain
from sabueso.case.events import RuleOutcome
from sabueso.case.folder import Case
from sabueso.case.judging import latest_rules
from sabueso.case.linking import keep_links, new_links
from sabueso.commands.interface import Answer, Data
from sabueso.population.links import links
from sabueso.population.pairs import correlations
from sabueso.population.population import Population, TooLargeError
from sabueso.population.survey import (
    MeasureSurvey,
    Wanted,
    survey_columns,
    survey_measure,
    table_doubts,
)
from sabueso.population.trees import trees
from sabueso.report.blocks import Suit
from sabueso.screens import proposed

if TYPE_CHECKING:
    from rich.console import Console

FIGURES = (".png", ".svg")
MOST_BINS = 10_000


def survey(
    case: Case,
    table: str | None = None,
    columns: Sequence[str] = (),
    *,
    where: str | None = None,
    by: Sequence[str] = (),
    pairs: bool = False,
    stem: bool = False,
    bins: int | None = None,
    edges: Sequence[Decimal] = (),
    keep: bool = False,
) -> Answer[Any]:
    """Describe the tables of the case and their links; a table's columns; its measures.

    Parameters
    ----------
    table : str, optional
        One table; all of them without one.
    columns : sequence of str
        Measures to describe, maybe within the groups ``by``.
    pairs : bool
        The correlation of every two measures.
    stem, bins, edges
        A stem-and-leaf in the place of the histogram, its number of bins, or the edges between them.
    keep : bool
        Write the links found to the plan.

    Raises
    ------
    UserError
        If there is no such table or column, or it holds no numbers.
    """
    if bins is not None and not 1 <= bins <= MOST_BINS:
        raise UserError(f"--bins {bins}: expected 1 to {MOST_BINS:,}")
    if edges and (len(edges) < 2 or list(edges) != sorted(set(edges))):
        raise UserError("--edges: expected two amounts or more that rise")
    if edges and bins is not None:
        raise UserError("--bins says how many, --edges where: give one of them")
    wanted: Wanted = tuple(edges) or bins
    _check_obeyed(
        "tables as a whole" if table is None else "pairs" if pairs else "columns of a table",
        {
            "--where": where,
            "--by": by,
            "--stem": stem,
            "--bins": bins,
            "--edges": edges,
            "--pairs": pairs,
        },
        () if table is None else ("--where", "--pairs", "--by") if pairs else ("--where",),
        measured=bool(columns) and not pairs,
    )
    if keep and table is not None:
        raise UserError("--keep-links goes with all tables: sabueso survey --keep-links")
    if columns and not pairs and by and (stem or wanted is not None):
        raise UserError("--stem, --bins and --edges describe one population: leave --by out")
    if table is None:
        return _tables(case, keep=keep)
    with case.populations(table) as opened:
        rows = opened(table, where)
        if pairs:
            return _pairs(rows, columns, by)
        if columns:
            return _measures(rows, columns, by, stem=stem, bins=wanted)
        return _columns(rows, latest_rules(case, case.plan.base_of(table)))


def _check_obeyed(
    what: str, given: Mapping[str, object], obeyed: Sequence[str], *, measured: bool
) -> None:
    """Refuse options that would not be obeyed; all of them are where measures are described."""
    if measured:
        return
    for option, value in given.items():
        if value and option not in obeyed:
            raise UserError(
                f"{option} does not go with a survey of {what}: name a table and a measure"
            )


def _tables(case: Case, *, keep: bool) -> Answer[Any]:
    names = [name for name in case.plan.tables if case.sources(name)]
    if not names:
        raise UserError(
            "the case has no table yet; take files in with: sabueso intake PATH --as TABLE"
        )
    with case.populations(*names) as population:
        every = [population(name) for name in names]
        found = [_table(p) for p in every]
        between = links(every)
    kept = keep_links(case, between) if keep else []
    more = bool(new_links(case, between))
    own = case.currencies(t["table"] for t in found if t["total"] is not None)

    def show(console: Console) -> None:
        from sabueso.show.survey import show_tables

        show_tables(console, found, between, own, kept, more)

    def data() -> Data:
        from sabueso.show.survey_sheets import table_sheets

        linked = [{**vars(link), "share": link.share} for link in between]
        return Data({"tables": found, "links": linked}, table_sheets(found, between))

    return Answer(found, show, data)


def _table(p: Population) -> Json:
    columns = survey_columns(p)
    account = p.account(p.table.role("amount"))
    return {
        "table": p.table.name,
        "rows": account.rows,
        "columns": len(columns),
        "first_date": account.first_date,
        "last_date": account.last_date,
        "total": None if account.total is None else format(account.total, "f"),
        "roles": p.table.roles,
        "doubts": [text for _, text in table_doubts(p)]
        + [f"{c.column.name} {text}" for c in columns for _, text in c.doubts],
    }


def _columns(rows: Population, rules: list[RuleOutcome]) -> Answer[Any]:
    columns, doubts = survey_columns(rows), table_doubts(rows)
    amount = rows.table.role("amount")
    fitting: list[Suit] = []
    with suppress(TooLargeError):  # a doubt of the column says why no test is told to suit
        described = None if amount is None else survey_measure(rows, None)
        groups = described.groups if isinstance(described, MeasureSurvey) else []
        fitting = proposed(rows, groups[0][1] if groups else None)
    account = rows.account(amount)
    found_trees = trees(rows)

    def show(console: Console) -> None:
        from sabueso.show.survey import show_columns

        show_columns(
            console, rows.table, columns, doubts, rules, fitting, amount, account, found_trees
        )

    def data() -> Data:
        from sabueso.show.survey_sheets import column_sheets

        content = {
            "table": rows.table.name,
            "population": account.as_json(),
            "columns": [c.as_json() for c in columns],
            "doubts": [{"code": code, "text": text} for code, text in doubts],
            "rules": [rule.as_json() for rule in rules],
            "tests": [vars(s) for s in fitting],
            "trees": [list(tree) for tree in found_trees],
        }
        return Data(content, column_sheets(columns, fitting))

    return Answer(columns, show, data)


def _measures(
    rows: Population, names: Sequence[str], by: Sequence[str], *, stem: bool, bins: Wanted
) -> Answer[list[MeasureSurvey]]:
    found = []
    for name in names:
        described = survey_measure(rows, name, list(by))
        if isinstance(described, str):
            raise UserError(described)
        found.append(described)

    def show(console: Console) -> None:
        from sabueso.show.survey import show_measure

        for each in found:
            show_measure(
                console, each, stem=stem, number=bins, dated=rows.table.dated() is not None
            )

    def data() -> Data:
        from sabueso.show.survey_sheets import measure_sheet

        return Data([each.as_json(bins) for each in found], [measure_sheet(found)])

    def picture(path: Path) -> bytes:
        from sabueso.show.survey_figure import draw_measure

        return draw_measure(found[0], path.suffix[1:].lower(), bins)

    return Answer(found, show, data, files=_drawn(picture))


def _pairs(rows: Population, columns: Sequence[str], by: Sequence[str]) -> Answer[Any]:
    names = list(columns) or [c.name for c in rows.table.numbers]
    if len(names) < 2:
        raise UserError(f"table {rows.table.name!r} has {len(names)} measures; a pair needs two")
    found = correlations(rows, names, by)

    def show(console: Console) -> None:
        from sabueso.show.survey import show_pairs

        show_pairs(console, rows.table.name, found)

    def data() -> Data:
        from sabueso.show.survey_sheets import pair_sheet

        return Data([plain(c) for c in found], [pair_sheet(found)])

    def picture(path: Path) -> bytes:
        from sabueso.show.survey_figure import draw_pairs

        if by:
            raise UserError(
                "--pairs is drawn of one population: leave --by out, or choose a group with --where"
            )
        return draw_pairs(found, path.suffix[1:].lower())

    return Answer(found, show, data, files=_drawn(picture))


def _drawn(picture: Callable[[Path], bytes]) -> dict[str, Callable[[Path], bytes]]:
    return dict.fromkeys(FIGURES, picture)
