"""``sabueso survey``."""

from __future__ import annotations

import argparse

from sabueso.base.errors import UserError
from sabueso.cli import words
from sabueso.cli.common import answered, case_option, output_options

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
    from sabueso.commands.survey import FIGURES, survey
    from sabueso.population.expressions import split_list
    from sabueso.show.export import DATA

    drawn = args.out is not None and args.out.suffix.lower() in FIGURES
    if drawn and not (args.columns or args.pairs):
        raise UserError(f"--out {args.out} draws a measure: name its column after the table")
    return answered(
        args,
        lambda case: survey(
            case, args.table, args.columns, where=args.where, by=split_list(args.by),
            pairs=args.pairs, stem=args.stem, bins=args.bins, keep=args.keep_links,
        ),
        (*DATA, *FIGURES),
    )  # fmt: skip
