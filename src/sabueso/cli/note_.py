"""``sabueso note``."""

from __future__ import annotations

import argparse
from typing import Literal

from sabueso.cli import words
from sabueso.cli.common import answered, as_option, case_option, initials_of

EXAMPLES = (
    'sabueso note "first-two digits" --observation "48 and 49 stand out; one preparer" --as KL',
    'sabueso note "first-two digits" --conclusion "invoices were split under the limit" --as KL',
    'sabueso note payments --observation "nine damaged rows in July 2025" --as KL',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    subject = parser.add_argument(
        "subject",
        metavar="SCREEN|TABLE|VIEW|MATTER|case",
        help="a screen of the programme, a table, a view of the plan, a matter, or case for the whole",
    )
    words.completed(subject, words.screens_and_tables)
    one = parser.add_mutually_exclusive_group(required=True)
    one.add_argument("--observation", metavar="TEXT", help="what was seen")
    one.add_argument("--conclusion", metavar="TEXT", help="what it means")
    parser.add_argument(
        "--replaces", type=int, metavar="EVENT", help="the earlier note that this one stands for"
    )
    as_option(parser)
    case_option(parser)


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.review import note

    kind: Literal["observation", "conclusion"] = "observation"
    text = args.observation
    if text is None:
        kind, text = "conclusion", args.conclusion
    return answered(
        args,
        lambda case: note(
            case, args.subject, kind, text, initials=initials_of(args, case), replaces=args.replaces
        ),
    )
