"""Entry point: finds the command, and turns a user's mistake into one sentence and exit code 2."""

from __future__ import annotations

import argparse
import gc
import os
import sys
from collections.abc import Callable, Sequence
from contextlib import suppress
from importlib import import_module
from typing import NoReturn

from sabueso.errors import UserError, nearest
from sabueso.startup import leave_pandas_out
from sabueso.version import __version__

# Kept as text, so that --help needs none of the modules.
COMMANDS = {
    "demo": "write the sample inbox and case, run everything, and say what to try next",
    "open": "start a case: a folder and its case.toml",
    "intake": "read source files into a table of the case, and reconcile them",
    "survey": "describe tables, columns, links between them, and which tests suit",
    "try": "run one test, record nothing",
    "screen": "run the programme of screens and record findings and exceptions",
    "queue": "the exceptions, the most telling first, with their status",
    "dig": "drill down: grouped totals, narrower groups, rows; any column across",
    "why": "what drives an exception: which values, which rows, how it stands among its peers",
    "review": "record a disposition with its reason, sign off, reopen",
    "note": "record an observation or conclusion on a screen",
    "paper": "write the working papers: one HTML file and one workbook",
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
"""


class Parser(argparse.ArgumentParser):
    """argparse with one-sentence errors."""

    def error(self, message: str) -> NoReturn:
        first = message[:1].lower() + message[1:]
        raise UserError(f"{first}; see: {self.prog} --help")


def main(argv: Sequence[str] | None = None) -> int:
    """Run the program; returns its exit code."""
    arguments = list(sys.argv[1:] if argv is None else argv)
    if "_ARGCOMPLETE" in os.environ:
        _complete()
    leave_pandas_out()
    # Rows live in Arrow and not in Python: looking for cycles among the objects of the imports
    # costs a third of the start and finds nothing.
    gc.set_threshold(200_000)
    debug = "--debug" in arguments
    try:
        return _run([a for a in arguments if a != "--debug"])
    except UserError as error:
        if debug:
            raise
        print(f"sabueso: {error}", file=sys.stderr)
        return 2
    except BrokenPipeError:
        # The reader of a pipe has gone; what is left is not wanted.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        if debug or error.filename is None:
            raise
        reason = (error.strerror or str(error)).lower()
        print(f"sabueso: {error.filename}: {reason}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("sabueso: stopped; the case is as it was", file=sys.stderr)
        return 130
    finally:
        # Python looks for cycles once more as it ends, among all there is: a quarter of a second.
        gc.freeze()


def _run(arguments: list[str]) -> int:
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


def build(name: str, rest: Sequence[str]) -> tuple[Parser, Callable[[argparse.Namespace], int]]:
    """The parser and the function of a command."""
    module = import_module(f"sabueso.cli.{name}_")
    parser = Parser(
        prog=f"sabueso {name}",
        description=COMMANDS[name][:1].upper() + COMMANDS[name][1:] + ".",
        epilog="examples, on the sample case:\n"
        + "\n".join(f"  {line}" for line in module.EXAMPLES),
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
