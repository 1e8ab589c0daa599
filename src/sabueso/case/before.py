"""What was judged of a line in an earlier period: it comes back, with last time's reason beside it."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass

from sabueso.base.plain import Json
from sabueso.case.exceptions import canonical
from sabueso.case.register import Register
from sabueso.case.standing import Review
from sabueso.screens.subject import Line


@dataclass(frozen=True)
class Before:
    """The same line in the newest earlier period that was judged."""

    id: str
    period: str
    status: str
    reason: str
    initials: str
    at: str

    def as_json(self) -> Json:
        return dict(vars(self))


class Judgements:
    """What lines were judged to be, by their key without the period."""

    def __init__(self, register: Register, reviews: Mapping[str, Review]) -> None:
        self._of: dict[tuple[str, str], list[Before]] = {}
        judged = {one: r for one, r in reviews.items() if r.status != "open"}
        if not judged:
            return
        query = (
            "SELECT id, table_name, key FROM exceptions WHERE kind = :kind AND id IN "
            "(SELECT value FROM json_each(:ids))"
        )
        given = {"kind": Line.kind, "ids": json.dumps(list(judged))}
        for row in register.read(query, given):
            line, review = Line(json.loads(row["key"])), judged[row["id"]]
            found = Before(
                row["id"], line.period, review.status, review.reason, review.initials, review.at
            )
            key = row["table_name"], canonical(line.clients())
            self._of.setdefault(key, []).append(found)

    def before(self, table: str, line: Line) -> Before | None:
        """The newest earlier period of the same length in which the line was judged."""
        own = line.period
        earlier = [
            each
            for each in self._of.get((table, canonical(line.clients())), ())
            if len(each.period) == len(own) and each.period < own
        ]
        return max(earlier, key=lambda each: each.period, default=None)
