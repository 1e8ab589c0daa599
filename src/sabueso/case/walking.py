"""Going through the queue one exception after another: where the reviewer is, and what was recorded."""

from __future__ import annotations

import json
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from sabueso.base.files import json_text, write_whole
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException, exceptions_by_id
from sabueso.case.reviews import (
    Disposition,
    Recorded,
    check_initials,
    record_disposition,
    record_reopening,
)

KEPT = ".walk.json"
"""Where each reviewer stopped, by initials: a convenience, and no record."""


@dataclass
class Walk:
    """A reviewer's way through some exceptions. What is recorded is recorded at once, each by itself."""

    case: Case
    initials: str
    items: list[AuditException]
    at: int = 0
    recorded: list[Recorded] = field(default_factory=list)
    taken_back: int = 0
    resumed: bool = False

    @classmethod
    def begin(cls, case: Case, items: Sequence[AuditException], initials: str) -> Walk:
        """Take it up where these initials stopped, or at the first exception that is open.

        Raises
        ------
        UserError
            If there are no initials.
        """
        walk = cls(case, check_initials(initials), list(items))
        ids = [item.id for item in walk.items]
        last = _stops(case.folder).get(walk.initials)
        if last in ids:
            walk.at, walk.resumed = ids.index(last), True
        else:
            opened = [i for i, item in enumerate(walk.items) if item.review.status == "open"]
            walk.at = opened[0] if opened else 0
        return walk

    @property
    def now(self) -> AuditException | None:
        return self.items[self.at] if 0 <= self.at < len(self.items) else None

    def after(self) -> int | None:
        """The place of the next open exception; the next of any where none is."""
        places = range(self.at + 1, len(self.items))
        opened = [i for i in places if self.items[i].review.status == "open"]
        return next(iter(opened), next(iter(places), None))

    def ahead(self, most: int) -> list[AuditException]:
        """The open exceptions that come next."""
        rest = self.items[self.at + 1 :]
        return [item for item in rest if item.review.status == "open"][:most]

    def forward(self) -> bool:
        """Go to the next open exception; False at the end."""
        place = self.after()
        self.at = len(self.items) if place is None else place
        return place is not None

    def back(self) -> bool:
        """Go to the exception before; False at the first."""
        if self.at == 0:
            return False
        self.at -= 1
        return True

    def search(self, text: str) -> bool:
        """Go to the next exception, around the end, with a text in its id, label or marks."""
        wanted = text.strip().lower()
        order = [*range(self.at + 1, len(self.items)), *range(self.at + 1)]
        for place in order:
            item = self.items[place]
            told = " ".join([item.id, item.table, item.label, *(m.screen for m in item.marks)])
            if wanted and place < len(self.items) and wanted in told.lower():
                self.at = place
                return True
        return False

    def judge(self, disposition: Disposition) -> Recorded:
        """Record a disposition of the exception at hand.

        Raises
        ------
        UserError
            If it cannot be recorded; then the walk stays where it is.
        """
        item = self.items[self.at]
        (done,) = record_disposition(self.case, [item.id], self.initials, disposition)
        self._refresh(self.at)
        self.recorded.append(done)
        return done

    def undo(self) -> str | None:
        """Reopen what was recorded last, and go there; its id, or None where there is nothing. The register
        keeps both events."""
        while self.recorded:
            done = self.recorded.pop()
            place = [item.id for item in self.items].index(done.event.subject)
            self._refresh(place)
            if self.items[place].review.status == "open":
                continue
            reason = f"taken back: event {done.event.seq}"
            record_reopening(self.case, [done.event.subject], reason, self.initials)
            self._refresh(place)
            self.taken_back += 1
            self.at = place
            return done.event.subject
        return None

    def stop(self) -> None:
        """Keep where it was left."""
        item = self.now
        stops = _stops(self.case.folder)
        if item is None:
            stops.pop(self.initials, None)
        else:
            stops[self.initials] = item.id
        with suppress(OSError):  # a case that may only be read keeps no place
            write_whole(self.case.folder / KEPT, json_text(stops).encode())

    def _refresh(self, place: int) -> None:
        self.items[place] = exceptions_by_id(self.case, [self.items[place].id])[0]


def _stops(folder: Path) -> dict[str, str]:
    try:
        content = json.loads((folder / KEPT).read_bytes())
    except (OSError, ValueError):
        return {}
    return content if isinstance(content, dict) else {}
