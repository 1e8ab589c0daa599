"""``sabueso intake``."""

from __future__ import annotations

import argparse
from pathlib import Path

from sabueso.base.hashing import Hashes
from sabueso.cli.common import answered, case_option, initials_of, with_bar

EXAMPLES = (
    "sabueso intake inbox/payments --as payments",
    "sabueso intake inbox/journal-2024.csv inbox/journal-2025.csv --as journal",
    "sabueso intake inbox/payments/pagos-2025-07.csv --as again --check",
    'sabueso intake --from sqlite:///ledger.db --query "select * from entries" --as entries',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument("paths", nargs="*", metavar="PATH", help="files, folders or patterns")
    parser.add_argument(
        "--as", dest="table", required=True, metavar="TABLE", help="the table they become"
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
        "--attach", action="store_true", help="use Parquet files where they lie, without a copy"
    )
    parser.add_argument(
        "--gate",
        action="store_true",
        help="exit code 3 if anything is quarantined or does not reconcile",
    )
    case_option(parser)
    parser.add_argument("--format", choices=("text", "json", "csv"), default="text")


def run(args: argparse.Namespace) -> int:
    with Hashes() as hashes:
        # What reads a file takes half a second to load; meanwhile its hash can be begun.
        first = Path.cwd() / args.paths[0] if args.paths else None
        if first is not None and first.is_file() and not args.attach:
            hashes.begin(first)
        from sabueso.commands.intake import intake

        return answered(
            args,
            lambda case: with_bar(
                lambda bar: intake(
                    case, args.table, args.paths, url=args.url, query=args.query, check=args.check,
                    replace=args.replace, attach=args.attach, gate=args.gate,
                    initials=initials_of(args, case), progress=bar, hashes=hashes,
                )
            ),
        )  # fmt: skip
