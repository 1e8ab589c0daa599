"""Who is behind an excess below a limit, and whose amounts are in pieces: as flags."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import ROUND_CEILING, Decimal
from typing import Any

import numpy as np

from sabueso.base.plain import ByColumn, Cells
from sabueso.population import expressions
from sabueso.population.table import Column, Table, money
from sabueso.screens.split.looking import Pieces
from sabueso.stats.adjust import Method, adjust
from sabueso.stats.bundles import ORDERS, Amounts
from sabueso.stats.hypergeometric import upper_tails
from sabueso.stats.threshold import count_tail

EPOCH = date(1970, 1, 1)
LEAST_INSIDE = 3
PRICE = 0.2
"""Distinct amounts for each row in the band up to which what lies there is a price."""
MANY, FEW_ORDERS, UNLIKELY = 200_000, 8, 0.05
"""Pieces above which whoever has no more bundles than is likely is told by fewer random orders; more of them are
drawn where p is below a value that is far from what a flag needs."""


@dataclass(frozen=True)
class Behind:
    """A value of a column: its rows around a limit and in the band, expected there, p of so many."""

    column: str
    value: Any
    limit: int
    n: int
    inside: int
    expected: float
    total: int
    distinct: int
    p: float


@dataclass(frozen=True, eq=False)
class Bundled:
    """Whose amounts come in bundles that pass a limit: the places of the bundles among those of all, both
    inclusive, how many would be expected, p of so many."""

    key: tuple[Any, ...]
    limit: int
    among: Amounts
    spans: list[tuple[int, int]]
    expected: float
    p: float

    @property
    def bundles(self) -> list[tuple[list[date], list[int]]]:
        """Days and amounts of each."""
        days, units = self.among.days, self.among.units
        return [
            (
                [EPOCH + timedelta(days=d) for d in days[a : b + 1].tolist()],
                units[a : b + 1].tolist(),
            )
            for a, b in self.spans
        ]

    @property
    def rows(self) -> int:
        return sum(b - a + 1 for a, b in self.spans)

    @property
    def total(self) -> int:
        return sum(int(self.among.units[a : b + 1].sum()) for a, b in self.spans)


def behind(rows: Sequence[Cells], column: str, limit: int) -> list[Behind]:
    """Hypergeometric upper tail of the rows in the band for each value of a column."""
    counts, own = [int(row["n"]) for row in rows], [int(row["inside"]) for row in rows]
    whole, inside = sum(counts), sum(own)
    tails = upper_tails(own, whole, inside, counts).tolist() if rows else []
    return [
        Behind(
            column, row["who"], limit, n, k, inside * n / whole if whole else 0.0,
            int(row["total"] or 0), int(row["distinct"]), p,
        )
        for row, n, k, p in zip(rows, counts, own, tails, strict=True)
    ]  # fmt: skip


def bundled(pieces: Pieces, within: int, seed: int, alpha: float) -> tuple[list[Bundled], float]:
    """Bundles of whoever has some, and how many would be expected of all."""
    whose = pieces.amounts
    seen = whose.bundles(within)
    brief = len(whose.units) > MANY
    if brief:
        expected = whose.expected(within, whose.one_stream(seed), FEW_ORDERS)
        again = [
            place
            for place, spans in seen.items()
            if count_tail(len(spans), expected[place], expected[place]) < max(UNLIKELY, alpha)
        ]
        expected[again] = whose.expected(within, whose.own_streams(seed), which=again)
    else:
        expected = whose.expected(within, whose.own_streams(seed))

    found = []
    for place, spans in seen.items():
        # The order that was seen is one of them: what no other has is not impossible for that (Phipson, B. and Smyth,
        # G. K. 2010, Statistical Applications in Genetics and Molecular Biology 9, 39).
        mean = (ORDERS * float(expected[place]) + len(spans)) / (ORDERS + 1)
        limit = int(whose.limits[place])
        p = count_tail(len(spans), mean, mean)
        found.append(Bundled(pieces.keys[place], limit, whose, spans, mean, p))
    return found, float(expected.sum())


@dataclass
class Judge:
    """Puts together what is flagged; ``prices`` are values whose rows in the band are a price."""

    table: Table
    measure: Column
    when: Column | None
    labels: Sequence[str]
    limit_text: str
    width: Decimal
    piece: Decimal
    asked: str
    several: bool
    prices: list[Behind] = field(default_factory=list)
    tested: int = 0

    def flags(
        self, who: Sequence[Behind], whose: Sequence[Bundled], alpha: float, method: Method
    ) -> list[Cells]:
        """One flag for each subject, the least likely first."""
        p = np.array([*(b.p for b in who), *(b.p for b in whose)])
        self.tested = len(p)
        adjusted = adjust(p, method) if len(p) else p
        found: dict[tuple[Any, ...], Cells] = {}
        for one, own in zip(who, adjusted[: len(who)], strict=True):
            if own >= alpha or one.inside < LEAST_INSIDE:
                continue
            if one.distinct <= max(1.0, PRICE * one.inside):
                self.prices.append(one)
                continue
            self._add(found, {one.column: one.value}, self._below(one, float(own)))
        for each, own in zip(whose, adjusted[len(who) :], strict=True):
            if own < alpha:
                named = dict(zip(self.labels, each.key, strict=True))
                self._add(found, named, self._in_pieces(each, float(own)))
        return sorted(found.values(), key=lambda f: (f["p_adjusted"], -abs(f["amount"])))

    def _add(self, found: dict[tuple[Any, ...], Cells], named: ByColumn, flag: Cells) -> None:
        key = tuple(named.items())
        known = found.get(key)
        if known is None:
            found[key] = {"subject": named, **flag}
            return
        # Both ways of one subject are one flag: the rows of either, the smaller p.
        better, other = sorted((known, {"subject": named, **flag}), key=lambda f: f["p_adjusted"])
        found[key] = {
            **better,
            "reasons": [*better["reasons"], *other["reasons"]],
            "selects": f"({better['selects']} or {other['selects']})",
            **{
                name: better[name] if better[name] is not None else other[name]
                for name in ("below", "expected_below", "clusters", "expected_clusters")
            },
        }

    def _below(self, one: Behind, adjusted: float) -> Cells:
        return self._flag(one.limit, one.p, adjusted, one.total) | {
            "direction": "below",
            "reasons": ["below"],
            "score": one.inside / one.expected if one.expected else None,
            "rows": one.inside,
            "below": one.inside,
            "expected_below": one.expected,
            "selects": self._condition({one.column: one.value}, one.limit, 1 - self.width),
        }

    def _in_pieces(self, each: Bundled, adjusted: float) -> Cells:
        days = sorted({day for own, _ in each.bundles for day in own})
        assert self.when is not None
        name = expressions.quoted_name(self.when.name)
        if self.when.type != "date":
            name = f"cast({name} as date)"
        listed = ", ".join(expressions.literal(day) for day in days)
        named = dict(zip(self.labels, each.key, strict=True))
        condition = self._condition(named, each.limit, self.piece)
        scale = self.measure.scale
        return self._flag(each.limit, each.p, adjusted, each.total) | {
            "direction": "in_pieces",
            "reasons": ["in_pieces"],
            "score": len(each.bundles) / each.expected if each.expected else None,
            "rows": each.rows,
            "days": max((own[-1] - own[0]).days for own, _ in each.bundles),
            "clusters": [
                {
                    "from": own[0].isoformat(),
                    "days": (own[-1] - own[0]).days,
                    "rows": len(units),
                    "sum": money(sum(units), scale),
                    "largest": money(max(units), scale),
                }
                for own, units in each.bundles[:50]
            ],
            "cluster_count": len(each.bundles),
            "expected_clusters": each.expected,
            "selects": f"({condition} and {name} in ({listed}))",
        }

    def _flag(self, limit: int, p: float, adjusted: float, total: int) -> Cells:
        return {
            "limit": float(money(limit, self.measure.scale)),
            "p": p,
            "p_adjusted": adjusted,
            "amount": money(total, self.measure.scale),
            "sum": money(total, self.measure.scale),
            "each_below": money(limit, self.measure.scale),
            "days": None,
            "below": None,
            "expected_below": None,
            "clusters": None,
            "cluster_count": None,
            "expected_clusters": None,
        }

    def _condition(self, named: ByColumn, limit: int, least: Decimal) -> str:
        """Rows of somebody from a part of a limit up to it."""
        names = [c.name for c in self.table.columns]
        own = " and ".join(expressions.equals(name, value, names) for name, value in named.items())
        amount = expressions.quoted_name(self.measure.name)
        figure = money(limit, self.measure.scale)
        # Upwards: an amount of a part of a cent below it is not among those that were counted.
        unit = Decimal(1).scaleb(-self.measure.scale)
        low = (figure * least).quantize(unit, rounding=ROUND_CEILING)
        which = f" and ({self.limit_text}) = {figure}" if self.several else ""
        asked = f" and ({self.asked})" if self.asked else ""
        return f"({own} and {amount} >= {low} and {amount} < {figure}{which}{asked})"
