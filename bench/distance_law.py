"""The law of the robust distance on normal data of few subjects, by simulation.

No closed form holds for the reweighted minimum covariance determinant of a few dozen subjects: by
chi-square 16 % of clean subjects are flagged at n = 20, p = 5 where 0.1 % was asked. This script draws
normal populations, fits them as the program does (those of few measures with fewer starts, all
populations of a cell at once), and describes d² by a scaled F law: d²/(a p) ~ F(p, m). The table of a
and m is kept in the package as ``stats/distance_law.csv``. Cells that the file has already are left as
they are, so that a run that was stopped goes on.

    python bench/distance_law.py --out src/sabueso/stats/distance_law.csv      some three hours on one core
    python bench/distance_law.py --check                                       share flagged, by the table
"""

from __future__ import annotations

import argparse
import csv
import sys
import time
from pathlib import Path

import numpy as np
from scipy.optimize import least_squares
from scipy.special import chdtr, chdtri
from scipy.stats import f as f_law

from sabueso.stats.distance import squared_distances
from sabueso.stats.mcd import _RAW, _REWEIGHTED, minimum_covariance_determinant

SEED = 20
MEASURES = (1, 2, 3, 4, 5, 6, 8, 10)
RATIOS = (3, 3.5, 4, 5, 6, 8, 10, 12, 20, 40, 100)
SHARES = (0.5, 0.75, 1.0)
ALPHAS = np.array([0.1, 0.05, 0.025, 0.01, 0.005, 0.0025, 0.001])
DISTANCES = 400_000  # of a cell, at least
STARTS, KEPT, STEPS = 60, 4, 12
FEW, MORE_STARTS, MORE_KEPT, DISTANCES_OF_MORE = 4, 1_000, 10, 48_000
"""Measures up to which so few starts find the same determinants as the program's; the starts, and the
distances of a cell, of more."""
LEAST_FULL, MOST_FULL, DISTANCES_FULL = 8, 12, 24_000
"""Measures from which, and subjects a measure up to which, a cell is of the program's own fits, and of how
many distances: of so many measures and few subjects no shorter search finds what it does."""


def size_of(n: int, p: int, share: float) -> int:
    """Subjects in the subset, as the program has it."""
    smallest = (n + p + 1) // 2
    return smallest if share == 0.5 else min(n, max(smallest, int(share * n)))


