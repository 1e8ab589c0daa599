"""Does each test flag as often as it says, and say nothing that its figures do not carry?

Populations are drawn that conform to what a test supposes, and what is flagged and said of them is
counted; then populations with a planted part, and populations of every kind whose sentences must not
contradict one another. The tables are kept in docs/methods.md. Seeded: the same figures every time.

    python bench/calibration.py             everything, some ten minutes on one core
    python bench/calibration.py digits      one part of: digits, planted, deviates, distance, sentences, ks
"""

from __future__ import annotations

import re
import sys
import tempfile
from collections.abc import Callable, Iterator
from decimal import Decimal
from itertools import product
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from sabueso.population.engines import EngineSettings, open_engine
from sabueso.population.population import Population
from sabueso.population.table import Column, Part, Table
from sabueso.screens import find_screen
from sabueso.screens.finding import Finding
from sabueso.stats.adjust import adjust
from sabueso.stats.digit_law import DIGIT_TESTS, expected_shares
from sabueso.stats.digit_verdict import NO_DEPARTURE, NONCONFORMING
from sabueso.stats.digits import fit_digits
from sabueso.stats.distance import beta_limit, classical, squared_distances
from sabueso.stats.distance_law import robust_tail
from sabueso.stats.mcd import minimum_covariance_determinant
from sabueso.stats.moments import deviate_p, modified_p
from sabueso.stats.seasonal import NORMAL

SEED = 20


