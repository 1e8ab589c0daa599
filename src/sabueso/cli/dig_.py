"""``sabueso dig``."""

from __future__ import annotations

import argparse

from sabueso.cli import words
from sabueso.cli.common import answered, case_option, output_options

EXAMPLES = (
    "sabueso dig payments --by account,party",
    "sabueso dig journal --where \"account = '62840'\" --by text --across month",
    'sabueso dig payments --where "first_two(amount) = 49" --rows',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    what = parser.add_argument(
        "what", metavar="TABLE|EXCEPTION", help="a table, or an exception's id"
    )
    words.completed(what, words.tables_and_exceptions)
    parser.add_argument("--where", metavar="SQL", help="condition that rows must meet")
    parser.add_argument("--by", metavar="COLUMN[,…]", help="groups, and groups within them")
    parser.add_argument(
        "--across", metavar="COLUMN", help="a column, year, quarter, month or weekday as columns"
    )
    parser.add_argument("--on", metavar="COLUMN", help="the measure (default: role amount)")
    parser.add_argument("--measure", choices=("sum", "count", "mean", "min", "max"), default="sum")
    parser.add_argument("--rows", action="store_true", help="the rows themselves, largest first")
    parser.add_argument(
        "--limit", type=int, default=15, metavar="N", help="groups a level, or rows (default: 15)"
    )
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.dig import dig
    from sabueso.population.expressions import split_list
    from sabueso.show.export import DATA

    return answered(
        args,
        lambda case: dig(
            case, args.what, where=args.where, by=split_list(args.by or ""), across=args.across,
            on=args.on, measure=args.measure, rows=args.rows, limit=args.limit,
        ),
        DATA,
    )  # fmt: skip
