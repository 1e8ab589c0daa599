"""Reviews of many at once, assignments, matters, notes, and what was explained and comes back changed."""

from __future__ import annotations

import json
import shutil
import subprocess
from decimal import Decimal

import pytest

from conftest import inside, inside_json, shorten


@pytest.fixture
def case(marisma, tmp_path):
    shutil.copytree(marisma, tmp_path / "m")
    return tmp_path / "m"


def events(case):
    import sqlite3

    rows = sqlite3.connect(case / "register.db").execute(
        "SELECT seq, kind, subject, initials, body FROM events ORDER BY seq"
    )
    return [(seq, kind, subject, who, json.loads(body)) for seq, kind, subject, who, body in rows]


def test_many_at_once_by_a_condition(case):
    condition = "status = 'open' and kind = 'line' and amount < 100000"
    before = inside_json("queue", "--where", condition, cwd=case)
    assert before and all(Decimal(i["amount"]) < 100000 and i["kind"] == "line" for i in before)
    done = inside_json(
        "review", "--where", condition, "--cleared", "--reason", "small", "--as", "kl", cwd=case
    )
    assert {i["id"] for i in done} == {i["id"] for i in before}
    assert all(i["status"] == "cleared" and i["initials"] == "KL" for i in done)
    recorded = [e for e in events(case) if e[1] == "disposition" and e[4]["reason"] == "small"]
    assert len(recorded) == len(before) and all(e[4]["selected_by"] == condition for e in recorded)
    assert "meets" in inside("review", "--where", condition, "--cleared", "--reason", "x", "--as", "KL",
                             cwd=case, code=2).stderr  # fmt: skip
    for wrong, message in (
        ("amont > 3", "did you mean"), ("amount", "is not a condition"), ("label > 3 +", "cannot be read"),
    ):  # fmt: skip
        stderr = inside("queue", "--where", wrong, cwd=case, code=2).stderr
        assert message in stderr and stderr.count("\n") == 1
    assert (
        "not both" in inside("review", "PAY-YMMFX", "--where", "marks > 0", cwd=case, code=2).stderr
    )
    assert "--where" in inside("review", "--cleared", "--reason", "x", cwd=case, code=2).stderr


def test_assignments_and_matters(case):
    ids = [i["id"] for i in inside_json("queue", "--status", "open", "--top", "6", cwd=case)]
    asked = ("--matter", "split invoices", "--assign", "jt", "--as", "KL")
    done = inside("review", *ids, *asked, cwd=case).stdout
    assert all(identity in done for identity in ids) and done.count("split invoices") == 6
    listed = inside_json(
        "queue", "--where", "matter = 'split invoices' and assigned = 'JT'", cwd=case
    )
    assert [i["id"] for i in listed] == ids and {i["status"] for i in listed} == {"open"}
    inside("review", ids[0], "--cleared", "--reason", "seen", "--as", "JT", cwd=case)
    history = inside("review", ids[0], cwd=case).stdout
    assert "assigned to" in history and "split invoices" in history and "cleared" in history
    # A sign-off is of the disposition, whatever came after it.
    inside("review", ids[0], "--matter", "", "--as", "KL", cwd=case)
    signed = inside_json("review", ids[0], "--sign-off", "--as", "MR", cwd=case)[0]
    assert signed["signed_off"] == "MR" and signed["matter"] == ""
    last = [e for e in events(case) if e[1] == "sign-off"][-1]
    disposed = [e for e in events(case) if e[1] == "disposition" and e[2] == ids[0]][-1]
    assert last[4]["of"] == disposed[0]
    refused = inside(
        "review", ids[1], "--matter", "payments", "--as", "KL", cwd=case, code=2
    ).stderr
    assert "cannot be called" in refused
    inside(
        "note",
        "split inv",
        "--conclusion",
        "one preparer stands behind them",
        "--as",
        "KL",
        cwd=case,
    )
    assert [e for e in events(case) if e[1] == "note"][-1][2] == "split invoices"


