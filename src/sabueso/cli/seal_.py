"""``sabueso seal``."""

from __future__ import annotations

import argparse

from sabueso.cli.common import answered, as_option, case_option, initials_of

EXAMPLES = (
    "sabueso seal --as KL",
    "sabueso seal --check",
    "sabueso seal --check --format json",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument(
        "--check", action="store_true", help="compare the case with its seal, and change nothing"
    )
    as_option(parser)
    case_option(parser)
    parser.add_argument("--format", choices=("text", "json"), default="text")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.seal import check, seal

    if args.check:
        return answered(args, check)
    return answered(args, lambda case: seal(case, initials=initials_of(args, case)))
