"""Words that a shell completes, taken from the case at hand without what reads its rows."""

from __future__ import annotations

import argparse
import tomllib
from collections.abc import Callable, Iterable
from typing import Any

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.screens import screen_names

Words = Callable[..., Iterable[str]]


def completed(action: argparse.Action, words: Words) -> None:
    """Say where the words of an argument come from."""
    action.completer = words  # type: ignore[attr-defined]


def tests(**_: Any) -> list[str]:
    return screen_names()


def tables(**_: Any) -> list[str]:
    plan = _plan()
    return [*plan.get("tables", {}), *plan.get("populations", {})]


def screens(**_: Any) -> list[str]:
    return [str(screen.get("name")) for screen in _plan().get("screens", [])]


def exceptions(prefix: str, **_: Any) -> list[str]:
    """Ids that begin so."""
    try:
        case = Case.find()
    except UserError:
        return []
    query = "SELECT id FROM exceptions WHERE substr(id, 1, length(:p)) = :p ORDER BY id"
    try:
        return [row["id"] for row in case.register.read(query, {"p": prefix})]
    finally:
        case.close()


def tables_and_exceptions(prefix: str, **_: Any) -> list[str]:
    return [*tables(), *exceptions(prefix)]


def screens_and_tables(**_: Any) -> list[str]:
    return [*screens(), *tables()]


def _plan() -> dict[str, Any]:
    """The plan as it stands, valid or not."""
    try:
        return tomllib.loads(Case.find().plan_path.read_text(encoding="utf-8-sig"))
    except (UserError, OSError, ValueError):
        return {}
