"""Drill-down: grouped totals, narrower groups, rows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import plain
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException, one_exception
from sabueso.commands.interface import Answer, Data
from sabueso.population import drill as drills
from sabueso.population.drill import Drill, Measure, Rows
from sabueso.population.expressions import equals
from sabueso.population.sql import PERIODS
from sabueso.report.commands import shell
from sabueso.show.export import drill_json, drill_sheet, rows_sheet

if TYPE_CHECKING:
    from rich.console import Console


def dig(
    case: Case,
    what: str,
    *,
    where: str | None = None,
    by: Sequence[str] = (),
    across: str | None = None,
    on: str | None = None,
    measure: Measure = "sum",
    rows: bool = False,
    limit: int = 15,
) -> Answer[Drill] | Answer[Rows]:
    """Look at the rows of a table, or behind an exception.

    Parameters
    ----------
    what : str
        A table, or an exception's id.
    by : sequence of str
        Groups, and groups within them.
    across : str, optional
        A column, year, quarter, month or weekday as columns.
    on, measure : str
        The measure, and what is taken of it: ``sum``, ``count``, ``mean``, ``min``, ``max``.
    rows : bool
        The rows themselves, largest first; an exception is opened so where nothing else is asked.

    Raises
    ------
    UserError
        If there is no such table, exception or column.
    """
    if limit < 1:
        raise UserError(f"--limit {limit}: expected at least 1")
    table, condition, exception = what, where, None
    if not case.plan.holds(what):
        if "-" not in what:
            known = nearest(what, [*case.plan.tables, *case.plan.populations])
            raise UserError(f"{what!r} is neither a table nor an exception id{known}")
        exception = one_exception(case, what)
        table = exception.table
        condition = f"({exception.selector})" + (f" and ({where})" if where else "")
    as_rows = rows or (exception is not None and not by and not across)
    with case.populations(table) as opened:
        population = opened(table, condition, with_set_aside=True)
        if as_rows:
            return _rows(drills.rows(population, limit=limit, on=on), exception)
        result = drills.drill(population, by=list(by), across=across, measure=measure, on=on)
    dated = "date" in case.plan.tables[case.plan.base_of(table)].roles
    steps = _steps(what, table, result, condition, dated=dated)

    def show(console: Console) -> None:
        from sabueso.show.drill import show_drill

        show_drill(console, result, where=condition, limit=limit, steps=steps)

    return Answer(result, show, lambda: Data(drill_json(result), [drill_sheet(result)]))


def _rows(found: Rows, exception: AuditException | None) -> Answer[Rows]:
    def show(console: Console) -> None:
        from sabueso.show.drill import show_rows
        from sabueso.show.queue import show_exception

        steps = [f"sabueso dig {found.table} --by month"]
        if exception is not None:
            show_exception(console, exception)
            console.print()
            steps = [
                f"sabueso dig {exception.id} --by month",
                f'sabueso review {exception.id} --cleared --reason "…" --as KL',
            ]
        show_rows(console, found, steps=steps)

    def data() -> Data:
        content = {
            "table": found.table,
            "population": found.population.as_json(),
            "rows": [plain(row) for row in found.rows],
        }
        return Data(content, [rows_sheet(found)])

    return Answer(found, show, data)


def _steps(what: str, table: str, result: Drill, where: str | None, *, dated: bool) -> list[str]:
    """Open the largest group, or see it over time."""
    extra = f" and ({where})" if where else ""
    if not result.total.children:
        return [f"sabueso dig {what} --by account", f"sabueso dig {what} --rows"]
    largest = max(result.total.children, key=lambda node: abs(node.value or 0))
    value, name = largest.key[0], result.by[0]
    condition = equals(name, value)
    steps = [f"sabueso dig {table} --where {shell(condition + extra)} --rows"]
    if dated and not result.across and name not in PERIODS:
        condition = f" --where {shell(where)}" if where else ""
        by = shell(",".join(result.by))
        steps.append(f"sabueso dig {table} --by {by} --across year{condition}")
    return steps
