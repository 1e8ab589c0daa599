"""What a relation finds in a group: r, two lines, and what single subjects do to them."""

from __future__ import annotations

from dataclasses import dataclass, field

from sabueso.base.plain import ADDED, ByColumn


@dataclass(frozen=True)
class Influential:
    """The subject without which r changes most; ``r_without`` is None where r is not defined then."""

    subject: ByColumn
    name: str
    r_without: float | None
    p_without: float | None


@dataclass(frozen=True)
class Mover:
    """A subject that moves the line by itself."""

    name: str
    leverage: float
    cook: float | None
    dfbetas: float | None


@dataclass(frozen=True)
class Rest:
    """All other subjects, with which a group or those chosen are compared."""

    n: int
    r: float | None


@dataclass(frozen=True)
class Changes:
    """r of the changes from one period to the next, where the subjects are periods."""

    n: int
    r: float | None
    p: float | None


@dataclass(frozen=True)
class RelationGroup:
    """``measures`` are x and y. ``chosen`` is the condition of a subset, None of the whole or a peer
    group; ``points`` are some of the subjects for a figure, ``limit`` is of |residual|.
    ``slope_movers`` are those whose DFBETAS is beyond ``dfbetas_limit``, the strongest first. ``fitted_on``
    says of how many rows the robust line and the points are, where not of all."""

    group: ByColumn
    chosen: str | None
    n: int
    measures: list[str]
    r: float | None
    r_p: float | None
    r_low: float | None
    r_high: float | None
    rho: float | None
    rho_p: float | None
    slope: float | None
    slope_error: float | None
    slope_error_hc3: float | None
    intercept: float | None
    slope_theil_sen: float | None
    intercept_theil_sen: float | None
    pairs_theil_sen: int
    bend_p: float | None
    bend_share: float | None
    limit: float | None
    flagged: int
    most_influential: Influential | None
    movers: list[Mover]
    mover_count: int
    rest: Rest | None
    difference_p: float | None
    changes: Changes | None
    r_two_ways: list[float] | None
    points: list[list[float]]
    dfbetas_limit: float | None = None
    slope_movers: list[Mover] = field(default_factory=list)
    slope_mover_count: int = 0
    fitted_on: int | None = None
    spread_rho: float | None = field(default=None, metadata=ADDED)
    spread_p: float | None = field(default=None, metadata=ADDED)
