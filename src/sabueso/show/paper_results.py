"""The result of each test in a working paper: a sentence, and a table of at most a dozen rows."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from typing import Any

from sabueso.show import numbers as num
from sabueso.show.digits import verdict
from sabueso.show.plain_views import plain_result

MOST_ROWS, MOST_LINES = 12, 20


def result_of(finding: dict[str, Any]) -> dict[str, Any]:
    """``text``, and ``head`` and ``rows`` of a table, from a finding's JSON."""
    flagged = f"{finding['flag_count']:,} flagged of {finding['tests_made']:,} tested"
    if not finding["groups"]:
        return {"text": f"{flagged}; nothing could be tested.", "head": [], "rows": []}
    makers: dict[str, Callable[[dict[str, Any], str], dict[str, Any]]] = {
        "digits": _change if "change" in finding else _digits,
        "periods": _periods,
        "distance": _distance,
        "top": _top,
        "range": _range,
        "zscore": _limits,
        "fences": _limits,
    }
    result = makers.get(finding["test"], plain_result)(finding, flagged)
    if finding.get("flags_file"):
        total = finding.get("flag_total")
        worth = "" if total is None else f", with {num.amount(Decimal(total))} in all,"
        result["text"] += (
            f" The {len(finding['flags']):,} strongest became exceptions; all that are flagged{worth} "
            f"stand in runs/{finding['run']:04d}/{finding['flags_file']}."
        )
    aim, beside = finding.get("aim"), finding.get("with_set_aside")
    if aim:
        result["text"] += (
            f" The limit {aim['limit']} was solved for: the least that flags no more than "
            f"{aim['capacity']:,} rows."
        )
    if beside:
        result["text"] += (
            f" With the {num.many(beside['rows'], 'row')} set aside by review, {beside['used']:,} rows are "
            f"used and {beside['flag_count']:,} flagged."
        )
    return result


def _digits(finding: dict[str, Any], flagged: str) -> dict[str, Any]:
    worst = max(finding["groups"], key=lambda g: g["mad"] / g["mad_expected"])
    chosen = [c for c in worst["classes"] if c["flagged"]][:MOST_ROWS] or (
        worst["classes"] if len(worst["classes"]) <= 10 else []
    )
    head = ["digits", "count", "share", "expected", "points", "adj. p", "share of amount"]
    rows = [
        [c["digits"], num.count(c["count"]), num.percent(c["share"], 2), num.percent(c["expected"], 2),
         num.signed(c["difference"], 2), num.p_value(c["p_adjusted"]), num.percent(c["amount_share"])]
        for c in chosen
    ]  # fmt: skip
    text = f"{flagged}. {verdict(worst)}."
    behind = [b for b in worst.get("behind", []) if b["p_adjusted"] < 0.05][:6]
    if behind:
        said = "; ".join(
            f"{b['value']} with {b['count']} rows of {b['digits']} ({num.percent(b['share_of_class'])} of "
            f"the class, {num.percent(b['share_of_population'])} of all)"
            for b in behind
        )
        text += f" Behind the flagged classes, by {finding['settings']['by_whom']}: {said}."
    repeated = {k: v for k, v in worst.get("repeated_in_class", {}).items() if v}
    if repeated:
        said = "; ".join(
            f"in {label} {num.amount(Decimal(items[0]['amount']))}, {items[0]['count']:,} times"
            for label, items in list(repeated.items())[:6]
        )
        text += f" Most frequent amounts: {said}."
    return {"text": text, "head": head, "rows": rows}


def _change(finding: dict[str, Any], flagged: str) -> dict[str, Any]:
    change = finding["change"]
    before, after = (num.group_name(change[k]) for k in ("before", "after"))
    ranked = sorted(change["classes"], key=lambda c: (not c["flagged"], -abs(c["z"])))[:MOST_ROWS]
    head = ["digits", before, after, "points", "z", "adj. p"]
    rows = [
        [c["digits"], num.percent(c["before"], 2), num.percent(c["after"], 2),
         num.signed(c["difference"], 2), num.signed(c["z"], 1), num.p_value(c["p_adjusted"])]
        for c in ranked
    ]  # fmt: skip
    text = (
        f"{flagged}. The digits of the two periods differ by chi-square {change['chi_square']:,.1f} on "
        f"{change['chi_square_df']}, {num.p_text(change['chi_square_p'])}."
    )
    return {"text": text, "head": head, "rows": rows}


