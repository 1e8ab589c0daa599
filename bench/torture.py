"""Hostile input, damage, kills and races, all counted: python bench/torture.py [--share 1] [--seed 1].

Seven kinds of trial, each seeded, on cases in a temporary folder:

files        of every format: well-formed ones whose rows and sums are known, and damaged ones
expressions  random conditions, groups and figures, as --where, --by and --measures take them
arguments    random argument lines
plans        damaged and odd case.toml
alterations  files of a worked case altered, cut, doubled, swapped: noticed, or without effect
kills        of intake, replace, screen, keep, review, note and paper, at random moments
races        of two and four processes on one case

Counted are tracebacks and faults of the program, hangs over 20 s, rows lost, rows or reviews
doubled, and wrong sums. Any of them ends the run with exit code 1, and is printed with its seed.
"""

from __future__ import annotations

import argparse
import gzip
import io
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import traceback
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, redirect_stderr, redirect_stdout
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from hostile_forms import FORMS, Rows
from sabueso.base import outcome
from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.register_file import FileRegister
from sabueso.cli.main import main

PROGRAM = [sys.executable, "-m", "sabueso"]
PATIENCE = 20  # seconds
WHOLE = {"files": 3000, "expressions": 10_000, "arguments": 1000, "plans": 500, "alterations": 500,
         "kills": 300, "races": 100}  # fmt: skip
FAULTS = ("traceback", "hang", "lost", "doubled", "wrong sum", "unnoticed")


@dataclass
class Trials:
    """How trials of one kind ended; ``faults`` with what is needed to see them again."""

    kind: str
    tried: int = 0
    ended: Counter[str] = field(default_factory=Counter)
    faults: list[tuple[str, str]] = field(default_factory=list)

    def end(self, how: str) -> None:
        self.tried += 1
        self.ended[how] += 1

    def fault(self, what: str, detail: str) -> None:
        self.faults.append((what, detail))


def said(arguments: list[str], cwd: Path) -> tuple[int, str, str, float]:
    """Run the program in this process: its exit code, what it printed, and how long it took."""
    out, err, before = io.StringIO(), io.StringIO(), Path.cwd()
    outcome.forget()
    os.chdir(cwd)
    start = time.monotonic()
    try:
        with redirect_stdout(out), redirect_stderr(err), _patience():
            code = main(arguments)
    except BaseException:  # noqa: BLE001 - whatever leaves the program is what is looked for
        return 99, out.getvalue(), traceback.format_exc(), time.monotonic() - start
    finally:
        os.chdir(before)
    return code, out.getvalue(), err.getvalue(), time.monotonic() - start


@contextmanager
def _patience() -> Iterator[None]:
    """Print where a trial hangs, once it does."""
    import faulthandler

    faulthandler.dump_traceback_later(6 * PATIENCE, file=sys.__stderr__)
    try:
        yield
    finally:
        faulthandler.cancel_dump_traceback_later()


def run(trials: Trials, arguments: list[str], cwd: Path, name: str) -> tuple[int, str]:
    """One trial in this process, judged: 0, 2 or 3 are answers, anything else is a fault."""
    code, out, err, took = said(arguments, cwd)
    if code not in (0, 2, 3) or "Traceback" in err or "fault of the program" in err:
        trials.fault("traceback", f"{name} {arguments!r}: code {code}: {err[-600:]}")
    if took > PATIENCE:
        trials.fault("hang", f"{name} {arguments!r}: {took:.0f} s")
    trials.end({0: "done", 2: "refused", 3: "gate"}.get(code, "fault"))
    return code, out


# ---- files


def files(trials: Trials, count: int, made: random.Random, place: Path) -> None:
    """Half of them well-formed, with rows and sums that are known; half of them damaged."""
    main_in(place, "open", "files")
    case = place / "files"
    for number in range(count):
        seed = made.getrandbits(40)
        own = random.Random(seed)
        suffix, content, truth = SOURCES[number % len(SOURCES)](own)
        damaged = number % 2 == 1
        if damaged:
            content, truth = _damaged(content, own), None
        path = place / f"f{suffix}"
        path.write_bytes(content)
        attach = suffix == ".parquet" and own.random() < 0.3
        how = ["--attach"] if attach else [] if own.random() < 0.2 else ["--check"]
        table = f"t{number}"
        arguments = ["intake", str(path), "--as", table, *how, "--format", "json"]
        code, out = run(trials, arguments, case, f"seed {seed}")
        if truth is not None:
            _check_truth(trials, code, out, truth, f"{suffix} seed {seed}")
        elif code == 0:
            total = json.loads(out)["total"]
            parts = ("accepted", "quarantined", "totals", "blank")
            if total["read"] != sum(total[name] for name in parts):
                trials.fault("lost", f"{suffix} seed {seed}: {total}")


