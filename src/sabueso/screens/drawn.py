"""Rows that were drawn and not flagged: how each stands, and what follows for all of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

from sabueso.base.plain import Json
from sabueso.report.blocks import Block


@dataclass(frozen=True)
class Judged:
    """How an item stands: its disposition, and the amount of its error, which is what was recorded less
    what is right."""

    identity: str
    status: str
    error: Decimal | None = None


@dataclass(frozen=True)
class Evaluated:
    """What the reviews of a sample say, as data and as blocks.

    ``conclusion`` is a sentence, empty until all of it is judged, or where none follows; ``lacking`` then
    says why.
    """

    content: Json
    blocks: Sequence[Block]
    items: int
    judged: int
    conclusion: str
    lacking: str
    within: bool | None = None
