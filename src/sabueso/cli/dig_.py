"""``sabueso dig``."""

from __future__ import annotations

import argparse

from sabueso.cli import words
from sabueso.cli.common import answered, case_option, output_options

EXAMPLES = (
    "sabueso dig payments --by account,party",
    'sabueso dig payments --by party --measures "sum(importe),count(*),count(distinct cuenta),share"',
    "sabueso dig journal --where \"account = '62840'\" --by text --across month",
    'sabueso dig payments --by "band(importe, 0, 100, 1000, 10000)" --across weekday',
    'sabueso dig payments --by party --having "count(*) = 1" --sort "importe desc"',
    'sabueso dig payments --where "first_two(amount) = 49" --rows',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    what = parser.add_argument(
        "what", metavar="TABLE|EXCEPTION|@VIEW", help="a table, an exception's id, or @ and a view"
    )
    words.completed(what, words.tables_and_exceptions)
    parser.add_argument("--where", metavar="SQL", help="condition that rows must meet")
    groups = parser.add_argument_group("groups")
    groups.add_argument("--by", metavar="COLUMN[,…]", help="groups, and groups within them")
    groups.add_argument(
        "--across",
        metavar="COLUMN",
        help="a column, year, quarter, month, weekday or hour as columns",
    )
    groups.add_argument(
        "--measures", metavar="FIGURE[,…]",
        help="figures of each group: sum(…), count(*), count(distinct …), avg, min, max, median, stddev, share",
    )  # fmt: skip
    groups.add_argument("--on", metavar="COLUMN", help="the one measure (default: role amount)")
    groups.add_argument("--measure", choices=("sum", "count", "mean", "min", "max"), default="sum")
    groups.add_argument(
        "--having", metavar="SQL", help='condition on the narrowest groups, such as "count(*) > 10"'
    )
    groups.add_argument(
        "--sort",
        metavar="WHAT",
        help="a measure, rows, a group or a column; with asc or desc behind it",
    )
    groups.add_argument("--keep", metavar="NAME", help="put the view into case.toml")
    rows = parser.add_argument_group("rows")
    rows.add_argument("--rows", action="store_true", help="the rows themselves, largest first")
    rows.add_argument("--columns", metavar="COLUMN[,…]", help="these columns of the rows")
    rows.add_argument("--tall", action="store_true", help="whole rows, one under another")
    parser.add_argument(
        "--limit",
        type=int,
        metavar="N",
        help="groups a level, or rows (default: 15, and 5 groups within a group)",
    )
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json, or .png .svg for its figure")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.dig import FIGURES, LIMIT, WITHIN, RowsAsked, dig
    from sabueso.population.drill import Asked
    from sabueso.population.expressions import split_list
    from sabueso.show.export import DATA

    asked = Asked(
        by=split_list(args.by or ""),
        across=args.across,
        measures=split_list(args.measures or ""),
        measure=args.measure,
        on=args.on,
        having=args.having,
        sort=args.sort,
        limit=LIMIT if args.limit is None else args.limit,
        within=WITHIN if args.limit is None else None,
    )
    rows = None
    if args.rows or args.columns or args.tall:
        rows = RowsAsked(split_list(args.columns or ""), args.tall)
    return answered(
        args,
        lambda case: dig(case, args.what, where=args.where, asked=asked, rows=rows, keep=args.keep),
        (*DATA, *FIGURES),
    )
