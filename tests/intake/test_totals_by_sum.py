"""Lines that say by nothing but their figures that they are totals, in files of any length."""

from __future__ import annotations

from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sabueso.intake.reading import Tally
from sabueso.intake.settings import ReadSettings
from sabueso.intake.summed import SAFE, Running, whole_units
from sabueso.intake.take import Prior, intake_engine, take_file


@pytest.fixture(scope="module")
def engine():
    own = intake_engine()
    yield own
    own.close()


@st.composite
def batches(draw):
    """Small figures in two columns, so that many are sums by chance, with what was added up before them."""
    n = draw(st.integers(1, 40))
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    values = {name: rng.integers(-2, 6, n).tolist() for name in "ab"}
    kind = rng.choice(["row", "label", "balance", "bad"], n, p=[0.8, 0.08, 0.06, 0.06])
    before = [{name: int(rng.integers(0, 4)) for name in "ab"} for _ in range(4)]
    rows = int(rng.integers(0, 5))
    large = draw(st.sampled_from([0, 0, SAFE]))
    return values, kind.tolist(), before, rows, int(rng.integers(0, rows + 1)), large


def _plain(values, kind, before, rows, rows_until, suspects):
    """The same one by one: rows are added up, and begun anew behind each total."""
    totals, since = set(), 0
    sums, until, stood, stood_until = before
    for place in suspects:
        stated = {n: v[place] for n, v in values.items() if v[place]}
        above = [p for p in range(place) if kind[p] == "row" and p not in totals]
        balances = [p for p in range(place) if kind[p] == "balance"]
        block = [p for p in above if p >= since]
        later = [p for p in balances if p >= since]
        begun = since == 0 and not totals
        found = False
        for some, lines, many, off, off_stood in (
            (above, balances, rows + len(above), None, None),
            (block, later, (rows - rows_until if begun else 0) + len(block), until if begun else sums, stood_until if begun else stood),
        ):  # fmt: skip
            least = 1 if kind[place] == "label" else 2
            plain = {
                n: sum(values[n][p] for p in some) + sums[n] - (off[n] if off else 0)
                for n in stated
            }
            both = {n: plain[n] + sum(values[n][p] for p in lines) + stood[n] - (off_stood[n] if off_stood else 0) for n in stated}  # fmt: skip
            found |= many >= least and bool(stated) and (plain == stated or both == stated)
        if found or kind[place] == "label":
            totals.add(place)
            since = place + 1
    return totals


@given(batches())
def test_sums_up_to_any_place(batch):
    values, kind, before, rows, rows_until, large = batch
    before = [{n: v + large for n, v in each.items()} for each in before]
    columns = {
        n: pa.chunked_array([pa.array(list(map(Decimal, v)), pa.decimal128(18, 0))])
        for n, v in values.items()
    }
    names = ("sums", "until_total", "balance_sums", "balances_until_total")
    sums = [{n: Decimal(v) for n, v in each.items()} for each in before]
    above = Tally(**dict(zip(names, sums, strict=True)), accepted=rows, rows_until_total=rows_until)  # type: ignore[arg-type]
    running = Running(columns, np.array(kind) == "row", np.array(kind) == "balance", above)
    labels = np.array(kind) == "label"
    suspects = np.flatnonzero((np.array(kind) == "row") | labels)
    found = set()
    for place in running.candidates(suspects, labels, list(columns)):
        stated = {n: v[place] for n, v in values.items() if v[place]}
        least = 1 if labels[place] else 2
        if labels[place] or running.adds_up(place, stated, least):
            running.mark_total(place, counted=not labels[place])
            found.add(place)
    assert found == _plain(values, kind, before, rows, rows_until, suspects.tolist())


def test_units_of_any_width():
    for precision in (18, 38):
        column = pa.chunked_array([pa.array([Decimal("1.25"), None, Decimal("-0.01")], pa.decimal128(precision, 2))])  # fmt: skip
        assert whole_units(column.slice(1)).tolist() == [0, -1]
    most = Decimal(10**18 - 1)
    assert sum(whole_units(pa.chunked_array([pa.array([most] * 9, pa.decimal128(18, 0))]))) == 9 * most  # fmt: skip


def _journal(entries: int, seed: int, *, totals: bool, whole: bool) -> tuple[list[str], list[int]]:
    """A journal whose entries have their day on the first line alone, with a line of their sums behind each or not,
    and the numbers of the lines of these."""
    rng = np.random.default_rng(seed)
    lines, sums = ["Trans,Date,Memo,Account,Debit,Credit"], []
    for i in range(entries):
        parts = [int(v) for v in rng.integers(1, 4 if whole else 900_00, rng.integers(1, 5))]
        cents = [Decimal(p * (100 if whole else 1)).scaleb(-2) for p in parts]
        for k, part in enumerate(cents):
            head = f"{i + 1},2024-{1 + i % 12:02d}-{1 + i % 28:02d},m{i % 7}" if k == 0 else ",,"
            lines.append(f"{head},A{k},{part},")
        lines.append(f",,,Bank,,{sum(cents)}")
        if totals:
            lines.append(f",,,,{sum(cents)},{sum(cents)}")
            sums.append(len(lines))
    return lines, sums


@given(st.sampled_from([3, 60, 900]), st.integers(0, 99), st.booleans(), st.booleans())
def test_a_journal_without_days_on_most_lines(engine, tmp_path_factory, entries, seed, totals, whole):  # fmt: skip
    """Its totals are found to the last, and no line of it is taken for one."""
    lines, sums = _journal(entries, seed, totals=totals, whole=whole)
    folder = tmp_path_factory.mktemp("journal")
    (folder / "j.csv").write_text("\n".join(lines) + "\n")
    report = take_file(folder / "j.csv", folder / "j.parquet", ReadSettings(), Prior(), engine)
    taken = pq.read_table(folder / "j.parquet").column("_line").to_pylist()
    assert taken == [n for n in range(2, len(lines) + 1) if n not in set(sums)]
    assert {line.line for line in report.totals_lines} == set(sums)
    assert all(line.stated == line.accepted for line in report.totals_lines)


@given(st.sampled_from([4, 50, 700]), st.integers(0, 99), st.sampled_from(["", "Vendor {}", "Vendor {},sum"]))  # fmt: skip
def test_sums_of_short_blocks_that_have_a_name_alone(engine, tmp_path_factory, blocks, seed, name):
    """As many lines as a third have no day: all of them are sums, whatever texts they have."""
    rng = np.random.default_rng(seed)
    lines, sums = ["Date,Vendor,Memo,Amount"], []
    for i in range(blocks):
        cents = [Decimal(int(v)).scaleb(-2) for v in rng.integers(100, 90_000, rng.integers(2, 4))]
        lines += [
            f"2024-{1 + i % 12:02d}-{1 + k:02d},Vendor {i},m,{v}" for k, v in enumerate(cents)
        ]
        lines.append(f",{name.format(i)}{',' * (2 - name.count(','))}{sum(cents)}")
        sums.append(len(lines))
    folder = tmp_path_factory.mktemp("blocks")
    (folder / "b.csv").write_text("\n".join(lines) + "\n")
    take_file(folder / "b.csv", folder / "b.parquet", ReadSettings(), Prior(), engine)
    taken = pq.read_table(folder / "b.parquet").column("_line").to_pylist()
    assert taken == [n for n in range(2, len(lines) + 1) if n not in set(sums)]
