"""Events of the register under their fields' names, each with a form of its own.

What older versions of this program did not write has a value that says so; what newer ones write is
passed over.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sabueso.base.plain import Json
from sabueso.population.table import Column

if TYPE_CHECKING:
    from sabueso.case.register import Event


@dataclass(frozen=True)
class StatedTotal:
    """A total that a file states, beside what its rows add up to; line 0 where it is stated as ``what``
    outside of the rows."""

    line: int
    what: str
    column: str
    stated: Decimal
    accepted: Decimal
    quarantined: Decimal
    agrees: bool


@dataclass(frozen=True)
class Source:
    """A source file, as the register has it. Its parts are read off the event when they are asked for: a
    case may have thousands of files."""

    event: Event

    @property
    def table(self) -> str:
        return self.event.subject

    @property
    def at(self) -> str:
        return self.event.at

    @property
    def file(self) -> str:
        return str(self.event.body["file"])

    @property
    def sha256(self) -> str:
        return str(self.event.body["sha256"])

    @property
    def size(self) -> int:
        return int(self.event.body["bytes"])

    def count(self, what: str) -> int:
        """How many ``lines``, ``read``, ``accepted``, ``quarantined``, ``totals`` or ``blank`` it has."""
        return int(self.event.body[what])

    @property
    def lines(self) -> int:
        return self.count("lines")

    @property
    def accepted(self) -> int:
        return self.count("accepted")

    @property
    def columns(self) -> tuple[Column, ...]:
        return tuple(Column(**column) for column in self.event.body["columns"])

    @property
    def roles(self) -> dict[str, str]:
        return dict(self.event.body.get("roles", {}))

    @property
    def minus(self) -> frozenset[str] | None:
        """The sides whose amounts had a minus of their own; None where none was recorded."""
        found = self.event.body.get("minus")
        return None if found is None else frozenset(found)

    @property
    def sums(self) -> dict[str, Decimal]:
        return {name: Decimal(text) for name, text in self.event.body["sums"].items()}

    @property
    def amount(self) -> Decimal | None:
        """The sum of its amounts; None where it has none."""
        text = self.event.body["sums"].get(self.roles.get("amount", ""))
        return None if text is None else Decimal(text)

    @property
    def currencies(self) -> tuple[str, ...]:
        return tuple(self.event.body.get("currencies", ()))

    @property
    def stated_totals(self) -> list[StatedTotal]:
        return [
            StatedTotal(
                t["line"], t.get("what", ""), t["column"], Decimal(t["stated"]), Decimal(t["accepted"]),
                Decimal(t["quarantined"]), bool(t["agrees"]),
            )
            for t in self.event.body.get("totals_lines", ())
        ]  # fmt: skip

    @property
    def parquet(self) -> str:
        """The file of its rows, relative to the case unless it is attached."""
        return str(self.event.body["parquet"])

    @property
    def parquet_sha256(self) -> str:
        return str(self.event.body.get("parquet_sha256", ""))

    @property
    def parquet_mtime_ns(self) -> int | None:
        return self.event.body.get("parquet_mtime_ns")

    @property
    def parquet_size(self) -> int | None:
        """The size of its rows' file; None where it was not recorded."""
        return self.size if self.base else self.event.body.get("parquet_bytes")

    @property
    def base(self) -> Path | None:
        """The folder that an attached file lies under; None of one that was copied."""
        base = self.event.body.get("base")
        return Path(base) if base else None

    @property
    def origin(self) -> dict[str, str]:
        """The database and the query, of rows that are from one."""
        return {
            key: self.event.body[key] for key in ("database", "query") if key in self.event.body
        }


@dataclass(frozen=True)
class RuleOutcome:
    """What a rule caught at an intake, as it is recorded."""

    title: str
    rule: str
    then: str
    rows: int
    set_aside: int
    left: int
    amount: Decimal | None
    missing: int = 0
    gaps: tuple[str, ...] = field(default=())
    columns: tuple[str, ...] = field(default=())

    @classmethod
    def of(cls, content: Mapping[str, Any]) -> RuleOutcome:
        """A rule's outcome from its JSON."""
        amount = content.get("amount")
        return cls(
            title=content["title"],
            rule=content["rule"],
            then=content["then"],
            rows=content["rows"],
            set_aside=content["set_aside"],
            left=content["left"],
            amount=None if amount is None else Decimal(amount),
            missing=content.get("missing", 0),
            gaps=tuple(content.get("gaps", ())),
            columns=tuple(content.get("columns", ())),
        )

    def as_json(self) -> Json:
        """The outcome as JSON can hold it."""
        return {
            "title": self.title, "rule": self.rule, "columns": list(self.columns), "then": self.then,
            "rows": self.rows, "set_aside": self.set_aside, "left": self.left,
            "amount": None if self.amount is None else format(self.amount, "f"),
            "missing": self.missing, "gaps": list(self.gaps),
        }  # fmt: skip