def digits(runs: int = 2_000) -> None:
    print("digit tests on conforming populations, per cent of them\n")
    print("| test | n | any flag | outside the band | departs | nonconforming |")
    print("|---|---:|---:|---:|---:|---:|")
    for test in DIGIT_TESTS:
        shares = expected_shares(test)
        for n in (200, 1_000, 10_000, 100_000, 1_000_000):
            rng = np.random.default_rng([SEED, n, len(shares)])
            many = runs if len(shares) <= 100 else max(runs // 5, 200)
            counts = rng.multinomial(n, shares / shares.sum(), size=many)
            fits = [fit_digits(row, test) for row in counts]
            outside = [((f.share < f.band_low) | (f.share > f.band_high)).any() for f in fits]
            figures = (
                np.mean([f.flagged.any() for f in fits]),
                np.mean(outside),
                np.mean([f.verdict[0] != NO_DEPARTURE for f in fits]),
                np.mean([f.verdict[0] == NONCONFORMING for f in fits]),
            )
            print(f"| {test} | {n:,} | " + " | ".join(f"{100 * v:.1f}" for v in figures) + " |", flush=True)  # fmt: skip


def planted(runs: int = 400) -> None:
    print("\n5 % of the rows planted on one class: per cent of populations in which it is named\n")
    print("| test | class | n = 1,000 | 10,000 |")
    print("|---|---:|---:|---:|")
    for test, places in (("first", (0, 4, 8)), ("first-two", (0, 40, 89)), ("last-two", (0,))):
        shares = expected_shares(test)
        for place in places:
            named = []
            for n in (1_000, 10_000):
                rng = np.random.default_rng([SEED, n, place])
                found = 0
                for _ in range(runs):
                    row = rng.multinomial(n - n // 20, shares / shares.sum())
                    row[place] += n // 20
                    found += bool(fit_digits(row, test).flagged[0, place])
                named.append(100 * found / runs)
            label = {"first": 1, "first-two": 10}.get(test, 0) + place
            print(f"| {test} | {label} | {named[0]:.1f} | {named[1]:.1f} |", flush=True)


def deviates(runs: int = 200_000) -> None:
    print("\nz of normal samples: share with p below alpha, over alpha\n")
    print("| n | 0.05 | 0.01 | 0.001 |")
    print("|---:|---:|---:|---:|")
    for n in (5, 15, 50, 500):
        rng = np.random.default_rng([SEED, n])
        x = rng.standard_normal((runs * 20 // n, n))
        z = (x - x.mean(axis=1, keepdims=True)) / x.std(axis=1, ddof=1, keepdims=True)
        p = deviate_p(z, n)
        print(f"| {n} | " + " | ".join(f"{(p < a).mean() / a:.2f}" for a in (0.05, 0.01, 0.001)) + " |", flush=True)  # fmt: skip
    print(
        "\nModified deviates of normal samples: share beyond a limit, over the p that is stated of it\n"
    )
    print("| n | 2.5 | 3.5 | 5 |")
    print("|---:|---:|---:|---:|")
    for n in (6, 12, 20, 50, 100, 500):
        rng = np.random.default_rng([SEED, n, 1])
        x = rng.standard_normal((runs * 20 // n, n))
        off = np.abs(x - np.median(x, axis=1, keepdims=True))
        z = NORMAL * off / np.median(off, axis=1, keepdims=True)
        shares = ((z > at).mean() / modified_p(at, n) for at in (2.5, 3.5, 5.0))
        print(
            f"| {n} | " + " | ".join(f"{float(share):.2f}" for share in shares) + " |", flush=True
        )


def distance(
    runs: int = 30_000,
    sizes: tuple[float, ...] = (3, 5, 10, 30, 100),
    shares: tuple[float | None, ...] = (None, 0.75),
) -> None:
    print(
        "\nrobust distance of normal populations: share flagged, over alpha; masking said, per cent\n"
    )
    print("| subset | measures | subjects | 0.05 | 0.01 | 0.001 | masking |")
    print("|---:|---:|---:|---:|---:|---:|---:|")
    for share, p in product(shares, (2, 3, 5, 8)):
        for ratio in sizes if share is None else sizes[1:3]:
            n = max(int(ratio * p), 2 * p + 3)
            rng = np.random.default_rng([SEED, n, p])
            tails, masked = [], 0
            many = max(runs // n, 100)
            for _ in range(many):
                x = rng.standard_normal((n, p))
                fit = minimum_covariance_determinant(x, share=share)
                tail = robust_tail(squared_distances(x, fit.location), n, p, share, fit.inside)
                plain = squared_distances(x, classical(x))
                certain = adjust(tail, "holm") < 0.001
                masked += bool((certain & (plain <= beta_limit(0.001, n, p))).any())
                tails.append(tail)
            every = np.concatenate(tails)
            flagged = (f"{(every < a).mean() / a:.2f}" for a in (0.05, 0.01, 0.001))
            subset = "default" if share is None else f"{share:g}"
            print(f"| {subset} | {p} | {n} | " + " | ".join(flagged) + f" | {100 * masked / many:.1f} |", flush=True)  # fmt: skip


# --- what is said


def amounts_of(kind: str, n: int, rng: np.random.Generator) -> np.ndarray:
    """Amounts in minor units of one kind of population."""
    law = np.floor(10 ** rng.uniform(2, 7, n))
    if kind == "law":
        return law
    if kind == "lognormal":
        return np.floor(100 * np.exp(rng.normal(5, 1.5, n))) + 1
    if kind == "uniform":
        return rng.integers(100, 10**6, n).astype(float)
    if kind == "planted":
        law[: n // 20] = 48_000 + rng.integers(0, 2_000, n // 20)
        return law
    if kind == "rounded":
        return np.floor(law / 10_000 + 1) * 10_000
    if kind == "cut":
        return law[law < 300_000]
    if kind == "both signs":
        return law * rng.choice([-1, 1], n)
    return np.full(n, 9_480.0)  # one price


KINDS = ("law", "lognormal", "uniform", "planted", "rounded", "cut", "both signs", "price")
TRIED: tuple[tuple[str, dict[str, Any]], ...] = (
    ("digits", {"digits": "first"}),
    ("digits", {"digits": "first-two"}),
    ("digits", {"digits": "first", "by": "who", "min_group": 20}),
    ("digits", {"digits": "last-two"}),
    ("zscore", {}),
    ("zscore", {"method": "modified", "scale": "log"}),
    ("fences", {"scale": "log"}),
    ("fences", {"by": "who"}),
    ("top", {}),
)


def populations(count: int, folder: Path) -> Iterator[tuple[str, Population]]:
    """Populations of every kind and of 60 to 30,000 rows."""
    for i in range(count):
        rng = np.random.default_rng([SEED, i])
        kind, n = KINDS[i % len(KINDS)], int(10 ** rng.uniform(1.8, 4.5))
        units = amounts_of(kind, n, rng)
        amounts = pa.array([Decimal(int(u)).scaleb(-2) for u in units], pa.decimal128(18, 2))
        who = pa.array(rng.choice(["kl", "mr", "tq"], len(units)))
        names = pa.array(["f.csv"] * len(units))
        lines = pa.array(range(2, len(units) + 2), pa.decimal128(18, 0))
        path = folder / f"{i}.parquet"
        table = pa.table({"amount": amounts, "who": who, "_file": names, "_line": lines})
        pq.write_table(table, path)
        columns = (
            Column("amount", "number", 2), Column("who", "text"), Column("_file", "text"),
            Column("_line", "number"),
        )  # fmt: skip
        known = Table("ledger", "EUR", columns, (Part(columns, (path,)),), {"amount": "amount"})
        engine = open_engine(EngineSettings())
        engine.attach(known)
        try:
            yield kind, Population(engine, known, tables={"ledger": known})
        finally:
            engine.close()


def said(finding: Finding[Any]) -> str:
    """All that a terminal prints of a finding."""
    import io

    from sabueso.show.console import make_console
    from sabueso.show.findings import show_finding

    out = io.StringIO()
    show_finding(make_console(out), finding, where=None)
    return " ".join(out.getvalue().split())


def contradictions(finding: Finding[Any], text: str) -> list[str]:
    """Sentences of a result that do not go together."""
    found = []
    codes = {c.code for c in finding.cautions}

    def never(first: str, second: bool, why: str) -> None:
        if re.search(first, text) and second:
            found.append(f"{why}: {text[:400]}")

    if finding.test == "digits" and not finding.by and finding.groups:
        (group,) = finding.groups
        rejected = group.chi_square_p < 0.05
        never("no departure", bool(group.flagged) or rejected, "no departure, and one is shown")
        never(
            "departs from|nonconforming,",
            not group.flagged and not rejected,
            "departs, and nothing shows it",
        )
        if group.flagged and not re.search("departs from|nonconforming,", text):
            found.append(f"classes flagged, and no departure said: {text[:300]}")
        never("nonconforming,", group.mad_excess_low <= 0, "nonconforming within what chance gives")
    never(r"flagged 0 of", len(finding.flags) > 0, "flags, and none counted")
    never("nothing is beyond", len(finding.flags) > 0, "nothing beyond, and flags")
    never("conformity", True, "conformity is no word of a conclusion")
    if finding.test in ("top", "range") and finding.tests_made:
        found.append("a share that was asked for counted as tests")
    for code in codes:
        if f"{code}:" not in text:
            found.append(f"caution {code} is not said")
    if finding.test == "zscore" and "not_normal" in codes and len(finding.flags):
        never("p ranks and does not prove", False, "")
        if finding.settings["method"] == "plain" and "p ranks and does not prove" not in text:
            found.append("a p of data that are not normal, without the word for it")
    if any(v in text for v in ("nan", "inf ", "None")):
        found.append(f"a figure that is none: {text[:300]}")
    return found


def sentences(count: int = 300) -> int:
    wrong, tried = 0, 0
    with tempfile.TemporaryDirectory() as folder:
        for kind, population in populations(count, Path(folder)):
            for test, settings in TRIED:
                screen = find_screen(test)
                finding = screen.run(population, screen.settings.from_plan(settings, test))
                tried += 1
                for each in contradictions(finding, said(finding)):
                    wrong += 1
                    print(f"{kind}, {test} {settings}: {each}")
    print(f"\n{count} populations, {tried} results: {wrong} contradictions")
    return wrong


def ks(draws: int = 1_000_000) -> None:
    print("\n95th percentile of sqrt(n)·D under the discrete law\n")
    for test in DIGIT_TESTS:
        shares = expected_shares(test)
        cumulative = np.cumsum(shares)
        rng = np.random.default_rng(SEED)
        most = []
        chunk = max(1, 2_000_000 // shares.size)
        for _ in range(max(1, min(draws, 200_000_000 // shares.size) // chunk)):
            walk = np.cumsum(rng.standard_normal((chunk, shares.size)) * np.sqrt(shares), axis=1)
            most.append(np.abs(walk - cumulative * walk[:, -1:]).max(axis=1))
        print(f"{test}: {np.quantile(np.concatenate(most), 0.95):.3f}", flush=True)


PARTS: dict[str, Callable[[], Any]] = {
    "digits": digits,
    "planted": planted,
    "deviates": deviates,
    "distance": distance,
    "sentences": sentences,
    "ks": ks,
}


def main() -> int:
    wanted = sys.argv[1:] or list(PARTS)
    failed = [name for name in wanted if PARTS[name]()]
    return int(bool(failed))


if __name__ == "__main__":
    sys.exit(main())
