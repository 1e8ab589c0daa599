"""``sabueso paper``."""

from __future__ import annotations

import argparse

from sabueso.case.folder import Case
from sabueso.cli.common import case_option

EXAMPLES = ("sabueso paper", "sabueso paper --case marisma", "sabueso screen && sabueso paper")


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    case_option(parser)


def run(args: argparse.Namespace) -> int:
    from sabueso.show.paper import write_paper

    case = Case.find(args.case)
    try:
        for path in write_paper(case):
            print(f"written {path}")
    finally:
        case.close()
    return 0
