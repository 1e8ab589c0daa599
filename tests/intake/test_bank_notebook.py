"""Statements in notebook 43 of the Spanish banks."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.intake.readers.bank_notebook import BankNotebookReader
from sabueso.intake.settings import ReadSettings


def _side(cents: int) -> str:
    return ("2" if cents >= 0 else "1") + f"{abs(cents):014d}"


def _account(number: int, opening: int, cents: list[int], currency: str = "978") -> list[str]:
    """The records of an account, its movements in cents, below 0 what goes out."""
    whose = f"21000418{number:010d}"
    lines = [f"11{whose}250101250131{_side(opening)}{currency}3" + "MARISMA S.L.".ljust(26)]
    for place, amount in enumerate(cents):
        lines.append(
            f"22    0418250117250118{'04'}123{_side(amount)}{place:010d}{0:012d}" + f"REF {place}"
        )
        lines.append("2301" + "RECIBO DE".ljust(38) + f"Peña {place}")
    out, put = [-c for c in cents if c < 0], [c for c in cents if c >= 0]
    sums = f"{len(out):05d}{sum(out):014d}{len(put):05d}{sum(put):014d}"
    return [*lines, f"33{whose}{sums}{_side(opening + sum(cents))}{currency}"]


def _written(path: Path, lines: list[str], *, padded: bool = True) -> None:
    lines = [*lines, "88" + "9" * 18 + f"{len(lines):06d}"]
    text = "\r\n".join(line.ljust(80) if padded else line for line in lines)
    path.write_bytes((text + "\r\n").encode("latin-1"))


def _read(path: Path) -> tuple[list[dict[str, str]], list[str], dict[str, Decimal]]:
    layout = BankNotebookReader().layout(path, ReadSettings())
    batches = list(BankNotebookReader().batches(path, layout, ReadSettings()))
    stated = {name: value for b in batches for name, (_, value) in b.stated.items()}
    rows = [row for b in batches for row in b.cells.to_pylist()]
    return rows, [d.reason for b in batches for d in b.damaged], stated


CENTS = st.integers(-(10**9), 10**9)


@given(st.lists(CENTS, min_size=1, max_size=9), st.lists(CENTS, max_size=5), CENTS, st.booleans())
def test_every_movement_is_read_and_the_balances_tell_their_sum(
    tmp_path_factory, first, second, opening, padded
):
    path = tmp_path_factory.mktemp("notebook") / "a.n43"
    lines = _account(1, opening, first) + _account(2, -opening, second, "840")
    _written(path, lines, padded=padded)
    assert BankNotebookReader().takes(path)
    rows, damaged, stated = _read(path)
    assert [int(Decimal(row["amount"]) * 100) for row in rows] == first + second
    assert [row["currency"] for row in rows] == ["EUR"] * len(first) + ["USD"] * len(second)
    assert not damaged and stated == {"amount": Decimal(sum(first + second)).scaleb(-2)}
    head = rows[0]
    assert (head["booked"], head["value date"], head["concept"]) == (
        "2025-01-17",
        "2025-01-18",
        "04-123",
    )
    assert head["account"] == "2100-0418-0000000001"
    assert head["remittance"] == "RECIBO DE Peña 0" and head["second reference"] == "REF 0"


def test_what_a_statement_says_of_its_own_entries_is_checked(tmp_path):
    whole = _account(1, 5000, [-1250, 300, -75])
    path = tmp_path / "a.n43"
    _written(path, whole[:1] + whole[3:])  # a movement and its text are gone
    _, damaged, stated = _read(path)
    assert damaged == [
        "account 2100-0418-0000000001: 2 debits and 1 credits are stated, and 1 and 1 stand above"
    ]
    assert stated == {"amount": Decimal("-10.25")}
    path.write_text("\n".join(whole[:4]) + "\n", encoding="latin-1")
    assert _read(path)[1] == [
        "account 2100-0418-0000000001 has no record 33: the file is cut, or a record is lost"
    ]
    path.write_text("\n".join([*whole, "88" + "9" * 18 + "000099"]) + "\n", encoding="latin-1")
    assert _read(path)[1] == ["99 records are stated, and 8 stand above"]
    hurt = [whole[0], whole[1].replace("250117", "25X117"), *whole[2:]]
    _written(path, hurt)
    rows, damaged, _ = _read(path)
    assert len(rows) == 2 and "expected a record 11, 22, 23" in damaged[0]
    assert "2 debits and 1 credits are stated, and 1 and 1" in damaged[1] and len(damaged) == 2


@pytest.mark.parametrize("name", ["extracto.n43", "extracto.txt"])
def test_the_program_reconciles_it(tmp_path, name):
    _written(tmp_path / name, _account(7, 100_000, [-12_345, 678, -90]))
    inside("open", "case", cwd=tmp_path)
    report = inside_json("intake", f"../{name}", "--as", "bank", cwd=tmp_path / "case")
    assert (report["total"]["accepted"], report["total"]["amount"]) == (3, "-117.57")
    assert report["reconciled"] and report["roles"]["account"] == "account"
    assert report["controls"] == []  # none that differs
