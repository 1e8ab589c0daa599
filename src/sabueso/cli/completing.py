"""What the prompt completes: commands, options, their choices, and names of the case."""

from __future__ import annotations

import shlex
from argparse import Action, ArgumentParser
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress

from prompt_toolkit.completion import CompleteEvent, Completer, Completion
from prompt_toolkit.document import Document

from sabueso.base.errors import UserError
from sabueso.cli.held import held

ParserOf = Callable[[str, Sequence[str]], ArgumentParser | None]
"""The parser of a command, told the rest of the line; None where there is no such command."""


class Completing(Completer):
    """Words that may stand where the cursor is."""

    def __init__(self, commands: Mapping[str, str], parser_of: ParserOf) -> None:
        self._commands, self._parser_of = commands, parser_of

    def get_completions(self, document: Document, event: CompleteEvent) -> Iterator[Completion]:
        before = document.text_before_cursor
        words = before.split()
        typed = "" if before.endswith(" ") or not words else words.pop()
        if words[:1] == ["sabueso"]:
            words = words[1:]
        for word in sorted(set(self._fitting(words, typed))):
            if word.startswith(typed) and word != typed:
                shown = word if " " not in word else shlex.quote(word)
                yield Completion(
                    shown, start_position=-len(typed), display_meta=self._commands.get(word, "")
                    if not words else "",
                )  # fmt: skip

    def _fitting(self, words: list[str], typed: str) -> Iterator[str]:
        if not words:
            yield from self._commands
            return
        parser = self._parser(words)
        if parser is None:
            return
        if typed.startswith("-"):
            for action in parser._actions:
                yield from action.option_strings
            return
        last = next((a for a in parser._actions if words[-1] in a.option_strings), None)
        if last is not None and last.nargs != 0:
            yield from _values(last, typed, words)
            return
        for action in parser._actions:
            if not action.option_strings:
                yield from _values(action, typed, words)

    def _parser(self, words: list[str]) -> ArgumentParser | None:
        with suppress(UserError):  # a test that there is not has no options
            return self._parser_of(words[0], words[1:])
        return self._parser_of(words[0], ())


def _values(action: Action, typed: str, words: list[str]) -> Iterator[str]:
    """What an argument may be."""
    if action.choices is not None:
        yield from map(str, action.choices)
    completer = getattr(action, "completer", None)
    if completer is not None:
        yield from completer(prefix=typed)
    elif "COLUMN" in str(action.metavar):
        yield from _columns(typed, words)
    elif action.metavar == "TABLE" and (now := held()) is not None:
        yield from now.case.plan.tables


def _columns(typed: str, words: list[str]) -> Iterator[str]:
    """The columns of the first table that the line names; after a comma the next of several."""
    now = held()
    if now is None:
        return
    before, comma, _ = typed.rpartition(",")
    for word in words[1:]:
        if now.case.plan.holds(word):
            with suppress(UserError):
                for column in now.case.table(word).columns:
                    yield before + comma + column.name
            return
