"""``sabueso paper``."""

from __future__ import annotations

import argparse

from sabueso.cli.common import answered, case_option

EXAMPLES = ("sabueso paper", "sabueso paper --case marisma", "sabueso screen && sabueso paper")


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    case_option(parser)


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.paper import paper

    return answered(args, paper)
