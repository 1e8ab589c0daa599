"""Views of the plan: drill-downs under a name, made again with each run of the programme."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from sabueso.base.errors import UserError, nearest
from sabueso.case.folder import Case
from sabueso.case.plan_parts import ViewSection
from sabueso.case.plan_writing import write_view
from sabueso.population.drill import Asked, Drill, drill
from sabueso.population.population import Population

SIGN = "@"
"""What a view's name begins with where a table or an exception could stand."""


def asked_by(view: ViewSection, *, limit: int | None) -> Asked:
    """What a view of the plan asks for."""
    return Asked(
        by=view.by,
        across=view.across or None,
        measures=view.measures,
        measure=view.measure,
        on=view.on or None,
        having=view.having or None,
        sort=view.sort or None,
        limit=limit,
        within=view.within or None,
    )


def view_named(case: Case, name: str) -> ViewSection:
    """The view of that name.

    Raises
    ------
    UserError
        If the plan has none.
    """
    wanted = name.removeprefix(SIGN)
    for view in case.plan.views:
        if view.name == wanted:
            return view
    names = [view.name for view in case.plan.views]
    hint = nearest(wanted, names) if names else "; keep one with: sabueso dig TABLE … --keep NAME"
    raise UserError(f"there is no view {wanted!r}{hint}")


def keep_view(case: Case, name: str, table: str, where: str | None, asked: Asked) -> ViewSection:
    """Put a view into the plan, in the place of one of its name.

    Raises
    ------
    UserError
        If the name is empty.
    """
    if not name.strip(SIGN + " "):
        raise UserError("--keep needs a name for the view")
    view = ViewSection(
        name=name.strip().removeprefix(SIGN),
        table=table,
        where=where or "",
        by=list(asked.by),
        across=asked.across or "",
        measures=list(asked.measures),
        measure=asked.measure,
        on=asked.on or "",
        having=asked.having or "",
        sort=asked.sort or "",
        within=asked.within or 0,
        limit=asked.limit or ViewSection.model_fields["limit"].default,
    )
    with case.locked():
        write_view(case.plan_path, view)
    return view


def performed(
    views: Sequence[ViewSection], population: Callable[..., Population]
) -> tuple[list[tuple[ViewSection, Drill]], list[tuple[ViewSection, str]]]:
    """Views on the rows as they are now, and those that the rows do not allow with the reason."""
    done: list[tuple[ViewSection, Drill]] = []
    failed: list[tuple[ViewSection, str]] = []
    for view in views:
        try:
            rows = population(view.table, view.where or None)
            done.append((view, drill(rows, asked_by(view, limit=view.limit))))
        except UserError as error:
            failed.append((view, str(error)))
    return done, failed
