"""The five tests of the benchmark as a plain pandas script: five_pandas.py LEDGER.csv ANSWERS.json."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np
import pandas as pd
from scipy.stats import beta

d = pd.read_csv(sys.argv[1], dtype={"entry": str, "account": str, "preparer": str})
d["units"] = (d["amount"] * 100).round().astype("int64")
answers = {}

# first-two digits: counts, amounts, mantissas, and what their cautions need
x = d.loc[d["units"] != 0, "units"]
size = x.abs()
power = 10 ** np.maximum(np.floor(np.log10(size.to_numpy() + 0.5)).astype("int64") - 1, 0)
first_two = np.where(size < 10, size * 10, size // power)
classes = x.groupby(first_two).agg(["count", "sum"]).reindex(range(10, 100), fill_value=0)
expected = np.log10(1 + 1 / np.arange(10, 100))
share = classes["count"] / len(x)
angle = 2 * np.pi * np.log10(size.to_numpy())
often = x.value_counts()
low, median, high = size.quantile([0.01, 0.5, 0.99])
answers["digits"] = {
    "n": len(x),
    "counts": int((classes["count"] * np.arange(10, 100)).sum()),
    "amounts": int((classes["sum"] * np.arange(10, 100)).sum()),
    "chi_square": len(x) * ((share - expected) ** 2 / expected).sum(),
    "mad": (share - expected).abs().mean(),
    "mantissa_l2": np.cos(angle).mean() ** 2 + np.sin(angle).mean() ** 2,
    "most_frequent": int(often.iloc[:5].sum()),
    "distinct": len(often),
    "percentiles": low + median + high,
}

# z-scores by account, with and without what is flagged
enough = d.groupby("account")["amount"].transform("size") >= 3
x = d["amount"].where(enough)
group = x.groupby(d["account"].where(enough))
figures = group.agg(["count", "mean", "std", "median", "skew"])
figures["kurt"] = group.kurt()
middle = d["account"].map(figures["median"])
figures["mad"] = (x - middle).abs().groupby(d["account"]).median()
z = (x - d["account"].map(figures["mean"])) / d["account"].map(figures["std"])
flagged = d[z.abs() > 20].assign(z=z).sort_values("z", key=np.abs, ascending=False)
kept = x[z.abs() <= 20]
rest = kept.groupby(d["account"])
without = rest.agg(["count", "mean", "std", "median", "sum"])
without["p95"], figures["p95"] = rest.quantile(0.95), group.quantile(0.95)
answers["zscore"] = {
    "figures": {name: figures[name].sum() for name in figures},
    "without": {name: without[name].sum() for name in without},
    "flagged": len(flagged),
    "flagged_amount": int(flagged["units"].sum()),
}

# interquartile fences by account on the log scale, positive amounts
positive = d[d["units"] > 0]
positive = positive[positive.groupby("account")["units"].transform("size") >= 5]
unit = positive.groupby("account")["amount"].transform("median") / 100
x = np.log10(1 + positive["amount"] / unit)
group = x.groupby(positive["account"])
quartiles = group.quantile([0.25, 0.5, 0.75]).unstack()
spread = 3 * (quartiles[0.75] - quartiles[0.25])
high = positive["account"].map(quartiles[0.75] + spread)
low = positive["account"].map(quartiles[0.25] - spread)
flagged = positive[(x > high) | (x < low)]
answers["fences"] = {
    "quartiles": [10 ** quartiles[q].mean() for q in (0.25, 0.5, 0.75)],
    "flagged": len(flagged),
    "flagged_amount": int(flagged["units"].sum()),
}

# distance of suppliers on amount and count
e = d.groupby("supplier")["amount"].agg(["sum", "count"])
off = (e - e.mean()).to_numpy()
distance = ((off @ np.linalg.inv(e.cov().to_numpy())) * off).sum(axis=1)
n = len(e)
limit = beta.isf(0.001, 1, (n - 3) / 2) * (n - 1) ** 2 / n
answers["distance"] = {
    "subjects": n,
    "center": e.mean().tolist(),
    "covariance": e.cov().to_numpy().ravel().tolist(),
    "flagged": int((distance > limit).sum()),
    "greatest": float(distance.max()),
}

# accounts of 2025 against 2024
year = d["date"].str[:4]
lines = d.groupby(["account", year])["units"].sum().unstack(fill_value=0)
change = lines["2025"] - lines["2024"]
moved = (change.abs() >= 5_000_00) & (change.abs() >= 0.1 * lines["2024"].abs())
answers["periods"] = {
    "base": int(lines["2024"].sum()),
    "current": int(lines["2025"].sum()),
    "flagged": int(moved.sum()),
    "moved": int(change[moved].abs().sum()),
}
with Path(sys.argv[2]).open("w") as file:
    json.dump(answers, file, default=float)
