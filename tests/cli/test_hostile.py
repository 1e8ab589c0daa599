"""What hostile input may do: nothing to a terminal, a spreadsheet or a figure, and never a traceback."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import re
import subprocess
import sys
import zipfile
from itertools import chain
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import xlsxwriter
from hypothesis import given
from hypothesis import strategies as st
from python_calamine import CalamineWorkbook

from conftest import inside, inside_json
from sabueso.base.files import csv_rows, json_text, safe_cell
from sabueso.base.visible import visible
from sabueso.cli.main import told
from sabueso.report.canvas import drawn, one_plot
from sabueso.report.commands import shell

STEERING = "a\x1b[31mred\x1b]0;title\x07\x9bK\u202egnp\u2066x\u200b\x00\x7f"
UNSEEN = re.compile("[\x00-\x09\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069\u200b\ud800-\udfff]")


@pytest.fixture
def hostile(tmp_path: Path) -> Path:
    """A case whose names and texts try everything."""
    inside("open", "case", "--name", f"case {STEERING[:20]}".replace("\x00", ""), cwd=tmp_path)
    names = [STEERING.replace("\x00", ""), "50%$^$", "$ & $", "=cmd|' /C calc'!A0", "\uff1d1+1", " =1+1",
             "\t=1", "O'Brien \"x\"", "<script>alert(1)</script>", "x" * 5000, "$(touch hacked)`id`", "a,b\r\nc"]  # fmt: skip
    rows = io.StringIO()
    writer = csv.writer(rows, lineterminator="\n", quoting=csv.QUOTE_ALL)
    writer.writerow(["id", "party", "nota\x1b[2J", "amount"])
    for number in range(360):
        far = 9_000_000 if number % 40 == 7 else 0
        writer.writerow(
            [
                f"R{number}",
                names[number % 12],
                names[(number + 5) % 12],
                f"{far + number * 7 + 13}.25",
            ]
        )
    (tmp_path / "a.csv").write_text(rows.getvalue(), newline="")
    inside("intake", "../a.csv", "--as", "t", cwd=tmp_path / "case")
    return tmp_path / "case"


def _seen(text: str) -> None:
    found = UNSEEN.search(text)
    assert found is None, repr(text[max(found.start() - 40, 0) : found.end() + 40])


@pytest.mark.long
def test_no_command_lets_a_text_steer_the_terminal(hostile):
    inside("try", "zscore", "t", "--keep", "far", cwd=hostile)
    inside(
        "try", "zscore", "t", "--by", "party", "--method", "modified", "--keep", "by", cwd=hostile
    )
    inside("screen", cwd=hostile)
    identity = inside_json("queue", cwd=hostile)[0]["id"]
    reason = "seen \x1b[2Jhere\u202e"
    inside("review", identity, "--cleared", "--reason", reason, "--as", "KL", cwd=hostile)
    for command in (
        ["queue"], ["dig", "t", "--by", "party"], ["dig", "t", "--rows"], ["dig", identity],
        ["survey", "t"], ["survey", "t", "amount", "--by", "party"], ["why", identity],
        ["review", identity], ["try", "zscore", "t", "--by", "party"], ["try", "fences", "t"],
        ["try", "digits", "t", "--by-whom", "party"], ["screen"],
        ["try", "distance", "t", "--per", "party", "--measures", "sum(amount),count(*)"],
    ):  # fmt: skip
        _seen(inside(*command, cwd=hostile).stdout)
        said = inside(*command, "--format", "json", cwd=hostile).stdout
        _seen(said)
        json.loads(said)
        if command[0] not in ("review", "screen"):
            said = inside(*command, "--format", "csv", cwd=hostile).stdout
            _seen(said.replace("\r\n", "").replace("\t", ""))
    for command in (["dig", STEERING[1:9], "x"], ["try", "zscore", "t", "--on", "x\x1b[2J"],
                    ["intake", "no\x1bfile", "--as", "t"], ["queue", "--screen", "\x9b\u202e"]):  # fmt: skip
        _seen(inside(*command, cwd=hostile, code=2).stderr)
    inside("paper", cwd=hostile)
    _seen(
        (hostile / "papers" / "working-paper.html").read_text().replace("\r", "").replace("\t", "")
    )
    assert "<script>alert" not in (hostile / "papers" / "working-paper.html").read_text()
    book = CalamineWorkbook.from_path(hostile / "papers" / "exceptions.xlsx")
    for row in book.get_sheet_by_name("exceptions").to_python():
        _seen("".join(map(str, row)))
    # The texts themselves are what they were.
    assert any(STEERING.replace("\x00", "") == r["party"] for r in
               inside_json("dig", "t", "--rows", "--limit", "400", cwd=hostile)["rows"])  # fmt: skip


@pytest.mark.skipif(os.name == "nt", reason="a POSIX shell reads the commands")
def test_what_is_ready_to_paste_runs_nothing_of_a_client(hostile):
    said = inside(
        "dig", "t", "--where", "party like '%hacked%'", "--by", "party", cwd=hostile
    ).stdout
    command = next(line for line in said.splitlines() if " next: " in line).split("next: ", 1)[1]
    echoed = command.replace("sabueso", f'"{sys.executable}" -m sabueso', 1)
    done = subprocess.run(
        echoed, shell=True, cwd=hostile, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    assert not (hostile / "hacked").exists()
    for text in ("$(x)", "`x`", "it's $5", 'say "x"', "back\\slash", "!history", "plain", "a b"):
        printed = subprocess.run(
            f"printf %s {shell(text)}", shell=True, capture_output=True, text=True, check=True
        )
        assert printed.stdout == text


@given(st.lists(st.lists(st.text(max_size=8), min_size=1, max_size=4), min_size=1, max_size=4))
def test_csv_is_read_back_and_runs_nothing(rows):
    text = csv_rows(rows)
    assert UNSEEN.search(text.replace("\r", "").replace("\t", "")) is None
    back = list(csv.reader(io.StringIO(text, newline="")))
    assert [len(r) for r in back] == [len(r) for r in rows]
    for before, after in zip(chain(*rows), chain(*back), strict=True):
        plain = visible(before, "\n\r\t")
        assert after in (plain, "'" + plain)
        assert (
            after.lstrip(" \t\r\n\v\f\u00a0\u3000\ufeff")[:1] not in tuple("=+@＝＋－＠")
            or not after.strip()
        )


@pytest.mark.parametrize(
    "text", ["=1+1", "\uff1d1+1", " =1+1", "\t=1", "\r=1", "\u00a0@x", "\ufeff+1", "-x"]
)
def test_formulas_in_disguise(text):
    assert str(safe_cell(text)).startswith("'")


@given(st.text())
def test_json_says_the_same_and_steers_nothing(text):
    written = json_text({"a": text, "b": [{text: text}]})
    assert UNSEEN.search(written) is None
    try:
        text.encode()
    except UnicodeEncodeError:
        return
    assert json.loads(written) == {"a": text, "b": [{text: text}]}


@pytest.mark.parametrize("form", ["svg", "png"])
def test_labels_are_neither_mathematics_nor_endless(form):
    names = ["50%$^$", "$ & $", STEERING, "x" * 5000, r"$\frac{1}{0}$", "_hidden", "日本"]

    def draw(axes) -> bool:
        axes.barh(range(len(names)), range(len(names)))
        axes.set_yticks(range(len(names)), labels=names)
        axes.set_title(names[0])
        axes.annotate(STEERING, (0, 0))
        return True

    picture = drawn(one_plot(draw), form)
    assert picture is not None and len(picture) < 2_000_000
    if form == "svg":
        from lxml import etree

        etree.fromstring(picture)


FAULTS = [
    "1<2<3", "party like party like id", "extract(timezone from amount)", "amount > 1 -- x", "/* x */ amount > 1",
    "--", "amount >", "amount ++ 2 > 1", "(" * 2000 + "amount" + ")" * 2000 + " > 1", "amount > 'x'",
    "cast(party as int) > 1", "round(amount, 400) > 1", "amount like 5", "party in ()", "select 1", "1; 2",
    "read_csv('x')", "amount between 2", "a.b.c = 1", "x = 1", "count(*) > 1", "amount > (select 1)",
    "'\x00' = party", "party = 'a' escape '!'", "interval 1 day > 1", "amount[1] > 2", "party ~ '('",
    "party similar to '['", "amount > 1e400", "case when amount then 1 end > 2", "amount is party",
]  # fmt: skip


def test_expressions_that_are_none_get_a_sentence(hostile):
    for text in FAULTS:
        for command in (["dig", "t", "--where", text], ["dig", "t", "--by", text],
                        ["try", "zscore", "t", "--where", text]):  # fmt: skip
            said = inside(*command, cwd=hostile, code=(0, 2)).stderr
            assert "fault of the program" not in said
            if text in FAULTS[:6]:
                assert said
    made = random.Random(9)
    words = ["amount", "party", "id", "(", ")", ">", "<", "=", "and", "or", "not", "'x'", "1", "in", "like",
             "between", "is", "null", "case", "when", "then", "end", ",", "+", "-", "*", "/", "%", "||",
             "abs", "round", "ln", "sqrt", "cast", "as", "date", "escape", "::", "[", "]", ".", ";", "--"]  # fmt: skip
    for _ in range(90):
        text = " ".join(made.choices(words, k=made.randint(1, 9)))
        inside("dig", "t", "--where", text, cwd=hostile, code=(0, 2))


@pytest.mark.long
def test_a_condition_may_be_long_and_escape_its_marks(hostile):
    long = " or ".join(f"id = 'R{i}'" for i in range(1000))
    assert inside_json("dig", "t", "--where", long, cwd=hostile)["population"]["used"] == 360
    text = "party like '50!%%' escape '!'"
    assert inside_json("dig", "t", "--where", text, cwd=hostile)["population"]["used"] == 30
    deep = " + ".join(["amount"] * 3000) + " > 1"
    said = inside("dig", "t", "--where", deep, cwd=hostile, code=(0, 2))
    assert "360" in said.stdout if said.stdout else "is nested too deeply" in said.stderr


@pytest.mark.parametrize(
    "nested", ["pow({}, 1)", "greatest({}, amount)", "ln({})", "cast({} as double)", "{} // 2"]
)
def test_functions_within_functions_are_bounded(hostile, nested):
    """Each asks twice of what it is given: thirty within one another would be a thousand million parts."""
    text = "amount"
    for _ in range(30):
        text = nested.format(text)
    said = inside("dig", "t", "--where", f"{text} > 1", cwd=hostile, code=2)
    assert "more than 10,000 parts; expected a shorter one" in said.stderr


def _packed(content: bytes, name: str = "a.csv") -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(name, content)
    return buffer.getvalue()


def _sources() -> dict[str, bytes]:
    """A file of each format."""
    rows = "id;fecha;importe\n" + "".join(f"R{i};0{1 + i % 9}/01/2025;{i},50\n" for i in range(200))
    book = io.BytesIO()
    made = xlsxwriter.Workbook(book, {"in_memory": True})
    sheet = made.add_worksheet()
    for i in range(60):
        sheet.write_row(i, 0, ["id", "amount"] if i == 0 else [f"R{i}", i * 1.5])
    made.close()
    parquet = io.BytesIO()
    pq.write_table(pa.table({"id": ["a", "b"] * 50, "amount": pa.array(range(100))}), parquet)
    objects = "\n".join(json.dumps({"id": f"R{i}", "amount": i}) for i in range(60))
    return {
        ".csv": rows.encode(), ".xlsx": book.getvalue(), ".parquet": parquet.getvalue(),
        ".jsonl": objects.encode(), ".zip": _packed(rows.encode()), ".xml": b"<Document><a/></Document>",
    }  # fmt: skip


@pytest.mark.long
def test_damaged_files_are_sentences(tmp_path):
    inside("open", "c", cwd=tmp_path)
    made = random.Random(3)
    for suffix, whole in _sources().items():
        for number in range(6):
            content = bytearray(whole)
            if number % 3 == 0:
                content = content[: made.randrange(len(content))]
            elif number % 3 == 1:
                for _ in range(made.choice((1, 5, 50))):
                    content[made.randrange(len(content))] = made.randrange(256)
            else:
                at = made.randrange(len(content))
                content[at:at] = made.randbytes(made.choice((1, 20)))
            (tmp_path / f"f{suffix}").write_bytes(content)
            for more in (["--check"], ["--attach"] if suffix == ".parquet" else ["--check"]):
                said = inside(
                    "intake", f"../f{suffix}", "--as", f"t{number}", *more, cwd=tmp_path / "c", code=(0, 2)
                )  # fmt: skip
                assert "fault of the program" not in said.stderr


@pytest.mark.parametrize(
    "names", [["filename", "x"], ["file_row_number", "x"], ["", "x"], ["a", "A"], ["_line", "x"]]
)
def test_columns_that_cannot_be_attached(tmp_path, names):
    inside("open", "c", cwd=tmp_path)
    pq.write_table(pa.table([pa.array(["a"]), pa.array([1])], names=names), tmp_path / "a.parquet")
    args = ["intake", "../a.parquet", "--as", "t", "--attach"]
    assert "without --attach" in inside(*args, cwd=tmp_path / "c", code=2).stderr
    inside(*args[:-1], cwd=tmp_path / "c")


def test_plans_that_are_none_get_a_sentence(hostile):
    plan = hostile / "case.toml"
    whole = plan.read_text()
    for text in (
        whole + '\n[engine]\nmemory = "foo"\n', whole + '\n[engine]\nthreads = -1\n',
        whole + '\n[engine]\nkind = "other"\n', whole + "\n[engine]\nthreads = 99999999999999999999\n",
        whole + "\ntables = 3\n", "", "[case]\n", "\x00", "[" * 3000, whole.replace("[case]", "[[case]]"),
        whole + '\n[tables."a b"]\nprefix = "AB"\n', whole + "\n[[screens]]\nname = 'x'\n",
        whole + "\n[[screens]]\nname='x'\ntest='none'\ntable='t'\n",
        whole + "\n[[screens]]\nname='x'\ntest='zscore'\ntable='none'\n",
        whole + "\n[[screens]]\nname='x'\ntest='zscore'\ntable='t'\nwhere='amount >'\n",
    ):  # fmt: skip
        plan.write_text(text)
        for command in (["screen"], ["dig", "t"]):
            said = inside(*command, cwd=hostile, code=(0, 2)).stderr
            assert "fault of the program" not in said
        assert said or inside("screen", cwd=hostile, code=2).stderr
    plan.write_bytes(b"\xff\xfe\x00[")
    assert "not UTF-8" in inside("dig", "t", cwd=hostile, code=2).stderr


def test_surroundings_that_do_not_fit(hostile, monkeypatch):
    for width in ("abc", "-5", "0", "1", "99999999999"):
        monkeypatch.setenv("COLUMNS", width)
        inside("dig", "t", "--by", "party", cwd=hostile)
    monkeypatch.setenv("COLUMNS", "100")
    said = inside("review", "T-\udcff", "--cleared", "--reason", "x", cwd=hostile, code=2).stderr
    assert "is not UTF-8 text" in said
    for error, code, word in (
        (OSError(28, "No space left on device"), 2, "no space left"),
        (OSError(27, "File too large", "x/y"), 2, "x/y: file too large"),
        (MemoryError(), 2, "memory"), (RecursionError(), 2, "deep"), (KeyError("x"), 1, "fault"),
    ):  # fmt: skip
        sentence, found = told(error)
        assert (found, word in sentence.lower()) == (code, True)


@pytest.mark.skipif(os.name == "nt" or os.geteuid() == 0, reason="needs a user that access binds")
def test_a_folder_that_may_only_be_read(hostile):
    hostile.chmod(0o555)
    try:
        inside("queue", cwd=hostile, code=2)
        inside("dig", "t", cwd=hostile)
    finally:
        hostile.chmod(0o755)


@pytest.mark.skipif(sys.platform == "win32", reason="limits of a process are POSIX's")
def test_a_limit_on_the_size_of_files(hostile):
    rows = "id,amount\n" + "".join(f"R{i},{i}.50\n" for i in range(200_000))
    (hostile.parent / "big.csv").write_text(rows)
    command = f'ulimit -f 200; "{sys.executable}" -m sabueso intake ../big.csv --as big'
    done = subprocess.run(
        command, shell=True, cwd=hostile, capture_output=True, text=True, check=False
    )
    assert done.returncode == 2 and "Traceback" not in done.stderr and "too large" in done.stderr
    assert not list(hostile.glob("population/big/*"))
    inside("intake", "../big.csv", "--as", "big", cwd=hostile)
    assert not (hostile / ".unfinished").exists()


def test_outside_its_domain_a_function_has_no_value(tmp_path):
    inside("open", "c", cwd=tmp_path)
    values = [-20000, -1, 0, 1, 4, 20000]
    rows = "".join(f"R{i},{v}.00,{'nan' if v < 0 else v}\n" for i, v in enumerate(values))
    (tmp_path / "a.csv").write_text("id,importe,texto\n" + rows)
    inside("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c")
    for text, used in (
        ("ln(importe) > 9", 1), ("log(importe) > 4", 1), ("log10(importe) > 4", 1), ("sqrt(importe) > 1", 2),
        ("importe/0 > 1", 0), ("importe % 0 > -1", 0), ("importe // 0 > -1", 0), ("1/importe > 0", 3),
        ("importe ** 0.5 > 1", 2), ("importe ** -1 > 1", 0), ("log(1, importe) > 0", 0),
        ("cast(texto as double) > 100", 1), ("importe // 3 = 1", 1), ("importe // 3 = 0", 3), ("not (ln(importe) > 9)", 2), ("ln(importe) is null", 3),
    ):  # fmt: skip
        found = inside_json("dig", "t", "--where", text, cwd=tmp_path / "c")
        assert (text, found["population"]["used"]) == (text, used)


@pytest.mark.skipif(sys.platform in ("win32", "darwin"), reason="file names are text there")
def test_names_of_files_that_are_no_text(tmp_path):
    inside("open", "c", cwd=tmp_path)
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / os.fsdecode(b"caf\xe9.csv")).write_text("id,amount\nA,1.00\n")
    said = inside("intake", "../in", "--as", "t", cwd=tmp_path / "c", code=2).stderr
    assert "caf\\udce9.csv: the file's name is not UTF-8 text" in said
