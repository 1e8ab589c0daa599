"""The sample case, written and worked from end to end."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.commands.interface import Answer
from sabueso.demo.build import Demo, build_demo

if TYPE_CHECKING:
    from rich.console import Console


def demo(
    folder: Path,
    *,
    seed: int = 20,
    scale: float = 1.0,
    progress: Callable[[str, int, int], None],
) -> Answer[Demo]:
    """Write the sample inbox and case into a new folder, and work it from end to end.

    Raises
    ------
    UserError
        If the folder exists and is not empty, or the seed or the scale is impossible.
    """
    if seed < 0:
        raise UserError(f"--seed {seed}: expected 0 or more")
    made = build_demo(folder, seed, scale, progress)
    made.case.close()

    def show(console: Console) -> None:
        from sabueso.demo.summary import show_demo

        show_demo(console, made, folder)

    return Answer(made, show)
