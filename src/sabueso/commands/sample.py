"""Samples: drawn, listed, and evaluated from the reviews of their items."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Json, plain
from sabueso.case.folder import Case
from sabueso.case.sampling import SampleState, ToDraw, draw_sample, one_sample, samples
from sabueso.commands.interface import Answer, Data
from sabueso.report.blocks import Sheet
from sabueso.report.commands import shell
from sabueso.screens.view import MOST_FLAGS

if TYPE_CHECKING:
    from rich.console import Console

KIND = "sample"
SEEDS = 10**8


def sample(
    case: Case,
    table: str,
    settings: Mapping[str, Any],
    *,
    name: str = "",
    initials: str = "",
    progress: Callable[[str, int, int], None] | None = None,
) -> Answer[SampleState]:
    """Draw a sample of a table's rows; its items join the queue.

    Parameters
    ----------
    settings : mapping
        As options or the plan have them; without ``seed`` one is chosen at random, and recorded.
    name : str, optional
        What the sample is called.

    Raises
    ------
    UserError
        If there is no such table, a setting does not fit, or a screen or view has the name.
    """
    given = {"seed": secrets.randbelow(SEEDS), **settings}
    wanted = ToDraw(KIND, table, given, name)
    done = draw_sample(case, wanted, initials=initials, progress=progress)
    state = one_sample(case, done.screens[0].screen)

    def show(console: Console) -> None:
        from sabueso.show.sample import show_drawn

        show_drawn(console, state)

    return Answer(state, show, lambda: _data(state), lines=lambda: _opened(state))


def evaluation(case: Case, name: str) -> Answer[SampleState]:
    """What the reviews of a sample say of all that it was drawn of.

    Raises
    ------
    UserError
        If there is no such sample.
    """
    state = one_sample(case, name)

    def show(console: Console) -> None:
        from sabueso.show.sample import show_evaluated

        show_evaluated(console, state)

    return Answer(state, show, lambda: _data(state))


def listed(case: Case) -> Answer[list[SampleState]]:
    """Every sample of the case, how far it is judged, and what follows.

    Raises
    ------
    UserError
        If none was drawn.
    """
    every = samples(case)
    if not every:
        raise UserError("no sample is drawn yet; draw one with: sabueso sample TABLE")

    def show(console: Console) -> None:
        from sabueso.show.sample import show_samples

        show_samples(console, every)

    def lines() -> dict[int, str]:
        names = (shell(s.recorded.screen) for s in every)
        return {n: f"sabueso sample --evaluate {name}" for n, name in enumerate(names, 1)}

    return Answer(
        every, show, lambda: Data([_content(s) for s in every], [_sheet(every)]), lines=lines
    )


def _opened(state: SampleState) -> dict[int, str]:
    """The items by their lines."""
    flags = state.recorded.finding.flags.rows(MOST_FLAGS)
    return {number: f"sabueso dig {flag['id']}" for number, flag in enumerate(flags, 1)}


def _data(state: SampleState) -> Data:
    flags = state.recorded.finding.flags
    head = ["id", "subject", "amount", "reason"]
    rows = [
        [flag["id"], flags.named(flag).short(), flag.get("amount"), flag["reason"]]
        for flag in flags.rows()
    ]
    return Data(_content(state), [Sheet("sample", head, rows)])


def _content(state: SampleState) -> Json:
    finding = state.recorded.finding
    return {
        "name": state.recorded.screen,
        "run": state.recorded.run,
        "population_sha256": state.population,
        "population_changed": state.changed,
        "draw": finding.as_json(),
        "evaluation": plain(state.evaluated.content),
    }


def _sheet(every: Sequence[SampleState]) -> Sheet:
    head = ["sample", "table", "run", "items", "judged", "conclusion"]
    rows = [
        [s.recorded.screen, s.recorded.finding.table, s.recorded.run, s.evaluated.items,
         s.evaluated.judged, s.evaluated.conclusion or s.evaluated.lacking]
        for s in every
    ]  # fmt: skip
    return Sheet("samples", head, rows)
