"""``sabueso demo``."""

from __future__ import annotations

import argparse
from pathlib import Path

from sabueso.cli.common import give, with_bar

EXAMPLES = ("sabueso demo", "sabueso demo my-demo --seed 7", "sabueso demo large --scale 10")


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument(
        "folder",
        nargs="?",
        type=Path,
        default=Path("marisma"),
        help="a new folder (default: marisma)",
    )
    parser.add_argument("--seed", type=int, default=20, metavar="N", help="seed (default: 20)")
    parser.add_argument(
        "--scale",
        type=float,
        default=1.0,
        metavar="K",
        help="size: 1 is 36,000 payments (default: 1)",
    )


def run(args: argparse.Namespace) -> int:
    from sabueso.commands.demo import demo

    return give(
        args,
        with_bar(lambda bar: demo(args.folder, seed=args.seed, scale=args.scale, progress=bar)),
    )
