"""``sabueso survey``."""

from __future__ import annotations

import argparse
from contextlib import suppress
from decimal import Decimal, InvalidOperation

from sabueso.base.errors import UserError
from sabueso.base.exact import DIGITS
from sabueso.cli import words
from sabueso.cli.common import answered, case_option, output_options, with_bar

EXAMPLES = (
    "sabueso survey",
    "sabueso survey payments",
    "sabueso survey payments importe --by cuenta",
    "sabueso survey --propose --capacity 200",
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
    parser.add_argument(
        "--edges",
        default="",
        metavar="AMOUNT[,…]",
        help="the histogram's bins, by the amounts between them",
    )
    parser.add_argument("--pairs", action="store_true", help="correlation of every two measures")
    parser.add_argument(
        "--keep-links",
        action="store_true",
        help="write the links found to case.toml, to be used as column.other in --by and --where",
    )
    parser.add_argument(
        "--propose",
        action="store_true",
        help="the screens that suit, with limits for what can be reviewed",
    )
    parser.add_argument(
        "--keep", action="store_true", help="write the proposed screens to case.toml"
    )
    parser.add_argument(
        "--capacity", type=int, metavar="N",
        help="exceptions that can be reviewed, shared over the proposed screens (300)",
    )  # fmt: skip
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json, and of a measure or of --pairs .png .svg")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.survey import FIGURES, survey
    from sabueso.population.expressions import split_list
    from sabueso.show.export import DATA

    if args.propose:
        return _proposed(args)
    if args.keep or args.capacity is not None:
        raise UserError("--keep and --capacity go with --propose")
    drawn = args.out is not None and args.out.suffix.lower() in FIGURES
    if drawn and not (args.columns or args.pairs):
        raise UserError(f"--out {args.out} draws a measure: name its column after the table")
    return answered(
        args,
        lambda case: survey(
            case, args.table, args.columns, where=args.where, by=split_list(args.by),
            pairs=args.pairs, stem=args.stem, bins=args.bins, edges=_edges(args.edges),
            keep=args.keep_links,
        ),
        (*DATA, *FIGURES),
    )  # fmt: skip


def _edges(text: str) -> list[Decimal]:
    """Amounts with a point, parted by commas."""
    with suppress(InvalidOperation):
        edges = [Decimal(part.strip()) for part in text.split(",") if part.strip()]
        if all(abs(each) < 10**DIGITS for each in edges):
            return edges
    raise UserError(f"--edges {text}: expected amounts with a point, parted by commas")


def _proposed(args: argparse.Namespace) -> int:
    from sabueso.commands.propose import propose
    from sabueso.show.export import DATA

    alone = ("columns", "where", "by", "stem", "bins", "edges", "pairs", "keep_links")
    if any(getattr(args, name) for name in alone):
        raise UserError("--propose goes with a table, --capacity and --keep alone")
    return answered(
        args,
        lambda case: with_bar(
            lambda bar: propose(
                case, args.table, capacity=args.capacity, keep=args.keep, progress=bar
            )
        ),
        DATA,
    )
