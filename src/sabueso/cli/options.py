"""A test's options, made from its settings model: the same names as in the plan.

The options of the tests that come with the program are kept in ``options.json`` as well: help and
completion need nothing else, and a model takes half a second to load with what it is made of.
``python -m sabueso.cli.options`` writes that file again.
"""

from __future__ import annotations

import argparse
import json
import os
import types
from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, TypedDict, Union, get_args, get_origin

from sabueso.base.plain import Values
from sabueso.cli.common import asks_for_help
from sabueso.screens import draw_names, find_screen, screen_names

if TYPE_CHECKING:
    from sabueso.screens.settings import Settings

KEPT = Path(__file__).with_name("options.json")


METAVARS = {
    "where": "SQL", "chosen": "SQL", "base": "PERIOD", "current": "PERIOD", "against": "TABLE",
    "share": "SHARE", "confidence": "SHARE", "tolerable": "ERROR", "expected": "ERROR", "other": "TABLE", "receipts": "TABLE",
    "other_where": "SQL", "quantity_tolerance": "SHARE", "price_tolerance": "SHARE", "at": "DATE", "first": "DATE", "expect": "SQL",
    "equals": "SQL", "terms": "FACT", "limit": "LIMIT",
}  # fmt: skip
"""What stands for the value of a setting that is a text, where it is no column."""
LISTED = {
    "measures": "MEASURE[,…]", "edges": "AMOUNT[,…]", "compare": "PERIOD,PERIOD", "allowed": "VALUE[,…]", "weekdays": "DAY[,…]", "hours": "HOUR[,…]",
    "find": "WHAT[,…]", "leave_out": "WHAT[,…]", "rule": "RULE[,…]", "words": "WORD[,…]", "holidays": "DATE[,…]",
}  # fmt: skip
"""The same of several."""


class Option(TypedDict):
    """An option as the parser is told of it; values stay text, the model validates them. One with an
    empty ``metavar`` takes none."""

    name: str
    metavar: str | None
    choices: list[str] | None
    help: str


class Options(TypedDict):
    """What a test computes, in a few words, and its options."""

    summary: str
    options: list[Option]
    examples: list[str]
    figures: list[str]


def options_of(test: str, rest: Sequence[str]) -> Options:
    """The options of a test; those kept, where the rest of the line asks for words alone.

    Raises
    ------
    UserError
        If there is no such test.
    """
    if "_ARGCOMPLETE" in os.environ or asks_for_help(rest):
        kept: dict[str, Options] = json.loads(KEPT.read_text(encoding="utf-8"))
        if test in kept:
            return kept[test]
    screen = find_screen(test)
    return {
        "summary": screen.summary,
        "options": _of_model(screen.settings),
        "examples": list(screen.examples),
        "figures": list(screen.figures),
    }


def add_options(
    parser: argparse.ArgumentParser, options: Sequence[Option], title: str = "settings of the test"
) -> None:
    """Tell a parser of a test's options."""
    group = parser.add_argument_group(title)
    for option in options:
        name, told = f"--{option['name'].replace('_', '-')}", f"set_{option['name']}"
        if option["metavar"] == "":
            group.add_argument(
                name, dest=told, action="store_const", const="true", help=option["help"]
            )
            continue
        group.add_argument(
            name,
            dest=told,
            metavar=option["metavar"],
            choices=option["choices"],
            help=option["help"].replace("%", "%%"),
        )


def _of_model(model: type[Settings]) -> list[Option]:
    """An option for each field of the model."""
    found: list[Option] = []
    for name, field in model.model_fields.items():
        kind = _plain_type(field.annotation)
        default = field.get_default(call_default_factory=True)
        shown = (
            ""
            if default in (None, [], "", False) or field.is_required()
            else f" (default: {', '.join(default) if isinstance(default, list) else default})"
        )
        required = " (required)" if field.is_required() else ""
        choices = list(get_args(kind)) if get_origin(kind) is Literal else None
        found.append(
            {
                "name": name,
                "metavar": None if choices else _metavar(name, kind),
                "choices": choices,
                "help": f"{field.description}{shown}{required}",
            }
        )
    return found


def given_options(args: argparse.Namespace, model: type[Settings]) -> Values:
    """The options that were given, by field name."""
    found = {name: getattr(args, f"set_{name}") for name in model.model_fields}
    return {name: value for name, value in found.items() if value is not None}


def _plain_type(annotation: Any) -> Any:
    """The type without None."""
    if get_origin(annotation) in (Union, types.UnionType):
        kinds = [kind for kind in get_args(annotation) if kind is not type(None)]
        return kinds[0]
    return annotation


def _metavar(name: str, kind: Any) -> str:
    if get_origin(kind) is list:
        return LISTED.get(name, "COLUMN[,…]")
    if kind is bool:
        return ""
    if kind in (int, float, Decimal):
        return "N"
    return METAVARS.get(name, "COLUMN")


def kept_text() -> str:
    """What ``options.json`` should hold."""
    every = {name: options_of(name, ()) for name in (*screen_names(), *draw_names())}
    return json.dumps(every, indent=1, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    KEPT.write_text(kept_text(), encoding="utf-8", newline="\n")
