"""``sabueso survey``."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from sabueso.case.folder import Case
from sabueso.cli.common import case_option, check_out, emit_json
from sabueso.errors import UserError

EXAMPLES = (
    "sabueso survey",
    "sabueso survey payments",
    "sabueso survey payments importe --by cuenta",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument(
        "table", nargs="?", metavar="TABLE", help="one table (default: all of them)"
    )
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
    parser.add_argument("--format", choices=("text", "json"), default="text")
    parser.add_argument("--out", type=Path, metavar="FILE", help="write a figure: .png .svg")


def run(args: argparse.Namespace) -> int:
    check_out(args.out, (".png", ".svg"))
    if args.bins is not None and args.bins < 1:
        raise UserError(f"--bins {args.bins}: expected at least 1")
    if args.out is not None and not args.columns:
        raise UserError("--out draws a measure: name its column after the table")
    case = Case.find(args.case)
    try:
        if args.table is None:
            return _tables(case, args)
        with case.populations(args.table) as population:
            rows = population(args.table, args.where)
            if args.pairs:
                return _pairs(rows, args)
            if args.columns:
                return _measures(rows, args)
            return _columns(rows, args)
    finally:
        case.close()


def _tables(case: Case, args: argparse.Namespace) -> int:
    from sabueso.case.linking import keep_links
    from sabueso.population.survey import links, survey_columns, table_doubts, total_of

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
    if args.format == "json":
        linked = [{**vars(link), "share": link.share} for link in between]
        emit_json({"tables": found, "links": linked})
        return 0
    from sabueso.show.console import make_console
    from sabueso.show.survey import show_tables

    show_tables(make_console(), found, between, case.plan.case.currency, kept)
    return 0


def _columns(rows: Any, args: argparse.Namespace) -> int:
    from sabueso.population.survey import survey_columns, survey_measure, table_doubts
    from sabueso.screens.suits import suits

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
    if args.format == "json":
        emit_json(
            {
                "table": rows.table.name,
                "columns": [c.as_json() for c in columns],
                "doubts": [{"code": code, "text": text} for code, text in doubts],
                "tests": [vars(s) for s in fitting],
            }
        )
        return 0
    from sabueso.show.console import make_console
    from sabueso.show.survey import show_columns

    name = amount.name if amount else None
    show_columns(make_console(), rows.table, columns, doubts, fitting, name)
    return 0


def _measures(rows: Any, args: argparse.Namespace) -> int:
    from sabueso.population.expressions import split_list
    from sabueso.population.survey import survey_measure

    found = []
    for name in args.columns:
        survey = survey_measure(rows, name, split_list(args.by))
        if isinstance(survey, str):
            raise UserError(survey)
        found.append(survey)
    if args.out is not None:
        from sabueso.case.files import write_whole
        from sabueso.show.survey_figure import draw_measure

        write_whole(args.out, draw_measure(found[0], args.out.suffix[1:].lower(), args.bins))
    if args.format == "json":
        emit_json([survey.as_json(args.bins) for survey in found])
        return 0
    from sabueso.show.console import make_console
    from sabueso.show.survey import show_measure

    console = make_console()
    for survey in found:
        show_measure(console, survey, stem=args.stem, number=args.bins)
    return 0


def _pairs(rows: Any, args: argparse.Namespace) -> int:
    from sabueso.population.survey import correlations

    names = args.columns or [
        c.name for c in rows.table.columns if c.type == "number" and not c.name.startswith("_")
    ]
    if len(names) < 2:
        raise UserError(f"table {rows.table.name!r} has {len(names)} measures; a pair needs two")
    found = correlations(rows, names)
    if args.format == "json":
        emit_json([vars(c) for c in found])
        return 0
    from sabueso.show.console import make_console
    from sabueso.show.survey import show_pairs

    show_pairs(make_console(), rows.table.name, found)
    return 0
