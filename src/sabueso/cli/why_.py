"""``sabueso why``."""

from __future__ import annotations

import argparse

from sabueso.cli import words
from sabueso.cli.common import answered, case_option, output_options

EXAMPLES = (
    "sabueso why PAY-SX6Q6",
    "sabueso why JOU-K2R7R --columns concepto,preparado",
    "sabueso why PAY-5RZPF --format json",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    one = parser.add_argument("exception", metavar="EXCEPTION", help="an id from the queue")
    words.completed(one, words.exceptions)
    parser.add_argument(
        "--columns", default="", metavar="COLUMN[,…]", help="look at these (default: all texts)"
    )
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json, or .png .svg for its figure")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.why import FIGURES, why
    from sabueso.population.expressions import split_list
    from sabueso.show.export import DATA

    return answered(
        args, lambda case: why(case, args.exception, split_list(args.columns)), (*DATA, *FIGURES)
    )