def _check_truth(trials: Trials, code: int, out: str, truth: dict[str, Any], name: str) -> None:
    if code != 0:
        trials.fault("lost", f"{name}: a well-formed file was refused")
        return
    report = json.loads(out)
    total = report["total"]
    if total["accepted"] != truth["rows"] or total["quarantined"] != truth.get("bad", 0):
        trials.fault("lost", f"{name}: {total}, expected {truth}")
    elif _amounts(report["files"][0]["sums"]) != truth["sum"]:
        trials.fault("wrong sum", f"{name}: {report['files'][0]['sums']}, expected {truth}")


def _amounts(sums: dict[str, str]) -> Decimal:
    return Decimal(next(value for name, value in sums.items() if name.lower() == "amount"))


Source = tuple[str, bytes, dict[str, Any]]


def _rows(made: random.Random) -> tuple[list[tuple[str, str, Decimal]], dict[str, Any]]:
    letters = "abc é\"';,|\t$=<&\u202e日"
    rows = []
    for number in range(made.randint(30, 120)):
        text = "".join(made.choices(letters, k=made.randint(1, 12))).strip() or "x"
        rows.append((f"R{number:04d}", text, Decimal(made.randint(-(10**7), 10**9)).scaleb(-2)))
    return rows, {"rows": len(rows), "sum": sum((r[2] for r in rows), Decimal(0))}


def _delimited(made: random.Random) -> Source:
    """Line ends of every kind, mixed; quotes where needed or everywhere; breaks within quotes."""
    rows, truth = _rows(made)
    mark, point = made.choice([(";", ","), (",", "."), ("\t", "."), ("|", ",")])
    ends = made.choice([["\n"], ["\r"], ["\r\n"], ["\n", "\r", "\r\n"], ["\n", "\r"]])
    everywhere = made.random() < 0.3
    breaks = made.random() < 0.3

    def cell(text: str) -> str:
        if everywhere or any(c in text for c in f'"\n\r{mark}'):
            return '"' + text.replace('"', '""') + '"'
        return text

    lines = [mark.join(("id", "text", "amount")) + made.choice(ends)]
    for key, text, amount in rows:
        if breaks and made.random() < 0.1:
            text += made.choice(["\n", "\r", "\r\n"]) + "more"
        lines.append(
            mark.join(map(cell, (key, text, f"{amount:f}".replace(".", point)))) + made.choice(ends)
        )
    if made.random() < 0.3:
        lines[-1] = lines[-1].rstrip("\r\n")
    for _ in range(made.choice([0, 0, 1, 3])):
        end = made.choice(ends)
        if not (lines[-1].endswith("\r") and end == "\n"):
            lines.append(end if lines[-1].endswith(("\n", "\r")) else "")
    encoding = made.choice(["utf-8", "utf-8-sig", "utf-16"])
    return ".csv", "".join(lines).encode(encoding), truth


def _gzipped(made: random.Random) -> Source:
    _, content, truth = _delimited(made)
    return ".csv.gz", gzip.compress(content), truth


def _zipped(made: random.Random) -> Source:
    _, content, truth = _delimited(made)
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.csv", content)
    return ".zip", buffer.getvalue(), truth


def _workbook(made: random.Random) -> Source:
    import xlsxwriter

    rows, truth = _rows(made)
    buffer = io.BytesIO()
    book = xlsxwriter.Workbook(buffer, {"in_memory": True, "strings_to_formulas": False})
    sheet = book.add_worksheet()
    for j, name in enumerate(("id", "text", "amount")):
        sheet.write_string(0, j, name)
    for i, (key, text, amount) in enumerate(rows, 1):
        sheet.write_string(i, 0, key)
        sheet.write_string(i, 1, text)
        sheet.write_number(i, 2, float(amount))
    book.close()
    return ".xlsx", buffer.getvalue(), truth


def _parquet(made: random.Random) -> Source:
    import pyarrow as pa
    import pyarrow.parquet as pq

    rows, truth = _rows(made)
    names = made.choice([["id", "text", "amount"], ["id", "_file", "amount"], ["id", "", "amount"],
                         ["id", "ID", "amount"], ["filename", "_line", "amount"]])  # fmt: skip
    columns = [pa.array([r[i] for r in rows]) for i in (0, 1)]
    columns.append(pa.array([r[2] for r in rows], pa.decimal128(18, 2)))
    buffer = io.BytesIO()
    pq.write_table(pa.table(columns, names=names), buffer)
    if names[1] != "text" or names[0] != "id":
        # Attached, it is refused by name: its truth is told of what is taken in.
        return ".pq", buffer.getvalue(), truth
    return ".parquet", buffer.getvalue(), truth


