"""``sabueso why``."""

from __future__ import annotations

import argparse

from sabueso.cli import words
from sabueso.cli.common import case_of, case_option, check_out, emit_result, output_options

EXAMPLES = (
    "sabueso why PAY-DB8SJ",
    "sabueso why JOU-K2R7R --columns concepto,preparado",
    "sabueso why PAY-JMK93 --format json",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    one = parser.add_argument("exception", metavar="EXCEPTION", help="an id from the queue")
    words.completed(one, words.exceptions)
    parser.add_argument(
        "--columns", default="", metavar="COLUMN[,…]", help="look at these (default: all texts)"
    )
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json")


def run(args: argparse.Namespace) -> int:
    from sabueso.case.why import why
    from sabueso.population.expressions import split_list
    from sabueso.show.export import DATA
    from sabueso.show.why import show_why, why_sheet

    check_out(args, DATA)
    case = case_of(args)
    try:
        found = why(case, args.exception, split_list(args.columns))
    finally:
        case.close()
    if not emit_result(args, [why_sheet(found)], found.as_json()):
        from sabueso.show.console import make_console

        show_why(make_console(), found)
    return 0
