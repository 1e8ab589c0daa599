"""``sabueso paper``."""

from __future__ import annotations

import argparse

from sabueso.cli import words
from sabueso.cli.common import answered, case_option

EXAMPLES = (
    "sabueso paper",
    'sabueso paper --screen "account totals"',
    "sabueso paper --exception PAY-SX6Q6",
    "sabueso paper --data parquet",
    "sabueso paper --case marisma",
    "sabueso screen && sabueso paper",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument(
        "--screen", metavar="NAME", help="only the part of this screen, as a page of its own"
    )
    parser.add_argument("--matter", metavar="NAME", help="only the exceptions of this matter")
    one = parser.add_argument("--exception", metavar="ID", help="only this exception")
    words.completed(one, words.exceptions)
    parser.add_argument(
        "--data", choices=("csv", "json", "parquet"), default="csv",
        help="the form of the data files of the whole papers (default: csv)",
    )  # fmt: skip
    case_option(parser)


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.paper import paper

    return answered(
        args,
        lambda case: paper(
            case, args.screen, matter=args.matter, exception=args.exception, data=args.data
        ),
    )
