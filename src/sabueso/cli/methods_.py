"""``sabueso methods``."""

from __future__ import annotations

import argparse

from sabueso.cli import words
from sabueso.cli.common import give

EXAMPLES = ("sabueso methods", "sabueso methods digits", "sabueso methods distance")


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    test = parser.add_argument(
        "test", nargs="?", metavar="TEST", help="a test (default: list them)"
    )
    words.completed(test, words.tests)


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.methods import methods

    return give(args, methods(args.test))
