"""``sabueso review``."""

from __future__ import annotations

import argparse
from decimal import Decimal, InvalidOperation
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.cli import words
from sabueso.cli.common import as_option, case_of, case_option, emit_json, initials_of

EXAMPLES = (
    'sabueso review PAY-4G41Q --cleared --reason "contract seen" '
    "--evidence inbox/evidence/contract-VR-2024-03.txt --as KL",
    'sabueso review PAY-60MK2 --error --amount 5621.54 --reason "decimal mark mistyped" --as KL',
    "sabueso review PAY-DB8SJ --sign-off --as MR",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    listed = parser.add_argument(
        "exceptions", nargs="+", metavar="EXCEPTION", help="ids from the queue"
    )
    words.completed(listed, words.exceptions)
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
    as_option(parser)
    case_option(parser)
    parser.add_argument("--format", choices=("text", "json"), default="text")


def run(args: argparse.Namespace) -> int:
    from sabueso.case import reviews
    from sabueso.case.queue import exceptions_by_id

    case = case_of(args)
    try:
        who = initials_of(args, case)
        disposition = next((d for d in reviews.DISPOSITIONS if getattr(args, d)), None)
        recorded, done = True, []
        if disposition is not None:
            done = reviews.record_disposition(
                case,
                args.exceptions,
                disposition,
                args.reason,
                who,
                error_amount=_amount(args.amount),
                evidence=args.evidence,
                set_aside=args.set_aside,
            )
        elif args.sign_off:
            done = reviews.record_sign_off(case, args.exceptions, who)
        elif args.reopen:
            done = reviews.record_reopening(case, args.exceptions, args.reason, who)
        else:
            recorded = False
            if args.reason or args.evidence or args.amount or args.set_aside:
                raise UserError(
                    "say what to record: --cleared, --error, --referred, --sign-off or --reopen"
                )
        found = exceptions_by_id(case, args.exceptions)
    finally:
        case.close()
    if args.format == "json":
        again = {each.event.subject for each in done if each.again}
        emit_json([item.as_json() | {"recorded_before": item.id in again} for item in found])
        return 0
    from sabueso.show.console import make_console, next_steps, notes
    from sabueso.show.queue import show_exception

    console = make_console()
    for item in found:
        show_exception(console, item)
        console.print()
    notes(
        console,
        "note",
        (
            f"{each.event.subject}: the same was recorded before, as event {each.event.seq}, and is "
            "not recorded again"
            for each in done
            if each.again
        ),
    )
    ids = " ".join(item.id for item in found)
    if not recorded:
        steps = [f"sabueso dig {found[0].id}"]
        if any(item.review.status == "open" for item in found):
            steps.append(f'sabueso review {ids} --cleared --reason "…" --as KL')
        elif not all(item.review.signed_off for item in found):
            steps.append(f"sabueso review {ids} --sign-off --as MR")
    else:
        steps = ["sabueso queue --status open"]
        if disposition is not None:
            steps.append(f"sabueso review {ids} --sign-off --as MR")
    next_steps(console, steps)
    return 0


def _amount(text: str | None) -> Decimal | None:
    if text is None:
        return None
    try:
        value = Decimal(text.replace(",", ""))
    except InvalidOperation:
        value = Decimal("NaN")
    if not value.is_finite():
        raise UserError(f"--amount {text!r} is no amount; expected digits such as 1188.00")
    return value
