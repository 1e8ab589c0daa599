"""A paper of some exceptions: one, or those of a matter, each with its marks, causes, rows and reviews."""

from __future__ import annotations

import base64
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError, nearest
from sabueso.base.files import write_whole
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException, exceptions_by_id
from sabueso.case.register import Event
from sabueso.case.standing import matters, notes
from sabueso.case.why import why
from sabueso.population.drill import rows
from sabueso.report.canvas import drawn
from sabueso.show.pages import environment, file_name
from sabueso.show.rows import cell_text
from sabueso.show.why_figure import why_drawing
from sabueso.version import __version__

MOST_ROWS = 40


@dataclass(frozen=True)
class _Part:
    """One exception as the template needs it."""

    item: AuditException
    sentences: Sequence[str]
    figure: str | None
    head: Sequence[tuple[str, bool]]
    rows: Sequence[Sequence[str]]
    said: str


def write_matter(case: Case, name: str) -> Path:
    """The paper of a matter, in the case's ``papers``.

    Raises
    ------
    UserError
        If there is none of that name.
    """
    known = matters(case.register)
    if name not in known:
        raise UserError(f"there is no matter {name!r}{nearest(name, known)}")
    found = exceptions_by_id(case, known[name], hashed=True)
    return _written(case, name, "Matter", found, notes(case.register).get(name, {}))


def write_exception(case: Case, given: str) -> Path:
    """The paper of one exception.

    Raises
    ------
    UserError
        If there is none.
    """
    (item,) = exceptions_by_id(case, [given], hashed=True)
    return _written(case, item.id, "Exception", [item], {})


def _written(
    case: Case,
    name: str,
    what: str,
    items: Sequence[AuditException],
    written: Mapping[str, list[Event]],
) -> Path:
    count, head = case.register.verify()
    page = (
        environment()
        .get_template("exceptions.html")
        .render(
            case=case.plan.case,
            name=name,
            what=what,
            parts=[_part(case, item) for item in items],
            notes=written,
            events=count,
            head=head,
            made=datetime.now(UTC).strftime("%Y-%m-%d %H:%M UTC"),
            version=__version__,
        )
    )
    path = case.folder / "papers" / f"{what.lower()}-{file_name(name)}.html"
    with case.locked():
        write_whole(path, page.encode())
    return path


def _part(case: Case, item: AuditException) -> _Part:
    sentences: Sequence[str] = ()
    picture = None
    try:
        found = why(case, item.id)
        sentences, drawing = found.sentences, why_drawing(found)
        picture = None if drawing is None else drawn(drawing, "svg")
    except UserError as error:  # its screen has gone from the programme
        sentences = [str(error)]
    with case.populations(item.table) as opened:
        population = opened(item.table, item.selector, with_set_aside=True)
        behind = rows(population, limit=MOST_ROWS)
    columns: list[Any] = [c for c in behind.columns if not c.is_place]
    columns = [c for c in columns if any(row[c.name] is not None for row in behind.rows)]
    hidden = behind.population.used - len(behind.rows)
    said = f"The {len(behind.rows):,} largest of {behind.population.used:,} rows." if hidden else ""
    return _Part(
        item=item,
        sentences=sentences,
        figure=None if picture is None else base64.b64encode(picture).decode(),
        head=[*((c.name, c.type == "number") for c in columns), ("source", False)],
        rows=[
            [*(cell_text(row[c.name], c) for c in columns), f"{row['_file']}:{row['_line']}"]
            for row in behind.rows
        ],
        said=said,
    )
