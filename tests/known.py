"""What several tests use: a ledger of random amounts, Anscombe's four, the medcouple written down."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal

import numpy as np

ROLES = {"id": "id", "amount": "amount", "account": "account", "date": "day", "preparer": "who"}


def ledger(n=3000, seed=4, groups=6):
    """Lognormal amounts, a tenth of them credits, some missing or zero, over two years."""
    rng = np.random.default_rng(seed)
    units = np.round(rng.lognormal(8, 1.5, n)).astype(int) * np.where(rng.random(n) < 0.1, -1, 1)
    units[rng.random(n) < 0.02] = 0
    return [
        {
            "id": f"R{i}",
            "day": date(2024, 1, 1) + timedelta(days=int(rng.integers(0, 731))),
            "account": f"A{int(rng.integers(0, groups))}",
            "who": ("kl", "mr", "tz")[int(rng.integers(0, 3))],
            "amount": None if rng.random() < 0.01 else Decimal(int(u)).scaleb(-2),
        }
        for i, u in enumerate(units)
    ]


def holm(p):
    """Adjusted p after Holm (1979)."""
    order = np.argsort(p, kind="stable")
    adjusted = np.empty(len(p))
    steps = np.asarray(p)[order] * np.arange(len(p), 0, -1)
    adjusted[order] = np.minimum(np.maximum.accumulate(steps), 1)
    return adjusted


def plain_bundles(days, units, limit, within):
    """Amounts within some days, which are numbers, of a first one that reach a limit together; the next begins
    after them. Places, both inclusive."""
    found, at = [], 0
    while at < len(days):
        end = max(i for i in range(at, len(days)) if days[i] - days[at] <= within)
        if end > at and sum(units[at : end + 1]) >= limit:
            found.append((at, end))
            at = end + 1
        else:
            at += 1
    return found


X = [10, 8, 13, 9, 11, 14, 6, 4, 12, 7, 5]
ANSCOMBE = {
    "line": (X, [8.04, 6.95, 7.58, 8.81, 8.33, 9.96, 7.24, 4.26, 10.84, 4.82, 5.68]),
    "bend": (X, [9.14, 8.14, 8.74, 8.77, 9.26, 8.10, 6.13, 3.10, 9.13, 7.26, 4.74]),
    "one off": (X, [7.46, 6.77, 12.74, 7.11, 7.81, 8.84, 6.08, 5.39, 8.15, 6.42, 5.73]),
    "one far": (
        [8, 8, 8, 8, 8, 8, 8, 19, 8, 8, 8],
        [6.58, 5.76, 7.71, 8.84, 8.47, 7.04, 5.25, 12.50, 5.56, 7.91, 6.89],
    ),
}


def definition(values):
    """The median of the kernel over all pairs, written down one by one."""
    x = np.sort(np.asarray(values, float))
    m = float(np.median(x))
    above, below, k = x[x >= m], x[x <= m][::-1], int((x == m).sum())
    kernels = [
        np.sign(k - 1 - i - j) if a == m == b else ((a - m) - (m - b)) / (a - b)
        for i, a in enumerate(above)
        for j, b in enumerate(below)
    ]
    return float(np.median(kernels))
