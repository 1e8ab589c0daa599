"""What a match shows: both sides reconciled, then the keys that are absent or present."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from sabueso.base.plain import Cells
from sabueso.base.words import listed
from sabueso.population.expressions import equals
from sabueso.population.table import bare_name
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Line, Marked, Table
from sabueso.report.commands import shell
from sabueso.screens.match.flagging import MOST_PARTNERS, OPEN
from sabueso.screens.match.result import Compared, MatchGroup, Side
from sabueso.screens.match.three_way import over_text
from sabueso.screens.view import MOST_FLAGS, View, more_flags


class MatchView(View[MatchGroup]):
    """Keys, rows and money of both sides, then who is flagged."""

    subjects = ("key", "keys")

    @property
    def _own(self) -> bool:
        """Whether keys were looked for among themselves."""
        return self.finding.flags.kind == "cluster"

    @property
    def _columns(self) -> list[str]:
        """The keys as they are read: without the quotes that SQL needs."""
        return [bare_name(each) for each in self.finding.used["on"]]

    @property
    def _spans(self) -> str:
        """Between which days of the other table rows lie, or do not."""
        during = self.finding.used.get("during")
        if during and len(during) == 1:
            return f" on days after {bare_name(during[0])}"
        return f" on days from {' to '.join(map(bare_name, during))}" if during else ""

    def headline(self) -> str:
        s = self.finding.used
        on = ", ".join(self._columns)
        other = "each other" if self._own else s["other"]
        when = f", by {s['when']}" if s["when"] else self._spans
        if s["receipts"]:
            return f"{on} invoiced beside {s['other']} and {s['receipts']}"
        return f"{on} {s['find']} among {other}{when}"

    def name(self) -> str:
        s = self.finding.used
        when = f" by {s['when']}" if s["when"] else self._spans
        if s["receipts"]:
            return f"{self.finding.source} beside {s['other']} and {s['receipts']}"
        return (
            f"{listed(self._columns)} of {self.finding.source} {s['find']} among {s['other']}{when}"
        )

    def blocks(self, *, whole: bool = False) -> list[Block]:
        (g,) = self.finding.groups
        if g.three_way is not None:
            return [*self._three_way(g.three_way), Gap(), *self._over()]
        sides = [g.left] if self._own else [g.left, g.right]
        columns = [
            Column("table", "left"), Column("keys"), Column("rows"), Column("amount"),
            Column("matched"), Column("their amount"), Column("absent"), Column("their amount"),
        ]  # fmt: skip
        rows = [self._side(side) for side in sides]
        return [Table(columns, rows), Gap(), *self.flagged()]

    def _three_way(self, c: Compared) -> list[Block]:
        """How many keys lack an order or a receipt, or are over."""
        columns = [
            Column("keys invoiced"), Column("no order"), Column("no receipt"), Column("over the order"),
            Column("over the receipt"), Column("over the price"), Column("in all"),
        ]  # fmt: skip
        counts = (
            c.keys,
            c.without_order,
            c.without_receipt,
            c.over_ordered,
            c.over_received,
            c.over_price,
        )
        row: list[Cell] = [
            *(num.count(n) for n in counts),
            num.amount(c.excess, self.finding.scale),
        ]
        s = self.finding.used
        told = (
            f"over: more than the tolerance of {s['quantity_tolerance']} in quantity, {s['price_tolerance']} in "
            "price; an excess of quantity counts at the order's price"
        )
        return [Table(columns, [row]), Line(told, "muted")]

    def _over(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            return [Line("nothing is invoiced beyond its order and receipt")]
        columns = [
            Column("key", "left"), Column("over by"), Column("of quantity"), Column("of price"),
            Column("what", "wrap"),
        ]  # fmt: skip
        rows: list[list[Cell]] = []
        for flag in finding.flags.rows(MOST_FLAGS):
            amounts = (flag["amount"], flag["by_quantity"], flag["by_price"])
            rows.append(
                [
                    Marked(f"▲ {finding.flags.named(flag).short()}"),
                    *(num.amount(Decimal(a), finding.scale) for a in amounts),
                    over_text(flag, finding.scale),
                ]
            )
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def _side(self, side: Side) -> list[Cell]:
        scale = self.finding.scale
        return [
            side.table,
            num.count(side.keys),
            num.count(side.rows),
            num.amount(side.amount, scale),
            num.count(side.matched),
            num.amount(side.matched_amount, scale),
            num.count(side.absent),
            num.amount(side.absent_amount, scale),
        ]

    def flagged(self) -> list[Block]:
        finding = self.finding
        (g,) = finding.groups
        if not len(finding.flags):
            others = g.find == "absent" and g.left.absent > 0
            return [Line(f"no {'other ' if others else ''}key is {g.find}")]
        present = g.find == "present"
        columns = [Column("key", "wrap"), Column("rows"), Column("amount")]
        period = "day" if self._spans else finding.used["when"]
        timed = period is not None and not self._own
        columns += [Column(f"{period}s", "wrap")] if timed else []
        instead = not present and any("instead" in flag for flag in finding.flags.rows(1))
        columns += [Column("has instead", "wrap")] if instead else []
        if present:
            columns += [Column("is", "wrap"), Column("alike"), Column("differs in", "wrap")]
        rows: list[list[Cell]] = []
        for flag in finding.flags.rows(MOST_FLAGS):
            named = finding.flags.named(flag).short()
            row: list[Cell] = [
                Marked(f"▲ {named}"),
                num.count(flag["rows"]),
                "–"
                if flag["amount"] is None
                else num.amount(Decimal(flag["amount"]), finding.scale),
            ]
            if timed:
                row.append(", ".join(flag["periods"]))
            if instead:
                row.append(", ".join(flag["instead"][:MOST_INSTEAD]) or "nothing")
            if present:
                told = _partners(flag, named)
                own = next(iter(flag.get("ids") or []), None)
                row[0] = Marked(f"▲ {named}{f' ({own})' if own and str(own) != named else ''}")
                row += [
                    ", ".join(told),
                    num.number(flag["similarity"], 0),
                    ", ".join(flag["differs"]) or "nothing",
                ]
            rows.append(row)
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def _in_spans(self, flag: Cells) -> str:
        """What the other table has around its days."""
        other, days = self.finding.used["other"], len(flag["periods"])
        during = self.finding.used["during"]
        if len(during) == 1:
            ended = f"the {bare_name(during[0])} of {other}"
            if not flag["partners"]:
                return f"{'which is not' if days == 1 else 'none of which is'} after {ended}"
            day = str(flag["partners"][0]["key"]).split(" / ")[-1]
            after = "which is" if days == 1 else f"the first of which, {flag['periods'][0]}, is"
            return f"{after} after {ended}, {day}"
        if not flag["partners"]:
            return f"{'which lies' if days == 1 else 'all of which lie'} in no span{self._spans.removeprefix(' on days')} in {other}"
        first, last = (str(flag["partners"][0]["key"]).split(" / "))[-2:]
        since = "" if first == OPEN else f" from {first}"
        until = (
            " without an end" if last == OPEN else f" up to {last}" if not since else f" to {last}"
        )
        lies = "which lies" if days == 1 else f"the first of which, {flag['periods'][0]}, lies"
        return f"{lies} in what {other} has{since}{until}"

    def steps(self, where: str | None) -> list[str]:
        """The rows of the first key: of all its columns, where it has several."""
        flag = next(self.finding.flags.rows(1), None)
        if flag is None or "instead" not in flag:
            return super().steps(where)
        named = self.finding.flags.named(flag).clients().items()
        own = " and ".join(equals(name, value, self.finding.columns) for name, value in named)
        return [f"sabueso dig {self.finding.source} --where {shell(own)} --rows"]

    def reason(self, flag: Cells) -> str:
        if self.finding.groups[0].three_way is not None:
            named = self.finding.flags.named(flag).short()
            over = num.amount(Decimal(flag["amount"]), self.finding.scale)
            return f"{listed(self._columns)} {named} is invoiced over order or receipt by {over}: {over_text(flag, 2)}."
        columns, rows = listed(self._columns), num.many(flag["rows"], "row")
        named = self.finding.flags.named(flag).short()
        own = next(iter(flag.get("ids") or []), None)
        known = "" if own is None or str(own) == named else f" of {own}"
        amount = (
            ""
            if flag["amount"] is None
            else f" of {num.amount(Decimal(flag['amount']), self.finding.scale)}"
        )
        if self._spans:
            return f"{columns} {named}{known} has {rows}{amount} on {_listed_days(flag)}, {self._in_spans(flag)}."
        if not flag["partners"]:
            word = "on" if self.finding.used.get("when") == "day" else "in"
            periods = f" {word} {', '.join(flag['periods'])}" if flag.get("periods") else ""
            other = self.finding.used["other"]
            absent = f"{columns} {named} has {rows}{amount}{periods}, and is absent among {other}{periods and ' then'}"
            return f"{absent}{_instead(flag, other, self._columns)}."
        differs = f", unlike in {', '.join(flag['differs'])}" if flag["differs"] else ""
        told = ", ".join(_partners(flag, named))
        if not self._own:
            # Of a value, a name too, and not of whoever bears it.
            exact = self.finding.used["keys"] == "exact"
            equal = exact or all(_is_its_own(p, named) for p in flag["partners"])
            stands = (
                f"{'the same' if equal else 'one alike'} stands in {self.finding.used['other']}"
            )
            return f"{columns} {named}{known} has {rows}{amount}, and {stands}: {told}{differs}."
        if all(_is_its_own(p, named) for p in flag["partners"]):
            return f"{columns} {named} is that of {rows}{amount}: {', '.join(filter(None, [own and str(own), told]))}."
        others = flag["partners"]
        weighed = len(others) < MOST_PARTNERS and all("rows" in p for p in others)
        if weighed and flag["rows"] > len(others) + 1:
            return f"{columns} {self._beside(flag, named)}{differs}."
        return f"{columns} {named}{known} stands with {told} of its own table on {rows}{amount}{differs}."

    def _beside(self, flag: Cells, named: str) -> str:
        """What each of the ways in which a key is written has."""
        rest, others = flag["rows"], flag["partners"]
        amount = flag["amount"]
        for other in others:
            rest -= other["rows"]
            amount = None if amount is None else Decimal(amount) - Decimal(other["amount"])
        told = [f"{p['key']} {self._weight(p['rows'], p['amount'])}" for p in others]
        first = f"{named} has {self._weight(rest, amount)}"
        return f"{first}, and {listed(told)}"

    def _weight(self, rows: int, amount: object) -> str:
        told = num.many(rows, "row")
        return (
            told
            if amount is None
            else f"{told} of {num.amount(Decimal(str(amount)), self.finding.scale)}"
        )


def _listed_days(flag: Cells) -> str:
    days = flag["periods"]
    more = len(days) - MOST_DAYS
    return ", ".join(days[:MOST_DAYS]) + (f" and {num.many(more, 'other day')}" if more > 0 else "")


MOST_DAYS = 6


def _instead(flag: Cells, other: str, columns: Sequence[str]) -> str:
    """What the other table has by the first of several columns, as many of them as it knows."""
    if len(columns) < 2 or "instead" not in flag:
        return ""
    shared = " · ".join(list(map(str, flag["subject"].values()))[: flag["shared"]])
    if not flag["instead"]:
        return f", which has no {columns[0]} {shared}"
    has = " or ".join(flag["instead"][:MOST_INSTEAD])
    more = len(flag["instead"]) - MOST_INSTEAD
    return f", which has {has}{f' and {more:,} more' if more > 0 else ''} for {shared}"


MOST_INSTEAD = 3


def _is_its_own(partner: Cells, named: str) -> bool:
    """Whether a partner's key is the one that is told, its parts written side by side."""
    return str(partner["key"]).replace(" / ", " · ") == named


def _partners(flag: Cells, named: str) -> list[str]:
    """Those on the other side, each by its id, and by its key where that is written otherwise; of a key
    that several rows of one table have, the others of these."""
    ids = [str(each) for each in flag.get("ids") or [] if each is not None]
    if len(ids) > 1 and all(_is_its_own(p, named) for p in flag["partners"]):
        rest = int(flag["rows"]) - 2
        return [*ids[1:], *([f"and {rest:,} more"] if len(ids) == 2 and rest > 0 else [])]
    return [
        p["key"]
        if p["id"] in (None, "", p["key"])
        else p["id"]
        if _is_its_own(p, named)
        else f"{p['key']} ({p['id']})"
        for p in flag["partners"]
    ]