def _objects(made: random.Random) -> Source:
    rows, truth = _rows(made)
    items = [{"id": k, "text": t, "amount": "@"} for k, t, _ in rows]
    texts = [
        json.dumps(item, ensure_ascii=made.random() < 0.5).replace('"@"', f"{row[2]:f}")
        for item, row in zip(items, rows, strict=True)
    ]
    if made.random() < 0.5:
        return ".jsonl", "\n".join(texts).encode(), truth
    return ".json", ("[" + ",\n".join(texts) + "]").encode(), truth


def _statement(made: random.Random) -> Source:
    rows, _ = _rows(made)
    rows = [(k, t, abs(a)) for k, t, a in rows]
    entries = "".join(
        f"<Ntry><NtryRef>{k}</NtryRef><Amt Ccy='EUR'>{a:f}</Amt><CdtDbtInd>CRDT</CdtDbtInd>"
        f"<BookgDt><Dt>2025-01-0{1 + i % 9}</Dt></BookgDt></Ntry>"
        for i, (k, _, a) in enumerate(rows)
    )
    text = (
        '<?xml version="1.0"?><Document xmlns="urn:iso:std:iso:20022:tech:xsd:camt.053.001.08">'
        f"<BkToCstmrStmt><Stmt><Id>S</Id>{entries}</Stmt></BkToCstmrStmt></Document>"
    )
    return ".xml", text.encode(), {"rows": len(rows), "sum": sum((r[2] for r in rows), Decimal(0))}


def _of_form(
    form: Callable[[Rows, random.Random], tuple[str, bytes]],
) -> Callable[[random.Random], Source]:
    def made_of(made: random.Random) -> Source:
        rows, truth = _rows(made)
        return *form(rows, made), truth

    return made_of


SOURCES: list[Callable[[random.Random], Source]] = [
    _delimited, _workbook, _delimited, _parquet, _delimited, _objects, _gzipped, _statement, _zipped,
    *map(_of_form, FORMS),
]  # fmt: skip


def _damaged(content: bytes, made: random.Random) -> bytes:
    text = bytearray(content)
    for _ in range(made.choice((1, 1, 2, 5, 40))):
        at = made.randrange(len(text) + 1)
        kind = made.randrange(5)
        if kind == 0 and at < len(text):
            text[at] = made.randrange(256)
        elif kind == 1:
            text[at:at] = made.choice(
                [b"\r", b"\n", b'"', b"\0", b"\xff", b";", b"\x1b[2J", b"TOTAL;"]
            )
        elif kind == 2:
            del text[at : at + made.choice((1, 3, 200))]
        elif kind == 3:
            text[at:at] = text[at : at + made.choice((10, 300))]
        elif made.random() < 0.3:
            del text[at:]
    return bytes(text)


# ---- expressions, arguments, plans

WORDS = [
    "amount", "party", "id", "date", "(", ")", ">", "<", "=", "<>", ">=", "and", "or", "not", "'x'", "''",
    "1", "0", "-1", "1.5", "1e400", "in", "like", "ilike", "between", "is", "null", "true", "case", "when",
    "then", "else", "end", ",", "+", "-", "*", "/", "%", "//", "||", "**", "abs(", "round(", "ln(", "sqrt(",
    "log(", "cast(", "as", "date", "double", "int", "escape", "::", "[", "]", ".", ";", "--", "/*", "*/",
    "sum(", "count(*)", "avg(", "month", "year", "weekday", "extract(", "from", "interval", "distinct",
    "coalesce(", "nullif(", "substr(", "first_two(", "last_two(", "\"amount\"", "\"", "'", "$1", "?", "~", "!",
    "\u202e", "\x1b", "nan", "'nan'", "similar", "to", "collate", "at", "time", "zone", "over", "filter",
]  # fmt: skip


NEVER = "'2025-13-45'"


def _number(made: random.Random, depth: int) -> str:
    """A value that is a number, in most cases."""
    inner = lambda: _number(made, depth - 1)  # noqa: E731
    if depth <= 0 or made.random() < 0.25:
        return made.choice(
            [
                "amount",
                "amount",
                "0",
                "1",
                "-1",
                "2.5",
                "1e308",
                "null",
                "length(party)",
                "month(date)",
            ]
        )
    return made.choice([
        lambda: f"({inner()} {made.choice('+-*/%')} {inner()})", lambda: f"{inner()} // {inner()}",
        lambda: f"{made.choice(['ln', 'sqrt', 'log', 'log10', 'abs', 'sign', 'floor', 'ceil'])}({inner()})",
        lambda: f"round({inner()}, {made.randint(-3, 9)})", lambda: f"{inner()} ** {made.choice(['0.5', '-1', '2', '400'])}",
        lambda: f"cast({inner()} as {made.choice(['double', 'int', 'bigint', 'varchar', 'decimal(18,2)'])})",
        lambda: f"coalesce({inner()}, {inner()})", lambda: f"nullif({inner()}, {inner()})",
        lambda: f"case when {_condition(made, depth - 1)} then {inner()} else {inner()} end",
        lambda: f"{made.choice(['first_two', 'last_two', 'first_digit', 'trailing_zeros'])}(amount)",
        lambda: f"days({made.choice(['date', inner()])}, {made.choice(['date', NEVER])})",
        lambda: f"band({inner()}, {made.randint(-9, 9)}, {made.randint(-9, 99)})",
        lambda: f"age_band(date, {made.choice([NEVER, inner()])}, {made.randint(-1, 60)}, 90)",
        lambda: f"extract({made.choice(['year', 'dow', 'doy', 'week', 'hour', 'timezone', 'epoch'])} from date)",
        lambda: f"greatest({inner()}, {inner()})", lambda: f"-{inner()}",
    ])()  # fmt: skip


