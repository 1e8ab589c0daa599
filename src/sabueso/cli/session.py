"""``sabueso`` alone: a prompt over one loaded case, with the commands of the command line."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from sabueso.base import outcome
from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.cli.held import Held, hold, release

if TYPE_CHECKING:
    from prompt_toolkit import PromptSession

    from sabueso.cli.completing import ParserOf

NEXT, LAST, LEAVE, HELP = "next", "last", "leave", "help"
OWN = {
    NEXT: "run the first command that was printed as next; next 2 the second",
    LAST: "show the last answer again",
    LEAVE: "end the session",
}
"""The words that there are only here."""
OPENING = ("dig", "why", "review")
"""Commands to which a bare number is a line of what was just shown."""
KEPT = ".session-history"
"""What was typed, in the case's folder: a convenience, and no record."""
UNKEPT = ("intake", "withdraw", "open", "demo")
"""Commands after which the engine reads other files."""


@dataclass(frozen=True)
class Program:
    """The program as a session needs it: its commands with what each does; ``run`` runs the words of a
    command line, says what went wrong, and returns the exit code; ``say`` says what is wrong with a line;
    ``parser_of`` gives a command's parser."""

    commands: Mapping[str, str]
    run: Callable[[list[str]], int]
    say: Callable[[Exception], object]
    parser_of: ParserOf


class Leave(Exception):
    """The session ends."""


class Session:
    """Lines typed at a prompt, each a command of its own on one loaded case.

    Parameters
    ----------
    case : Case
        It stays loaded from one command to the next.
    """

    def __init__(self, case: Case, program: Program) -> None:
        self.held = Held(case)
        self._program = program
        case.keep_open()

    def line(self, text: str) -> str:
        """Do what a line asks for; returns a line that is to be completed by hand first, or nothing.

        Raises
        ------
        Leave
            If the session is to end.
        """
        outcome.forget()
        try:
            words = _words(text)
            if not words:
                return ""
            if words[0] == LEAVE:
                raise Leave
            if words[0] == LAST:
                self._again()
                return ""
            if words[0] == NEXT:
                words = _words(self._next(words[1:]))
                if _has_gap(words):
                    return shlex.join(words).replace("'…'", '"…"')
                print(f" {shlex.join(words)}\n", flush=True)
            words = self._opened(words)
            self.held.case.look_again()
            if self._program.run(words):
                self.held.case.close_register()
            sys.stdout.flush()
            if words[0] in UNKEPT:
                self.held.case.close()
        except KeyboardInterrupt:
            # What was asked of the engine may be half done: it is begun anew.
            self.held.case.close()
            print(
                "stopped; " + (outcome.recorded_text() or "nothing was recorded"), file=sys.stderr
            )
        except UserError as error:
            self._program.say(error)
        return ""

    def _opened(self, words: list[str]) -> list[str]:
        """A command in which bare numbers are what the lines of the last answer open."""
        if words[0].isdecimal():
            words = ["dig", *words]
        if words[0] not in OPENING or len(words) < 2 or not words[1].isdecimal():
            return words
        opened = _words(self.held.line(int(words[1])))
        if opened[:1] == ["dig"] and len(opened) == 2:  # an exception, for any of the commands
            return [words[0], opened[1], *words[2:]]
        if words[0] == "dig":
            return [*opened, *words[2:]]
        raise UserError(f"line {words[1]} is no exception: {words[0]} takes one by its id")

    def _next(self, rest: Sequence[str]) -> str:
        number = int(rest[0]) if rest and rest[0].isdecimal() else 1
        if not 1 <= number <= len(self.held.steps):
            raise UserError("nothing was printed as next" + (f" {number}" if number > 1 else ""))
        return self.held.steps[number - 1]

    def _again(self) -> None:
        from sabueso.show.console import make_console

        if self.held.answer is None:
            raise UserError("nothing was shown yet")
        self.held.answer.show(make_console())


def _words(text: str) -> list[str]:
    """The words of a line, without the program's name where it was pasted with it.

    Raises
    ------
    UserError
        If a quotation mark is not closed.
    """
    try:
        words = shlex.split(text)
    except ValueError:
        raise UserError("a quotation mark is not closed") from None
    return words[1:] if words[:1] == ["sabueso"] else words


def _has_gap(words: Iterable[str]) -> bool:
    """Whether a command has something to be filled in."""
    return any(word in ("…", "TEXT") for word in words)


def begin(case: Case, program: Program) -> int:
    """Prompt for commands until the session is left; returns the exit code."""
    session = Session(case, program)
    hold(session.held)
    try:
        _loop(session, _prompt(case, program), case)
    finally:
        release()
        case.close()
    return 0


def _loop(session: Session, prompt: PromptSession[str], case: Case) -> None:
    print(
        f"{case.plan.case.name}: commands as on the command line; help lists them, leave ends",
        flush=True,
    )
    waiting = ""
    while True:
        try:
            text = prompt.prompt(f"{case.folder.name}> ", default=waiting)
        except KeyboardInterrupt:
            waiting = ""
            continue
        except EOFError:
            return
        try:
            waiting = session.line(text)
        except Leave:
            return


def _prompt(case: Case, program: Program) -> PromptSession[Any]:
    from prompt_toolkit import PromptSession
    from prompt_toolkit.history import FileHistory, InMemoryHistory

    from sabueso.cli.completing import Completing

    history: Any = InMemoryHistory()
    with suppress(OSError):
        path = case.folder / KEPT
        path.touch(mode=0o600)
        history = FileHistory(str(path))
    return PromptSession(
        history=history,
        completer=Completing({**program.commands, **OWN}, program.parser_of),
        complete_while_typing=False,
        enable_history_search=True,
    )
