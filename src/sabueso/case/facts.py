"""Facts of the plan in settings of a screen: ``greatest = "facts.approval"``."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import date
from typing import Any

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import Values

_NAMED = re.compile(r"facts\.([A-Za-z_][\w.]*)")


def names_fact(value: object) -> bool:
    """Whether a setting is the name of a fact."""
    return isinstance(value, str) and _NAMED.fullmatch(value.strip()) is not None


def with_facts(settings: Mapping[str, Any], facts: Mapping[str, Any], place: str) -> Values:
    """Settings with the values of the facts that they name.

    Raises
    ------
    UserError
        If there is no such fact.
    """
    return {key: _resolved(value, facts, f"{place}: {key}") for key, value in settings.items()}


def _resolved(value: Any, facts: Mapping[str, Any], place: str) -> Any:
    if isinstance(value, list):
        spread = [_resolved(each, facts, place) for each in value]
        return [part for each in spread for part in (each if isinstance(each, list) else [each])]
    if not names_fact(value):
        return value
    name = str(value).strip().partition(".")[2]
    if name not in facts:
        known = nearest(name, facts) or "; facts stand in case.toml under [facts]"
        raise UserError(f"{place}: there is no fact {name!r}{known}")
    fact = facts[name]
    found = fact if isinstance(fact, list) else [fact]
    texts = [v.isoformat() if isinstance(v, date) else str(v) for v in found]
    return texts if isinstance(fact, list) else texts[0]
