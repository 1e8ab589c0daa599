"""The walk through the queue, driven key by key."""

from __future__ import annotations

import io
import os
import pty
import select
import shutil
import subprocess
import sys
import time

import pytest
from prompt_toolkit import PromptSession
from prompt_toolkit.input import create_pipe_input
from prompt_toolkit.output import DummyOutput

from conftest import inside, inside_json
from sabueso.case.folder import Case
from sabueso.case.queue import queue
from sabueso.case.walking import Walk
from sabueso.show.console import SafeConsole
from sabueso.show.walk import show_walked, walk_through


@pytest.fixture
def case(marisma, tmp_path):
    shutil.copytree(marisma, tmp_path / "m")
    return tmp_path / "m"


def walked(folder, keys, initials="kl", most=None):
    """Type keys into a walk; what was printed, and the walk."""
    file = io.StringIO()
    console = SafeConsole(file=file, width=110, highlight=False)
    with Case.find(str(folder)) as case, create_pipe_input() as typed:
        walk = Walk.begin(case, queue(case)[:most], initials)
        typed.send_text(keys)
        walk_through(walk, console, PromptSession(input=typed, output=DummyOutput()))
        show_walked(console, walk)
    return file.getvalue(), walk


def now(case):
    return {i["id"]: i for i in inside_json("queue", "--top", "999", cwd=case)}


def test_keys_record_go_back_and_take_back(case):
    opened = [i["id"] for i in inside_json("queue", "--status", "open", "--top", "9", cwd=case)]
    one, two, three, four = opened[:4]
    text, walk = walked(
        case,
        "x?c" "contract seen\r"  # other keys do nothing
        "e" "1.188,00\r" "typed twice\r"
        "s" "r" "\r"  # without a reason nothing is recorded
        "r" "for counsel\r" "u"
        "q",
    )  # fmt: skip
    found = now(case)
    assert (found[one]["status"], found[one]["reason"], found[one]["initials"]) == (
        "cleared",
        "contract seen",
        "KL",
    )
    assert (found[two]["status"], found[two]["error_amount"]) == ("error", "1188.00")
    assert found[three]["status"] == "open" and found[four]["status"] == "open"
    assert [d.event.subject for d in walk.recorded] == [one, two] and walk.taken_back == 1
    assert "recorded: cleared 1, error 1; taken back 1" in text
    assert (
        "it needs its reason" in text
        and "error of 1,188.00" in text
        and f"{four} is open again" in text
    )
    history = inside("review", four, cwd=case).stdout
    assert "for counsel" in history and "taken back" in history
    # What it shows: marks, causes, rows.
    assert (text.count("marked by") >= 5 and "Unusual" in text) or "of the change" in text


def test_amounts_that_are_ambiguous_are_asked_again(case):
    identity = inside_json("queue", "--status", "open", "--top", "1", cwd=case)[0]["id"]
    walked(case, "e1,188\r\x0b66,00\rtyped\rq")
    assert now(case)[identity]["error_amount"] == "66.00"


@pytest.mark.long
def test_it_is_taken_up_where_it_stopped_and_searched(case):
    items = inside_json("queue", "--top", "999", cwd=case)
    _, first = walked(case, "ssq")
    place = first.at
    text, again = walked(case, "q")
    assert again.at == place and "taken up where you stopped" in text
    _, found = walked(case, "/payroll\rbq", initials="MR")
    entity = next(i for i, item in enumerate(items) if i and item["table"] == "payroll")
    assert found.at == entity - 1
    text, _ = walked(case, "/nobody at all\rq", initials="AB")
    assert "nothing holds 'nobody at all'" in text
    end, last = walked(case, "ss", initials="CD", most=2)
    assert last.now is None and "are open" in end


def test_without_a_terminal_it_is_refused(case):
    stderr = inside("review", "--walk", "--as", "KL", cwd=case, code=2).stderr
    assert "needs a terminal" in stderr and stderr.count("\n") == 1


@pytest.mark.skipif(os.name == "nt", reason="a pseudo-terminal is made as this system does not")
@pytest.mark.parametrize("end", ["ctrl-c", "closed"])
@pytest.mark.long
def test_in_a_terminal_nothing_recorded_is_lost(case, end):
    """The built program in a terminal of its own, left with Ctrl-C or by closing it."""
    identity = inside_json("queue", "--status", "open", "--top", "1", cwd=case)[0]["id"]
    ours, theirs = pty.openpty()
    process = subprocess.Popen(
        [sys.executable, "-m", "sabueso", "review", "--walk", "--as", "KL"], cwd=case, stdin=theirs,
        stdout=theirs, stderr=theirs, start_new_session=True, env={**os.environ, "TERM": "xterm"},
    )  # fmt: skip
    os.close(theirs)
    seen = _until(ours, b"/ search")
    for typed, awaited in ((b"c", b"because:"), (b"contract seen\r", b"recorded as event")):
        os.write(ours, typed)
        seen += _until(ours, awaited)
    if end == "ctrl-c":
        _until(ours, b"/ search")
        os.write(ours, b"\x03")
        _until(ours, b"are open")
        assert process.wait(20) == 0
    else:
        os.close(ours)
        process.wait(30)
    found = now(case)[identity]
    assert (found["status"], found["reason"]) == ("cleared", "contract seen")
    assert inside_json("seal", "--check", cwd=case)["unaltered"]


def _until(terminal: int, awaited: bytes) -> bytes:
    """What a terminal shows until it shows a word."""
    seen, limit = b"", time.monotonic() + 60
    while awaited not in seen:
        ready, _, _ = select.select([terminal], [], [], max(limit - time.monotonic(), 0))
        assert ready, seen[-800:]
        seen += os.read(terminal, 65_536)
    return seen
