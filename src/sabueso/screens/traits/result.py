"""What a look at the traits of entries finds."""

from __future__ import annotations

from dataclasses import dataclass, field

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class Trait:
    """A trait, how many entries have it, and the bits that it counts."""

    trait: str
    count: int
    bits: float


@dataclass(frozen=True)
class SourceTraits:
    """The entries of one source: traits count as rare there."""

    source: str | None
    entries: int
    traits: list[Trait]


@dataclass(frozen=True)
class TraitGroup:
    """All entries. ``not_looked_for`` are traits that the table cannot tell, each with the reason; ``limit``
    the bits from which an entry is flagged."""

    group: ByColumn
    entries: int
    rows: int
    traits: list[Trait]
    not_looked_for: dict[str, str]
    limit: float | None
    flagged: int
    sources: list[SourceTraits] = field(default_factory=list)
