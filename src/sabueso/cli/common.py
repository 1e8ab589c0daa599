"""Options and steps that commands share."""

from __future__ import annotations

import argparse
import os
import sys
import time
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.base.visible import visible
from sabueso.case.folder import Case
from sabueso.case.outputs import check_target, write_target
from sabueso.cli.held import held

if TYPE_CHECKING:
    from sabueso.commands.interface import Answer

INITIALS = "SABUESO_REVIEWER"


def asks_for_help(rest: Sequence[str]) -> bool:
    """Whether the rest of a line asks what the options are."""
    return not {"-h", "--help"}.isdisjoint(rest)


def listed_examples(lines: Iterable[str]) -> str:
    """Examples as --help ends with them."""
    return "examples, on the sample case:\n" + "\n".join(f"  {line}" for line in lines)


def case_option(parser: argparse.ArgumentParser) -> None:
    """``--case DIR`` and ``--verify``."""
    parser.add_argument(
        "--case", metavar="DIR", help="the case folder (default: this folder or its nearest parent)"
    )
    parser.add_argument(
        "--verify",
        action="store_true",
        help="hash every file of rows that is read, also where its size and time are those recorded",
    )


def case_of(args: argparse.Namespace) -> Case:
    """The case that a command works on: the one that is held, where no other is asked for."""
    now = held()
    if now is not None and args.case is None and not args.verify:
        return now.case
    return Case.find(args.case, verify=args.verify)


def output_options(parser: argparse.ArgumentParser, kinds: str) -> None:
    """``--format`` and ``--out``."""
    group = parser.add_argument_group("output")
    group.add_argument("--format", choices=("text", "json", "csv"), default="text")
    group.add_argument("--out", type=Path, metavar="FILE", help=f"write a file: {kinds}")
    group.add_argument(
        "--force", action="store_true", help="let --out write over a file that it did not make"
    )


def as_option(parser: argparse.ArgumentParser) -> None:
    """``--as INITIALS``."""
    parser.add_argument(
        "--as",
        dest="initials",
        metavar="INITIALS",
        help=f"whose review it is (default: {INITIALS}, or prepared_by in case.toml)",
    )


def initials_of(args: argparse.Namespace, case: Case) -> str:
    """Initials from --as, the environment, or the plan; empty where none are given."""
    given = (
        getattr(args, "initials", None) or os.environ.get(INITIALS) or case.plan.case.prepared_by
    )
    return str(given or "")


def check_out(args: argparse.Namespace, suffixes: Sequence[str]) -> None:
    """Refuse a file that could not, or must not, be written before any work is done."""
    path: Path | None = args.out
    if path is None:
        return
    if path.suffix.lower() not in suffixes:
        raise UserError(f"--out {path}: expected a file that ends in {', '.join(suffixes)}")
    if not path.resolve().parent.is_dir():
        raise UserError(f"--out {path}: there is no folder {path.parent}")
    check_target(case_of(args), path, force=args.force)


def answered(
    args: argparse.Namespace, work: Callable[[Case], Answer[Any]], files: Sequence[str] = ()
) -> int:
    """Do a command's work on its case, and give the answer.

    ``files`` are the suffixes of the forms that ``--out`` may have.
    """
    if files:
        check_out(args, files)
    case = case_of(args)
    try:
        answer = work(case)
    finally:
        if (now := held()) is None or case is not now.case:
            case.close()
    return give(args, answer)


def give(args: argparse.Namespace, answer: Answer[Any]) -> int:
    """Write an answer to ``--out``, print it as ``--format`` says; returns the exit code.

    The one place that answers either.
    """
    out: Path | None = getattr(args, "out", None)
    if out is not None and not getattr(args, "every", False):
        write_target(case_of(args), out, _file(answer, out))
    form = getattr(args, "format", "text")
    if form == "text" or answer.data is None:
        from sabueso.show.console import make_console

        console = make_console()
        answer.show(console)
        if (now := held()) is not None:
            now.printed(answer, console.steps)
    elif form == "json":
        emit_json(answer.data().content)
    else:
        from sabueso.show.export import csv_text

        emit(csv_text(answer.data().sheets[0]))
    if answer.fault is not None:
        raise answer.fault
    return answer.code


def _file(answer: Answer[Any], path: Path) -> bytes:
    """An answer in the form that a path's suffix says."""
    from sabueso.show.export import sheets_as

    suffix = path.suffix.lower()
    if suffix in answer.files:
        return answer.files[suffix](path)
    data = answer.whole or answer.data
    if data is None:
        raise UserError(f"--out {path}: there is no such form of this answer")
    found = data()
    return sheets_as(suffix, found.sheets, found.content)


def emit(text: str) -> None:
    """Print a machine-readable result as it is."""
    stream: Any = sys.stdout
    if hasattr(stream, "reconfigure"):
        stream.reconfigure(encoding="utf-8")
    stream.write(text if text.endswith("\n") else text + "\n")


def emit_json(content: Any) -> None:
    from sabueso.base.files import json_pieces, numbered

    stream: Any = sys.stdout
    if hasattr(stream, "reconfigure"):
        stream.reconfigure(encoding="utf-8")
    for piece in json_pieces(numbered(content)):
        stream.write(piece)
    stream.write("\n")


class Bar:
    """A progress bar on stderr, where it is a terminal and the work takes over a second."""

    def __init__(self) -> None:
        self._start = time.monotonic()
        self._live: Any = None
        self._task: Any = None
        self._enabled = sys.stderr.isatty() and os.environ.get("TERM") != "dumb"

    def __call__(self, what: str, done: int, total: int) -> None:
        if not self._enabled or time.monotonic() - self._start < 1:
            return
        if self._live is None:
            from rich.console import Console
            from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

            self._live = Progress(
                TextColumn("{task.description}", markup=False), BarColumn(), TimeElapsedColumn(),
                console=Console(stderr=True), transient=True,
            )  # fmt: skip
            self._live.start()
            self._task = self._live.add_task(visible(what), total=total)
        self._live.update(self._task, description=visible(what), completed=done, total=total)

    def close(self) -> None:
        if self._live is not None:
            self._live.stop()
            self._live = None


def with_bar(work: Callable[[Bar], Any]) -> Any:
    """Do some work with a progress bar that is always taken away."""
    bar = Bar()
    try:
        return work(bar)
    finally:
        bar.close()
