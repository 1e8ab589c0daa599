"""The prompt over one loaded case: lines typed, what they open, and what is noticed between them."""

from __future__ import annotations

import fcntl
import os
import pty
import re
import select
import shutil
import struct
import subprocess
import sys
import termios
import threading
import time

import pytest
from prompt_toolkit.completion import CompleteEvent
from prompt_toolkit.document import Document

from conftest import inside, inside_json, sabueso
from sabueso.case.folder import Case
from sabueso.cli.completing import Completing
from sabueso.cli.held import hold, release
from sabueso.cli.main import COMMANDS, parser_of, program
from sabueso.cli.session import OWN, Leave, Session


@pytest.fixture(scope="module")
def folder(marisma, tmp_path_factory):
    return shutil.copytree(marisma, tmp_path_factory.mktemp("session") / "m")


@pytest.fixture
def session(folder, monkeypatch):
    monkeypatch.chdir(folder)
    case = Case.find()
    session = Session(case, program())
    hold(session.held)
    yield session
    release()
    case.close()


def typed(session, capsys, line):
    """What a line prints, on either stream, and what it leaves to be completed."""
    capsys.readouterr()
    waiting = session.line(line)
    out = capsys.readouterr()
    return out.out + out.err, waiting


def test_lines_open_what_was_shown(session, capsys):
    text, _ = typed(session, capsys, "queue --top 5")
    ids = re.findall(r"[A-Z]{3,4}-[0-9A-Z]{5}", text)[:5]
    for line in ("dig 3", "sabueso dig 3", "3"):
        typed(session, capsys, "queue --top 5")
        assert typed(session, capsys, line)[0].startswith(ids[2])
    typed(session, capsys, "queue --top 5")
    assert typed(session, capsys, "why 2")[0].startswith(ids[1])
    # The last answer again, and the first of the commands it named.
    again, _ = typed(session, capsys, "last")
    assert again.startswith(ids[1])
    assert typed(session, capsys, "next")[0].startswith(f" dig {ids[1]}")
    text, _ = typed(session, capsys, "try fences payments --by cuenta")
    row = re.findall(r"P-\d{6}", text)[1]
    assert row in typed(session, capsys, "dig 2")[0]
    text, _ = typed(session, capsys, "dig payments --by usuario,proveedor --limit 2")
    names = re.findall(r"^ {1,3}(\w+) +[\d,]+ ", text, re.M)
    deeper, _ = typed(session, capsys, "dig 2")
    assert f"usuario = '{names[0]}'" in session.held.steps[0]
    assert f"proveedor = '{names[1]}'" in session.held.steps[0]
    assert "by cuenta" in deeper.splitlines()[0]


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("dig 77", "there is no line 77"),
        ("next 9", "nothing was printed as next"),
        ("queu", "there is no command 'queu'; is it 'queue'?"),
        ("try digits 'payments", "a quotation mark is not closed"),
        ("try nothing payments", "there is no test"),
        ("review 1 --cleared", "whose review is it"),
        ("dig payments --help", "usage"),
        ("help", "the work, in its order"),
    ],
)
def test_a_wrong_line_is_one_sentence_and_the_next_one_works(session, capsys, line, words):
    typed(session, capsys, "queue --top 3")
    text, _ = typed(session, capsys, line)
    assert "Traceback" not in text
    assert words in text or words.split(";")[0] in text
    assert "queue" in typed(session, capsys, "queue --top 1")[0]


def test_a_gap_is_filled_in_by_hand(session, capsys):
    typed(session, capsys, "queue --top 1")
    _, waiting = typed(session, capsys, "next 2")
    assert waiting.startswith("review ")
    assert '"…"' in waiting
    with pytest.raises(Leave):
        session.line("leave")
    assert session.line("   ") == ""


@pytest.mark.long
def test_what_another_process_does_is_noticed(session, capsys, folder):
    typed(session, capsys, "try top payments")
    (folder / "more.csv").write_text("id,day,amount\nM1,2025-01-01,5.00\n")
    sabueso("intake", "more.csv", "--as", "more", cwd=folder)
    assert "rows 1 = used 1" in typed(session, capsys, "try top more")[0]
    sabueso("try", "range", "more", "--greatest", "1", "--keep", "kept elsewhere", cwd=folder)
    assert "kept elsewhere" in typed(session, capsys, 'screen "kept elsewhere" --as KL')[0]
    identity = inside_json("queue", "--screen", "kept elsewhere", cwd=folder)[0]["id"]
    sabueso("review", identity, "--cleared", "--reason", "seen", "--as", "KL", cwd=folder)
    assert "cleared" in typed(session, capsys, f"review {identity}")[0]
    # Rows that are altered between two commands are refused by the second.
    parquet = next((folder / "population" / "more").glob("*.parquet"))
    content = parquet.read_bytes()
    parquet.write_bytes(content[:-1] + b"x")
    assert "it has changed since" in typed(session, capsys, "try top more")[0]
    parquet.write_bytes(content)


