"""One test, run and not recorded."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.case.facts import names_fact, with_facts
from sabueso.case.folder import Case
from sabueso.case.outputs import streamed_target
from sabueso.case.plan_writing import NewScreen, write_screens
from sabueso.case.trying import run_test
from sabueso.commands.interface import Answer, Data
from sabueso.population.population import Population
from sabueso.report.commands import shell
from sabueso.screens import find_screen, screen_names
from sabueso.screens.finding import Finding
from sabueso.screens.interface import Screen
from sabueso.screens.view import MOST_FLAGS

if TYPE_CHECKING:
    from rich.console import Console

PAGE, SCRIPT = ".html", ".sql"
FIGURES = (".png", ".svg")


def try_test(
    case: Case,
    test: str,
    table: str,
    settings: Mapping[str, Any],
    *,
    keep: str | None = None,
    figure: str | None = None,
    drawn: bool = False,
    every: Path | None = None,
) -> Answer[Finding[Any]]:
    """Run a test on a table.

    Parameters
    ----------
    settings : mapping
        The test's settings by name, as options or plan keys have them.
    keep : str, optional
        Add the screen to the programme under this name.
    figure : str, optional
        Which of the test's figures is to be drawn.
    drawn : bool
        Whether a figure is going to be drawn at all.
    every : Path, optional
        Write the score of every row used, flagged or not, to this .csv or .parquet.

    Raises
    ------
    UserError
        If there is no such test, table or figure, or a setting does not fit.
    """
    screen = find_screen(test)
    if screen.drawn:
        raise UserError(f"a {test} is drawn and recorded at once, with: sabueso {test} {table}")
    points = _needs_points(test, figure, drawn=drawn)
    place = f"sabueso try {test}"
    also = None if every is None else partial(_write_every, case, every)
    finding = run_test(case, test, table, dict(settings), points=points, also=also)
    statements = list(case.told or ())
    if keep is not None:
        if not keep.strip():
            raise UserError("--keep needs a name for the screen")
        facts = case.plan.facts_by_name()
        values = screen.settings.from_plan(with_facts(settings, facts, place), place).as_plan()
        # A fact that a setting names stays named: it may change with the plan.
        values |= {name: value for name, value in settings.items() if names_fact(value)}
        with case.locked():
            write_screens(case.plan_path, [NewScreen(keep, test, table, values)])
    view = screen.view(finding)

    def show(console: Console) -> None:
        from sabueso.show.findings import show_finding

        show_finding(console, finding, where=settings.get("where"), kept=keep or "")

    def drawing(path: Path) -> bytes:
        from sabueso.report.canvas import picture

        return picture(view.drawing(figure or next(iter(screen.figures), "plain")), path)

    def page(path: Path) -> bytes:
        from sabueso.show.paper import finding_page

        return finding_page(case, finding).encode()

    def script(path: Path) -> bytes:
        head = [
            f"-- {test} of {table}: every statement that its figures were made of, in their order",
            "-- amounts are in minor units where a statement multiplies them; what is computed of the",
            "-- aggregates is described by: sabueso methods " + test,
        ]
        return "\n".join([*head, "", *statements, ""]).encode()

    def lines() -> dict[int, str]:
        rows = {}
        for number, flag in enumerate(finding.flags.rows(MOST_FLAGS), 1):
            subject = finding.flags.subject(flag, settings.get("where"), case.table(table))
            rows[number] = (
                f"sabueso dig {table} --where {shell(subject.rows(case.table(table)))} --rows"
            )
        return rows

    return Answer(
        finding,
        show,
        lambda: Data(finding.as_stream(), [view.sheet()]),
        lambda: Data(finding.as_json(), [view.sheet()]),
        files={PAGE: page, SCRIPT: script, **dict.fromkeys(FIGURES, drawing)},
        lines=lines,
    )


def _write_every(
    case: Case, path: Path, screen: Screen, rows: Population, finding: Finding[Any]
) -> None:
    """Every row's score in a file that is written as the rows come."""
    from sabueso.show.stream import SUFFIXES, write_batches

    if path.suffix.lower() not in SUFFIXES:
        raise UserError(f"--out {path}: --every writes {' or '.join(SUFFIXES)}")
    batches = screen.every_row(rows, finding)
    if batches is None:
        raise UserError(
            f"--every: not each row has a score of its own in {screen.name} as it was asked"
        )
    # The engine must be there when the last batch is let go of.
    with closing(batches), streamed_target(case, path) as temporary:
        write_batches(temporary, path.suffix.lower(), batches)


def _needs_points(test: str, figure: str | None, *, drawn: bool) -> bool:
    """Whether the figure asked for needs quantiles; refuses one that the test does not have."""
    screen = find_screen(test)
    figures = screen.figures
    if figure is None:
        return False
    if not figures:
        several = [name for name in screen_names() if find_screen(name).figures]
        raise UserError(
            f"--figure {figure}: {test} is drawn in one way alone; several have {', '.join(several)}"
        )
    if figure == figures[0]:
        return False
    if not drawn:
        raise UserError(f"--figure {figure} is drawn into a file: --out FILE.png or .svg")
    return figure in screen.from_quantiles
