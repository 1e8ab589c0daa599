"""Values as JSON holds them, and back: what a run recorded is read as what it was."""

from __future__ import annotations

from dataclasses import fields, is_dataclass
from decimal import Decimal
from functools import cache
from typing import Any

Json = dict[str, Any]
"""An object as JSON holds it."""
ByColumn = dict[str, Any]
"""Values by the columns that they are of: those of a group, or of a subject."""
Values = dict[str, Any]
"""Settings by their names, as options or the plan have them."""
Cells = dict[str, Any]
"""A row, or a flag, by its columns."""
_PLAIN = frozenset((str, int, float, bool, type(None)))
ADDED: dict[str, bool] = {"added": True}
"""Metadata of a field that is left out of JSON where it is None."""


def plain(value: Any) -> Any:
    """A value as JSON can hold it: decimals and dates as text, NumPy scalars as Python's, frozen
    types as objects of their fields."""
    if type(value) in _PLAIN:
        return value
    if isinstance(value, dict):
        return {str(k): v if type(v) in _PLAIN else plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [v if type(v) in _PLAIN else plain(v) for v in value]
    if isinstance(value, Decimal):
        return format(value, "f")
    if is_dataclass(value) and not isinstance(value, type):
        found = {}
        for name, added in _fields(type(value)):
            each = getattr(value, name)
            if not (added and each is None):
                found[name] = each if type(each) in _PLAIN else plain(each)
        return found
    if hasattr(value, "isoformat"):
        return value.isoformat()
    if hasattr(value, "item"):
        return value.item()
    return value


@cache
def _fields(kind: type) -> list[tuple[str, bool]]:
    return [(f.name, "added" in f.metadata) for f in fields(kind)]


def restored(kind: Any, value: Any) -> Any:
    """What :func:`plain` made of a value of that type, as the value again.

    Raises
    ------
    ValueError
        If it is none.
    """
    return _adapter(kind).validate_python(value)


@cache
def _adapter(kind: Any) -> Any:
    from pydantic import TypeAdapter

    return TypeAdapter(kind)