def test_all_notes_are_kept_and_shown_but_for_those_replaced(case):
    screen = "account totals against last year"
    for text in ("first look", "second look", "third look"):
        inside("note", screen, "--observation", text, "--as", "KL", cwd=case)
    first = next(e for e in events(case) if e[1] == "note" and e[4]["text"] == "first look")
    again = inside(
        "note",
        screen,
        "--observation",
        "first, mended",
        "--replaces",
        str(first[0]),
        "--as",
        "KL",
        cwd=case,
    )
    assert f"in the place of event {first[0]}" in again.stdout
    shorten(case, screen)
    inside("paper", cwd=case)
    page = (case / "papers/working-paper.html").read_text()
    for text, there in (
        ("first look", 0),
        ("second look", 1),
        ("third look", 1),
        ("first, mended", 1),
    ):
        assert page.count(text) == there, text
    stderr = inside(
        "note", screen, "--observation", "x", "--replaces", "1", "--as", "KL", cwd=case, code=2
    ).stderr
    assert "--replaces 1" in stderr


def test_a_changed_amount_reopens_what_was_explained(tmp_path):
    case = tmp_path / "c"
    inside("open", "c", cwd=tmp_path)
    rows = [
        f"{y}-0{m}-10,{a},{100 * k + m}.00"
        for y in (2024, 2025)
        for m in range(1, 9)
        for k, a in enumerate("xyz", 1)
    ]
    rows += ["2025-03-05,x,9000.00", "2025-03-05,y,8000.00"]
    header = "date,account,amount\n"
    (tmp_path / "a.csv").write_text(header + "\n".join(rows) + "\n")
    inside("intake", "../a.csv", "--as", "led", cwd=case)
    inside("try", "periods", "led", "--per", "account", "--base", "2024", "--current", "2025",
           "--amount-limit", "1000", "--keep", "years", cwd=case)  # fmt: skip
    inside("screen", cwd=case)
    ids = {i["subject"]["account"]: i["id"] for i in inside_json("queue", cwd=case)}
    for account, what in (("x", "--cleared"), ("y", "--cleared")):
        inside(
            "review", ids[account], what, "--reason", f"agreed {account}", "--as", "KL", cwd=case
        )
    assert inside_json("screen", cwd=case)["reopened"] == []
    (tmp_path / "b.csv").write_text(header + "2025-04-05,x,2500.00\n2025-04-05,y,20.00\n")
    inside("intake", "../b.csv", "--as", "led", cwd=case)
    done = inside_json("screen", cwd=case)
    assert [r["id"] for r in done["reopened"]] == [ids["x"]]
    now = {i["subject"]["account"]: i for i in inside_json("queue", cwd=case)}
    assert now["x"]["status"] == "open" and now["y"]["status"] == "cleared"
    history = inside("review", ids["x"], cwd=case).stdout
    assert "agreed x" in history and "when it was reviewed" in " ".join(history.split())


def fill(path, to, change):
    """Go through a workbook as a spreadsheet program would, and save it under another name."""
    import xlsxwriter
    from python_calamine import CalamineWorkbook

    book = CalamineWorkbook.from_path(str(path))
    sheets = {name: book.get_sheet_by_name(name).to_python() for name in book.sheet_names}
    header, *rows = sheets["queue"]
    places = {name: header.index(name) for name in header}
    change(sheets, {row[places["id"]]: row for row in rows}, places)
    made = xlsxwriter.Workbook(str(to))
    for name, cells in sheets.items():
        page = made.add_worksheet(name)
        for i, row in enumerate(cells):
            for j, value in enumerate(row):
                page.write(i, j, value) if value != "" else None
    made.close()


