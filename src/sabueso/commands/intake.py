"""Source files, or the rows of a query, taken into a table."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.base.hashing import Hashes
from sabueso.case.folder import Case
from sabueso.case.sources import source_files
from sabueso.case.taken import TakeReport, Taking
from sabueso.case.taking import take_in
from sabueso.commands.interface import Answer, Data
from sabueso.report.blocks import Sheet

if TYPE_CHECKING:
    from pathlib import Path

    from rich.console import Console

GATE_PASSED = 3
Progress = Callable[[str, int, int], None]


def intake(
    case: Case,
    table: str,
    paths: Sequence[str] = (),
    *,
    url: str | None = None,
    query: str | None = None,
    check: bool = False,
    replace: bool = False,
    attach: bool = False,
    gate: bool = False,
    initials: str = "",
    progress: Progress | None = None,
    hashes: Hashes | None = None,
    given: Mapping[str, Any] | None = None,
    ask: bool = False,
) -> Answer[TakeReport]:
    """Read files, or the rows of a database's query, into a table of the case, and reconcile them.

    Parameters
    ----------
    paths : sequence of str
        Files, folders or patterns.
    url, query : str, optional
        A database and the SELECT whose rows are taken in, in the place of files.
    check : bool
        Read and report; keep nothing.
    replace : bool
        A changed file takes the place of the one of its name.
    attach : bool
        Use Parquet files where they lie.
    given : mapping, optional
        How the files are to be read where that is not to be detected: ``decimal``, ``thousands``,
        ``dates``, ``header``, ``encoding``, ``delimiter``, ``records``; kept in the plan.
    ask : bool
        Whether somebody is there to be asked what a file does not tell.
    gate : bool
        The exit code is 3 where anything is quarantined or does not reconcile.

    Raises
    ------
    UserError
        If a file cannot be read as a table; then nothing is kept.
    """
    if bool(url) != bool(query) or (query and paths):
        raise UserError("a database takes --from URL and --query SQL together, and no files")
    if attach and (query or check):
        raise UserError("--attach goes with files, and not with --check or --query")
    origin, named = None, list(paths)
    if url and query:
        from sabueso.case.extract import extract

        extracted = extract(case, table, url, query)
        named = [str(extracted.path)]
        origin = {"database": extracted.database, "query": extracted.query}
    files = source_files(case, named, table)
    asked = Taking(
        table, files, named, replace, origin, initials, _steps(files, progress), given or {}, ask
    )
    if attach:
        from sabueso.case.attaching import attach_files

        report = attach_files(case, asked)
    else:
        report = take_in(case, asked, keep=not check, hashes=hashes)

    def show(console: Console) -> None:
        from sabueso.show.intake import show_intake

        show_intake(console, report)

    return Answer(
        report,
        show,
        lambda: Data(report.as_json(), [_files_sheet(report)]),
        code=GATE_PASSED if gate and not report.clean else 0,
    )


def _steps(files: Sequence[Path], progress: Progress | None) -> Callable[[str, int, int], None]:
    """Progress of one file (its rows, its bytes read) as progress of all."""
    sizes = [path.stat().st_size for path in files]
    before = {path.name: sum(sizes[:i]) for i, path in enumerate(files)}

    def step(name: str, rows: int, size: int) -> None:
        if progress is not None:
            progress(f"{name}: {rows:,} rows", before[name] + size, sum(sizes))

    return step


def _files_sheet(report: TakeReport) -> Sheet:
    names = ["file", "sha256", "lines", "read", "accepted", "quarantined", "totals", "blank"]
    rows = [
        [*(getattr(f, name) for name in names), f.sums.get(report.amount or "")]
        for f in report.files
    ]
    return Sheet("files", [*names, "amount"], rows)