def _text(made: random.Random, depth: int) -> str:
    if depth <= 0 or made.random() < 0.5:
        return made.choice(["party", "id", "'S1'", "''", "'%'", "'O''Brien'", "'\u202e'"])
    inner = _text(made, depth - 1)
    return made.choice([
        f"upper({inner})", f"{inner} || {_text(made, depth - 1)}", f"substr({inner}, {made.randint(-2, 9)}, 2)",
        f"replace({inner}, 'S', '')", f"left({inner}, {made.randint(-1, 3)})", f"concat({inner}, 'x')", f"trim({inner})",
    ])  # fmt: skip


def _condition(made: random.Random, depth: int) -> str:
    number, text = (lambda: _number(made, depth)), (lambda: _text(made, depth))
    return made.choice([
        lambda: f"{number()} {made.choice(['>', '<', '=', '<>', '>=', '<='])} {number()}",
        lambda: f"{text()} {made.choice(['like', 'ilike', 'not like'])} {text()}",
        lambda: f"{text()} like {text()} escape '!'", lambda: f"{text()} in ({text()}, {text()})",
        lambda: f"{number()} between {number()} and {number()}", lambda: f"{text()} is not null",
        lambda: f"not ({_condition(made, depth - 1) if depth > 0 else 'true'})",
        lambda: f"{_condition(made, depth - 1) if depth > 0 else 'true'} {made.choice(['and', 'or'])} {number()} > 0",
        lambda: f"date {made.choice(['>', '<', '='])} '2025-0{made.randint(1, 9)}-01'",
        lambda: f"{number()} is distinct from {number()}", lambda: f"{number()} < {number()} < {number()}",
        lambda: f"word_in({text()}, 's1', {made.choice([NEVER, text()])})",
        lambda: f"weekday in ('Sat', {text()})", lambda: f"hour = {text()}",
        lambda: f"starts_with({text()}, 'S')", lambda: f"regexp_matches({text()}, '[')",
    ])()  # fmt: skip


def _expression(made: random.Random, kind: int) -> str:
    """Two in three are such as a user may mean, the others are words at random or one of them bent."""
    if made.random() < 0.2:
        return " ".join(made.choices(WORDS, k=made.randint(1, 9)))
    depth = made.randint(0, 3)
    if kind < 3:
        text = _condition(made, depth)
    elif kind == 3:
        text = made.choice([_number, _text, _condition])(made, depth)
    else:
        text = ",".join(
            f"{made.choice(['sum', 'avg', 'min', 'max', 'median', 'stddev', 'count'])}"
            f"({made.choice(['', '', 'distinct '])}{_number(made, depth)})"
            for _ in range(2)
        )
    if made.random() < 0.15:
        at = made.randrange(len(text))
        text = text[:at] + made.choice(WORDS) + text[at + made.randint(0, 2) :]
    return text


def expressions(trials: Trials, count: int, made: random.Random, place: Path) -> None:
    """Conditions, groups and figures on one table: a result or a sentence."""
    from sabueso.population.drill import Asked, drill, rows
    from sabueso.population.expressions import split_list
    from sabueso.screens import find_screen

    case = Case(_worked(place, "expressions"))
    distance = find_screen("distance")
    with case.populations("pay") as opened:
        for number in range(count):
            text = _expression(made, number % 5)
            start = time.monotonic()
            try:
                if number % 5 < 3:
                    rows(opened("pay", text), limit=3)
                elif number % 5 == 3:
                    drill(opened("pay"), Asked(by=[text], limit=made.choice([None, 2])))
                elif number % 2:
                    having = text.split(",")[0] + " > 0" if made.random() < 0.5 else None
                    asked = Asked(["party"], measures=split_list(text), having=having, limit=2)
                    drill(opened("pay"), asked)
                else:
                    settings = distance.settings.from_plan({"measures": text, "per": "party"}, "x")
                    distance.run(opened("pay"), settings)
                trials.end("done")
            except UserError:
                trials.end("refused")
            except BaseException:  # noqa: BLE001 - likewise
                trials.end("fault")
                trials.fault("traceback", f"{text!r}: {traceback.format_exc()[-600:]}")
            if time.monotonic() - start > PATIENCE:
                trials.fault("hang", text)
    case.close()


