"""What this process has recorded so far, for whoever must say so when it ends early.

A command may be stopped, or lose its output, after it has recorded something. Whoever reports that
asks here, and not what was intended.
"""

from __future__ import annotations

from collections.abc import Sequence

_recorded: list[str] = []


def note_recorded(what: Sequence[str]) -> None:
    """Remember what one transaction recorded, each in a few words."""
    _recorded.extend(what)


def recorded() -> list[str]:
    """What was recorded, oldest first."""
    return list(_recorded)


def recorded_text() -> str:
    """The same as part of a sentence; empty where nothing was."""
    if len(_recorded) <= 3:
        return ", ".join(_recorded)
    return f"{_recorded[0]} and {len(_recorded) - 1:,} more, the last {_recorded[-1]}"


def forget() -> None:
    """Begin anew, as a new process would."""
    _recorded.clear()
