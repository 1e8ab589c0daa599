"""``sabueso survey``."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from typing import Any

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.cli import words
from sabueso.cli.common import (
    case_of,
    case_option,
    check_out,
    emit_result,
    output_options,
    write_out,
)

EXAMPLES = (
    "sabueso survey",
    "sabueso survey payments",
    "sabueso survey payments importe --by cuenta",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    table = parser.add_argument(
        "table", nargs="?", metavar="TABLE", help="one table (default: all of them)"
    )
    words.completed(table, words.tables)
    parser.add_argument("columns", nargs="*", metavar="COLUMN", help="measures to describe")
    parser.add_argument("--where", metavar="SQL", help="only rows that meet a condition")
    parser.add_argument("--by", default="", metavar="COLUMN[,…]", help="describe each group")
    parser.add_argument("--stem", action="store_true", help="a stem-and-leaf, not a histogram")
    parser.add_argument("--bins", type=int, metavar="N", help="bins of the histogram")
    parser.add_argument("--pairs", action="store_true", help="correlation of every two measures")
    parser.add_argument(
        "--keep-links",
        action="store_true",
        help="write the links found to case.toml, to be used as column.other in --by and --where",
    )
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json, and of a measure or of --pairs .png .svg")


def run(args: argparse.Namespace) -> int:
    from sabueso.show.export import DATA, FIGURES

    drawn = bool(args.columns) or args.pairs
    check_out(args, (*DATA, *FIGURES))
    if args.out is not None and args.out.suffix.lower() in FIGURES and not drawn:
        raise UserError(f"--out {args.out} draws a measure: name its column after the table")
    if args.bins is not None and args.bins < 1:
        raise UserError(f"--bins {args.bins}: expected at least 1")
    from sabueso.case.judging import latest_rules

    case = case_of(args)
    try:
        if args.table is None:
            return _tables(case, args)
        with case.populations(args.table) as population:
            rows = population(args.table, args.where)
            if args.pairs:
                return _pairs(rows, args)
            if args.columns:
                return _measures(rows, args)
            return _columns(rows, args, latest_rules(case, args.table))
    finally:
        case.close()


def _draw(args: argparse.Namespace, picture: Callable[[str], bytes]) -> None:
    from sabueso.show.export import FIGURES

    if args.out is not None and args.out.suffix.lower() in FIGURES:
        write_out(args, picture(args.out.suffix[1:].lower()))


def _tables(case: Case, args: argparse.Namespace) -> int:
    from sabueso.case.linking import keep_links, new_links
    from sabueso.population.links import links
    from sabueso.population.survey import survey_columns, table_doubts, total_of
    from sabueso.show.survey_sheets import table_sheets

    names = [name for name in case.plan.tables if case.sources(name)]
    if not names:
        raise UserError(
            "the case has no table yet; take files in with: sabueso intake PATH --as TABLE"
        )
    with case.populations(*names) as population:
        every = [population(name) for name in names]
        found: list[dict[str, Any]] = []
        for p in every:
            columns = survey_columns(p)
            account = p.account(None)
            total = total_of(p)
            found.append(
                {
                    "table": p.table.name,
                    "rows": account.rows,
                    "columns": len(columns),
                    "first_date": account.first_date,
                    "last_date": account.last_date,
                    "total": None if total is None else format(total, "f"),
                    "roles": p.table.roles,
                    "doubts": [text for _, text in table_doubts(p)]
                    + [f"{c.column.name} {text}" for c in columns for _, text in c.doubts],
                }
            )
        between = links(every)
    kept = keep_links(case, between) if args.keep_links else []
    linked = [{**vars(link), "share": link.share} for link in between]
    if emit_result(args, table_sheets(found, between), {"tables": found, "links": linked}):
        return 0
    from sabueso.show.console import make_console
    from sabueso.show.survey import show_tables

    more = bool(new_links(case, between))
    show_tables(make_console(), found, between, case.plan.case.currency, kept, more)
    return 0


def _columns(rows: Any, args: argparse.Namespace, rules: list[dict[str, Any]]) -> int:
    from sabueso.population.survey import survey_columns, survey_measure, table_doubts
    from sabueso.screens.suits import suits
    from sabueso.show.survey_sheets import column_sheets

    columns = survey_columns(rows)
    doubts = table_doubts(rows)
    amount = rows.table.role("amount")
    described = None if amount is None else survey_measure(rows, None)
    figures = (
        described.groups[0][1]
        if described and not isinstance(described, str) and described.groups
        else None
    )
    fitting = suits(rows, figures)
    account = rows.account(amount)
    content = {
        "table": rows.table.name,
        "population": account.as_json(),
        "columns": [c.as_json() for c in columns],
        "doubts": [{"code": code, "text": text} for code, text in doubts],
        "rules": rules,
        "tests": [vars(s) for s in fitting],
    }
    if emit_result(args, column_sheets(columns, fitting), content):
        return 0
    from sabueso.show.console import make_console
    from sabueso.show.survey import show_columns

    show_columns(make_console(), rows.table, columns, doubts, rules, fitting, amount, account)
    return 0


def _measures(rows: Any, args: argparse.Namespace) -> int:
    from sabueso.population.expressions import split_list
    from sabueso.population.survey import survey_measure
    from sabueso.show.survey_figure import draw_measure
    from sabueso.show.survey_sheets import measure_sheet

    found = []
    for name in args.columns:
        survey = survey_measure(rows, name, split_list(args.by))
        if isinstance(survey, str):
            raise UserError(survey)
        found.append(survey)
    _draw(args, lambda form: draw_measure(found[0], form, args.bins))
    if emit_result(args, [measure_sheet(found)], [s.as_json(args.bins) for s in found]):
        return 0
    from sabueso.show.console import make_console
    from sabueso.show.survey import show_measure

    console = make_console()
    for survey in found:
        show_measure(console, survey, stem=args.stem, number=args.bins)
    return 0


def _pairs(rows: Any, args: argparse.Namespace) -> int:
    from sabueso.population.survey import correlations
    from sabueso.show.survey_figure import draw_pairs
    from sabueso.show.survey_sheets import pair_sheet

    names = args.columns or [
        c.name for c in rows.table.columns if c.type == "number" and not c.is_place
    ]
    if len(names) < 2:
        raise UserError(f"table {rows.table.name!r} has {len(names)} measures; a pair needs two")
    found = correlations(rows, names)
    _draw(args, lambda form: draw_pairs(found, form))
    if emit_result(args, [pair_sheet(found)], [vars(c) for c in found]):
        return 0
    from sabueso.show.console import make_console
    from sabueso.show.survey import show_pairs

    show_pairs(make_console(), rows.table.name, found)
    return 0
