"""``sabueso screen``."""

from __future__ import annotations

import argparse

from sabueso.cli import words
from sabueso.cli.common import answered, as_option, case_option, initials_of, with_bar

EXAMPLES = (
    "sabueso screen",
    'sabueso screen "first-two digits"',
    "sabueso screen --gate 100",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    names = parser.add_argument(
        "names", nargs="*", metavar="NAME", help="screens of the programme (default: all)"
    )
    words.completed(names, words.screens)
    parser.add_argument(
        "--gate", type=int, metavar="N", help="exit code 3 if more than N exceptions are open"
    )
    as_option(parser)
    case_option(parser)
    parser.add_argument("--format", choices=("text", "json"), default="text")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.screen import screen

    return answered(
        args,
        lambda case: with_bar(
            lambda bar: screen(
                case, args.names, gate=args.gate, initials=initials_of(args, case), progress=bar
            )
        ),
    )