def test_the_queue_goes_through_a_spreadsheet_and_back(case, tmp_path):
    from python_calamine import CalamineWorkbook

    last = inside_json("queue", "--status", "open", "--top", "999", cwd=case)[-1]["id"]
    inside("review", last, "--cleared", "--reason", "below the limit", "--as", "KL", cwd=case)
    said = inside("review", "--sheet", "q.xlsx", cwd=case).stdout
    items = inside_json("queue", "--top", "999", cwd=case)
    assert f"{len(items)} exceptions" in said
    book = CalamineWorkbook.from_path(str(case / "q.xlsx"))
    assert book.sheet_names == ["queue", "rows", "notes"]
    assert (
        "nothing is filled in"
        in inside("review", "--from", "q.xlsx", "--as", "ab", cwd=case, code=2).stderr
    )
    opened = [i["id"] for i in items if i["status"] == "open"]
    cleared = last
    one, two, three, four = opened[:4]

    def change(sheets, rows, at):
        rows[one][at["judgement"]], rows[one][at["reason"]] = (
            "cleared",
            "contract seen; =no formula",
        )
        rows[two][at["judgement"]], rows[two][at["reason"]] = "Error", "mistyped"
        rows[two][at["amount of error"]] = 5621.54
        rows[three][at["matter"]], rows[three][at["assign to"]] = "November", "jt"
        rows[four][at["judgement"]], rows[four][at["reason"]] = "error", "sent twice"
        rows[four][at["amount of error"]] = "1.188,00"
        rows[cleared][at["judgement"]] = "sign-off"
        note = next(row for row in sheets["notes"] if row[0] == "account totals against last year")
        note[2] = "two accounts stand out"

    fill(case / "q.xlsx", case / "back.xlsx", change)
    before = len(events(case))
    checked = inside("review", "--from", "back.xlsx", "--check", "--as", "ab", cwd=case).stdout
    assert "would be recorded of 5 exceptions" in checked and len(events(case)) == before
    inside("review", "--from", "back.xlsx", "--as", "ab", cwd=case)
    now = {i["id"]: i for i in inside_json("queue", "--top", "999", cwd=case)}
    assert (now[one]["status"], now[one]["initials"]) == ("cleared", "AB")
    assert now[two]["error_amount"] == "5621.54" and now[four]["error_amount"] == "1188.00"
    assert (now[three]["matter"], now[three]["assigned"], now[three]["status"]) == (
        "November",
        "JT",
        "open",
    )
    assert now[cleared]["signed_off"] == "AB"
    assert len(events(case)) == before + 7
    # The same sheet once more: what it was written from has changed.
    again = inside("review", "--from", "back.xlsx", "--as", "ab", cwd=case, code=2).stderr
    assert "has changed since the sheet was written" in again and len(events(case)) == before + 7


@pytest.fixture(scope="module")
def sheet(marisma, tmp_path_factory):
    """A sheet of the sample case as it is, and the exceptions it lists as open."""
    case = shutil.copytree(marisma, tmp_path_factory.mktemp("sheet") / "m")
    inside("review", "--sheet", "q.xlsx", cwd=case)
    return case / "q.xlsx", inside_json("queue", "--status", "open", cwd=case)


@pytest.mark.parametrize(
    ("filled", "message"),
    [
        ({"judgement": "cleared"}, "needs its reason"),
        ({"judgement": "fine", "reason": "x"}, "no judgement 'fine'"),
        ({"reason": "x"}, "without a judgement"),
        (
            {"judgement": "cleared", "reason": "x", "amount of error": 3.0},
            "goes with --error alone",
        ),
        ({"judgement": "error", "reason": "x", "amount of error": "1,188"}, "1,188"),
        ({"judgement": "sign-off"}, "there is no disposition to sign off"),
        ({"judgement": "reopen", "reason": "x"}, "is open already"),
        ({"matter": "payments"}, "cannot be called"),
        ({"id": "PAY-ZZZZZ", "judgement": "cleared", "reason": "x"}, "there is no exception"),
        ({"id": "what", "judgement": "cleared", "reason": "x"}, "is no exception id"),
        ({"seen": "x", "judgement": "cleared", "reason": "x"}, "was changed"),
    ],
)
def test_a_row_that_cannot_be_recorded_is_named_and_nothing_is(case, sheet, filled, message):
    written, items = sheet

    def change(_sheets, rows, at):
        good = rows[items[1]["id"]]
        good[at["judgement"]], good[at["reason"]] = "referred", "for counsel"
        for name, value in filled.items():
            rows[items[0]["id"]][at[name]] = value

    fill(written, case / "back.xlsx", change)
    before = len(events(case))
    stderr = inside("review", "--from", "back.xlsx", "--as", "AB", cwd=case, code=2).stderr
    assert message in stderr and "row " in stderr and "nothing was recorded" in stderr
    assert stderr.count("\n") == 1 and len(events(case)) == before


