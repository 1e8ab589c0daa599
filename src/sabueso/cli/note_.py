"""``sabueso note``."""

from __future__ import annotations

import argparse

from sabueso.cli import words
from sabueso.cli.common import as_option, case_of, case_option, initials_of, say

EXAMPLES = (
    'sabueso note "first-two digits" --observation "48 and 49 stand out; one preparer" --as KL',
    'sabueso note "first-two digits" --conclusion "invoices were split under the limit" --as KL',
    'sabueso note payments --observation "nine damaged rows in July 2025" --as KL',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    subject = parser.add_argument(
        "subject", metavar="SCREEN|TABLE", help="a screen of the programme, or a table"
    )
    words.completed(subject, words.screens_and_tables)
    one = parser.add_mutually_exclusive_group(required=True)
    one.add_argument("--observation", metavar="TEXT", help="what was seen")
    one.add_argument("--conclusion", metavar="TEXT", help="what it means")
    as_option(parser)
    case_option(parser)


def run(args: argparse.Namespace) -> int:
    from sabueso.case.reviews import record_note

    case = case_of(args)
    try:
        kind = "observation" if args.observation is not None else "conclusion"
        text = args.observation if args.observation is not None else args.conclusion
        done = record_note(case, args.subject, kind, text, initials_of(args, case))
    finally:
        case.close()
    event, before = done.event, " before, and not again" if done.again else ""
    say(f"{kind} on {event.subject!r} recorded{before} for {event.initials}, event {event.seq}")
    say(" next: sabueso paper")
    return 0
