"""``sabueso methods``."""

from __future__ import annotations

import argparse
import textwrap

from sabueso.cli import words
from sabueso.cli.common import emit
from sabueso.screens import find_screen, screen_names

EXAMPLES = ("sabueso methods", "sabueso methods digits", "sabueso methods distance")


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    test = parser.add_argument(
        "test", nargs="?", metavar="TEST", help="a test (default: list them)"
    )
    words.completed(test, words.tests)


def run(args: argparse.Namespace) -> int:
    if args.test is None:
        lines = [f" {name:<9} {find_screen(name).summary}" for name in screen_names()]
        emit("\n".join([*lines, "", " next: sabueso methods digits"]))
        return 0
    screen = find_screen(args.test)
    lines = [f"{args.test}: {screen.summary}", ""]
    for name, field in screen.settings.model_fields.items():
        default = field.get_default(call_default_factory=True)
        shown = (
            "required"
            if field.is_required()
            else f"default {default}"
            if default not in (None, [])
            else ""
        )
        lines.append(f" {name:<14} {field.description}" + (f" ({shown})" if shown else ""))
    lines += [
        "",
        *textwrap.wrap(
            f"reference: {screen.reference}", 96, initial_indent=" ", subsequent_indent="   "
        ),
    ]
    lines += ["", f" next: sabueso try {args.test} --help"]
    emit("\n".join(lines))
    return 0
