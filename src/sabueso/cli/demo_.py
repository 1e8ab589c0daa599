"""``sabueso demo``."""

from __future__ import annotations

import argparse
from pathlib import Path

from sabueso.cli.common import Bar, with_bar

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
    from sabueso.base.errors import UserError
    from sabueso.demo.build import Demo, build_demo

    if args.seed < 0:
        raise UserError(f"--seed {args.seed}: expected 0 or more")

    def work(bar: Bar) -> Demo:
        return build_demo(args.folder, args.seed, args.scale, bar)

    demo: Demo = with_bar(work)
    demo.case.close()
    from sabueso.demo.summary import show_demo
    from sabueso.show.console import make_console

    show_demo(make_console(), demo, args.folder)
    return 0