def test_files_that_are_no_sheets(case):
    (case / "t.xlsx").write_bytes(b"PK\x03\x04 nothing")
    for name, message in (("t.xlsx", "cannot be read"), ("gone.xlsx", "no such file")):
        assert message in inside("review", "--from", name, "--as", "AB", cwd=case, code=2).stderr
    inside("queue", "--out", "plain.xlsx", cwd=case)
    assert (
        "no sheet 'queue'"
        in inside("review", "--from", "plain.xlsx", "--as", "AB", cwd=case, code=2).stderr
    )


@pytest.mark.long
def test_a_spreadsheet_program_saves_it_and_it_is_read_back(case, tmp_path):
    program = shutil.which("soffice")
    if program is None:
        pytest.skip("no spreadsheet program is on this machine")
    inside("review", "--sheet", "q.xlsx", cwd=case)
    one = inside_json("queue", "--status", "open", "--top", "1", cwd=case)[0]["id"]

    def change(_sheets, rows, at):
        rows[one][at["judgement"]], rows[one][at["reason"]] = "error", "typed twice"
        rows[one][at["amount of error"]] = 0.29

    fill(case / "q.xlsx", case / "filled.xlsx", change)
    for kind in ("ods", "xlsx"):
        out = tmp_path / kind
        asked = [
            "--headless",
            f"-env:UserInstallation=file://{tmp_path}/profile",
            "--convert-to",
            kind,
        ]
        subprocess.run([program, *asked, "--outdir", str(out), str(case / "filled.xlsx")], check=True,
                       capture_output=True, timeout=240)  # fmt: skip
        checked = inside_json(
            "review", "--from", str(out / f"filled.{kind}"), "--check", "--as", "AB", cwd=case
        )
        (line,) = checked["lines"]
        assert (line["identity"], line["judgement"], line["error_amount"]) == (one, "error", "0.29")