def _periods(finding: dict[str, Any], flagged: str) -> dict[str, Any]:
    group = finding["groups"][0]
    lines = [x for x in group["lines"] if x["flagged"]]
    lines.sort(key=lambda x: -abs(Decimal(x["change"])))
    head = ["line", group["base"], group["current"], "change", "%", "points", "reading"]
    every = [(num.group_name(x["key"]), x) for x in lines[:MOST_LINES]] + [
        ("total of all lines", group["total"])
    ]
    rows = [
        [name, *(num.amount(Decimal(x[k])) for k in ("base", "current", "change")),
         num.signed(x["change_percent"]), num.signed(x["share_shift"]), x["reading"]]
        for name, x in every
    ]  # fmt: skip
    return {"text": f"{flagged}.", "head": head, "rows": rows}


def _distance(finding: dict[str, Any], flagged: str) -> dict[str, Any]:
    head = ["group", "subjects", "measures", "limit of d²", "flagged"]
    rows = [
        [num.group_name(g["group"]), num.count(g["n"]), ", ".join(g["measures"]), f"{g['limit']:.2f}",
         num.count(g["flagged"])]
        for g in finding["groups"][:MOST_ROWS]
    ]  # fmt: skip
    return {"text": f"{flagged}.", "head": head, "rows": rows}


def _top(finding: dict[str, Any], flagged: str) -> dict[str, Any]:
    head = ["group", "n", "share", "k", "cut-off high", "cut-off low", "flagged"]
    chosen = _most_flagged(finding)
    rows = [
        [num.group_name(g["group"]), num.count(g["n"]), num.percent(g["share"], 2), num.count(g["k"]),
         *(num.amount(None if g[k] is None else Decimal(g[k])) for k in ("cutoff_high", "cutoff_low")),
         num.count(g["flagged"])]
        for g in chosen
    ]  # fmt: skip
    return {"text": flagged + _in_groups(finding, chosen), "head": head, "rows": rows}


def _range(finding: dict[str, Any], flagged: str) -> dict[str, Any]:
    rules = finding["groups"][0]["rules"]
    rows = [[rule["rule"], num.count(rule["flagged"])] for rule in rules]
    return {"text": f"{flagged}.", "head": ["rule", "rows that break it"], "rows": rows}


def _limits(finding: dict[str, Any], flagged: str) -> dict[str, Any]:
    chosen = _most_flagged(finding)
    head = ["group", "n", "median", "low", "high", "flagged"]
    rows = [
        [num.group_name(g["group"]), num.count(g["n"]), num.number(g["median"]), num.number(g["low"]),
         num.number(g["high"]), num.count(g["flagged"])]
        for g in chosen
    ]  # fmt: skip
    text = flagged + _in_groups(finding, chosen)
    touched = [g for g in chosen if g["flagged"] and g.get("without_flags")]
    if touched:
        g = touched[0]
        before, after = g["with_flags"], g["without_flags"]
        where = f" of {num.group_name(g['group'])}" if g["group"] else ""
        text += (
            f" Without the {g['flagged']:,} flagged, the mean{where} goes from "
            f"{num.number(before['mean'])} to {num.number(after['mean'])} and s from "
            f"{num.number(before['sd'])} to {num.number(after['sd'])}."
        )
    return {"text": text, "head": head, "rows": rows}


def _most_flagged(finding: dict[str, Any]) -> list[dict[str, Any]]:
    return sorted(finding["groups"], key=lambda g: -g["flagged"])[:MOST_ROWS]


def _in_groups(finding: dict[str, Any], chosen: list[dict[str, Any]]) -> str:
    groups = len(finding["groups"])
    if not finding["by"]:
        return "."
    shown = f" The {len(chosen)} groups with most flags are shown." if groups > len(chosen) else ""
    return f", in {num.many(groups, 'group')}.{shown}"
