"""Reports of fixed places as ledgers, stores, banks and courts print them: every row is read, whatever runs over
the columns, and every sum that is printed is that of its rows."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import date, timedelta
from decimal import Decimal
from itertools import pairwise

import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sabueso.intake.formats.deciding import decide
from sabueso.intake.formats.detection import Prior
from sabueso.intake.formats.hints import Hints
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import intake_engine, take_file

Report = tuple[list[str], dict[int, tuple[Decimal, str]], str]
"""Lines, the amount and the heading of each row by its line, and the column of the amounts."""


@pytest.fixture(scope="module")
def engine():
    opened = intake_engine()
    yield opened
    opened.close()


def _days(rng: random.Random, n: int) -> list[date]:
    return sorted(date(2024, 1, 1) + timedelta(days=rng.randrange(365)) for _ in range(n))


def _money(rng: random.Random, most: int = 900_000) -> Decimal:
    return Decimal(rng.randrange(500, most)).scaleb(-2)


def check_register(rng: random.Random) -> Report:
    """Pages with a title each, sums of vendors marked by stars, rules of two dashes too."""
    lines, rows, page, whole = [], {}, 0, Decimal(0)

    def top() -> list[str]:
        nonlocal page
        page += 1
        return [f"RUN DATE 01/05/2025       ACME HOLDINGS INC.            PAGE {page:>4}", " " * 27 + "CHECK REGISTER", "",
                "CHECK    DATE      VENDOR   NAME                     INVOICE        AMOUNT ST",
                "------ -------- --------- ------------------------ ---------- ------------ --"]  # fmt: skip

    lines += top()
    for v in range(12):
        own = Decimal(0)
        for day in _days(rng, rng.randrange(3, 9)):
            if len(rows) % 30 == 29:
                lines += ["\f", *top()]
            own += (amount := _money(rng))
            lines.append(
                f"{rng.randrange(10**5, 10**6)} {day:%m/%d/%y} V{v:05}    {f'VENDOR NAME {v}':<24} "
                f"{rng.randrange(1000, 99999):>10} {amount:>12,} {rng.choice('PVO'):>2}"
            )
            rows[len(lines)] = amount, ""
        whole += own
        lines += [f"{'':35}VENDOR TOTAL {'':12} {own:>12,}*", ""]
    return [*lines, f"{'':35}GRAND TOTAL  {'':12} {whole:>12,}**"], rows, "AMOUNT"


def ledger_detail(rng: random.Random) -> Report:
    """Accounts by their code and name above a header that comes again; amounts of two sides."""
    lines, rows = ["Bluewater Co-op", "General Ledger Detail", ""], {}
    for code, name in (("1000-00", "Cash - Operating"), ("1200-00", "Accounts Receivable"), ("5000-10", "Feed & Seed"), ("6100-00", "Office")):  # fmt: skip
        lines += [f"{code}  {name}", "  Date      Jrnl  Reference   Description                        Debit        Credit       Balance"]  # fmt: skip
        held, sums = _money(rng), [Decimal(0), Decimal(0)]
        lines.append(f"{'':31}Beginning Balance{'':44}{held:>12,}")
        for day in _days(rng, 15):
            amount, side = _money(rng, 90_000), rng.randrange(2)
            sums[side] += amount
            held += amount if side == 0 else -amount
            shown = [f"{amount:,}", ""][:: 1 - 2 * side]
            balance = f"({-held:,})" if held < 0 else f"{held:,}"
            lines.append(
                f"  {day:%m/%d/%y}  {rng.choice(['GJ', 'CD']):<4}  {rng.randrange(10**4, 10**5):<10}  "
                f"{rng.choice(['Payment on account', 'Invoice']):<26}  {shown[0]:>12}  {shown[1]:>12}  {balance:>12}"
            )
            rows[len(lines)] = amount if side == 0 else -amount, f"{code} {name}"
        lines += [f"{'':31}Total {name:<20}  {sums[0]:>12,}  {sums[1]:>12,}", ""]
    return lines, rows, "amount"


def aged_payables(rng: random.Random) -> Report:
    """Vendors by their number above the invoices, in the column of these; a sum after each."""
    lines, rows = ["AGED PAYABLES", "", "Vendor / Invoice   Inv Date     Due Date       Current      31-60      61-90     Over 90        Total"], {}  # fmt: skip
    for v in range(12):
        name = f"{1000 + v * 7} {rng.choice(['Northern', 'Southern'])} Supply {v}"
        lines.append(name.replace(" ", "  ", 1))
        sums = [Decimal(0)] * 5
        for day in _days(rng, rng.randrange(2, 6)):
            amount, place = _money(rng, 300_000), rng.randrange(4)
            cells = [amount if k in (place, 4) else Decimal(0) for k in range(5)]
            sums = [a + b for a, b in zip(sums, cells, strict=True)]
            shown = "".join(f"{c:>11,}" for c in cells)
            lines.append(f"   INV-{rng.randrange(1000, 9999)}        {day:%d-%b-%y}    {day + timedelta(30):%d-%b-%y}   {shown}")  # fmt: skip
            rows[len(lines)] = amount, name
        lines.append(f"   Vendor total{'':30}{''.join(f'{s:>11,}' for s in sums)}")
    return lines, rows, "Total"


def trial_balance(rng: random.Random) -> Report:
    """Sums wider than any amount above them."""
    lines, rows = ["Trial Balance", "", "Account  Description                        Debit          Credit"], {}  # fmt: skip
    sums = [Decimal(0), Decimal(0)]
    for i in range(60):
        amount, side = Decimal(rng.randrange(10**6, 9 * 10**6)).scaleb(-2), i % 2
        sums[side] += amount
        shown = [f"{amount:,}", ""][:: 1 - 2 * side]
        lines.append(f"{1000 + i * 37:<8} {f'Account name {i}':<28} {shown[0]:>12}    {shown[1]:>12}")  # fmt: skip
        rows[len(lines)] = amount if side == 0 else -amount, ""
    lines += ["", f"{'':8} {'Totals':<28} {sums[0]:>12,}    {sums[1]:>12,}"]
    return lines, rows, "amount"


def sales_journal(rng: random.Random) -> Report:
    """Names that somebody put above columns by eye; days of six figures; minuses behind."""
    lines, rows = ["SALES JOURNAL", "", "DATE     INV#   CUST  DESCRIPTION            QTY   UNIT PR      NET       TAX      GROSS"], {}  # fmt: skip
    for i, day in enumerate(_days(rng, 80)):
        net = rng.randrange(1, 30) * _money(rng, 9_000)
        tax, mark = (net * Decimal("0.07")).quantize(Decimal("0.01")), "-" if i % 9 == 0 else " "
        lines.append(
            f"{day:%y%m%d}  {4000 + i}  C{rng.randrange(10, 40)}   {f'Item {i % 9}':<20} {i % 30:>5}  {'9.99':>8}  "
            f"{f'{net:,}{mark}':>10} {f'{tax:,}{mark}':>8} {f'{net + tax:,}{mark}':>11}"
        )
        rows[len(lines)] = -net if mark == "-" else net, ""
    return lines, rows, "NET"


def trust_account(rng: random.Random) -> Report:
    """Matters above a header that comes again, two words apart by two blanks; what each ends at."""
    lines, rows = ["CLIENT TRUST ACCOUNT", ""], {}
    for k in range(1041, 1049):
        held, name = Decimal(0), f"Client: {k} Ann Lee & {k} Sons"
        lines += [name.replace(" Ann", "  Ann"), "Date        Ref     Payee              Deposits   Disbursed     Balance"]  # fmt: skip
        for i, day in enumerate(_days(rng, 7)):
            amount = _money(rng, 50_000)
            out = i % 3 == 2 and amount < held
            held += -amount if out else amount
            shown = [f"{amount:,}", ""][:: -1 if out else 1]
            lines.append(f"{day:%m/%d/%Y}  {7000 + i}    {'Court Clerk' if out else 'Client':<16} {shown[0]:>10} {shown[1]:>11} {held:>11,}")  # fmt: skip
            rows[len(lines)] = amount if out else -amount, name
        lines += [f"{'Ending balance':<60} {held:>11,}", ""]
    return lines, rows, "amount"


def stock_ledger(rng: random.Random) -> Report:
    """Names of two words, of which the rows have something below the second alone."""
    lines, rows = ["STOCK LEDGER", ""], {}
    for k in range(8):
        name, held = f"ITEM {4000 + k} WIDGET TYPE {k}", 100
        lines += [name.replace(" ", "  ", 1), "DATE      REF      TYPE    QTY IN   QTY OUT   ON HAND   UNIT COST      VALUE"]  # fmt: skip
        for day in _days(rng, 9):
            many, into, cost = rng.randrange(1, 40), rng.random() < 0.5, _money(rng, 2_000)
            held += many if into else -many
            shown = [str(many), ""][:: 1 if into else -1]
            lines.append(
                f"{day:%d/%m/%y}  {rng.randrange(1000, 9999)}     {'GRN' if into else 'ISS'} {shown[0]:>9} {shown[1]:>9} "
                f"{held:>9} {cost:>11} {many * cost:>10}"
            )
            rows[len(lines)] = many * cost, name
        lines.append("")
    return lines, rows, "VALUE"


def open_items(rng: random.Random) -> Report:
    """German amounts with their side behind, customers by their number above."""
    lines, rows = ["OP-Liste Debitoren", "", "Beleg-Nr   Belegdatum  Fällig am   Text                      Betrag     "], {}  # fmt: skip

    def told(amount: Decimal) -> str:
        shown = f"{abs(amount):,}".translate(str.maketrans(",.", ".,"))
        return f"{shown:>12} {'H' if amount < 0 else 'S'}"

    for k in range(10):
        name, whole = f"Kunde {10000 + k * 3} Meier {k} GmbH", Decimal(0)
        lines.append(name)
        for day in _days(rng, rng.randrange(3, 6)):
            amount = _money(rng, 500_000) * (-1 if rng.random() < 0.2 else 1)
            whole += amount
            lines.append(f"{rng.randrange(200000, 299999):<10} {day:%d.%m.%Y}  {day + timedelta(30):%d.%m.%Y}  {'Rechnung':<20}{told(amount)}")  # fmt: skip
            rows[len(lines)] = amount, name
        lines += [f"{'':34}Summe Kunde {'':8}{told(whole)}", ""]
    return lines, rows, "Betrag"


REPORTS: list[Callable[[random.Random], Report]] = [check_register, ledger_detail, aged_payables, trial_balance, sales_journal, trust_account, stock_ledger, open_items]  # fmt: skip


@pytest.mark.parametrize("made", REPORTS)
def test_every_row_and_whose_it_is(engine, tmp_path, made):
    lines, rows, amounts = made(random.Random(made.__name__))
    path = tmp_path / "report.txt"
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    report = take_file(path, tmp_path / "rows.parquet", ReadSettings(), Prior(), engine)
    assert (report.accepted, report.quarantined) == (len(rows), 0)
    assert all(line.stated == line.accepted for line in report.totals_lines)
    assert report.lines == len(lines) and report.roles["amount"] == amounts
    taken = {row["_line"]: row for row in pq.read_table(tmp_path / "rows.parquet").to_pylist()}
    assert {line: row[amounts] for line, row in taken.items()} == {k: v[0] for k, v in rows.items()}
    named = any(heading for _, heading in rows.values())
    if named:
        whose = {line: row["heading"] for line, row in taken.items()}
        assert whose == {line: heading for line, (_, heading) in rows.items()}
    dated = [row[report.roles["date"]] for row in taken.values()] if "date" in report.roles else []
    assert all(day.year == 2024 for day in dated) and bool(dated) is (made is not trial_balance)
    if made is aged_payables:
        assert (report.roles["party"], report.roles["document"]) == ("heading", "Vendor / Invoice")
    if made is sales_journal:
        assert all(a <= b for a, b in pairwise(dated))


@given(st.lists(st.integers(0, 364), min_size=40, max_size=80, unique=True), st.sampled_from(["%y%m%d", "%d%m%y", "%m%d%y"]))  # fmt: skip
def test_days_of_six_figures_are_read_in_the_order_that_they_have(days, order):
    """Under a day's name, of one year: or they stay what they are. Never in another order."""
    meant = [date(2024, 1, 1) + timedelta(days=day) for day in days]
    texts = [f"{day:{order}}" for day in meant]
    found = decide(texts, Hints(dated=True))
    if found.type == "date":
        assert [found.day_of(text) for text in texts] == meant
    assert decide(texts, Hints()).type != "date"


