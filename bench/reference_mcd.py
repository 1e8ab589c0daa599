"""Reference figures of the robust covariance, by an independent implementation.

The subset of least determinant is searched by scikit-learn's FAST-MCD (which the program does not use)
from many seeds; the published factors are written down here once more, from the papers and not from
the program: Croux and Haesbroeck (1999) for consistency, Pison, Van Aelst and Willems (2002) for small
samples, as functions of the nominal share of one half. The figures are kept in the tests:

    pip install scikit-learn
    python bench/reference_mcd.py tests/stats/data/classical_sets.json > tests/stats/data/classical_fits.json
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np
from scipy.stats import chi2, gamma

SEEDS = 30


def published_factor(n: int, p: int, reweighted: bool) -> float:
    """1/f of Pison et al. at a nominal share of 0.5, by their equations for p = 1, 2 and p > 2."""
    if p <= 2:
        a, b = {
            (1, False): (0.262024211897096, 0.604756680630497),
            (2, False): (0.673292623522027, 0.691365864961895),
            (1, True): (1.11098143415027, 1.5182890270453),
            (2, True): (3.11101712909049, 1.91401056721863),
        }[p, reweighted]
        return 1 / (1 - np.exp(a) / n**b)
    if reweighted:
        table = [(1.02842572725793, 1.67659883081926, 2), (0.26800273450853, 1.35968562893582, 3)]
    else:
        table = [(1.42764571687802, 1.26263336932151, 2), (1.06141115981725, 1.28907991440387, 3)]
    # log(1 - f) is linear in log n through n = 2p² and n = 3p².
    left = np.array([[1.0, np.log(q * p * p)] for _, _, q in table])
    right = np.array([np.log(c / p**e) for c, e, _ in table])
    start, slope = np.linalg.solve(left, right)
    return 1 / (1 - np.exp(start + slope * np.log(n)))


def consistency(share: float, p: int) -> float:
    if share >= 1:
        return 1.0
    quantile = chi2.ppf(share, p)
    return share / gamma.cdf(quantile / 2, p / 2 + 1)


def reference(x: np.ndarray) -> dict[str, object]:
    from sklearn.covariance import fast_mcd

    n, p = x.shape
    h = (n + p + 1) // 2
    z = (x - np.median(x, axis=0)) / x.std(axis=0)
    best = (np.inf, None)
    for seed in range(SEEDS):
        _, _, support, _ = fast_mcd(z, support_fraction=h / n + 1e-9, random_state=seed)
        assert support.sum() == h
        value = np.linalg.slogdet(np.cov(z[support], rowvar=False, bias=True).reshape(p, p))[1]
        if value < best[0]:
            best = (value, support)
    support = best[1]
    center = x[support].mean(axis=0)
    scatter = np.cov(x[support], rowvar=False, bias=True).reshape(p, p)
    scatter = scatter * consistency(h / n, p) * published_factor(n, p, False)

    def distances(m: np.ndarray, s: np.ndarray) -> np.ndarray:
        off = x - m
        return np.einsum("ni,ij,nj->n", off, np.linalg.inv(s), off)

    inside = distances(center, scatter) <= chi2.ppf(0.975, p)
    again = consistency(inside.mean(), p) * published_factor(n, p, True)
    location = x[inside].mean(axis=0)
    covariance = np.cov(x[inside], rowvar=False).reshape(p, p) * again
    return {
        "h": h,
        "used": int(inside.sum()),
        "center": location.tolist(),
        "covariance": covariance.tolist(),
        "d2": distances(location, covariance).tolist(),
    }


def main() -> int:
    sets = json.loads(Path(sys.argv[1]).read_text(encoding="utf-8"))
    found = {name: reference(np.array(each["rows"], float)) for name, each in sets.items()}
    json.dump(found, sys.stdout, separators=(",", ":"))
    print()
    return 0


if __name__ == "__main__":
    sys.exit(main())
