"""``sabueso paper``."""

from __future__ import annotations

import argparse

from sabueso.cli.common import case_of, case_option, say

EXAMPLES = ("sabueso paper", "sabueso paper --case marisma", "sabueso screen && sabueso paper")


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    case_option(parser)


def run(args: argparse.Namespace) -> int:
    from sabueso.show.paper import write_paper

    case = case_of(args)
    try:
        for path in write_paper(case):
            say(f"written {path}")
    finally:
        case.close()
    return 0
