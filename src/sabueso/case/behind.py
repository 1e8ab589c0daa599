"""What was found behind an exception."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from decimal import Decimal

from sabueso.base.plain import Cells, Json, plain
from sabueso.case.queue import AuditException
from sabueso.case.surroundings import Among, Beside, Period
from sabueso.population.drill import Rows
from sabueso.population.driving import Driver
from sabueso.population.peers import Peers


@dataclass(frozen=True)
class Why:
    """What was found. ``drivers`` the strongest column first; ``peers`` of a single row;
    ``contribution`` of an entity's measures to its distance; ``largest`` the rows that carry most,
    and what the figure is without them."""

    exception: AuditException
    on: str | None
    currency: str
    scale: int
    population_rows: int
    rows: int
    amount: Decimal | None
    change: bool
    drivers: list[Driver]
    not_considered: list[tuple[str, str]]
    peers: list[Peers]
    contribution: dict[str, float]
    largest: list[Cells]
    without_largest: Decimal | None
    rate_volume: tuple[Decimal, Decimal] | None = None
    history: list[Period] = field(default_factory=list)
    beside: list[Beside] = field(default_factory=list)
    among: Among | None = None
    sentences: list[str] = field(default_factory=list)
    """What is behind it in words, the most telling first."""
    reasons: tuple[str, ...] = ()
    """Why each test marked it, in a sentence; of a test whose figures say all there is, none."""
    foremost: Rows | None = None
    """The rows behind it, the largest first."""
    asked: bool = False
    """Whether columns were named to be looked at."""

    def as_json(self) -> Json:
        item = self.exception
        return {
            "id": item.id,
            "table": item.table,
            "kind": item.kind,
            "subject": item.key,
            "on": self.on,
            "population_rows": self.population_rows,
            "rows": self.rows,
            "amount": plain(self.amount),
            "drivers": [
                {"column": d.column, "values": [plain(asdict(v)) for v in d.values]}
                for d in self.drivers
            ],
            "not_considered": [{"column": c, "reason": r} for c, r in self.not_considered],
            "peers": [plain(asdict(peer)) for peer in self.peers],
            "contribution": self.contribution,
            "largest": [plain(row) for row in self.largest],
            "without_largest": plain(self.without_largest),
            "sentences": self.sentences,
            "history": [plain(vars(period)) for period in self.history],
            "beside": [plain(vars(each)) for each in self.beside],
            "among": None if self.among is None else plain(vars(self.among)),
            "rate_volume": None
            if self.rate_volume is None
            else {"volume": plain(self.rate_volume[0]), "rate": plain(self.rate_volume[1])},
        }
