"""Entry point: finds the command, and turns a user's mistake into one sentence and exit code 2."""

from __future__ import annotations

import argparse
import gc
import io
import os
import sys
import warnings
from collections.abc import Callable, Sequence
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from sabueso.base.errors import ProgramFault, UserError, nearest
from sabueso.base.exact import use_exact_decimals
from sabueso.base.libraries import load_little, use_one_thread_for_algebra
from sabueso.base.outcome import recorded, recorded_text
from sabueso.base.visible import clipped, visible
from sabueso.version import __version__

if TYPE_CHECKING:
    from sabueso.case.folder import Case
    from sabueso.cli.session import Program

# Kept as text, so that --help needs none of the modules.
COMMANDS = {
    "demo": "write the sample inbox and case, run everything, and say what to try next",
    "open": "start a case: a folder and its case.toml",
    "intake": "read source files into a table of the case, and reconcile them",
    "withdraw": "take a file or a table out of the case; the register keeps what was",
    "survey": "describe tables, columns, links between them, and which tests suit",
    "try": "run one test, record nothing",
    "screen": "run the programme of screens and record findings and exceptions",
    "queue": "the exceptions, the most telling first, with their status",
    "dig": "drill down: grouped totals, narrower groups, rows; any column across",
    "why": "what drives an exception: which values, which rows, how it stands among its peers",
    "review": "record a disposition with its reason, sign off, reopen",
    "sample": "draw a sample that anyone can draw again; evaluate it from its reviews",
    "note": "record an observation or conclusion on a screen",
    "paper": "write the working papers: one HTML file and one workbook",
    "redo": "perform a recorded run again, and compare every figure and mark",
    "seal": "prove that inputs, findings and reviews are unaltered, or write down what they are",
    "methods": "what a test computes, and where it was published",
}

_USAGE = """\
Screen ledger and payment transactions, drill into what was flagged, record the review.

usage: sabueso COMMAND …        sabueso COMMAND --help        sabueso --version

the work, in its order:
{commands}

start here:
  sabueso demo                          a sample case in ./marisma, worked from end to end
  sabueso open my-case                  a case of your own
  sabueso                               in a case: a prompt for these commands, the case kept loaded
"""


class Parser(argparse.ArgumentParser):
    """argparse with one-sentence errors."""

    def error(self, message: str) -> NoReturn:
        first = message[:1].lower() + message[1:]
        raise UserError(f"{first}; see: {self.prog} --help")


class AnswerLost(Exception):
    """What was to be printed could not be: the disk behind stdout is full, or it is closed."""


class _Answer(io.TextIOWrapper):
    """Stdout that tells its own failures from those of any other file."""

    def write(self, text: str) -> int:
        try:
            return super().write(text)
        except BrokenPipeError:
            raise
        except OSError as error:
            raise AnswerLost(error.strerror or str(error)) from error

    def flush(self) -> None:
        try:
            super().flush()
        except BrokenPipeError:
            raise
        except OSError as error:
            raise AnswerLost(error.strerror or str(error)) from error


def main(argv: Sequence[str] | None = None) -> int:
    """Run the program; returns its exit code. Nothing leaves it as a traceback, unless --debug asks
    for one."""
    arguments = list(sys.argv[1:] if argv is None else argv)
    if "_ARGCOMPLETE" in os.environ:
        _complete()
    load_little()
    use_one_thread_for_algebra()
    use_exact_decimals()
    _own_streams()
    # Rows live in Arrow and not in Python: looking for cycles among the objects of the imports
    # costs a third of the start and finds nothing.
    gc.set_threshold(200_000)
    debug = "--debug" in arguments
    if not debug:
        # Meant for whoever writes the libraries' calls; what matters to a user is said as a caution.
        warnings.simplefilter("ignore")
    try:
        try:
            code = _run([a for a in arguments if a != "--debug"])
        except SystemExit as end:  # the parser has printed its help
            code = int(end.code or 0)
        sys.stdout.flush()
        return code
    except BrokenPipeError:
        # The reader of a pipe has gone; what is left is not wanted.
        _discard_stdout()
        return 0
    except KeyboardInterrupt:
        _discard_stdout()
        _tell(f"stopped; {_state('the case is as it was')}")
        return 130
    except Exception as error:
        if debug:
            raise
        if isinstance(error, AnswerLost):
            _discard_stdout()
        sentence, code = told(error)
        _tell(sentence)
        return code
    finally:
        # Python looks for cycles once more as it ends, among all there is: a quarter of a second.
        gc.freeze()