LINES = (
    ("redo",), ("redo", "1"), ("seal", "--check"), ("queue", "--where", "marks > 0 and amount < 100"),
    ("review", "--where", "status = 'open'"), ("paper", "--matter", "m"), ("paper", "--screen", "z"),
    ("dig", "pay", "--by", "party,month", "--measures", "sum(amount),share,median(amount)", "--having", "count(*) > 1"),
    ("dig", "pay", "--by", "band(amount, 0, 10)", "--across", "weekday", "--sort", "rows desc"),
    ("dig", "pay", "--columns", "party,amount", "--sort", "party desc"), ("dig", "@view",),
    ("survey",), ("survey", "pay"), ("survey", "pay", "amount", "--by", "party"), ("survey", "pay", "--pairs"),
    ("try", "zscore", "pay", "--by", "party"), ("try", "zscore", "pay", "--method", "modified", "--aim", "5"),
    ("try", "fences", "pay", "--by", "party", "--outer", "2"), ("try", "top", "pay", "--share", "0.01"),
    ("try", "digits", "pay", "--digits", "first-two", "--by-whom", "party"), ("try", "range", "pay", "--least", "0"),
    ("try", "distance", "pay", "--per", "party", "--measures", "sum(amount),count(*)"),
    ("try", "periods", "pay", "--per", "party", "--base", "2025-01", "--current", "2025-02"),
    ("try", "zscore", "pay", "--out", "x.png"), ("try", "digits", "pay", "--out", "x.html"), ("screen", "far"),
    ("queue", "--top", "3"), ("queue", "--out", "q.xlsx"), ("dig", "pay", "--by", "party,month", "--across", "weekday"),
    ("dig", "pay", "--rows", "--limit", "4"), ("dig", "pay", "--where", "amount > 200", "--measure", "mean"),
    ("why", "PAY-00000"), ("review", "PAY-00000", "--cleared", "--reason", "x", "--as", "KL"), ("paper",),
    ("note", "far", "--conclusion", "x", "--as", "KL"), ("intake", "../a.csv", "--as", "b", "--check"),
    ("methods", "digits"), ("screen", "--gate", "3"),
)  # fmt: skip


def arguments(trials: Trials, count: int, made: random.Random, place: Path) -> None:
    """Argument lines of the program's words and of none."""
    from sabueso.cli.main import COMMANDS

    case = _worked(place, "arguments")
    commands = [c for c in COMMANDS if c not in ("demo", "open")]
    words = [
        "pay", "a", "zscore", "digits", "fences", "top", "distance", "periods", "range", "--by", "party", "--where",
        "amount > 5", "--top", "3", "-1", "0", "--format", "json", "csv", "--out", "x.csv", "x.png", "x.xlsx",
        "x.html", "case.toml", "runs/x.csv", "--rows", "--across", "month", "--limit", "2", "--cleared", "--reason",
        "why", "--as", "KL", "--sign-off", "--error", "--amount", "12.5", "nan", "PAY-00000", "PAY-", "--check",
        "--gate", "--on", "amount", "--keep", "k", "--digits", "first-two", "--measures", "count(*)", "--per",
        "--base", "2024", "--current", "2025", "--aim", "10", "--figure", "strip", "--pairs", "--stem", "--bins",
        "--screen", "far", "--status", "open", "--table", "", "\x1b[2J", "\udcff", "=1", "--help", "--force",
        "--verify", "--replace", "--attach", "../a.csv", "--observation", "text", "--columns", "x" * 5000,
    ]  # fmt: skip
    for _ in range(count):
        line = list(made.choice(LINES)) if made.random() < 0.7 else [made.choice(commands)]
        for _ in range(made.randint(0, 3) if len(line) > 1 else made.randint(0, 6)):
            kind = made.randrange(3)
            at = made.randint(1, len(line))
            if kind == 0 or len(line) == 1:
                line.insert(at, made.choice(words))
            elif kind == 1:
                del line[min(at, len(line) - 1)]
            else:
                line += made.choice(
                    (["--format", "json"], ["--format", "csv"], ["--verify"], ["--force"])
                )
        run(trials, line, case, "line")


