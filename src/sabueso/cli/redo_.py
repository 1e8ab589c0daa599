"""``sabueso redo``."""

from __future__ import annotations

import argparse

from sabueso.cli.common import answered, case_option, output_options

EXAMPLES = (
    "sabueso redo",
    "sabueso redo 1",
    "sabueso redo 1 --format json",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument(
        "run", nargs="?", type=int, metavar="RUN", help="the run's number (default: the last)"
    )
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.redo import redo
    from sabueso.show.export import DATA

    return answered(args, lambda case: redo(case, args.run), DATA)
