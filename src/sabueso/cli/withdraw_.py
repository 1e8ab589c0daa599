"""``sabueso withdraw``."""

from __future__ import annotations

import argparse

from sabueso.cli import words
from sabueso.cli.common import answered, as_option, case_option, initials_of

EXAMPLES = (
    'sabueso withdraw payments pagos-2025-07.csv --reason "the client sent a corrected file" --as KL',
    'sabueso withdraw payments "pagos-2024-*.csv" --reason "outside the period agreed"',
    'sabueso withdraw budget --reason "of another company"',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    table = parser.add_argument("table", metavar="TABLE", help="a table of the case")
    words.completed(table, words.tables)
    parser.add_argument(
        "files", nargs="*", metavar="FILE", help="names of its files, or patterns (without: all)"
    )
    parser.add_argument("--reason", default="", metavar="TEXT", help="why; required")
    as_option(parser)
    case_option(parser)
    parser.add_argument("--format", choices=("text", "json"), default="text")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.withdraw import withdraw

    return answered(
        args,
        lambda case: withdraw(
            case, args.table, args.files, reason=args.reason, initials=initials_of(args, case)
        ),
    )