def plans(trials: Trials, count: int, made: random.Random, place: Path) -> None:
    """A plan with bytes, lines and values changed."""
    case = _worked(place, "plans")
    plan = case / "case.toml"
    whole = plan.read_bytes()
    values = [
        "3",
        '"x"',
        "[]",
        "{}",
        "true",
        "1979-05-27",
        '"\\u0000"',
        "-1",
        "99999999999999999999",
        '""',
        "nan",
    ]
    for _ in range(count):
        lines = whole.decode().split("\n")
        kind = made.randrange(4)
        if kind == 0:
            plan.write_bytes(_damaged(whole, made))
        elif kind == 1:
            at = made.randrange(len(lines))
            key = lines[at].split("=")[0]
            lines[at] = f"{key}= {made.choice(values)}"
            plan.write_text("\n".join(lines))
        elif kind == 2:
            made.shuffle(lines)
            plan.write_text("\n".join(lines))
        else:
            keys = [
                "where",
                "by",
                "limit",
                "test",
                "table",
                "on",
                "roles",
                "read",
                "links",
                "rules",
                "prefix",
            ]
            lines.insert(made.randrange(len(lines)), f"{made.choice(keys)} = {made.choice(values)}")
            plan.write_text("\n".join(lines))
        run(
            trials, made.choice([["screen"], ["survey", "pay"], ["queue"], ["paper"]]), case, "plan"
        )
    plan.write_bytes(whole)


# ---- alterations


def alterations(trials: Trials, count: int, made: random.Random, place: Path) -> None:
    """A worked case altered behind the program's back: refused, or what it says is the same."""
    original = _worked(place, "altered")
    reads = [
        ["queue", "--format", "json"],
        ["dig", "pay", "--verify", "--format", "json"],
        ["paper"],
    ]
    truth = [_answer(original, read) for read in reads]
    patterns = ("register.db", "population/*/*.parquet", "runs/*/finding-*.json", "runs/*/run.json")
    for number in range(count):
        copy = place / "copy"
        shutil.rmtree(copy, ignore_errors=True)
        shutil.copytree(original, copy)
        files = [p for pattern in patterns for p in sorted(copy.glob(pattern))]
        path = made.choice(files)
        stat = path.stat()
        content = bytearray(path.read_bytes())
        kind = made.randrange(6)
        if kind == 0:
            content[made.randrange(len(content))] ^= 1 << made.randrange(8)
        elif kind == 1:
            del content[made.randrange(len(content)) :]
        elif kind == 2:
            content = bytearray(made.choice(files).read_bytes())
        elif kind == 3:
            content = bytearray()
        elif kind == 4:
            at = made.randrange(len(content))
            content[at : at + 64] = made.randbytes(64)
        path.write_bytes(content)
        if kind == 5:
            path.unlink()
        elif made.random() < 0.5:
            os.utime(path, ns=(stat.st_mtime_ns, stat.st_mtime_ns))
        name = f"{path.name} kind {kind} number {number}"
        for read, expected in zip(reads, truth, strict=True):
            if read == ["paper"] and number % 3:
                continue  # figures take a second
            code, _, err, _ = said(read, copy)
            if code not in (0, 2) or "fault of" in err or "Traceback" in err:
                trials.fault("traceback", f"{name} {read}: {err[-400:]}")
            elif code == 0 and _answer(copy, read) != expected:
                trials.fault("unnoticed", f"{name} {read}")
        trials.end("tried")


def _answer(case: Path, read: list[str]) -> str:
    _, out, _, _ = said(read, case)
    if read == ["paper"]:
        text = (case / "papers" / "working-paper.html").read_text()
        return "".join(line for line in text.splitlines() if "UTC" not in line)
    return out


# ---- kills


