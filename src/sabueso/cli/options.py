"""A test's options, made from its settings model: the same names as in the plan."""

from __future__ import annotations

import argparse
import types
from decimal import Decimal
from typing import Any, Literal, Union, get_args, get_origin

from sabueso.screens.settings import Settings


def add_options(parser: argparse.ArgumentParser, model: type[Settings]) -> None:
    """An option for each field of the model."""
    group = parser.add_argument_group("settings of the test")
    for name, field in model.model_fields.items():
        kind = _plain_type(field.annotation)
        default = field.get_default(call_default_factory=True)
        shown = "" if default in (None, [], "") or field.is_required() else f" (default: {default})"
        required = " (required)" if field.is_required() else ""
        choices = get_args(kind) if get_origin(kind) is Literal else None
        # Values stay text here: the model validates them and words the message.
        group.add_argument(
            f"--{name.replace('_', '-')}",
            dest=f"set_{name}",
            metavar=None if choices else _metavar(name, kind),
            choices=choices,
            help=f"{field.description}{shown}{required}".replace("%", "%%"),
        )


def given_options(args: argparse.Namespace, model: type[Settings]) -> dict[str, Any]:
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
        return "COLUMN[,…]" if name != "measures" else "MEASURE[,…]"
    if kind in (int, float, Decimal):
        return "N"
    return {"where": "SQL", "base": "PERIOD", "current": "PERIOD", "against": "TABLE"}.get(
        name, "COLUMN"
    )
