"""Links between tables that a survey found, written to the plan."""

from __future__ import annotations

from collections.abc import Sequence

from sabueso.case.folder import Case
from sabueso.case.plan_writing import write_links
from sabueso.intake.formats.called import role_of_master, worded
from sabueso.intake.formats.guessing import alike_parties
from sabueso.intake.formats.header_words import WORDS
from sabueso.intake.formats.role_words import BUYERS, BY, ENTERED
from sabueso.population.links import Link
from sabueso.population.table import Role

LEAST_SHARE, LEAST_ALIKE = 0.9, 3
"""Share of the rows that are found from which a link is kept, and letters that two words begin with alike at least."""


_OF_ANY = frozenset(
    ["id", "no", "nr", "num", "number", "numero", "nummer", "code", "codigo", "key", "line", "row", "ref", "s", "n",
     "index", "position", "pos", "seq", "sequence", "lfd", "laufende"]
)  # fmt: skip
"""Words of names that say nothing of what is numbered."""


_PEOPLE: tuple[Role, ...] = ("party", "preparer", "approver")
_CALLED: dict[Role, frozenset[str]] = {
    "account": frozenset(WORDS["account"].split()),
    "party": frozenset(word for role in _PEOPLE for word in WORDS[role].split())
    | BUYERS | BY | ENTERED | {"manager", "supervisor", "owner", "head"},
}  # fmt: skip
"""What is called so is found in a chart of accounts, or among people and firms."""


def is_by_chance(link: Link) -> bool:
    """Whether numbers are found among those that count the rows of another table, and no name says that they
    are of its rows.

    Examples
    --------
    >>> is_by_chance(Link("loan.No.", "fees.S.No.", 60, 60, counted=True))
    True
    >>> is_by_chance(Link("payments.supplier_id", "suppliers.id", 60, 60, counted=True))
    False
    >>> is_by_chance(Link("payments.approved_by", "staff.no", 60, 60, counted=True))
    False
    """
    if not link.counted:
        return False
    own, others = _stems(link.column.partition(".")[2]), _stems(link.other)
    # A dept is one of the departments.
    begun = [
        {word[:LEAST_ALIKE] for word in words if len(word) >= LEAST_ALIKE}
        for words in (own, others)
    ]
    if not (own.isdisjoint(others) and begun[0].isdisjoint(begun[1])):
        return False
    if not alike_parties(own).isdisjoint(others):
        return False
    role = role_of_master(link.other.partition(".")[0])
    return role is None or own.isdisjoint(_CALLED[role])


def _stems(name: str) -> set[str]:
    """The words of a name that say what is numbered, the plural of one as the one."""
    return {word.rstrip("s") for word in worded(name)} - _OF_ANY - {""}


def is_kept(link: Link) -> bool:
    """Whether a link is written to a plan: it holds for nearly all rows, and not by chance."""
    return link.share >= LEAST_SHARE and not is_by_chance(link)


def keep_links(case: Case, found: Sequence[Link]) -> list[Link]:
    """Write to the plan the links that it lacks; returns them."""
    if not new_links(case, found):
        return []
    with case.locked():
        added = new_links(case, found)
        wanted: dict[str, dict[str, str]] = {}
        for link in added:
            table, _, column = link.column.partition(".")
            wanted.setdefault(table, {})[column] = link.other
        write_links(case.plan_path, wanted, _roles_told(case, added))
        case.changed()
    return added


def planned_links(case: Case) -> frozenset[tuple[str, str]]:
    """The links of the plan, as ``table.column`` and ``other.key``."""
    return frozenset(
        (f"{name}.{column}", other)
        for name, section in case.plan.tables.items()
        for column, other in section.links.items()
    )


def _roles_told(case: Case, added: Sequence[Link]) -> dict[str, dict[str, str]]:
    """Roles that a table lacks and that the name of the table tells which a column is linked with: what is
    found in the chart of accounts is an account."""
    told: dict[str, dict[str, str]] = {}
    for link in added:
        (table, _, column), (other, _, _) = link.column.partition("."), link.other.partition(".")
        role, section = role_of_master(other), case.plan.tables[table]
        known = {**section.roles, **told.get(table, {})}
        if (
            other != table
            and role is not None
            and role not in known
            and column not in known.values()
        ):
            told.setdefault(table, {})[role] = column
    return told


def new_links(case: Case, found: Sequence[Link]) -> list[Link]:
    """The links that hold for nearly all rows and that the plan lacks: one of a column, the best. What tells the rows
    of a table apart comes before another's column of the same numbers: a bill's order is one of the orders; then the table
    that is called as the column is, and one without days: a delivery's member is one of the members, and no settlement."""

    def later(link: Link) -> tuple[bool, bool, bool]:
        other, _, key = link.other.partition(".")
        section = case.plan.tables.get(other)
        roles = {} if section is None else section.roles
        named = not _stems(link.column.partition(".")[2]).isdisjoint(_stems(other))
        return roles.get("id") != key, not named, "date" in roles

    added: list[Link] = []
    for link in sorted(found, key=later):
        table, _, column = link.column.partition(".")
        known = {
            *case.plan.tables[table].links,
            *(
                each.column.partition(".")[2]
                for each in added
                if each.column.startswith(f"{table}.")
            ),
        }
        if is_kept(link) and column not in known:
            added.append(link)
    return added
