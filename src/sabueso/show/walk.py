"""The walk through the queue at a terminal: one exception a screen, one key a judgement."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.text import Text

from sabueso.base.errors import UserError
from sabueso.base.exact import use_exact_decimals
from sabueso.base.typed import typed_amount
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException
from sabueso.case.reviews import Disposition
from sabueso.case.walking import Walk
from sabueso.case.why import why
from sabueso.population.drill import Rows, rows
from sabueso.report.palette import AMBER, SEA, STONE
from sabueso.show.console import SafeConsole, notes
from sabueso.show.queue import show_exception
from sabueso.show.rows import rows_table
from sabueso.show.why import show_peers, show_sentences

if TYPE_CHECKING:
    from prompt_toolkit import PromptSession

KEYS = {"c": "cleared", "e": "error", "r": "referred"}
HELP = "c cleared   e error   r referred   s skip   b back   u undo   / search   q stop"
MOST_ROWS = 6
AHEAD = 3
"""Screens that are put together while one is read."""


def exception_view(case: Case, item: AuditException, console: Console) -> None:
    """One exception as a screen: what marked it, its causes, its peers, its rows, earlier reviews."""
    show_exception(console, item)
    console.print()
    behind: Rows | None = None
    try:
        found = why(case, item.id)
        behind = found.foremost
        show_sentences(console, found)
        if found.peers:
            show_peers(console, found)
        console.print()
    except UserError as error:  # its screen has gone: what there is is shown
        notes(console, "note", [str(error)])
    if behind is None:
        with case.populations(item.table) as opened:
            population = opened(item.table, item.selector, with_set_aside=True)
            behind = rows(population, limit=MOST_ROWS)
    rows_table(console, behind)
    hidden = behind.population.used - len(behind.rows)
    if hidden > 0:
        console.print(Text(f" and {hidden:,} more rows: sabueso dig {item.id}", style=STONE))


class _Kept(SafeConsole):
    """A console that keeps what is printed on it, to be printed on another."""

    def __init__(self, width: int) -> None:
        super().__init__(width=width, highlight=False)
        self.kept: list[tuple[tuple[Any, ...], dict[str, Any]]] = []

    def print(self, *objects: Any, **options: Any) -> None:
        self.kept.append((objects, options))


class Views:
    """Screens made ahead: while one is read, the next is put together in a thread of its own, on a
    connection of its own."""

    def __init__(self, case: Case, width: int) -> None:
        self._folder, self._width = str(case.folder), width
        self._thread = ThreadPoolExecutor(1, initializer=use_exact_decimals)
        self._made: dict[tuple[str, int], Future[_Kept]] = {}
        self._case: Case | None = None

    def ask(self, item: AuditException) -> Future[_Kept]:
        key = item.id, len(item.review.history)
        if key not in self._made:
            self._made[key] = self._thread.submit(self._make, item.whole())
        return self._made[key]

    def show(self, item: AuditException, console: Console) -> None:
        for objects, options in self.ask(item).result().kept:
            console.print(*objects, **options)

    def close(self) -> None:
        # What is not begun is not needed any more; the connection is closed in its own thread.
        for future in self._made.values():
            future.cancel()
        self._thread.submit(self._close)
        self._thread.shutdown(wait=True)

    def _make(self, item: AuditException) -> _Kept:
        if self._case is None:
            self._case = Case.find(self._folder)
            self._case.keep_open()
        console = _Kept(self._width)
        exception_view(self._case, item, console)
        return console

    def _close(self) -> None:
        if self._case is not None:
            self._case.close()


def walk_through(walk: Walk, console: Console, session: PromptSession[Any]) -> None:
    """Go on until the end of the queue, or until the reviewer stops.

    Parameters
    ----------
    session : PromptSession
        Where keys and reasons come from.
    """
    views = Views(walk.case, console.width)
    said = ""
    if walk.resumed:
        said = "taken up where you stopped; b goes back"
    try:
        while (item := walk.now) is not None:
            console.clear()
            console.print(Text(_head(walk), style=STONE))
            console.print()
            views.show(item, console)
            for ahead in walk.ahead(AHEAD):
                views.ask(ahead)
            if said:
                console.print()
                console.print(Text(f" {said}", style=AMBER))
            said = ""
            key = _key(session)
            if key in ("q", ""):
                break
            said = _done(walk, key, session)
    finally:
        walk.stop()
        views.close()


def _head(walk: Walk) -> str:
    waiting = sum(item.review.status == "open" for item in walk.items)
    return f" {walk.at + 1:,} of {len(walk.items):,} · {waiting} open · {walk.initials}"


def _done(walk: Walk, key: str, session: PromptSession[Any]) -> str:
    """Do what a key says; returns what is to be told."""
    if key == "s":
        return "" if walk.forward() else "that was the last"
    if key == "b":
        return "" if walk.back() else "this is the first"
    if key == "u":
        taken = walk.undo()
        return f"{taken} is open again" if taken else "nothing was recorded in this walk"
    if key == "/":
        text = _line(session, "search: ")
        if not text:
            return ""
        return "" if walk.search(text) else f"nothing holds {text!r}"
    return _judged(walk, KEYS[key], session)


def _judged(walk: Walk, what: str, session: PromptSession[Any]) -> str:
    """Ask for what a disposition needs, and record it."""
    item = walk.items[walk.at]
    amount: Decimal | None = None
    if what == "error":
        while True:
            text = _line(session, "amount of the error (empty: none): ")
            if text is None:
                return "nothing was recorded"
            try:
                amount = typed_amount(text, "amount") if text else None
                break
            except UserError as error:
                session.output.write(f"{error}\n")
    reason = _line(session, f"{what}, because: ")
    if not reason:
        return "nothing was recorded: it needs its reason"
    try:
        done = walk.judge(Disposition(what, reason, amount))
    except UserError as error:
        return str(error)
    walk.forward()
    read_back = f", error of {amount:,}" if amount is not None else ""
    again = " before, and not again" if done.again else ""
    return (
        f"{item.id} {what}{read_back}, recorded{again} as event {done.event.seq}; u takes it back"
    )


def _key(session: PromptSession[Any]) -> str:
    """One key of those there are; empty where the terminal is gone."""
    from prompt_toolkit.key_binding import KeyBindings
    from prompt_toolkit.keys import Keys

    bindings = KeyBindings()

    def bound(key: str) -> Callable[[Any], None]:
        return lambda event: event.app.exit(result=key)

    for key in (*KEYS, "s", "b", "u", "/", "q"):
        bindings.add(key, eager=True)(bound(key))
    for quit_key in ("c-c", "c-d", "escape"):
        bindings.add(quit_key, eager=True)(bound("q"))

    @bindings.add(Keys.Any)
    def _(_event: object) -> None:
        """Any other key does nothing."""

    try:
        return str(session.prompt(f"\n {HELP} ", key_bindings=bindings, default=""))
    except (EOFError, KeyboardInterrupt):
        return ""


def _line(session: PromptSession[Any], message: str) -> str | None:
    """A line as it was typed; None where it was left with Ctrl-C."""
    from prompt_toolkit.key_binding import KeyBindings

    try:
        return str(session.prompt(f" {message}", key_bindings=KeyBindings(), default="")).strip()
    except (EOFError, KeyboardInterrupt):
        return None


def show_walked(console: Console, walk: Walk) -> None:
    """What came of a walk."""
    kinds: dict[str, int] = {}
    for done in walk.recorded:
        what = str(done.event.body.get("disposition", done.event.kind))
        kinds[what] = kinds.get(what, 0) + 1
    told = ", ".join(f"{name} {n:,}" for name, n in kinds.items()) or "nothing"
    back = f"; taken back {walk.taken_back:,}" if walk.taken_back else ""
    waiting = sum(item.review.status == "open" for item in walk.items)
    console.print(
        Text(f"recorded: {told}{back}; {waiting:,} of {len(walk.items):,} are open", style=SEA)
    )
