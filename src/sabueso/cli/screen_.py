"""``sabueso screen``."""

from __future__ import annotations

import argparse

from sabueso.base.errors import UserError
from sabueso.cli import words
from sabueso.cli.common import (
    Bar,
    as_option,
    case_of,
    case_option,
    emit_json,
    initials_of,
    with_bar,
)

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
    from sabueso.case.programme import run_programme
    from sabueso.case.queue import queue
    from sabueso.case.recording import Run

    if args.gate is not None and args.gate < 0:
        raise UserError(f"--gate {args.gate}: expected a number of exceptions, 0 or more")
    case = case_of(args)
    try:

        def work(bar: Bar) -> Run:
            return run_programme(case, args.names, initials=initials_of(args, case), progress=bar)

        done: Run = with_bar(work)
        every = queue(case)
    finally:
        case.close()
    waiting = sum(item.review.status == "open" for item in every)
    if args.format == "json":
        emit_json(
            {
                "run": done.number,
                "at": done.at,
                "screens": [
                    {
                        "name": item.screen, "test": item.test, "table": item.table,
                        "flagged": item.flagged, "new": item.new,
                        "tests_made": item.finding.tests_made, "exceptions": item.exceptions,
                    }
                    for item in done.screens
                ],
                "failed": [vars(item) for item in done.failed],
                "exceptions": len(every),
                "open": waiting,
                "tests_made": sum(item.finding.tests_made for item in done.screens),
            }
        )  # fmt: skip
    else:
        from sabueso.show.console import make_console
        from sabueso.show.run import show_run

        show_run(make_console(), done, every)
    if done.failed:
        first = done.failed[0]
        raise UserError(
            f"{len(done.failed)} of {len(done.failed) + len(done.screens)} screens could not run; "
            f"{first.screen!r}: {first.reason}"
        )
    return 3 if args.gate is not None and waiting > args.gate else 0
