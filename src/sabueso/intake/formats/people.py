"""Columns of people that are told by the people of another column, and not by their names."""

from __future__ import annotations

from collections.abc import Mapping

from sabueso.intake.formats.deciding import Format
from sabueso.population.table import Role

LEAST_PEOPLE, SAME_PEOPLE = 3, 0.6
"""Those who approve, and the share of them that another column must name too, and no others, to be of the same people."""


def beside_approver(
    guessed: dict[Role, str], samples: Mapping[str, list[str]], formats: Mapping[str, Format]
) -> None:
    """Give the column that names the same people as that of the approvers to those who prepare rows, where none is
    called so: who counted, beside who checked."""
    if "approver" not in guessed or "preparer" in guessed:
        return
    approvers = set(samples[guessed["approver"]])
    if len(approvers) < LEAST_PEOPLE:
        return
    for name, values in samples.items():
        if name in guessed.values() or formats[name].type != "text":
            continue
        people = set(values)
        if len(people & approvers) >= SAME_PEOPLE * len(people | approvers):
            guessed["preparer"] = name
            return
