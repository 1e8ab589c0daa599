"""The files of a table read anew, by the plan as it is now."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack, suppress
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.exact import exactly
from sabueso.base.hashing import Hashes
from sabueso.case.events import Source
from sabueso.case.folder import Case
from sabueso.case.reading import read_files
from sabueso.case.sources import source_files
from sabueso.case.taken import Change, TakeReport, Taking
from sabueso.case.taking import TRIES, busy, keep_files, reported
from sabueso.intake.interface import FileReport
from sabueso.intake.take import Progress
from sabueso.population.table import Column


@exactly
def take_again(
    case: Case,
    table: str,
    named: Sequence[str] = (),
    *,
    consent: Callable[[TakeReport], bool],
    initials: str = "",
    progress: Progress | None = None,
) -> TakeReport:
    """Read the files that a table was made of once more, and put the rows in the place of the old ones.

    What the register says of the old reading stays there.

    Parameters
    ----------
    named : sequence of str
        Where the files are, if not where the plan's ``sources`` say.
    consent : callable
        Asked with what would change; nothing is kept unless it says so.

    Raises
    ------
    UserError
        If a file is not found, is not what was taken in, or cannot be read.
    """
    with ExitStack() as stack:
        hashes = stack.enter_context(Hashes())
        shop = stack.enter_context(case.workshop())
        agreed: list[Change] | None = None
        for _ in range(TRIES):
            case.changed()
            taken = case.sources(table)
            if not taken:
                raise UserError(f"table {table!r} has no files to be read again")
            if any(source.base for source in taken):
                raise UserError(
                    f"table {table!r} is of attached files: attach them again with --attach --replace"
                )
            paths = _found(case, table, named, taken, hashes)
            events = dict(zip(paths, taken, strict=True))
            asked = Taking(table, paths, initials=initials, progress=progress, again=events)
            read = read_files(case, asked, shop, hashes)
            changes = _changes(taken, read.reports, read.roles)
            seen = reported(case, asked, read, kept=False)
            if not changes:
                return replace(seen, changes=changes)
            if changes != agreed and not consent(replace(seen, changes=changes)):
                return replace(seen, changes=changes)
            agreed = changes
            if keep_files(case, asked, read):
                return replace(reported(case, asked, read, kept=True), changes=changes)
    raise busy(table)


def _found(
    case: Case, table: str, named: Sequence[str], taken: Sequence[Source], hashes: Hashes
) -> list[Path]:
    """The files by their content, in the order in which they were taken in.

    Raises
    ------
    UserError
        If one is not among those that the plan, or the user, names.
    """
    sizes = {source.size for source in taken}
    by_hash: dict[str, Path] = {}
    for path in source_files(case, named, table) if named else _of_plan(case, table):
        if path.stat().st_size in sizes:
            by_hash.setdefault(hashes.of(path), path)
    lost = [s.file for s in taken if s.sha256 not in by_hash]
    if lost:
        more = f" and {len(lost) - 1} more" if len(lost) > 1 else ""
        raise UserError(
            f"table {table!r}: {lost[0]}{more}, as taken in, is not among the files that "
            f"{'were named' if named else 'the plan names as sources'}; say where it is: sabueso intake PATH… "
            f"--as {table} --again. Nothing was changed"
        )
    return [by_hash[source.sha256] for source in taken]


def _of_plan(case: Case, table: str) -> list[Path]:
    """The files that the plan's sources name, as far as they are still there."""
    found: list[Path] = []
    for source in case.plan.tables[table].sources:
        with suppress(UserError):
            found += source_files(case, [str(case.folder / source)], table)
    return found


def _changes(
    taken: Sequence[Source], reports: Sequence[FileReport], roles: dict[str, str]
) -> list[Change]:
    """What the table was and what it is by the new reading, where these differ."""
    found: list[Change] = []

    def note(what: str, before: Any, after: Any) -> None:
        if before != after:
            found.append(Change(what, _text(before), _text(after)))

    for what in ("accepted", "quarantined", "totals", "blank"):
        name = {"accepted": "rows", "quarantined": "rows quarantined"}.get(what, f"{what} lines")
        note(name, sum(s.count(what) for s in taken), sum(getattr(r, what) for r in reports))
    was = {c.name: _kind(c) for s in taken for c in s.columns}
    now = {c.name: _kind(c) for r in reports for c in r.columns}
    for name in {**was, **now}:
        note(f"column {name}", was.get(name), now.get(name))
    for source, report in zip(taken, reports, strict=True):
        if source.parquet_sha256 != report.parquet_sha256:
            note(f"rows of {report.file}", "as taken in", "read otherwise")
    had = taken[-1].roles
    for role in {**had, **roles}:
        note(f"role {role}", had.get(role), roles.get(role))
    before, after = _totals([s.sums for s in taken]), _totals([r.sums for r in reports])
    for name in {**before, **after}:
        note(f"sum of {name}", before.get(name), after.get(name))
    return found


def _totals(sums: Sequence[Mapping[str, Decimal]]) -> dict[str, Decimal]:
    """Sums of files by column."""
    found: dict[str, Decimal] = {}
    for each in sums:
        for name, value in each.items():
            found[name] = found.get(name, Decimal(0)) + value
    return found


def _kind(column: Column) -> str:
    several = column.type == "number" and column.scale
    return f"number with {column.scale} decimals" if several else column.type


def _text(value: object) -> str:
    if value is None:
        return "none"
    return f"{value:,}" if isinstance(value, (int, Decimal)) else str(value)