@pytest.mark.long
def test_the_front_of_the_papers_says_what_is_and_what_is_not(case):
    plan = (case / "case.toml").read_text()
    plan = plan.replace(
        "[case]\n", '[case]\nquestion = "Were invoices split?"\nscope = "2024 and 2025"\n'
    )
    (case / "case.toml").write_text(plan)
    with (shorten(case, "payments beyond", "payments unlike") / "case.toml").open("a") as rest:
        rest.write('\n[[screens]]\nname = "never run"\ntest = "top"\ntable = "bank"\n')
    items = inside_json("queue", "--top", "999", cwd=case)
    opened = [i["id"] for i in items if i["status"] == "open"]
    inside("review", *opened[:2], "--matter", "split invoices", "--as", "KL", cwd=case)
    inside(
        "review",
        opened[0],
        "--error",
        "--amount",
        "1.188,00",
        "--reason",
        "x",
        "--as",
        "KL",
        cwd=case,
    )
    inside("note", "split invoices", "--conclusion", "one hand", "--as", "KL", cwd=case)
    inside("note", "case", "--conclusion", "the letter is right", "--as", "KL", cwd=case)
    inside("paper", cwd=case)
    page = " ".join((case / "papers/working-paper.html").read_text().split())
    errors = sum(i["status"] == "error" for i in items) + 1
    for text in (
        "Were invoices split?", "2024 and 2025", "the letter is right", "one hand",
        f"{errors} exceptions are errors; 1 of them state an amount, 1,188.00 EUR in all.",
        f"{len(opened) - 1} exceptions are not disposed of.", "never ran: never run.", "Signed off in part",
        "<strong>split invoices</strong>", "are not signed off",
    ):  # fmt: skip
        assert text in page, text
    assert "all of it" not in page
    # With every exception disposed of by one and signed off by another it is signed off.
    inside(
        "review",
        "--where",
        "status = 'open'",
        "--cleared",
        "--reason",
        "seen",
        "--as",
        "KL",
        cwd=case,
    )
    inside("review", "--where", "signed_off is null", "--sign-off", "--as", "MR", cwd=case)
    said = inside("paper", "--screen", "first-two", cwd=case).stdout
    assert "screen-first-two-digits-of-payments.html" in said
    inside("paper", cwd=case)
    page = " ".join((case / "papers/working-paper.html").read_text().split())
    assert "MR, all of it" in page and "not disposed of" not in page
    refused = inside("paper", "--screen", "never run", cwd=case, code=2).stderr
    assert "no recorded run" in refused


def test_papers_of_a_matter_and_of_one_exception(case):
    items = inside_json("queue", "--top", "999", cwd=case)
    one = next(i for i in items if i["kind"] == "row")
    other = next(i for i in items if i["kind"] == "class")
    bad = "<script>alert(1)</script> & more"
    inside("review", one["id"], other["id"], "--matter", bad, "--as", "KL", cwd=case)
    inside("note", bad, "--conclusion", "<b>seen</b>", "--as", "KL", cwd=case)
    said = inside("paper", "--matter", bad, cwd=case).stdout
    page = (case / "papers/matter-script-alert-1-script-more.html").read_text()
    assert "matter-script-alert" in said and "<script" not in page and "<b>seen" not in page
    for item in (one, other):
        assert f'<section id="{item["id"]}">' in page
        for sentence in inside_json("why", item["id"], cwd=case)["sentences"]:
            assert sentence.split("<")[0].split("'")[0] in page
    inside("paper", "--exception", one["id"], cwd=case)
    page = (case / f"papers/exception-{one['id'].lower()}.html").read_text()
    assert one["label"].split(" · ")[0] in page and "data:image/svg+xml" in page
    for wrong, message in (
        (("--matter", "nothing"), "there is no matter"),
        (("--exception", "PAY-ZZZZZ"), "no exception"),
        (("--exception", one["id"], "--screen", "first"), "at a time"),
    ):
        stderr = inside("paper", *wrong, cwd=case, code=2).stderr
        assert message in stderr and stderr.count("\n") == 1


def test_rows_that_another_review_set_aside(case):
    """They are left out of views and said; an exception of which nothing else is left shows them."""
    items = inside_json("queue", "--top", "999", cwd=case)
    row = next(i for i in items if i["kind"] == "row" and i["table"] == "payments")
    before = inside_json("dig", "payments", cwd=case)["population"]
    held = next(i for i in items if i["kind"] == "class")
    inside(
        "review", held["id"], "--cleared", "--set-aside", "--reason", "x", "--as", "KL", cwd=case
    )
    view = inside_json("dig", "payments", cwd=case)["population"]
    assert view["left_out"]["set_aside"] == before["used"] - view["used"] > 100
    inside("review", row["id"], "--cleared", "--set-aside", "--reason", "x", "--as", "KL", cwd=case)
    assert inside_json("dig", row["id"], cwd=case)["population"]["used"] == 1
    where = row["rows"].split("'")[1]
    other = next(i for i in items if i["kind"] == "row" and where not in i["rows"])
    assert inside_json("dig", other["id"], cwd=case)["population"]["used"] == 1
