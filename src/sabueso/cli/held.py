"""A case that stays loaded from one command to the next, and what the last one answered."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.base.words import listed

if TYPE_CHECKING:
    from sabueso.case.folder import Case
    from sabueso.commands.interface import Answer

MOST_NAMED = 6


@dataclass
class Held:
    """A case, the last answer that was printed as text, the commands that its lines open by their
    numbers, and those that were printed as next."""

    case: Case
    answer: Answer[Any] | None = None
    lines: Mapping[int, str] = field(default_factory=dict)
    steps: Sequence[str] = ()

    def printed(self, answer: Answer[Any], steps: Sequence[str]) -> None:
        """Remember what was just shown."""
        self.answer, self.steps, self.lines = answer, list(steps), answer.lines()

    def line(self, number: int) -> str:
        """The command that opens a line of what was just shown.

        Raises
        ------
        UserError
            If there is no such line, or it cannot be opened.
        """
        if not self.lines:
            raise UserError("what was shown last has no lines that can be opened by number")
        command = self.lines.get(number)
        if not command:
            known = sorted(self.lines)
            there = f"{known[0]} to {known[-1]}"
            if known[-1] - known[0] >= len(known):  # a part of a longer list
                named = list(map(str, known[:MOST_NAMED]))
                there = f"{', '.join(named)} …" if known[MOST_NAMED:] else listed(named)
            raise UserError(f"there is no line {number} to open: what was shown last has {there}")
        return command


_now: list[Held] = []


def hold(held: Held) -> None:
    """Let commands work on a case that is loaded, until :func:`release`."""
    _now[:] = [held]


def release() -> None:
    _now.clear()


def held() -> Held | None:
    """The case that is held, where one is."""
    return _now[0] if _now else None
