"""Links between tables that a survey found, written to the plan."""

from __future__ import annotations

from collections.abc import Sequence

from sabueso.case.folder import Case
from sabueso.case.plan import write_links
from sabueso.population.survey import Link

LEAST_SHARE = 0.9


def keep_links(case: Case, found: Sequence[Link]) -> list[Link]:
    """Write the links that hold for nearly all rows; of a column the best, and none twice.

    Returns those that were added.
    """
    wanted: dict[str, dict[str, str]] = {}
    added = []
    for link in found:
        table, _, column = link.column.partition(".")
        known = case.plan.tables[table].links
        if (
            link.share >= LEAST_SHARE
            and column not in known
            and column not in wanted.get(table, {})
        ):
            wanted.setdefault(table, {})[column] = link.other
            added.append(link)
    if added:
        write_links(case.plan_path, wanted)
        case.plan_changed()
    return added
