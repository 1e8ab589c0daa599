"""``sabueso sample``."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.cli import words
from sabueso.cli.common import (
    answered,
    as_option,
    case_option,
    initials_of,
    output_options,
    with_bar,
)
from sabueso.cli.options import add_options, given_options, options_of
from sabueso.screens import find_screen

if TYPE_CHECKING:
    from sabueso.case.folder import Case
    from sabueso.commands.interface import Answer

EXAMPLES = (
    "sabueso sample payments --method money --tolerable 2% --seed 20251",
    "sabueso sample journal --size 60 --seed 7",
    "sabueso sample",
)
KIND = "sample"


def add_arguments(parser: argparse.ArgumentParser, rest: Sequence[str] = ()) -> None:
    table = parser.add_argument(
        "table",
        nargs="?",
        metavar="TABLE",
        help="a table to draw from (without: the samples there are)",
    )
    words.completed(table, words.tables)
    add_options(parser, options_of(KIND, rest)["options"], "how it is drawn")
    parser.add_argument("--name", metavar="NAME", help="what the sample is called")
    evaluated = parser.add_argument(
        "--evaluate", metavar="NAME", help="what the reviews of a sample say of the whole"
    )
    words.completed(evaluated, words.screens)
    as_option(parser)
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.sample import evaluation, listed, sample
    from sabueso.show.export import DATA

    settings = given_options(args, find_screen(KIND).settings)
    if args.table is None and (settings or args.name):
        raise UserError("name the table to draw from: sabueso sample TABLE …")
    if args.table is not None and args.evaluate is not None:
        raise UserError(
            "a sample is drawn from a table, or evaluated by its name: give one of them"
        )

    def work(case: Case) -> Answer[Any]:
        if args.evaluate is not None:
            return evaluation(case, args.evaluate)
        if args.table is None:
            return listed(case)
        return with_bar(
            lambda bar: sample(
                case, args.table, settings, name=args.name or "", initials=initials_of(args, case),
                progress=bar,
            )
        )  # fmt: skip

    return answered(args, work, DATA)
