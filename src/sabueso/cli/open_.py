"""``sabueso open``."""

from __future__ import annotations

import argparse
from pathlib import Path

from sabueso.cli.common import give

EXAMPLES = (
    "sabueso open my-case",
    'sabueso open my-case --name "Naviera Marisma 2024-2025"',
    "sabueso open my-case --currency USD",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument("folder", type=Path, help="the folder of the new case")
    parser.add_argument("--name", help="the case's name (default: the folder's)")
    parser.add_argument(
        "--currency",
        help="the ledger's currency (default: what its first amounts state, else EUR)",
    )
    parser.add_argument(
        "--register",
        metavar="URL",
        help="keep the review register in a PostgreSQL database, postgresql://user@server/database, for "
        "a team; of a case that is there, the register moves to it",
    )
    parser.add_argument(
        "--schema", help="the schema of the database for this case (default: by the folder's name)"
    )


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.open_ import new_case

    return give(
        args,
        new_case(
            args.folder,
            name=args.name,
            currency=args.currency,
            register=args.register,
            schema=args.schema,
        ),
    )
