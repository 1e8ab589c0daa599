"""``sabueso review``."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.base.typed import typed_amount
from sabueso.cli import words
from sabueso.cli.common import answered, as_option, case_option, initials_of

if TYPE_CHECKING:
    from sabueso.case.folder import Case
    from sabueso.commands.interface import Answer

EXAMPLES = (
    'sabueso review PAY-YMMFX --cleared --reason "contract seen" '
    "--evidence inbox/evidence/contract-VR-2024-03.txt --as KL",
    'sabueso review PAY-QN645 --error --amount 5621.54 --reason "decimal mark mistyped" --as KL',
    "sabueso review PAY-SX6Q6 --sign-off --as MR",
    "sabueso review --where \"status = 'open' and kind = 'line' and amount < 50000\" --cleared "
    '--reason "below what the engagement looks at" --as KL',
    "sabueso review --sheet queue.xlsx",
    "sabueso review --walk --as KL",
    'sabueso review PAY-YMMFX PAY-QN645 --matter "payments of November" --assign JT --as KL',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    listed = parser.add_argument(
        "exceptions", nargs="*", metavar="EXCEPTION", help="ids from the queue"
    )
    words.completed(listed, words.exceptions)
    parser.add_argument(
        "--where", metavar="SQL",
        help="those of the queue that meet a condition over place, id, in_table, kind, screen, marks, amount, "
        "label, status, assigned, matter …",
    )  # fmt: skip
    what = parser.add_argument_group("what to record (without one: show the history)")
    one = what.add_mutually_exclusive_group()
    one.add_argument("--cleared", action="store_true", help="explained: nothing wrong")
    one.add_argument("--error", action="store_true", help="wrong, not intended")
    one.add_argument(
        "--referred", action="store_true", help="passed on: to counsel, to the committee"
    )
    one.add_argument(
        "--sign-off", action="store_true", help="by initials other than the disposition's"
    )
    one.add_argument("--reopen", action="store_true", help="the matter is not settled after all")
    more = parser.add_argument_group("details")
    more.add_argument("--reason", default="", metavar="TEXT", help="why; required")
    more.add_argument("--amount", metavar="N", help="amount of an error")
    more.add_argument(
        "--evidence",
        type=Path,
        nargs="+",
        default=[],
        metavar="FILE",
        help="files, copied into the case",
    )
    more.add_argument(
        "--set-aside", action="store_true", help="leave the subject out of later statistics"
    )
    parser.add_argument(
        "--walk",
        action="store_true",
        help="go through the queue at the terminal, a key a judgement",
    )
    sheet = parser.add_argument_group("through a spreadsheet")
    sheet.add_argument(
        "--sheet",
        type=Path,
        metavar="FILE.xlsx",
        help="write the queue as a workbook to be filled in",
    )
    sheet.add_argument(
        "--from",
        dest="source",
        type=Path,
        metavar="FILE.xlsx",
        help="record what was filled in, all or nothing",
    )
    sheet.add_argument(
        "--check", action="store_true", help="with --from: say what would be recorded"
    )
    sheet.add_argument(
        "--force", action="store_true", help="let --sheet write over a file that it did not make"
    )
    more.add_argument("--assign", metavar="INITIALS", help="who is to review them")
    more.add_argument("--matter", metavar="NAME", help="what they belong to together")
    as_option(parser)
    case_option(parser)
    parser.add_argument("--format", choices=("text", "json"), default="text")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.review import DISPOSITIONS, REOPEN, SIGN_OFF, ToRecord, review

    if args.walk:
        from sabueso.commands.walk import walk

        if args.exceptions:
            raise UserError("--walk goes through the queue, or what --where chooses of it")
        return answered(
            args, lambda case: walk(case, where=args.where, initials=initials_of(args, case))
        )
    if args.sheet is not None or args.source is not None:
        return answered(args, lambda case: _through_a_sheet(args, case))
    what = next((d for d in DISPOSITIONS if getattr(args, d)), None)
    to_record = ToRecord(
        what=SIGN_OFF if args.sign_off else REOPEN if args.reopen else what,
        reason=args.reason,
        error_amount=None if args.amount is None else typed_amount(args.amount, "--amount"),
        evidence=args.evidence,
        set_aside=args.set_aside,
        assign=args.assign,
        matter=args.matter,
    )
    return answered(
        args,
        lambda case: review(
            case, args.exceptions, to_record, where=args.where, initials=initials_of(args, case)
        ),
    )


def _through_a_sheet(args: argparse.Namespace, case: Case) -> Answer[Any]:
    from sabueso.commands.review_sheet import from_sheet, write_sheet

    if args.exceptions:
        raise UserError(
            "a sheet holds the queue, or what --where chooses of it, and not exceptions by id"
        )
    if args.sheet is not None:
        return write_sheet(case, args.sheet, where=args.where, force=args.force)
    return from_sheet(case, args.source, initials=initials_of(args, case), check=args.check)
