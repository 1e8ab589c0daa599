"""What the tests compute, and where that was published."""

from __future__ import annotations

import textwrap
from typing import TYPE_CHECKING

from sabueso.commands.interface import Answer
from sabueso.screens import draw_names, find_screen, screen_names

if TYPE_CHECKING:
    from rich.console import Console

WIDTH = 96


def methods(test: str | None = None) -> Answer[list[str]]:
    """The tests there are, or one of them with its settings and its reference; the value is lines.

    Raises
    ------
    UserError
        If there is no such test.
    """
    lines = _every() if test is None else _one(test)

    def show(console: Console) -> None:
        from sabueso.show.console import said

        said(console, *lines)

    return Answer(lines, show)


def _every() -> list[str]:
    names = [*screen_names(), *draw_names()]
    lines = [f" {name:<9} {find_screen(name).summary}" for name in names]
    return [*lines, "", f" next: sabueso methods {screen_names()[0]}"]


def _one(test: str) -> list[str]:
    screen = find_screen(test)
    lines = [f"{test}: {screen.summary}", ""]
    for name, field in screen.settings.model_fields.items():
        default = field.get_default(call_default_factory=True)
        shown = "" if default in (None, []) else f" (default {default})"
        if field.is_required():
            shown = " (required)"
        lines.append(f" {name:<14} {field.description}{shown}")
    command = test if screen.drawn else f"try {test}"
    reference = textwrap.wrap(
        f"reference: {screen.reference}", WIDTH, initial_indent=" ", subsequent_indent="   "
    )
    return [*lines, "", *reference, "", f" next: sabueso {command} --help"]
