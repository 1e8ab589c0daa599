"""Limits by deviates and by quartiles, every figure and every flag, against NumPy and SciPy on the same rows."""

from __future__ import annotations

from decimal import Decimal
from math import log10, sqrt

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from conftest import screened, table_of
from sabueso.population.engines import EngineSettings, open_engine
from sabueso.population.population import Population

ACCOUNTS = ("60", "61", "62", None)


@pytest.fixture(scope="module")
def of_rows(tmp_path_factory):
    """A population of amounts in minor units with their accounts, on one engine for all of this file."""
    folder = tmp_path_factory.mktemp("limits")
    engine = open_engine(EngineSettings())
    made = []

    def build(pairs):
        rows = [
            {"id": f"R{i:04d}", "account": account, "amount": None if u is None else Decimal(u).scaleb(-2)}
            for i, (account, u) in enumerate(pairs)
        ]  # fmt: skip
        made.append(folder / f"{len(made)}.parquet")
        table = table_of(rows, made[-1], id="id", account="account", amount="amount")
        engine.attach(table)
        return Population(engine, table)

    yield build
    engine.close()


@st.composite
def ledgers(draw, signs=(1, -1)):
    """Some hundred rows: skewed, tied, of one sign or two, with a group too small and one without spread."""
    seed = draw(st.integers(0, 2**32 - 1))
    rng = np.random.default_rng(seed)
    n = draw(st.integers(40, 160))
    spread = draw(st.sampled_from([0.3, 1.0, 2.0]))
    units = np.exp(rng.normal(7, spread, n)).astype(int)
    if draw(st.booleans()):
        units = units // 500 * 500
    if -1 in signs and draw(st.booleans()):
        units = units * rng.choice([1, -1], n, p=[0.8, 0.2])
    pairs = [(ACCOUNTS[i % 3], int(u)) for i, u in enumerate(units)]
    pairs += [(None, int(u)) for u in units[:2]]
    pairs += [("flat", 700)] * 12
    return [*pairs, ("60", None)]


def _by_account(pairs):
    groups = {}
    for place, (account, units) in enumerate(pairs):
        if units is not None:
            groups.setdefault(account, []).append((f"R{place:04d}", units))
    return groups


def _log_unit(units):
    sizes = [abs(u) for u in units if u]
    return float(np.median(sizes)) / 100 / 100 if sizes else 1.0


def _on_scale(units, scale):
    """Values of the scale in its steps, as whole numbers."""
    if scale == "amount":
        return [int(u) for u in units], 100
    unit = _log_unit(units)
    steps = [round(np.sign(u) * log10(1 + abs(u) / 100 / unit) * 10**9) for u in units]
    return [int(s) for s in steps], 10**9


def _close(found, expected, rel=1e-9):
    if expected is None:
        assert found is None
    else:
        assert found == pytest.approx(expected, rel=rel, abs=1e-9)


def _check_amounts(found, units):
    """``with_flags`` or ``without_flags`` of a group, of amounts whatever the scale."""
    if not units:
        assert found is None
        return
    amounts = np.array(units) / 100
    assert found["n"] == len(units)
    assert Decimal(found["sum"]) == Decimal(sum(units)).scaleb(-2)
    _close(found["mean"], amounts.mean())
    _close(found["median"], np.median(amounts))
    _close(found["p95"], np.quantile(amounts, 0.95))
    _close(found["sd"], amounts.std(ddof=1) if len(units) > 1 else None, 1e-7)


def _split(content, groups):
    """Each group of a result with its rows and the ids that were flagged in it."""
    flagged = {}
    for flag in content["flags"]:
        flagged.setdefault(flag["group"]["account"], {})[flag["subject"]["id"]] = flag
    for group in content["groups"]:
        account = group["group"]["account"]
        yield group, groups[account], flagged.get(account, {})
    tested = {g["group"]["account"] for g in content["groups"]}
    left = {g["group"]["account"] for g in content["not_tested"]}
    assert tested | left == set(groups) and not tested & left
    assert sum(g["n"] for g in content["groups"]) == content["tests_made"]


def _amount(value, unit):
    return float(np.sign(value) * (10 ** abs(value) - 1) * unit)