def moments(x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    center = x.mean(axis=-2)
    off = x - center[..., None, :]
    return center, np.swapaxes(off, -1, -2) @ off / x.shape[-2]


def distances(x: np.ndarray, center: np.ndarray, cov: np.ndarray) -> np.ndarray:
    off = x - center[..., None, :]
    ridge = 1e-12 * np.trace(cov, axis1=-2, axis2=-1)[..., None, None] * np.eye(x.shape[-1])
    return (off @ np.linalg.inv(cov + ridge) * off).sum(axis=-1)


def concentrated(x: np.ndarray, center: np.ndarray, cov: np.ndarray, h: int):
    """One concentration step of every start of every population."""
    d2 = distances(x, center, cov)
    near = np.argpartition(d2, h - 1, axis=-1)[..., :h]
    return moments(np.take_along_axis(x, near[..., None], axis=-2))


def fitted(x: np.ndarray, share: float, rng: np.random.Generator) -> np.ndarray:
    """Squared robust distances of (R, n, p) populations, shape (R, n)."""
    runs, n, p = x.shape
    starts, kept = (STARTS, KEPT) if p <= FEW else (MORE_STARTS, MORE_KEPT)
    h = size_of(n, p, share)
    if h == n:
        center, cov = moments(x)
    else:
        order = np.argsort(rng.random((runs, starts, n)), axis=-1)[..., : p + 1]
        wide = np.broadcast_to(x[:, None], (runs, starts, n, p))
        center, cov = moments(np.take_along_axis(wide, order[..., None], axis=-2))
        for _ in range(2):
            center, cov = concentrated(wide, center, cov, h)
        best = np.argsort(np.linalg.slogdet(cov)[1], axis=1)[:, :kept]
        center = np.take_along_axis(center, best[..., None], axis=1)
        cov = np.take_along_axis(cov, best[..., None, None], axis=1)
        wide = np.broadcast_to(x[:, None], (runs, kept, n, p))
        for _ in range(STEPS):
            center, cov = concentrated(wide, center, cov, h)
        first = np.linalg.slogdet(cov)[1].argmin(axis=1)
        center, cov = center[np.arange(runs), first], cov[np.arange(runs), first]
    consistent = 1.0 if h == n else (h / n) / chdtr(p + 2, chdtri(p, 1 - h / n))
    raw = distances(x, center, cov * consistent * _RAW.factor(n, p, share))
    inside = raw <= chdtri(p, 0.025)
    found = np.empty((runs, n))
    small = _REWEIGHTED.factor(n, p, share)
    for i in range(runs):
        within = x[i][inside[i]]
        used = len(within)
        if used <= p:
            found[i] = np.nan
            continue
        again = 1.0 if used == n else (used / n) / chdtr(p + 2, chdtri(p, 1 - used / n))
        scatter = np.atleast_2d(np.cov(within, rowvar=False)) * again * small
        found[i] = distances(x[i], within.mean(axis=0), scatter)
    return found


def fitted_in_full(x: np.ndarray, share: float) -> np.ndarray:
    """The same as the program fits them, one population after another: of few subjects and many measures
    its longer search finds determinants that the short one above does not, and larger distances."""
    found = []
    for each in x:
        fit = minimum_covariance_determinant(each, share=None if share == 0.5 else share)
        found.append(squared_distances(each, fit.location))
    return np.array(found)


def cell(n: int, p: int, share: float) -> tuple[float, float]:
    """a and 1/m of one size."""
    rng = np.random.default_rng([SEED, n, p, int(100 * share)])
    if p >= LEAST_FULL and n <= MOST_FULL * p + 1 and share < 1:
        return law_of(fitted_in_full(rng.standard_normal((DISTANCES_FULL // n, n, p)), share), n, p)
    starts, wanted = (
        (STARTS, DISTANCES) if p <= FEW or share == 1 else (MORE_STARTS, DISTANCES_OF_MORE)
    )
    total = max(wanted // n, 100)
    chunk = max(1, min(total, 2_000_000 // (starts * n * p)))
    parts, done = [], 0
    while done < total:
        parts.append(fitted(rng.standard_normal((chunk, n, p)), share, rng).ravel())
        done += chunk
    return law_of(np.concatenate(parts), n, p)


def law_of(d2: np.ndarray, n: int, p: int) -> tuple[float, float]:
    """a and 1/m of the law nearest to the quantiles of distances."""
    seen = np.quantile(d2[np.isfinite(d2)], 1 - ALPHAS)

    def gap(v: np.ndarray) -> np.ndarray:
        return np.log(seen) - v[0] - np.log(p * f_law.isf(ALPHAS, p, np.exp(v[1])))

    best = least_squares(gap, x0=[0.0, np.log(max(n / 3, 4))])
    return float(np.exp(best.x[0])), float(np.exp(-best.x[1]))


def sizes(p: int) -> list[int]:
    """Numbers of subjects, each with the one after it: with (n + p + 1)/2 whole or not, the subset is
    another share of the subjects, and that shows."""
    found = {max(round(ratio * p), 2 * p + 3, 6) for ratio in RATIOS}
    return sorted(found | {n + 1 for n in found})


def made(out: Path) -> None:
    """The cells that a table lacks, each written down once it is known."""
    known: dict[tuple[float, int, int], list[str]] = {}
    if out.exists():
        with out.open(newline="") as file:
            known = {(float(r[0]), int(r[1]), int(r[2])): r for r in list(csv.reader(file))[1:]}
    start = time.time()
    for share in SHARES:
        for p in MEASURES:
            for n in sizes(p):
                if (share, p, n) in known:
                    continue
                a, inverse = cell(n, p, share)
                known[share, p, n] = [str(share), str(p), str(n), f"{a:.5g}", f"{inverse:.5g}"]
                with out.open("w", newline="\n") as file:
                    rows = csv.writer(file, lineterminator="\n")
                    rows.writerow(["share", "measures", "subjects", "scale", "inverse_df"])
                    rows.writerows(row for _, row in sorted(known.items()))
                print(f"{time.time() - start:6.0f} s  {share} {p} {n}  {a:.4f} {inverse:.4f}", flush=True)  # fmt: skip


def checked() -> None:
    """Share of clean subjects flagged by the program itself, with the table as it is."""
    from sabueso.stats.distance_law import robust_tail

    print(f"{'n':>6} {'p':>3} {'share':>6}" + "".join(f" {a:>8}" for a in (0.05, 0.01, 0.001)))
    rng = np.random.default_rng(SEED + 1)
    for p in (1, 2, 3, 5, 8):
        for n in (3 * p + 3, 5 * p + 5, 10 * p, 30 * p, 100 * p):
            for share in (None, 0.75):
                tails = []
                for _ in range(max(20_000 // n, 40)):
                    x = rng.standard_normal((n, p))
                    fit = minimum_covariance_determinant(x, share=share)
                    d2 = squared_distances(x, fit.location)
                    tails.append(robust_tail(d2, n, p, share, fit.used))
                every = np.concatenate(tails)
                shares = "".join(f" {(every < a).mean():8.4f}" for a in (0.05, 0.01, 0.001))
                print(f"{n:6} {p:3} {share or 0.5:6}{shares}", flush=True)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--out", type=Path)
    parser.add_argument("--check", action="store_true")
    args = parser.parse_args()
    if args.out:
        made(args.out)
    if args.check:
        checked()
    return 0


if __name__ == "__main__":
    sys.exit(main())
