"""Drill-down: grouped totals, narrower groups, rows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import plain
from sabueso.case.change import Change, both_periods, finding_of
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException, one_exception
from sabueso.case.views import SIGN, asked_by, keep_view, view_named
from sabueso.commands.interface import Answer, Data
from sabueso.population import drill as drills
from sabueso.population.drill import Asked, Drill, Node, Rows
from sabueso.population.expressions import all_of, equals, literal
from sabueso.population.population import SET_ASIDE, Population
from sabueso.population.sql import PERIODS
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Table
from sabueso.population.trees import next_group
from sabueso.report.commands import shell
from sabueso.screens.subject import Line
from sabueso.show.drill_sheets import drill_sheet, rows_sheet

if TYPE_CHECKING:
    from rich.console import Console

FIGURES = (".png", ".svg")
LIMIT, WITHIN = 15, 5
"""Groups shown of the first level, or rows; and of each group within a group."""


@dataclass(frozen=True)
class RowsAsked:
    """How rows are shown: some columns by name, or whole rows one under another."""

    columns: Sequence[str] = ()
    tall: bool = False


@dataclass(frozen=True)
class _Place:
    """What is looked at: rows of a table under a condition; those of an exception, or of a view."""

    what: str
    table: str
    where: str | None
    asked: Asked
    exception: AuditException | None = None
    heading: str = ""

    @property
    def with_set_aside(self) -> bool:
        """Rows set aside are left out, but where the exception is itself what was set aside."""
        return self.exception is not None and self.exception.review.set_aside


def dig(
    case: Case,
    what: str,
    *,
    where: str | None = None,
    asked: Asked | None = None,
    rows: RowsAsked | None = None,
    keep: str | None = None,
) -> Answer[Drill] | Answer[Rows]:
    """Look at the rows of a table, behind an exception, or at a view of the plan.

    Parameters
    ----------
    what : str
        A table, an exception's id, or ``@`` and the name of a view.
    where : str, optional
        A condition that rows must meet.
    asked : Asked, optional
        Groups, measures, order.
    rows : RowsAsked, optional
        The rows themselves, largest first; an exception is opened so where nothing else is asked.
    keep : str, optional
        Put the view into the plan under this name.

    Raises
    ------
    UserError
        If there is no such table, exception, view or column.
    """
    asked = asked or Asked(limit=LIMIT, within=WITHIN)
    if asked.limit is not None and asked.limit < 1:
        raise UserError(f"--limit {asked.limit}: expected at least 1")
    place = _place(case, what, where, asked)
    if keep is not None and (rows is not None or place.exception is not None):
        raise UserError("--keep keeps a view of a table's groups, not rows or an exception")
    opened_as_rows = rows is not None or (
        place.exception is not None and not place.asked.by and not place.asked.across
    )
    if opened_as_rows:
        given = rows or RowsAsked()
        return _rows(_listed(case, place, asked, given.columns), place, tall=given.tall)
    with case.populations(place.table) as opened:
        population = opened(place.table, place.where, with_set_aside=place.with_set_aside)
        result = drills.drill(population, place.asked)
        fixed = () if place.exception is None else tuple(place.exception.subject.clients())
        below = next_group(population, (*fixed, *result.by))
    table = population.table
    steps = _steps(place, result, table, below)
    if keep is not None:
        kept = keep_view(case, keep, place.table, place.where, place.asked)
        steps = [f"sabueso dig {shell(SIGN + kept.name)}", *steps]

    def show(console: Console) -> None:
        from sabueso.show.drill import show_drill

        if place.exception is not None and not asked.by:
            from sabueso.show.queue import show_exception

            show_exception(console, place.exception)
            console.print()
        show_drill(console, result, heading=place.heading, steps=steps)

    def data() -> Data:
        # What is written holds every group, and not those alone for which a screen has room.
        with case.populations(place.table) as opened:
            population = opened(place.table, place.where, with_set_aside=place.with_set_aside)
            whole = drills.drill(population, replace(place.asked, limit=None, within=None))
        return Data(drills.drill_json(whole), [drill_sheet(whole)])

    def drawing(path: Path) -> bytes:
        from sabueso.report.canvas import picture
        from sabueso.show.drill_figure import drill_drawing

        return picture(drill_drawing(result), path)

    def lines() -> dict[int, str]:
        return {
            number: _deeper(place, result, node, table, below)
            for number, node in enumerate(_printed(result.total), 1)
            if node is not None
        }

    return Answer(result, show, data, files=dict.fromkeys(FIGURES, drawing), lines=lines)


def _place(case: Case, what: str, where: str | None, asked: Asked) -> _Place:
    if what.startswith(SIGN):
        view = view_named(case, what)
        if asked.by or asked.measures or asked.across:
            raise UserError(
                f"{what} is a view with its own groups and measures; dig {view.table} instead"
            )
        condition = all_of(view.where, where)
        heading = f"{view.name} · {view.table}"
        return _Place(
            view.table, view.table, condition, asked_by(view, limit=view.limit), None, heading
        )
    if case.plan.holds(what):
        return _Place(what, what, where, asked)
    if "-" not in what:
        known = nearest(what, [*case.plan.tables, *case.plan.populations])
        raise UserError(f"{what!r} is neither a table nor an exception id{known}")
    exception = one_exception(case, what)
    selector: str = exception.selector
    change = _change(case, exception)
    if change is not None:
        # A change lies between two periods: either alone would say nothing of it.
        selector = change.condition
        if not asked.across:
            asked = replace(asked, by=asked.by or _opened_by(case, exception), across=change.period)
    return _Place(what, exception.table, all_of(selector, where), asked, exception)


def _opened_by(case: Case, exception: AuditException) -> list[str]:
    """What the line of a change is opened by: the next level of its tree, or another column."""
    with case.populations(exception.table) as opened:
        keyed = tuple(exception.subject.clients())
        below = next_group(opened(exception.table), keyed)
    return [] if below is None else [below]


def _change(case: Case, item: AuditException) -> Change | None:
    """The two periods that an exception lies between, where it is a change and its screen is still there."""
    if not isinstance(item.subject, Line):
        return None
    try:
        finding = finding_of(case, item)
    except UserError:
        return None  # the rows of its own period are left
    return both_periods(finding, item.subject, case.table(item.table))


def _listed(case: Case, place: _Place, asked: Asked, columns: Sequence[str]) -> Rows:
    """The rows themselves."""

    def rows(population: Population) -> Rows:
        limit = asked.limit or LIMIT
        return drills.rows(population, limit=limit, on=asked.on, columns=columns, sort=asked.sort)

    with case.populations(place.table) as opened:
        found = rows(opened(place.table, place.where, with_set_aside=place.with_set_aside))
        aside = SET_ASIDE in found.population.left_out
        if place.exception is not None and aside and not found.population.used:
            # What another review set aside must be seen to be judged: it is shown, and said.
            found = rows(opened(place.table, place.where, with_set_aside=True))
            found = replace(found, order=f"{found.order}; all of them set aside by review")
    return found


def _rows(found: Rows, place: _Place, *, tall: bool) -> Answer[Rows]:
    exception = place.exception

    def show(console: Console) -> None:
        from sabueso.show.queue import show_exception
        from sabueso.show.rows import show_rows

        steps = [f"sabueso dig {place.table} --by month"]
        if "date" not in found.roles:
            steps = [f"sabueso dig {place.table}"]
        if exception is not None:
            show_exception(console, exception)
            console.print()
            steps = [
                f"sabueso why {exception.id}",
                f'sabueso review {exception.id} --cleared --reason "…" --as KL',
            ]
        show_rows(console, found, tall=tall, steps=steps)

    def lines() -> dict[int, str]:
        if tall or not found.rows or FILE_COLUMN not in found.rows[0]:
            return {}
        places = [
            f"{FILE_COLUMN} = {literal(row[FILE_COLUMN])} and {LINE_COLUMN} = {row[LINE_COLUMN]}"
            for row in found.rows
        ]
        return {
            n: f"sabueso dig {place.table} --where {shell(at)} --tall"
            for n, at in enumerate(places, 1)
        }

    def data() -> Data:
        content = {
            "table": found.table,
            "population": found.population.as_json(),
            "rows": [plain(row) for row in found.rows],
        }
        return Data(content, [rows_sheet(found)])

    return Answer(found, show, data, lines=lines)


def _steps(place: _Place, result: Drill, table: Table, below: str | None) -> list[str]:
    """One level deeper in the largest group; its rows; or the whole over time."""
    where = f" --where {shell(place.where)}" if place.where else ""
    if not result.total.children:
        by = below or "month"
        return [f"sabueso dig {place.table}{where} --by {shell(by)}",
                f"sabueso dig {place.table}{where} --rows"]  # fmt: skip
    largest = result.total
    while largest.children:
        largest = max(largest.children, key=_size)
    deeper = _within(place, result, largest, table)
    steps = [_deeper(place, result, largest, table, below)]
    dated = table.role("date") is not None
    if dated and not result.across and not set(result.by) & set(PERIODS):
        by = shell(",".join(result.by))
        steps.append(f"sabueso dig {place.table} --by {by} --across year{where}")
    elif below:
        steps.append(f"{deeper} --rows")
    return steps


def _within(place: _Place, result: Drill, node: Node, table: Table) -> str:
    """The rows of a group."""
    names = [column.name for column in table.columns]
    conditions = [equals(n, v, names) for n, v in zip(result.by, node.key, strict=False)]
    condition = " and ".join([*conditions, *([f"({place.where})"] if place.where else [])])
    return f"sabueso dig {place.table} --where {shell(condition)}"


def _deeper(place: _Place, result: Drill, node: Node, table: Table, below: str | None) -> str:
    """One level deeper in a group: by what it is not grouped by yet, else its rows."""
    free = [*result.by[len(node.key) :], below]
    deeper = _within(place, result, node, table)
    if not free[0]:
        return f"{deeper} --rows"
    across = f" --across {shell(place.asked.across)}" if place.asked.across else ""
    return f"{deeper} --by {shell(free[0])}{across}"


def _printed(node: Node) -> Iterator[Node | None]:
    """Groups in the order of their lines; None for a line of several."""
    for child in node.children:
        yield child
        yield from _printed(child)
    if node.others is not None:
        yield None
    if node.unmet is not None:
        yield None


def _size(node: Node) -> float:
    value = node.value
    return abs(float(value)) if isinstance(value, (int, float, Decimal)) else float(node.rows)