@given(
    ledgers(),
    st.sampled_from(["plain", "modified"]),
    st.sampled_from(["amount", "log"]),
    st.sampled_from(["both", "high", "low"]),
    st.sampled_from([1.5, 2.5, 3.5]),
)
def test_deviates(of_rows, pairs, method, scale, side, limit):
    content = screened(
        of_rows(pairs), "zscore", by="account", method=method, scale=scale, side=side, limit=str(limit)
    )  # fmt: skip
    chance = 0.0
    for group, rows, flags in _split(content, _by_account(pairs)):
        units = [u for _, u in rows]
        values, steps = _on_scale(units, scale)
        x, n = np.array(values) / steps, len(values)
        mean, sd, median = x.mean(), x.std(ddof=1), float(np.median(x))
        mad = float(np.median(np.abs(x - median)))
        spread = sd
        if method == "modified":
            spread = mad / 0.6745 if mad else np.abs(x - median).mean() * 1.253314
        centre = mean if method == "plain" else median
        _close(group["sd"], sd, 1e-7)
        _close(group["mad"], mad, 1e-7)
        _close(group["skewness"], stats.skew(x, bias=False), 1e-5)
        _close(group["kurtosis"], stats.kurtosis(x, bias=False), 1e-5)
        unit = 1.0 if scale == "amount" else _log_unit(units)
        at = (lambda v: v) if scale == "amount" else (lambda v, unit=unit: _amount(v, unit))
        for name, value in (("mean", mean), ("median", median), ("low", centre - limit * spread), ("high", centre + limit * spread)):  # fmt: skip
            if abs(value) < 200:
                _close(group[name], at(value), 1e-5)
        z = (x - centre) / spread
        near = np.abs(np.abs(z) - limit) < 1e-9
        beyond = {"both": np.abs(z) > limit, "high": z > limit, "low": z < -limit}[side]
        own = {ident for (ident, _), b in zip(rows, beyond, strict=True) if b}
        unsure = {ident for (ident, _), b in zip(rows, near, strict=True) if b}
        assert own ^ set(flags) <= unsure
        assert group["flagged"] == len(flags)
        for (ident, _), score in zip(rows, z, strict=True):
            if ident in flags:
                _close(flags[ident]["score"], score, 1e-6)
                assert flags[ident]["direction"] == ("high" if score > 0 else "low")
                if method == "plain":
                    # Thompson: t of a deviate is Student's with n - 2 degrees.
                    t = score * sqrt(n * (n - 2)) / sqrt(max((n - 1) ** 2 - n * score**2, 1e-300))
                    p = stats.t.sf(abs(t), n - 2) * (2 if side == "both" else 1)
                    _close(flags[ident]["p"], p, 1e-5)
        _check_amounts(group["with_flags"], units)
        _check_amounts(group["without_flags"], [u for ident, u in rows if ident not in flags])
        if method == "plain":
            rest = (n - 1) ** 2 - n * limit**2
            if rest > 0:
                t = limit * sqrt(n * (n - 2)) / sqrt(rest)
                chance += n * stats.t.sf(t, n - 2) * (2 if side == "both" else 1)
    if method == "plain" and all(g["n"] > 12 for g in content["groups"]):
        _close(content["flags_by_chance"], chance, 1e-6)
    ps = sorted(f["p"] for f in content["flags"] if f["p"] is not None)
    adjusted = sorted(f["p_adjusted"] for f in content["flags"] if f["p"] is not None)
    m, top = content["tests_made"], 0.0
    for rank, p in enumerate(ps):
        top = min(max(top, p * (m - rank)), 1.0)
        _close(adjusted[rank], top, 1e-6)


@given(ledgers(), st.sampled_from(["both", "high", "low"]))
def test_false_discovery_rate_ranks_every_row(of_rows, pairs, side):
    content = screened(of_rows(pairs), "zscore", by="account", side=side, adjust="bh", limit="1.5")
    every, known = [], {}
    for _, rows, _flags in _split(content, _by_account(pairs)):
        x = np.array([u for _, u in rows]) / 100
        n, z = len(x), (x - x.mean()) / x.std(ddof=1)
        t = z * np.sqrt(n * (n - 2)) / np.sqrt(np.maximum((n - 1) ** 2 - n * z**2, 1e-300))
        tail = {"both": 2 * stats.t.sf(np.abs(t), n - 2), "high": stats.t.sf(t, n - 2), "low": stats.t.cdf(t, n - 2)}  # fmt: skip
        every += tail[side].tolist()
        known |= {ident: p for (ident, _), p in zip(rows, tail[side], strict=True)}
    adjusted = dict(zip(known, stats.false_discovery_control(list(known.values())), strict=True))
    for flag in content["flags"]:
        _close(flag["p_adjusted"], adjusted[flag["subject"]["id"]], 1e-5)


def _quartiles(values, rule):
    if rule == "hinges":
        ordered = sorted(values)
        half = (len(ordered) + 1) // 2
        return np.median(ordered[:half]), np.median(ordered), np.median(ordered[-half:])
    method = "linear" if rule == "linear" else "weibull"
    return tuple(np.quantile(values, p, method=method) for p in (0.25, 0.5, 0.75))


