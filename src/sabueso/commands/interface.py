"""What a command returns."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from sabueso.base.errors import UserError
from sabueso.report.blocks import Sheet

if TYPE_CHECKING:
    from rich.console import Console

V = TypeVar("V")


@dataclass(frozen=True)
class Data:
    """An answer as data: what JSON holds, and sheets for the other forms, the first of them for those
    of one table."""

    content: Any
    sheets: Sequence[Sheet] = ()


@dataclass(frozen=True)
class Answer(Generic[V]):
    """The answer of a command.

    ``value`` is what was found, as the public functions return it. ``show`` prints it; ``data``
    gives what is printed as data, ``whole`` what a file gets where that is more. ``files`` are other
    forms by suffix, each made for a path. ``fault`` is what must be said after the answer, with the
    exit code 2; else the exit code is ``code``. ``lines`` are commands that open what is printed, by
    the numbers of its lines.
    """

    value: V
    show: Callable[[Console], None]
    data: Callable[[], Data] | None = None
    whole: Callable[[], Data] | None = None
    files: Mapping[str, Callable[[Path], bytes]] = field(default_factory=dict)
    code: int = 0
    fault: UserError | None = None
    lines: Callable[[], Mapping[int, str]] = dict
