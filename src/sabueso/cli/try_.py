"""``sabueso try``."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.cli import words
from sabueso.cli.common import answered, asks_for_help, case_option, listed_examples, output_options
from sabueso.screens import find_screen, screen_names

if TYPE_CHECKING:
    from sabueso.case.folder import Case
    from sabueso.commands.interface import Answer

EXAMPLES: tuple[str, ...] = (
    "sabueso try digits payments --digits first-two --by-whom preparer",
    "sabueso try zscore payments --by account --scale log --method modified",
    "sabueso try periods journal --per account --base 2024 --current 2025 --amount-limit 5000",
)


def add_arguments(parser: argparse.ArgumentParser, rest: Sequence[str] = ()) -> None:
    # Names of other packages' tests are read from all that is installed: for who asks, and not by each command.
    named = ", ".join(screen_names()) if asks_for_help(rest) else None
    test = parser.add_argument("test", metavar="TEST", help=named)
    words.completed(test, words.tests)
    table = parser.add_argument("table", metavar="TABLE", help="a table of the case")
    words.completed(table, words.tables)
    chosen = next((word for word in rest if not word.startswith("-")), None)
    if chosen is not None:
        from sabueso.cli.options import add_options, options_of

        found = options_of(chosen, rest)
        parser.description = f"{chosen}: {found['summary']}."
        if found["examples"]:
            parser.epilog = listed_examples(found["examples"])
        add_options(parser, found["options"])
        if found["figures"]:
            parser.add_argument(
                "--figure",
                choices=found["figures"],
                default=found["figures"][0],
                help="what --out draws (default: %(default)s)",
            )
        else:
            parser.add_argument("--figure", help=argparse.SUPPRESS)  # said below, where it is given
    parser.add_argument(
        "--every",
        action="store_true",
        help="--out FILE.csv or .parquet gets the score of every row used, not the flagged alone",
    )
    parser.add_argument(
        "--keep", metavar="NAME", help="add this screen to the programme in case.toml"
    )
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json .html .png .svg, or .sql for its statements")


def run(args: argparse.Namespace) -> int:
    from sabueso.cli.options import given_options
    from sabueso.commands.try_ import FIGURES, PAGE, SCRIPT, try_test
    from sabueso.show.export import DATA

    settings = given_options(args, find_screen(args.test).settings)
    drawn = args.out is not None
    every = args.out if args.every else None
    if args.every and every is None:
        raise UserError("--every writes a file: --out FILE.csv or FILE.parquet")

    def work(case: Case) -> Answer[Any]:
        if args.out is not None and args.out.suffix.lower() == SCRIPT:
            case.told = []
        return try_test(
            case, args.test, args.table, settings, keep=args.keep, figure=args.figure, drawn=drawn,
            every=every,
        )  # fmt: skip

    return answered(args, work, (*DATA, *FIGURES, PAGE, SCRIPT))
