"""A finding with the rows that reviewers set aside, beside the finding without them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sabueso.base.plain import Values
from sabueso.population.population import SET_ASIDE, Population
from sabueso.screens.finding import Beside, Finding
from sabueso.screens.interface import Screen
from sabueso.screens.view import as_mapping


def screened(screen: Screen, rows: Population, whole: Population | None, settings: Any) -> Finding:
    """Run a screen; where reviewers set rows aside, once more with them, for comparison.

    Parameters
    ----------
    rows : Population
        Without the rows set aside.
    whole : Population or None
        With them; None where no review set any aside.
    """
    columns = tuple(column.name for column in rows.table.columns)
    finding = replace(screen.run(rows, settings), columns=columns)
    if rows.defined is not None:
        finding = replace(finding, named=rows.defined.name, named_reason=rows.defined.reason)
    if whole is None or not finding.population.left_out.get(SET_ASIDE):
        return finding
    other = screen.run(whole, settings)
    beside = Beside(
        rows=finding.population.left_out[SET_ASIDE],
        used=other.population.used,
        used_total=other.population.used_total,
        flag_count=len(other.flags),
        groups=[_figures(group) for group in other.groups if group not in finding.groups],
    )
    return replace(finding, with_set_aside=beside)


def _figures(group: Any) -> Values:
    """The single figures of a group: its lists and tables are not compared."""
    return {
        name: value
        for name, value in as_mapping(group).items()
        if name == "group" or not isinstance(value, (list, dict))
    }
