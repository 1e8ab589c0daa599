"""``sabueso intake``."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.base.hashing import Hashes
from sabueso.base.visible import visible
from sabueso.cli.common import answered, case_option, initials_of, with_bar

if TYPE_CHECKING:
    from sabueso.case.proposing import Proposal
    from sabueso.case.taken import TakeReport
    from sabueso.intake.interface import Ambiguous

EXAMPLES = (
    "sabueso intake inbox",
    "sabueso intake inbox/payments --as payments",
    "sabueso intake inbox/journal-2024.csv inbox/journal-2025.csv --as journal",
    "sabueso intake inbox/payments/pagos-2025-07.csv --as checked --check",
    "sabueso intake --as payments --again",
    'sabueso intake --from sqlite:///ledger.db --query "select * from entries" --as entries',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument("paths", nargs="*", metavar="PATH", help="files, folders or patterns")
    parser.add_argument(
        "--as", dest="table", metavar="TABLE",
        help="the table they become (without it: files alike in columns become tables, as proposed)",
    )  # fmt: skip
    parser.add_argument(
        "--yes", action="store_true", help="take what is proposed, or read again, without asking"
    )
    query = parser.add_argument_group("from a database, not from files")
    query.add_argument(
        "--from", dest="url", metavar="URL", help="its address, such as sqlite:///ledger.db"
    )
    query.add_argument("--query", metavar="SQL", help="the SELECT whose rows are taken in")
    parser.add_argument("--check", action="store_true", help="read and report, keep nothing")
    parser.add_argument(
        "--replace",
        action="store_true",
        help="a changed file takes the place of the one of its name, which is kept, superseded",
    )
    parser.add_argument(
        "--again",
        action="store_true",
        help="read the table's files anew by the plan as it is now; what changes is shown first",
    )
    parser.add_argument(
        "--attach", action="store_true", help="use Parquet files where they lie, without a copy"
    )
    parser.add_argument(
        "--gate",
        action="store_true",
        help="exit code 3 if anything is quarantined or does not reconcile",
    )
    reading = parser.add_argument_group("how the files are read, where that is not to be detected")
    for name, text in READ.items():
        reading.add_argument(f"--{name}", dest=f"read_{name}", metavar="X", help=text)
    case_option(parser)
    parser.add_argument("--format", choices=("text", "json", "csv"), default="text")


READ = {
    "decimal": "the decimal mark: . or ,",
    "thousands": "the thousands mark: . , ' or a space",
    "dates": "day first, month first or year first",
    "header-line": "the line of the header, or none",
    "encoding": "such as utf-8, latin-1, cp1250",
    "delimiter": "one character, or up to three",
    "records": "the element of an XML file that is a row",
}
"""How files are read where that is not to be detected: the keys of read in the plan."""


def run(args: argparse.Namespace) -> int:
    with Hashes() as hashes:
        # What reads a file takes half a second to load; meanwhile its hash can be begun.
        if args.table is None:
            return _folder(args)
        if args.again:
            return _again(args)
        first = Path.cwd() / args.paths[0] if args.paths else None
        if first is not None and first.is_file() and not args.attach:
            hashes.begin(first)
        from sabueso.intake.interface import Ambiguous

        given = _given(args)
        ask = sys.stdin.isatty() and sys.stderr.isatty()
        while True:
            try:
                return _taken(args, hashes, given, ask=ask)
            except Ambiguous as question:
                if not ask:
                    raise
                given |= _asked(question)


def _folder(args: argparse.Namespace) -> int:
    """Files without a table: what they may become is shown, asked for on a terminal, taken with --yes."""
    alone = ("url", "query", "attach", "check", "replace", "gate", "again")
    if any(getattr(args, name) for name in alone):
        raise UserError("this needs the table that the rows become: --as TABLE")
    if not args.paths:
        raise UserError(
            "name a folder of files: sabueso intake FOLDER, or sabueso intake PATH --as TABLE"
        )
    from sabueso.commands.intake_folder import intake_folder

    asked = sys.stdin.isatty() and sys.stdout.isatty() and args.format == "text"
    return answered(
        args,
        lambda case: with_bar(
            lambda bar: intake_folder(
                case, args.paths, yes=args.yes, confirm=_confirmed if asked else None,
                initials=initials_of(args, case), given=_given(args), progress=bar,
            )
        ),
    )  # fmt: skip


def _again(args: argparse.Namespace) -> int:
    """The files of a table read anew."""
    from sabueso.commands.intake_again import intake_again

    if args.url or args.query or args.attach or args.check or args.replace or args.gate:
        raise UserError("--again goes with --as TABLE, and with --yes, alone")
    if _given(args):
        raise UserError("--again reads by the plan: write how under read of the table in case.toml")
    asked = sys.stdin.isatty() and sys.stdout.isatty() and args.format == "text"
    return answered(
        args,
        lambda case: with_bar(
            lambda bar: intake_again(
                case, args.table, args.paths, yes=args.yes, confirm=_agreed if asked else None,
                initials=initials_of(args, case), progress=bar,
            )
        ),
    )  # fmt: skip


def _agreed(report: TakeReport) -> bool:
    from sabueso.show.console import make_console
    from sabueso.show.intake import show_changes

    show_changes(make_console(), report)
    return input("put this in the place of what was taken in, y or n? ").strip().lower() in (
        "y",
        "yes",
    )


def _confirmed(proposal: Proposal) -> bool:
    from sabueso.show.console import make_console
    from sabueso.show.intake_folder import show_proposal

    show_proposal(make_console(), proposal)
    return input("take these tables in, y or n? ").strip().lower() in ("y", "yes")


def _given(args: argparse.Namespace) -> dict[str, str]:
    """How the files are to be read, as far as that was said."""
    given = {name.removesuffix("-line"): getattr(args, f"read_{name}") for name in READ}
    return {name: value for name, value in given.items() if value is not None}


def _taken(args: argparse.Namespace, hashes: Hashes, given: dict[str, str], *, ask: bool) -> int:
    from sabueso.commands.intake import intake

    return answered(
        args,
        lambda case: with_bar(
            lambda bar: intake(
                case, args.table, args.paths, url=args.url, query=args.query, check=args.check,
                replace=args.replace, attach=args.attach, gate=args.gate,
                initials=initials_of(args, case), progress=bar, hashes=hashes, given=given, ask=ask,
            )
        ),
    )  # fmt: skip


def _asked(question: Ambiguous) -> dict[str, str]:
    """Ask which of the readings is right; an empty answer takes none."""
    print(visible(str(question)), file=sys.stderr)
    for place, (reading, name, value) in enumerate(question.readings, 1):
        print(visible(f"  {place}  {reading}   (--{name} {value!r})"), file=sys.stderr)
    answer = input(f"which is right, 1 to {len(question.readings)}? ").strip()
    if not answer.isdigit() or not 1 <= int(answer) <= len(question.readings):
        raise question
    _, name, value = question.readings[int(answer) - 1]
    return {name: value}