def kills(trials: Trials, count: int, made: random.Random, place: Path) -> None:
    """Commands killed at random moments: the case is as it was before, or as it is after."""
    _inbox(place)
    case = _worked(place, "killed")
    identity = json.loads(said(["queue", "--format", "json"], case)[1])[0]["id"]
    big = place / "big.csv"
    big.write_text("id,amount\n" + "".join(f"B{i},{i}.25\n" for i in range(60_000)))
    rows, total = 60_000, f"{sum(range(60_000)) + 15_000}.00"
    commands: list[Callable[[int], list[str]]] = [
        lambda n: ["intake", str(big), "--as", f"k{n}"],
        lambda n: ["intake", str(place / f"v{1 + n % 2}" / "r.csv"), "--as", "r", "--replace"],
        lambda n: ["screen"],
        lambda n: ["try", "zscore", "pay", "--keep", f"screen {n}", "--limit", "9"],
        lambda n: ["review", identity, "--error", "--reason", f"r{n}", "--as", "KL"],
        lambda n: ["note", "far", "--observation", f"n{n}", "--as", "KL"],
        lambda n: ["paper"],
    ]  # fmt: skip
    said(["intake", str(place / "v1" / "r.csv"), "--as", "r"], case)
    for number in range(count):
        command = commands[number % len(commands)](number)
        before = _events(case)
        plan = (case / "case.toml").read_text()
        process = subprocess.Popen(
            [*PROGRAM, *command], cwd=case, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(made.uniform(0.05, 2.2 if command[0] in ("screen", "paper", "intake") else 0.9))
        process.send_signal(signal.SIGKILL if made.random() < 0.7 else signal.SIGINT)
        code = process.wait()
        after = _events(case)
        if after[: len(before)] != before:
            trials.fault("lost", f"{command}: events before it are gone")
        more = after[len(before) :]
        if len(more) > 1:
            trials.fault("doubled", f"{command}: {more}")
        if code == 0 and not more and command[0] in ("intake", "screen", "review", "note"):
            trials.fault("lost", f"{command}: code 0 and nothing recorded")
        trials.end("recorded" if more else "as it was")
        # The same again ends well, whatever was left, and is there once.
        again, _, err, _ = said(command, case)
        if again != 0:
            trials.fault("traceback", f"{command} again: {again} {err[-300:]}")
        if command[0] == "intake" and command[3].startswith("k"):
            found = json.loads(said(["dig", command[3], "--verify", "--format", "json"], case)[1])
            if found["population"]["rows"] != rows:
                trials.fault(
                    "doubled" if found["population"]["rows"] > rows else "lost",
                    f"{command}: {found['population']}",
                )
            elif found["population"]["total"] != total:
                trials.fault("wrong sum", f"{command}: {found['population']}")
        elif command[0] == "intake":
            amount = {"v1": "3.00", "v2": "30.00"}[Path(command[1]).parent.name]
            found = json.loads(said(["dig", "r", "--verify", "--format", "json"], case)[1])
            if found["population"]["total"] != amount:
                trials.fault("wrong sum", f"{command}: {found['population']}")
        if command[0] == "try":
            text = (case / "case.toml").read_text()
            if plan not in text and not text.startswith(plan.rstrip("\n")):
                trials.fault("lost", f"{command}: the plan lost lines")
        # What a reader was noting as it was killed is swept when it is a minute old.
        noted = set(case.glob("..verified.json.*.part"))
        left = [*(set(case.rglob("*.part")) - noted), *case.glob(".unfinished/*")]
        if left and command[0] != "paper":
            trials.fault("lost", f"{command} left {left}")
    FileRegister(case / "register.db").verify()
    if said(["paper", "--verify"], case)[0]:
        trials.fault("lost", "the paper of the case cannot be written")


def _events(case: Path) -> list[tuple[int, str]]:
    register = FileRegister(case / "register.db")
    found = [(e.seq, e.hash) for e in register.events()]
    register.close()
    return found


# ---- races


def races(trials: Trials, count: int, made: random.Random, place: Path) -> None:
    """The same or opposed commands at once: each is recorded once, by whoever may."""
    _inbox(place)
    original = _worked(place, "raced")
    for number in range(count):
        case = place / "race"
        shutil.rmtree(case, ignore_errors=True)
        shutil.copytree(original, case)
        identity = json.loads(said(["queue", "--format", "json"], case)[1])[0]["id"]
        width = made.choice((2, 4))
        kind = number % 6
        if kind == 0:
            commands = [["intake", str(place / "v1" / "r.csv"), "--as", "n"]] * width
        elif kind == 1:
            commands = [
                ["intake", str(place / f"v{1 + i % 2}" / "r.csv"), "--as", f"n{i}"]
                for i in range(width)
            ]
        elif kind == 2:
            said(["review", identity, "--cleared", "--reason", "x", "--as", "KL"], case)
            commands = [
                ["review", identity, "--sign-off", "--as", who]
                for who in ("MR", "ZZ", "AB", "CD")[:width]
            ]
        elif kind == 3:
            disposed = ["review", identity, "--cleared", "--reason", "x", "--as", "KL"]
            commands = [disposed, ["review", identity, "--sign-off", "--as", "KL"]] * (width // 2)
        elif kind == 4:
            commands = [["screen"], ["note", "far", "--observation", "x", "--as", "KL"]] * (
                width // 2
            )
        else:
            commands = [["try", "zscore", "pay", "--keep", f"s{i}"] for i in range(width)]
        codes = _at_once(trials, commands, case)
        _judge_race(trials, kind, commands, codes, case, identity)
        trials.end(f"{width} at once")


def _at_once(trials: Trials, commands: list[list[str]], case: Path) -> list[int]:
    begun = [
        subprocess.Popen(
            [*PROGRAM, *c], cwd=case, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        for c in commands
    ]
    codes = []
    for process, command in zip(begun, commands, strict=True):
        try:
            _, err = process.communicate(timeout=4 * PATIENCE)
        except subprocess.TimeoutExpired:
            process.kill()
            trials.fault("hang", repr(command))
            continue
        if "Traceback" in err or "fault of the program" in err:
            trials.fault("traceback", f"{command}: {err[-400:]}")
        codes.append(process.returncode)
    return codes


def _judge_race(
    trials: Trials,
    kind: int,
    commands: list[list[str]],
    codes: list[int],
    case: Path,
    identity: str,
) -> None:
    register = FileRegister(case / "register.db")
    register.verify()
    events = register.events()
    register.close()
    name = f"race {commands}: codes {codes}"
    of = Counter(e.kind for e in events if e.subject in (identity, "n"))
    if kind == 0 and (of["source"] != 1 or any(codes)):
        trials.fault("doubled", f"{name}: {of}")
    elif kind == 1:
        tables = set(Case(case).plan.tables)
        sources = Counter(e.subject for e in events if e.kind == "source")
        for i in range(len(commands)):
            if f"n{i}" not in tables or sources[f"n{i}"] != 1:
                trials.fault("lost", f"{name}: {tables} {sources}")
    elif kind == 2 and (of["sign-off"] != 1 or codes.count(0) != 1):
        trials.fault("doubled", f"{name}: {of}")
    elif kind == 3:
        whose = [(e.kind, e.initials) for e in events if e.subject == identity]
        if ("sign-off", "KL") in whose or of["disposition"] != 1:
            trials.fault("doubled", f"{name}: {whose}")
    elif kind == 4:
        runs = [e.subject for e in events if e.kind == "run"]
        if len(set(runs)) != len(runs) or len(runs) != 1 + len(commands) // 2 or any(codes):
            trials.fault("lost", f"{name}: runs {runs}")
    elif kind == 5:
        screens = {s.name for s in Case(case).plan.screens}
        if not {f"s{i}" for i in range(len(commands))} <= screens:
            trials.fault("lost", f"{name}: {screens}")


# ---- cases


def main_in(place: Path, *line: str) -> None:
    code, _, err, _ = said(list(line), place)
    assert code == 0, err


def _inbox(place: Path) -> None:
    for version, amounts in (("v1", ("1.00", "2.00")), ("v2", ("10.00", "20.00"))):
        (place / version).mkdir(exist_ok=True)
        rows = "".join(f"R{i},{a}\n" for i, a in enumerate(amounts))
        (place / version / "r.csv").write_text("id,amount\n" + rows)


def _worked(place: Path, name: str) -> Path:
    """A small case with a table, two screens, a run and a review."""
    rows = [
        f"P{i:04d},2025-{1 + i % 12:02d}-{1 + i % 28:02d},S{i % 7},{100 + i % 13}.25"
        for i in range(300)
    ]
    rows += [f"X{i},2025-02-0{i + 1},S{i},{9000 + i}.00" for i in range(5)]
    (place / "a.csv").write_text("id,date,party,amount\n" + "\n".join(rows) + "\n")
    main_in(place, "open", name)
    case = place / name
    main_in(case, "intake", "../a.csv", "--as", "pay")
    main_in(case, "try", "zscore", "pay", "--keep", "far")
    main_in(case, "try", "digits", "pay", "--keep", "digits")
    main_in(case, "screen", "--as", "KL")
    last = json.loads(said(["queue", "--format", "json"], case)[1])[-1]["id"]
    main_in(case, "review", last, "--cleared", "--reason", "seen", "--as", "KL")
    return case


KINDS: dict[str, Callable[[Trials, int, random.Random, Path], None]] = {
    "files": files, "expressions": expressions, "arguments": arguments, "plans": plans,
    "alterations": alterations, "kills": kills, "races": races,
}  # fmt: skip


def torture(kind: str, count: int, seed: int, place: Path) -> Trials:
    """Trials of one kind, in a folder of their own."""
    trials = Trials(kind)
    folder = place / kind
    folder.mkdir()
    KINDS[kind](trials, count, random.Random(f"{seed} {kind}"), folder)
    return trials


def table(every: list[Trials]) -> str:
    """All counts, as the documentation has them."""
    lines = [
        "| kind | tried | " + " | ".join(FAULTS) + " | ended |",
        "|---|---:|" + "---:|" * len(FAULTS) + "---|",
    ]
    for trials in every:
        counts = Counter(what for what, _ in trials.faults)
        ended = ", ".join(f"{how} {n:,}" for how, n in sorted(trials.ended.items()))
        figures = " | ".join(f"{counts[what]:,}" for what in FAULTS)
        lines.append(f"| {trials.kind} | {trials.tried:,} | {figures} | {ended} |")
    return "\n".join(lines)


def run_all() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--share", type=float, default=1.0, help="of the whole number of trials")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kind", choices=list(KINDS), action="append")
    args = parser.parse_args()
    every = []
    with tempfile.TemporaryDirectory() as place:
        for kind in args.kind or KINDS:
            start = time.monotonic()
            count = max(int(WHOLE[kind] * args.share), 1)
            trials = torture(kind, count, args.seed, Path(place))
            every.append(trials)
            print(f"{kind}: {trials.tried:,} in {time.monotonic() - start:.0f} s", file=sys.stderr)
            for what, detail in trials.faults[:8]:
                print(f"  {what}: {detail}", file=sys.stderr)
    print(table(every))
    return 1 if any(t.faults for t in every) else 0


if __name__ == "__main__":
    raise SystemExit(run_all())