def told(error: Exception) -> tuple[str, int]:
    """What is said of an error, and the exit code.

    The one place where a fault becomes a sentence. What the user or the system can mend is 2, a
    fault of the program 1; where all was recorded and only the answer was lost, the code is 0.
    """
    if isinstance(error, UserError):
        return _with_state(str(error)), 2
    if isinstance(error, AnswerLost):
        lost = f"the answer could not be printed: {str(error).lower()}"
        return _with_state(lost), 0 if recorded() else 2
    if isinstance(error, OSError):
        reason = (error.strerror or str(error)).lower()
        place = f"{error.filename}: " if error.filename else ""
        return _with_state(f"{place}{reason}"), 2
    if isinstance(error, MemoryError):
        return _with_state("there is not enough memory for this"), 2
    if isinstance(error, RecursionError):
        return _with_state("something given is nested too deeply to be read"), 2
    name = "" if isinstance(error, ProgramFault) else f"{type(error).__name__}: "
    text = clipped(" ".join(str(error).split()), 500)
    return f"a fault of the program, not yours: {name}{text}; {_state('nothing was recorded')} (--debug shows where it is)", 1  # fmt: skip


def _with_state(sentence: str) -> str:
    return f"{sentence}; {_state('')}" if recorded() else sentence


def _state(otherwise: str) -> str:
    """What was recorded before a command ended early."""
    return f"recorded before that: {recorded_text()}" if recorded() else otherwise


def _tell(sentence: str) -> None:
    with suppress(OSError, ValueError):  # stderr is closed too: there is nobody to tell
        print(f"sabueso: {visible(sentence)}", file=sys.stderr, flush=True)


def _own_streams() -> None:
    """Streams that are there, take every letter, and tell when they fail."""
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:  # it was closed: for as long as the process lives
            setattr(sys, name, Path(os.devnull).open("w", encoding="utf-8"))  # noqa: SIM115
    if sys.stdout is sys.__stdout__ and type(sys.stdout) is io.TextIOWrapper:
        old = sys.stdout
        encoding, lines = old.encoding, old.line_buffering
        sys.stdout = _Answer(
            old.detach(), encoding=encoding, errors="backslashreplace", line_buffering=lines
        )


def _discard_stdout() -> None:
    """Send what is still to be printed nowhere."""
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)


def _run(arguments: list[str]) -> int:
    for place, argument in enumerate(arguments, 1):
        try:
            argument.encode()
        except UnicodeEncodeError:
            raise UserError(f"argument {place}, {argument!r}, is not UTF-8 text") from None
    if not arguments and sys.stdin.isatty() and sys.stdout.isatty():
        case = _case_here()
        if case is not None:
            from sabueso.cli.session import begin

            return begin(case, program())
    if not arguments or arguments[0] in ("-h", "--help", "help"):
        listed = "\n".join(f"  {name:<9} {text}" for name, text in COMMANDS.items())
        print(_USAGE.format(commands=listed), end="")
        return 0
    if arguments[0] in ("--version", "-V"):
        print(f"sabueso {__version__}")
        return 0
    name, rest = arguments[0], arguments[1:]
    if name not in COMMANDS:
        what = "option" if name.startswith("-") else "command"
        raise UserError(f"there is no {what} {name!r}{nearest(name, COMMANDS)}")
    parser, run = build(name, rest)
    args = parser.parse_args(rest)
    return run(args)


def _case_here() -> Case | None:
    """The case that this folder is, or is in; None outside of any."""
    from sabueso.case.folder import Case

    try:
        return Case.find()
    except UserError:
        return None


def program() -> Program:
    """The program as a session runs it."""
    from sabueso.cli.session import Program

    return Program(COMMANDS, _guarded, _say, parser_of)


def parser_of(name: str, rest: Sequence[str]) -> Parser | None:
    """The parser of a command; None where there is none of that name."""
    return build(name, rest)[0] if name in COMMANDS else None


def _guarded(words: list[str]) -> int:
    """A command of a session: what ends it is said, and the session goes on."""
    debug = "--debug" in words
    try:
        return _run([word for word in words if word != "--debug"])
    except SystemExit as end:  # the parser has printed its help
        return int(end.code or 0)
    except Exception as error:
        if debug:
            raise
        return _say(error)


def _say(error: Exception) -> int:
    sentence, code = told(error)
    _tell(sentence)
    return code


def build(name: str, rest: Sequence[str]) -> tuple[Parser, Callable[[argparse.Namespace], int]]:
    """The parser and the function of a command."""
    from sabueso.cli.common import listed_examples

    module = import_module(f"sabueso.cli.{name}_")
    parser = Parser(
        prog=f"sabueso {name}",
        description=COMMANDS[name][:1].upper() + COMMANDS[name][1:] + ".",
        epilog=listed_examples(module.EXAMPLES),
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
    )
    module.add_arguments(parser, rest)
    return parser, module.run


def _complete() -> None:
    """Shell completion: the words of the line decide which command's options are offered."""
    import argcomplete

    line = os.environ.get("COMP_LINE", "")
    # The word at the end is still being typed, unless a blank follows it.
    words = line.split() if line.endswith(" ") else line.split()[:-1]
    parser = Parser(prog="sabueso", add_help=True)
    commands = parser.add_subparsers()
    chosen = words[1] if len(words) > 1 else ""
    for name, text in COMMANDS.items():
        sub = commands.add_parser(name, help=text)
        if name == chosen:
            module = import_module(f"sabueso.cli.{name}_")
            with suppress(UserError):  # a test that there is not has no options
                module.add_arguments(sub, words[2:])
    argcomplete.autocomplete(parser)
