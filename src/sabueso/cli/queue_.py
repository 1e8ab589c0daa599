"""``sabueso queue``."""

from __future__ import annotations

import argparse
from typing import Literal

from sabueso.cli import words
from sabueso.cli.common import answered, case_option, output_options

ROLES: tuple[Literal["party", "preparer", "account"], ...] = ("party", "preparer", "account")
STATUSES = ("open", "cleared", "error", "referred", "all")
EXAMPLES = (
    "sabueso queue",
    "sabueso queue --status open --top 50",
    "sabueso queue --per preparer",
    'sabueso queue --screen "account totals" --out exceptions.xlsx',
    "sabueso queue --where \"kind = 'row' and amount > 10000 and assigned is null\"",
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument(
        "--status", choices=STATUSES, default="all", help="only those (default: all)"
    )
    parser.add_argument("--screen", metavar="NAME", help="only those that a screen marked")
    table = parser.add_argument("--table", metavar="TABLE", help="only those of a table")
    words.completed(table, words.tables)
    parser.add_argument(
        "--where", metavar="SQL",
        help="only those that meet a condition over place, id, in_table, kind, screen, marks, amount, label, "
        "status, assigned, matter …",
    )  # fmt: skip
    parser.add_argument(
        "--kind",
        metavar="KIND",
        help="only those of a kind: row, cluster, entity, class, cell, line, range, sampled",
    )
    for role in ROLES:
        parser.add_argument(
            f"--{role}",
            metavar="VALUE",
            help=f"only those with a row of this {role}, and of few others",
        )
    parser.add_argument(
        "--sort", choices=("evidence", "amount", "table", "age", "bits"), default="evidence",
        help="evidence, the queue's own order; the largest amount, the table, the longest known, or the most "
        "bits of surprise first",
    )  # fmt: skip
    parser.add_argument(
        "--per", choices=("party", "preparer", "account"),
        help="in their place those behind them, with the evidence added up",
    )  # fmt: skip
    parser.add_argument("--top", type=int, default=20, metavar="N", help="how many (default: 20)")
    case_option(parser)
    output_options(parser, ".csv .xlsx .json, or .png .svg for its figure")


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.queue import FIGURES, queue

    return answered(
        args,
        lambda case: queue(
            case,
            status=args.status,
            screen=args.screen,
            table=args.table,
            where=args.where,
            kind=args.kind,
            sort=args.sort,
            per=args.per,
            of={role: given for role in ROLES if (given := getattr(args, role)) is not None},
            top=args.top,
        ),
        (".csv", ".xlsx", ".json", *FIGURES),
    )