@given(
    ledgers(),
    st.sampled_from(["linear", "weibull", "hinges"]),
    st.sampled_from(["amount", "log"]),
    st.sampled_from(["both", "high", "low"]),
    st.sampled_from(["inner", "outer"]),
)
def test_fences(of_rows, pairs, rule, scale, side, beyond):
    content = screened(
        of_rows(pairs), "fences", by="account", rule=rule, scale=scale, side=side, beyond=beyond,
        inner="0.75", outer="1.25",
    )  # fmt: skip
    for group, rows, flags in _split(content, _by_account(pairs)):
        units = [u for _, u in rows]
        values, steps = _on_scale(units, scale)
        x = np.array(values) / steps
        q1, median, q3 = _quartiles(x, rule)
        iqr = q3 - q1
        _close(group["iqr"], iqr, 1e-7)
        unit = 1.0 if scale == "amount" else _log_unit(units)
        at = (lambda v: v) if scale == "amount" else (lambda v, unit=unit: _amount(v, unit))
        places = {
            "q1": q1,
            "median": median,
            "q3": q3,
            "low": q1 - 0.75 * iqr,
            "high": q3 + 0.75 * iqr,
        }
        places |= {"outer_low": q1 - 1.25 * iqr, "outer_high": q3 + 1.25 * iqr}
        for name, value in places.items():
            _close(group[name], at(value), 1e-5)
        over = np.where(x > median, x - q3, q1 - x) / iqr
        limit = 0.75 if beyond == "inner" else 1.25
        chosen = over > limit
        if side != "both":
            chosen &= (x > median) if side == "high" else (x < median)
        unsure = {ident for (ident, _), o in zip(rows, over, strict=True) if abs(o - limit) < 1e-9}
        own = {ident for (ident, _), c in zip(rows, chosen, strict=True) if c}
        assert own ^ set(flags) <= unsure
        for (ident, _), far in zip(rows, over, strict=True):
            if ident in flags:
                _close(flags[ident]["score"], far, 1e-6)
                if abs(far - 1.25) > 1e-9:
                    assert flags[ident]["fence"] == ("outer" if far > 1.25 else "inner")
        assert group["flagged"] == len(flags)
        _check_amounts(group["with_flags"], units)
        _check_amounts(group["without_flags"], [u for ident, u in rows if ident not in flags])


@given(ledgers(signs=(1,)), st.sampled_from(["plain", "sequential", "modified"]))
def test_the_histogram_counts_every_row_once(of_rows, pairs, method):
    content = screened(of_rows(pairs), "zscore", method=method)
    (group,) = content["groups"]
    bins = group["histogram"]
    x = np.array([u for _, u in pairs if u is not None]) / 100
    edges = np.array(bins["edges"])
    assert sum(bins["counts"]) + bins["below"] + bins["above"] == len(x)
    counted, _ = np.histogram(x[x < edges[-1] - 1e-9], edges)
    assert np.abs(np.array(bins["counts"]) - counted).sum() <= 2 * (np.isclose(x[:, None], edges).any(axis=1).sum())  # fmt: skip
    # The middle of the rows is in it, and no limit that is none stretches it.
    limits = [v for v in (group["low"], group["high"]) if v is not None]
    assert edges[0] <= np.quantile(x, 0.005) + 0.01 and edges[-1] >= np.quantile(x, 0.995) - 0.01  # fmt: skip
    assert edges[0] >= min([x.min(), *limits]) - 1 and edges[-1] <= max([x.max(), *limits]) + (edges[1] - edges[0]) + 1  # fmt: skip


@given(ledgers(), st.integers(1, 30), st.sampled_from(["zscore", "fences"]))
@pytest.mark.long
def test_an_aim_is_met_and_the_next_limit_would_miss_it(of_rows, pairs, aim, test):
    population = of_rows(pairs)
    content = screened(population, test, by="account", aim=aim)
    assert content["flag_count"] <= aim
    solved = Decimal(str(content["aim"]["limit"]))
    name = "limit" if test == "zscore" else "inner"
    more = {} if test == "zscore" else {"outer": "9999"}
    again = screened(population, test, by="account", **{name: str(solved)}, **more)
    assert again["flag_count"] == content["flag_count"]
    # The float of a strength may lie above it by less than one of the steps that a limit is rounded to.
    nearer = solved - Decimal("0.0002")
    if nearer > 0:
        told = screened(population, test, by="account", **{name: str(nearer)}, **more)
        assert told["flag_count"] > aim
    for rung in content["aim"]["ladder"]:
        told = screened(population, test, by="account", **{name: str(rung["limit"])}, **more)
        assert told["flag_count"] == rung["flagged"]


@given(ledgers(signs=(1,)), st.integers(1, 12))
def test_the_sequential_test_removes_the_furthest_and_recomputes(of_rows, pairs, most):
    content = screened(of_rows(pairs), "zscore", method="sequential", most=most, alpha=0.05)
    (group,) = content["groups"]
    left = [u / 100 for _, u in pairs if u is not None]
    n, outliers = len(left), 0
    for place, step in enumerate(group["sequential"], 1):
        x = np.array(left)
        off = np.abs(x - x.mean())
        far = int(off.argmax())
        p = 1 - 0.05 / (2 * (n - place + 1))
        t = stats.t.ppf(p, n - place - 1)
        limit = (n - place) * t / sqrt((n - place - 1 + t * t) * (n - place + 1))
        _close(step["limit"], limit, 1e-7)
        _close(step["statistic"], off[far] / x.std(ddof=1), 1e-6)
        assert abs(off[far] - abs(step["value"] - x.mean())) < 1e-6
        outliers = place if step["statistic"] > limit else outliers
        left.remove(step["value"] if step["value"] in left else x[far])
    assert [s["outlier"] for s in group["sequential"]] == [i < outliers for i in range(len(group["sequential"]))]  # fmt: skip
    assert group["flagged"] >= outliers
