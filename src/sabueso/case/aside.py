"""A finding with the rows that reviewers set aside, beside the finding without them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sabueso.population.population import SET_ASIDE, Population
from sabueso.screens.interface import Finding, Screen

_LONG = ("histogram", "classes", "behind", "lines", "sequential", "repeated", "repeated_in_class")
"""Parts of a group that a comparison of its figures does not need."""


def screened(screen: Screen, rows: Population, whole: Population | None, settings: Any) -> Finding:
    """Run a screen; where reviewers set rows aside, once more with them, for comparison.

    Parameters
    ----------
    rows : Population
        Without the rows set aside.
    whole : Population or None
        With them; None where no review set any aside.
    """
    finding = screen.run(rows, settings)
    if whole is None or not finding.population.left_out.get(SET_ASIDE):
        return finding
    other = screen.run(whole, settings)
    groups = [
        {k: v for k, v in group.items() if k not in _LONG}
        for group in other.groups
        if group not in finding.groups
    ]
    beside = {
        "rows": finding.population.left_out[SET_ASIDE],
        "used": other.population.used,
        "used_total": other.population.used_total,
        "flag_count": len(other.flags),
        "groups": groups,
    }
    return replace(finding, more={**finding.more, "with_set_aside": beside})
