"""Classical distances of random ledgers, every figure from the definitions by NumPy and SciPy."""

from __future__ import annotations

from collections import defaultdict
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import linalg, stats

from conftest import screened


@st.composite
def ledgers(draw):
    """Rows of payees of two places; the measures go together, and stand far from zero at times."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    payees, far = draw(st.integers(20, 50)), draw(st.sampled_from([0, 10**7]))
    rows = []
    for payee in range(payees):
        for _ in range(int(rng.integers(1, 4))):
            hours = int(rng.normal(4_000, 900))
            noise = rng.standard_t(3)
            rows.append(
                {"payee": f"S{payee:02d}", "place": "AB"[payee % 2], "hours": Decimal(hours).scaleb(-2) + far,
                 "litres": Decimal(int(rng.integers(-500, 500))).scaleb(-1),
                 "amount": Decimal(round(31 * hours + 9_000 * noise)).scaleb(-2)}
            )  # fmt: skip
    return rows


def _subjects(rows, per_payee):
    """Place and measures of every subject, with its name."""
    if not per_payee:
        return [
            (i, r["place"], [float(r[n]) for n in ("hours", "amount", "litres")])
            for i, r in enumerate(rows)
        ]
    of = defaultdict(list)
    for row in rows:
        of[row["payee"], row["place"]].append(row)
    return [
        (payee, place,
         [float(sum(r["hours"] for r in own) / len(own)), float(sum(r["amount"] for r in own)), float(len(own))])
        for (payee, place), own in of.items()
    ]  # fmt: skip


def _scaled(x, transform):
    if transform == "rank":
        ranks = stats.rankdata(x, axis=0)
        return stats.norm.ppf((ranks - 0.375) / (len(x) + 0.25))
    if transform == "log":
        units = np.array([np.median(np.abs(c[c != 0])) for c in x.T]) / 100
        return np.sign(x) * np.log10(1 + np.abs(x) / units)
    return x


def _mardia(x):
    """Both p of Mardia's tests, by the double sum of their definition."""
    n, p = x.shape
    off = x - x.mean(axis=0)
    product = off @ np.linalg.inv(np.cov(x.T, bias=True).reshape(p, p)) @ off.T
    skewness, kurtosis = (product**3).sum() / n**2, (np.diag(product) ** 2).mean()
    deviate = (kurtosis - p * (p + 2)) / np.sqrt(8 * p * (p + 2) / n)
    return stats.chi2.sf(n * skewness / 6, p * (p + 1) * (p + 2) / 6), 2 * stats.norm.sf(
        abs(deviate)
    )


@given(
    ledgers(),
    st.booleans(),
    st.booleans(),
    st.integers(1, 3),
    st.sampled_from(["none", "log", "rank"]),
    st.sampled_from(["beta", "chi-square"]),
    st.sampled_from([0.2, 0.01]),
    st.sampled_from(["holm", "bonferroni", "bh"]),
)
def test_every_figure(populate, rows, per_payee, by_place, count, transform, law, alpha, adjust):
    measures = (["avg(hours)", "sum(amount)", "count(*)"] if per_payee else ["hours", "amount", "litres"])[:count]  # fmt: skip
    asked = {"measures": measures, "fit": "classical", "transform": transform, "law": law, "alpha": alpha}  # fmt: skip
    asked |= {"per": "payee"} if per_payee else {}
    asked |= {"by": "place"} if by_place else {}
    people = populate(rows, party="payee", amount="amount")
    content = screened(people, "distance", **asked, adjust=adjust)
    subjects = _subjects(rows, per_payee)
    expected, family = {}, []
    assert {tuple(g["group"].values()) for g in content["groups"]} == (
        {("A",), ("B",)} if by_place else {()}
    )
    for group in content["groups"]:
        key = tuple(group["group"].values())
        own = [s for s in subjects if not key or s[1] == key[0]]
        x = _scaled(np.array([s[2][:count] for s in own]), transform)
        n, p = x.shape
        centre, spread = x.mean(axis=0), np.cov(x.T).reshape(p, p)
        assert (group["n"], group["measures"], group["dropped"]) == (n, measures, [])
        assert group["center"] == pytest.approx(centre.tolist(), rel=1e-9, abs=1e-9)
        size = np.sqrt(np.outer(np.diag(spread), np.diag(spread)))
        assert np.abs(np.array(group["covariance"]) - spread).max() <= (1e-6 * size).max()
        solved = np.linalg.solve(spread, (x - centre).T).T
        squared = ((x - centre) * solved).sum(axis=1)
        # R^(-1/2) z, squared, by another way to a root than by its axes.
        deviation = np.sqrt(np.diag(spread))
        root = linalg.inv(np.real(linalg.sqrtm(spread / np.outer(deviation, deviation))))
        parts = (((x - centre) / deviation) @ root) ** 2
        if law == "beta":
            tail = stats.beta(p / 2, (n - p - 1) / 2)
            limit = tail.isf(alpha) * (n - 1) ** 2 / n
            ps = tail.sf(squared * n / (n - 1) ** 2)
        else:
            limit, ps = stats.chi2.isf(alpha, p), stats.chi2.sf(squared, p)
        assert group["limit"] == pytest.approx(limit, rel=1e-9)
        found = _mardia(x)
        assert [group["mardia_skewness_p"], group["mardia_kurtosis_p"]] == pytest.approx(
            found, rel=1e-4, abs=1e-9
        )
        for (name, _, _), far, each, part in zip(own, squared, ps, parts, strict=True):
            family.append(each)
            if far > limit:
                expected[name] = far, each, 100 * part / far
        assert group["flagged"] == int((squared > limit).sum())
    assert content["flag_count"] == len(expected)
    sizes = sorted(family)
    for flag in content["flags"]:
        name = flag["subject"]["payee"] if per_payee else flag["subject"]["line"] - 2
        far, each, shares = expected.pop(name)
        assert flag["score"] == pytest.approx(far, rel=1e-6)
        assert flag["p"] == pytest.approx(each, rel=1e-5)
        assert list(flag["contribution"].values()) == pytest.approx(shares.tolist(), abs=1e-3)
        at = int(np.searchsorted(sizes, each * (1 - 1e-9)))
        if adjust == "bonferroni":
            adjusted = min(1, each * len(sizes))
        elif adjust == "holm":
            steps = [s * (len(sizes) - i) for i, s in enumerate(sizes[: at + 1])]
            adjusted = min(1, max(steps))
        else:
            adjusted = min(1, min(s * len(sizes) / (i + 1) for i, s in enumerate(sizes) if i >= at))
        assert flag["p_adjusted"] == pytest.approx(adjusted, rel=1e-4)
    assert not expected
