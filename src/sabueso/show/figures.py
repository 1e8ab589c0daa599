"""Figures of findings, drawn from their recorded JSON: the paper and ``--out`` show the same."""

from __future__ import annotations

import io
import itertools
from collections.abc import Callable
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from sabueso.show import numbers as num
from sabueso.show.palette import AMBER, INK, PLUM, SAND, SEA, STONE

if TYPE_CHECKING:
    from matplotlib.axes import Axes

SIZE = (8.4, 3.9)  # inches
MOST_GROUPS, MOST_LINES = 12, 16


def draw(finding: dict[str, Any], form: str) -> bytes | None:
    """A finding's figure as ``svg`` or ``png``; None where there is nothing to draw."""
    drawers: dict[str, Callable[[Axes, dict[str, Any]], bool]] = {
        "digits": _digits,
        "zscore": _limits,
        "fences": _limits,
        "distance": _distance,
        "periods": _periods,
    }
    if not finding["groups"]:
        return None
    return drawn(lambda axes: drawers[finding["test"]](axes, finding), form)


def drawn(draw_on: Callable[[Axes], bool], form: str, height: float = 1.0) -> bytes | None:
    """A figure in the looks of this program, as ``svg`` or ``png``; None where nothing was drawn."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure

    style: Any = {
        "font.family": "DejaVu Sans",
        "font.size": 8.5,
        "axes.edgecolor": STONE,
        "axes.labelcolor": INK,
        "text.color": INK,
        "xtick.color": INK,
        "ytick.color": INK,
        "axes.spines.top": False,
        "axes.spines.right": False,
        "svg.fonttype": "path",
        "svg.hashsalt": "sabueso",
    }
    with matplotlib.rc_context(style):
        figure = Figure(figsize=(SIZE[0], SIZE[1] * height), layout="constrained")
        if not draw_on(figure.add_subplot()):
            return None
        buffer = io.BytesIO()
        # No date in the file: the same finding gives the same bytes.
        metadata = {"Date": None} if form == "svg" else {}
        figure.savefig(buffer, format=form, dpi=150, metadata=metadata)
        return buffer.getvalue()


def _digits(axes: Axes, finding: dict[str, Any]) -> bool:
    """Observed as filled bars, expected as ticks, the tolerance as a thin band."""
    groups = finding["groups"]
    group = max(groups, key=lambda g: g["mad"] / g["mad_expected"])
    classes = group["classes"]
    at = range(len(classes))
    share = [100 * c["share"] for c in classes]
    colors = [AMBER if c["flagged"] else SEA for c in classes]
    axes.bar(at, share, width=0.78, color=colors, zorder=2)
    low = [100 * c["band_low"] for c in classes]
    high = [100 * c["band_high"] for c in classes]
    few = len(classes) <= 10
    axes.vlines(at, low, high, color=PLUM, linewidth=1.6 if few else 0.7, zorder=3)
    axes.scatter(
        at, [100 * c["expected"] for c in classes], marker="_", s=160 if few else 16, color=INK,
        linewidths=1.6 if few else 0.9, zorder=4,
    )  # fmt: skip
    for i, c in enumerate(classes):
        if c["flagged"]:
            top = max(share[i], high[i])
            axes.annotate(
                f"{c['digits']} {'▲' if c['share'] > c['expected'] else '▼'}", (i, top),
                textcoords="offset points", xytext=(0, 4), ha="center", fontsize=8, color=INK,
            )  # fmt: skip
    step = 1 if few else 5 if len(classes) <= 100 else 50
    axes.set_xticks([i for i in at if int(classes[i]["digits"]) % step == 0])
    axes.set_xticklabels(
        [classes[i]["digits"] for i in at if int(classes[i]["digits"]) % step == 0]
    )
    axes.set_ylabel("% of the rows")
    named = f", {num.group_name(group['group'])}" if group["group"] else ""
    axes.set_xlabel(
        f"{finding['settings']['digits']} digits of {finding['on']}{named}, n = {group['n']:,}"
    )
    _legend(
        axes,
        [
            ("observed", SEA, "bar"),
            ("flagged", AMBER, "bar"),
            ("expected", INK, "tick"),
            ("band", PLUM, "band"),
        ],
    )
    return True


def _legend(axes: Axes, items: list[tuple[str, str, str]], *, above: bool = False) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    handles: list[Any] = []
    for label, color, kind in items:
        if kind == "bar":
            handles.append(Patch(color=color, label=label))
        elif kind == "dot":
            handles.append(Line2D([], [], marker="o", linestyle="", color=color, label=label))
        else:
            marker = "_" if kind == "tick" else "|"
            handles.append(
                Line2D([], [], marker=marker, linestyle="", color=color, label=label, markersize=9)
            )
    if above:
        # Where data may lie anywhere, the key stands outside of them.
        axes.legend(
            handles=handles, frameon=False, fontsize=8, loc="lower right", bbox_to_anchor=(1, 1),
            ncols=len(handles), borderaxespad=0.2,
        )  # fmt: skip
    else:
        axes.legend(handles=handles, frameon=False, fontsize=8, loc="upper right")


def _plain_number(value: float, _position: object = None) -> str:
    """1,000 and not a power of ten: the reader thinks in amounts."""
    return f"{value:,.0f}".replace("-", num.MINUS)


def _limits(axes: Axes, finding: dict[str, Any]) -> bool:
    groups = finding["groups"]
    if len(groups) == 1 and "histogram" in groups[0]:
        _histogram(axes, finding, groups[0])
        return True
    return _ranges(axes, finding)


def _histogram(axes: Axes, finding: dict[str, Any], group: dict[str, Any]) -> None:
    """All rows used, with the limits; rows outside the drawn range are stated."""
    data = group["histogram"]
    edges, counts = data["edges"], data["counts"]
    # The bins of a log-scale test are on that scale.
    log = finding["settings"].get("scale") == "log"
    low, high = group["low"], group["high"]
    if log:
        low, high = (None if v is None else _logarithm(v) for v in (low, high))
    middle = [(a + b) / 2 for a, b in itertools.pairwise(edges)]
    colors = [
        AMBER if (low is not None and m < low) or (high is not None and m > high) else SEA
        for m in middle
    ]
    axes.bar(middle, counts, width=edges[1] - edges[0], color=colors, linewidth=0)
    for limit, name in ((low, "low"), (high, "high")):
        if limit is not None:
            axes.axvline(limit, color=PLUM, linewidth=1.4)
            shown = group[name]
            axes.annotate(
                f"{name} limit {num.number(shown)}", (limit, 1), xycoords=("data", "axes fraction"),
                textcoords="offset points", xytext=(4 if name == "high" else -4, -4), fontsize=8,
                ha="left" if name == "high" else "right", va="top", color=PLUM,
            )  # fmt: skip
    outside = [f"{data[k]:,} rows {k}" for k in ("below", "above") if data[k]]
    scale = "log10(1 + |x|), signed" if log else finding["currency"]
    axes.set_xlabel(
        f"{finding['on']} ({scale}), n = {group['n']:,}"
        + (f"; beyond the axis: {', '.join(outside)}" if outside else "")
    )
    axes.set_ylabel("rows")


def _logarithm(value: float) -> float:
    from math import copysign, log10

    return copysign(log10(1 + abs(value)), value)


def _ranges(axes: Axes, finding: dict[str, Any]) -> bool:
    """Groups with flagged rows: the range within the limits, the middle, the flagged amounts."""
    chosen = sorted((g for g in finding["groups"] if g["flagged"]), key=lambda g: -g["flagged"])
    chosen = chosen[:MOST_GROUPS]
    if not chosen:
        chosen = sorted(finding["groups"], key=lambda g: -g["n"])[:MOST_GROUPS]
    names = [num.group_name(g["group"]) for g in chosen]
    for i, g in enumerate(chosen):
        low = g["low"] if g["low"] is not None else g["median"]
        high = g["high"] if g["high"] is not None else g["median"]
        axes.hlines(i, low, high, color=SAND, linewidth=9, zorder=1)
        if finding["test"] == "fences" and g["q1"] is not None and g["q3"] is not None:
            axes.hlines(i, g["q1"], g["q3"], color=SEA, linewidth=9, zorder=2)
        axes.vlines(g["median"], i - 0.28, i + 0.28, color=INK, linewidth=1.6, zorder=3)
    where = {tuple(g["group"].values()): i for i, g in enumerate(chosen)}
    for flag in finding["flags"]:
        place = where.get(tuple(flag["group"].values()))
        if place is not None:
            axes.plot(
                float(Decimal(flag["amount"])), place, "o", color=AMBER, markersize=4.5, zorder=4
            )
    axes.set_yticks(range(len(chosen)))
    axes.set_yticklabels(names)
    axes.invert_yaxis()
    if finding["settings"].get("scale") == "log":
        axes.set_xscale("symlog", linthresh=1)
        axes.xaxis.set_major_formatter(_plain_number)
    axes.set_xlabel(f"{finding['on']} ({finding['currency']})")
    items = [("within the limits", SAND, "bar"), ("median", INK, "band"), ("flagged", AMBER, "dot")]
    if finding["test"] == "fences":
        items.insert(1, ("Q1 to Q3", SEA, "bar"))
    _legend(axes, items, above=True)
    axes.margins(x=0.08)
    return True


def _distance(axes: Axes, finding: dict[str, Any]) -> bool:
    """Ordered d² against what chi-square gives: a straight line where the measures are normal."""
    colors = (SEA, PLUM, INK, STONE)
    chosen = sorted(finding["groups"], key=lambda g: -g["flagged"])[:4]
    for color, g in zip(colors, chosen, strict=False):
        data = g["quantiles"]
        name = num.group_name(g["group"]) if g["group"] else "all subjects"
        axes.plot(
            data["expected"], data["observed"], "o", color=color, markersize=3.6,
            label=f"{name}, n = {g['n']:,}", zorder=2,
        )  # fmt: skip
        beyond = [
            (e, o)
            for e, o in zip(data["expected"], data["observed"], strict=True)
            if o > g["limit"]
        ]
        axes.plot(
            [e for e, _ in beyond],
            [o for _, o in beyond],
            "o",
            color=AMBER,
            markersize=5.5,
            zorder=3,
        )
    top = max(max(g["quantiles"]["expected"]) for g in chosen)
    axes.plot([0, top], [0, top], color=STONE, linewidth=0.8, zorder=1)
    limit = chosen[0]["limit"]
    axes.axhline(limit, color=PLUM, linewidth=1)
    axes.annotate(
        f"limit {limit:.1f}", (0, limit), xycoords=("axes fraction", "data"), xytext=(4, 3),
        textcoords="offset points", fontsize=8, color=PLUM,
    )  # fmt: skip
    axes.set_yscale("symlog", linthresh=max(limit, 1))
    axes.yaxis.set_major_formatter(_plain_number)
    axes.set_xlabel("d² expected of a normal population (chi-square)")
    axes.set_ylabel("d² observed")
    axes.legend(frameon=False, fontsize=8, loc="upper left")
    return True


def _periods(axes: Axes, finding: dict[str, Any]) -> bool:
    """Changes of the lines, flagged ones marked, the largest first."""
    group = finding["groups"][0]
    lines = sorted(group["lines"], key=lambda x: (not x["flagged"], -abs(Decimal(x["change"]))))[
        :MOST_LINES
    ]
    if not lines:
        return False
    values = [float(Decimal(line["change"])) / 1000 for line in lines]
    axes.barh(range(len(lines)), values, color=[AMBER if x["flagged"] else SEA for x in lines])
    axes.axvline(0, color=STONE, linewidth=0.8)
    axes.set_yticks(range(len(lines)))
    axes.set_yticklabels([num.group_name(line["key"]) for line in lines])
    axes.invert_yaxis()
    for i, (line, value) in enumerate(zip(lines, values, strict=True)):
        text = "new" if line["change_percent"] is None else f"{line['change_percent']:+.0f}%"
        axes.annotate(
            text.replace("-", num.MINUS), (value, i), textcoords="offset points",
            xytext=(4 if value >= 0 else -4, 0), ha="left" if value >= 0 else "right", va="center",
            fontsize=7.5,
        )  # fmt: skip
    axes.margins(x=0.12)
    axes.set_xlabel(
        f"change from {group['base']} to {group['current']}, thousand {finding['currency']}"
    )
    _legend(axes, [("flagged", AMBER, "bar"), ("within the limits", SEA, "bar")], above=True)
    return True