def _hurt(line: str, how: str, place: int) -> str:
    """A row as a bad print, a fault of transfer or somebody's note leaves it."""
    at = place % max(len(line), 1)
    return {
        "note": line[:at] + " paid twice? see file " + line[at:],
        "shift": "   " + line,
        "letter": line[:at] + "x" + line[at + 1 :],
        "words": "This page was left blank on purpose by the bank and says nothing at all of it",
        "cut": line[:at],
    }[how]


@given(
    st.sampled_from(REPORTS), st.integers(0, 999), st.sampled_from(["note", "shift", "letter", "words", "cut"]),
    st.integers(0, 120), st.integers(0, 9),
)  # fmt: skip
def test_one_line_that_is_hurt_costs_no_other(engine, tmp_path_factory, made, which, how, place, seed):  # fmt: skip
    lines, rows, amounts = made(random.Random(seed))
    hurt = list(rows)[3 + which % (len(rows) - 3)]
    lines[hurt - 1] = _hurt(lines[hurt - 1], how, place)
    folder = tmp_path_factory.mktemp("hurt")
    (folder / "report.txt").write_text("\n".join(lines) + "\n", encoding="utf-8")
    report = take_file(
        folder / "report.txt", folder / "rows.parquet", ReadSettings(), Prior(), engine
    )
    assert report.roles.get("amount") == amounts, (made.__name__, lines[hurt - 1])
    taken = {row["_line"]: row for row in pq.read_table(folder / "rows.parquet").to_pylist()}
    others = {line: amount for line, (amount, _) in rows.items() if line != hurt}
    found = {line: row[amounts] for line, row in taken.items() if line != hurt}
    assert {line: amount for line, amount in found.items() if amount is not None} == others