@pytest.mark.long
def test_two_sessions_at_once_lose_nothing(folder):
    """Each of two threads on a connection of its own clears its half of the queue, line by line."""
    ids = [i["id"] for i in inside_json("queue", "--top", "60", "--status", "open", cwd=folder)]

    def work(mine, who):
        code = (
            "import sys\n"
            "from sabueso.cli.main import program\n"
            "from sabueso.cli.session import Session, hold\n"
            "from sabueso.case.folder import Case\n"
            "session = Session(Case.find(), program())\n"
            "hold(session.held)\n"
            "for one in sys.argv[2:]:\n"
            "    session.line(f'review {one} --cleared --reason seen --as {sys.argv[1]}')\n"
        )
        subprocess.run([sys.executable, "-c", code, who, *mine], cwd=folder, check=True, capture_output=True)  # fmt: skip

    threads = [threading.Thread(target=work, args=(ids[k::2], who)) for k, who in enumerate(("KL", "JT"))]  # fmt: skip
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    now = {i["id"]: i for i in inside_json("queue", "--top", "999", cwd=folder)}
    assert [now[one]["initials"] for one in ids] == ["KL" if k % 2 == 0 else "JT" for k in range(len(ids))]  # fmt: skip
    inside("seal", "--check", cwd=folder)


def test_words_are_completed(session):
    completer = Completing({**COMMANDS, **OWN}, parser_of)

    def offered(text):
        return [c.text for c in completer.get_completions(Document(text), CompleteEvent())]

    assert offered("qu") == ["queue"]
    assert offered("le") == ["leave"]
    assert "digits" in offered("try ")
    assert "payments" in offered("try digits ")
    assert offered("try digits payments --by-w") == ["--by-whom"]
    assert "first-two" in offered("try digits payments --digits ")
    assert offered("dig payments --by cue") == ["cuenta"]
    assert offered("dig payments --by cuenta,usu") == ["cuenta,usuario"]
    assert all(c.startswith("PAY-") for c in offered("why PAY-"))
    assert offered("why PAY-")
    assert offered("nothing ") == []


def test_at_a_real_terminal(folder):
    """Typed into a terminal: a prompt, an answer, Ctrl-C that ends nothing, leave."""
    master, slave = pty.openpty()
    environment = {**os.environ, "TERM": "xterm", "COLUMNS": "100", "PROMPT_TOOLKIT_NO_CPR": "1"}
    environment.pop("NO_COLOR", None)
    process = subprocess.Popen([sys.executable, "-m", "sabueso"], cwd=folder, stdin=slave, stdout=slave, stderr=slave, env=environment, close_fds=True)  # fmt: skip
    os.close(slave)
    seen = ""

    def until(words, seconds=60):
        nonlocal seen
        end = time.monotonic() + seconds
        while words not in seen and time.monotonic() < end:
            if select.select([master], [], [], 0.2)[0]:
                seen += os.read(master, 65536).decode("utf-8", "replace")
        assert words in seen, seen[-2000:]
        seen = ""

    until("m>")
    os.write(master, b"queue --top 2\r")
    until("exceptions")
    os.write(master, b"try dist\x03")
    os.write(master, b"last\r")
    until("exceptions")
    os.write(master, b"leave\r")
    assert process.wait(30) == 0
    os.close(master)
    assert "queue --top 2" in (folder / ".session-history").read_text()


def test_without_a_terminal_it_is_the_help(folder):
    assert "the work, in its order" in sabueso(cwd=folder).stdout


@pytest.mark.parametrize("width", [80, 158])
def test_the_width_is_that_of_the_terminal(folder, width):
    """A real terminal of so many columns: what is printed fills no more, and uses what there is."""
    master, slave = pty.openpty()
    fcntl.ioctl(slave, termios.TIOCSWINSZ, struct.pack("HHHH", 40, width, 0, 0))
    environment = {k: v for k, v in os.environ.items() if k not in ("COLUMNS", "NO_COLOR")}
    command = [sys.executable, "-m", "sabueso", "queue", "--top", "12"]
    process = subprocess.Popen(command, cwd=folder, stdin=slave, stdout=slave, stderr=slave, env={**environment, "TERM": "xterm"})  # fmt: skip
    os.close(slave)
    seen = b""
    while True:
        try:
            seen += os.read(master, 65536)
        except OSError:  # the other end is closed
            break
    assert process.wait(60) == 0
    os.close(master)
    lines = re.sub(r"\x1b\[[0-9;]*m", "", seen.decode()).split(" next:")[0].splitlines()
    widest = max(len(line.rstrip()) for line in lines)
    assert widest <= width
    assert widest > 0.7 * width
    assert b"\x1b[" in seen


def test_a_plan_or_a_register_that_goes_and_comes_back(session, folder, capsys):
    """The session goes on, and says each time what there is."""
    shown, _ = typed(session, capsys, "queue --top 3")
    for name, gone in (("case.toml", "case.toml is gone"), ("register.db", "register.db is gone")):
        kept = (folder / name).read_bytes()
        (folder / name).unlink()
        assert gone in typed(session, capsys, "queue --top 3")[0]
        assert not (folder / name).exists()
        (folder / name).write_bytes(kept[: len(kept) // 2])
        assert typed(session, capsys, "queue --top 3")[0] != shown
        (folder / name).write_bytes(kept)
        assert typed(session, capsys, "queue --top 3")[0] == shown
