"""``sabueso queue``."""

from __future__ import annotations

import argparse

from sabueso.base.errors import UserError, nearest
from sabueso.cli import words
from sabueso.cli.common import (
    case_of,
    case_option,
    check_out,
    emit,
    emit_json,
    output_options,
    write_out,
)

STATUSES = ("open", "cleared", "error", "referred", "all")
EXAMPLES = (
    "sabueso queue",
    "sabueso queue --status open --top 50",
    'sabueso queue --screen "account totals" --out exceptions.xlsx',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument(
        "--status", choices=STATUSES, default="all", help="only those (default: all)"
    )
    parser.add_argument("--screen", metavar="NAME", help="only those that a screen marked")
    table = parser.add_argument("--table", metavar="TABLE", help="only those of a table")
    words.completed(table, words.tables)
    parser.add_argument("--top", type=int, default=20, metavar="N", help="how many (default: 20)")
    case_option(parser)
    output_options(parser, ".csv .xlsx .json")


def run(args: argparse.Namespace) -> int:
    from sabueso.case.queue import queue
    from sabueso.case.recording import last_failures

    if args.top < 1:
        raise UserError(f"--top {args.top}: expected at least 1")
    check_out(args, (".csv", ".xlsx", ".json"))
    case = case_of(args)
    try:
        every = queue(case)
        ran = bool(every) or bool(case.register.events("run"))
        failures = last_failures(case)
    finally:
        case.close()
    if not ran:
        raise UserError("no run is recorded yet; run the programme with: sabueso screen")
    chosen = every
    if args.status != "all":
        chosen = [item for item in chosen if item.review.status == args.status]
    if args.screen:
        names = [section.name for section in case.plan.screens]
        fitting = [n for n in names if args.screen.lower() in n.lower()]
        if not fitting:
            raise UserError(f"there is no screen {args.screen!r}{nearest(args.screen, names)}")
        chosen = [item for item in chosen if any(m.screen in fitting for m in item.marks)]
    if args.table:
        if args.table not in case.plan.tables:
            raise UserError(
                f"there is no table {args.table!r}{nearest(args.table, case.plan.tables)}"
            )
        chosen = [item for item in chosen if item.table == args.table]
    if args.out is not None:
        from sabueso.show.export import sheets_as
        from sabueso.show.queue_sheet import queue_sheet

        content = [item.as_json() for item in chosen]
        write_out(args, sheets_as(args.out.suffix.lower(), [queue_sheet(chosen)], content))
    if args.format == "json":
        emit_json([item.as_json() for item in chosen[: args.top]])
    elif args.format == "csv":
        from sabueso.show.export import csv_text
        from sabueso.show.queue_sheet import queue_sheet

        emit(csv_text(queue_sheet(chosen[: args.top])))
    else:
        from sabueso.show.console import make_console
        from sabueso.show.queue import show_queue

        show_queue(make_console(), every, chosen[: args.top], case.plan.case.currency, failures)
    return 0
