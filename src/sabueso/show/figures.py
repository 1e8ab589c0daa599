"""Figures of findings, drawn from their recorded JSON: the paper and ``--out`` show the same."""

from __future__ import annotations

from decimal import Decimal
from typing import TYPE_CHECKING, Any

from sabueso.show import numbers as num
from sabueso.show.canvas import drawn, legend, plain_number
from sabueso.show.digit_figures import draw_digits
from sabueso.show.limit_figures import draw_limits
from sabueso.show.palette import AMBER, INK, PLUM, SEA, STONE

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_LINES = 16


def draw(finding: dict[str, Any], form: str, kind: str = "plain") -> bytes | None:
    """A finding's figure as ``svg`` or ``png``; None where there is nothing to draw.

    ``kind`` chooses among the figures of a limit, where the finding has the points for it.
    """
    if not finding["groups"]:
        return None
    test = finding["test"]
    if test == "digits":
        return draw_digits(finding, form)
    if test in ("zscore", "fences", "top"):
        return draw_limits(finding, form, kind)
    drawers = {"distance": _distance, "periods": _periods}
    if test not in drawers:
        return None
    return drawn(lambda axes: drawers[test](axes, finding), form)


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
    axes.yaxis.set_major_formatter(plain_number)
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
    legend(axes, [("flagged", AMBER, "bar"), ("within the limits", SEA, "bar")], above=True)
    return True
