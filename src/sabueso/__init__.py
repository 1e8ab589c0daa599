"""Sabueso screens ledger and payment transactions and records the review of what was flagged.

The names below are the public interface: what they take and return is kept, and everything else may
change. They are loaded when they are first used.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from sabueso.version import __version__

if TYPE_CHECKING:
    from sabueso.api import (
        AuditException,
        Case,
        Finding,
        UserError,
        check_seal,
        dig,
        evaluate,
        new_case,
        note,
        open_case,
        paper,
        queue,
        redo,
        review,
        sample,
        screen,
        seal,
        take_in,
        try_test,
        why,
    )

__all__ = [
    "AuditException",
    "Case",
    "Finding",
    "UserError",
    "__version__",
    "check_seal",
    "dig",
    "evaluate",
    "new_case",
    "note",
    "open_case",
    "paper",
    "queue",
    "redo",
    "review",
    "sample",
    "screen",
    "seal",
    "take_in",
    "try_test",
    "why",
]


def __getattr__(name: str) -> Any:
    if name in __all__:
        return getattr(import_module("sabueso.api"), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
