"""A file, or a whole table, taken out of the case; what the register says of it stays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fnmatch import fnmatch

from sabueso.base.errors import UserError, nearest
from sabueso.case.folder import Case
from sabueso.case.plan_writing import write_withdrawn


@dataclass(frozen=True)
class Withdrawal:
    """What was taken out. ``left`` are the files that the table still has; ``kept`` says why the plan
    still names a table without files."""

    table: str
    files: tuple[str, ...]
    rows: int
    reason: str
    left: int
    kept: str = ""


def withdraw_files(
    case: Case, table: str, named: Sequence[str], reason: str, initials: str
) -> Withdrawal:
    """Take files out of a table, or all of it where none is named.

    Raises
    ------
    UserError
        If there is no such table or file, or no reason is given.
    """
    if not reason.strip():
        raise UserError('say why it is taken out of the case: --reason "…"')
    with case.locked() as writer:
        if table not in case.plan.tables:
            raise UserError(f"there is no table {table!r}{nearest(table, case.plan.tables)}")
        taken = case.sources(table)
        files = [source.file for source in taken]
        chosen = taken
        if named:
            for name in named:
                if not any(fnmatch(file, name) for file in files):
                    raise UserError(f"table {table!r} has no file {name!r}{nearest(name, files)}")
            chosen = [e for e in taken if any(fnmatch(e.file, name) for name in named)]
        left = len(taken) - len(chosen)
        used = _users(case, table)
        kept = ""
        if not left:
            kept = f"it is named by {', '.join(used)}" if used else ""
            write_withdrawn(case.plan_path, table, whole=not used)
        for source in chosen:
            body = {"file": source.file, "sha256": source.sha256, "accepted": source.accepted}
            writer.append("withdrawal", table, initials, body | {"reason": reason.strip()})
        return Withdrawal(
            table, tuple(e.file for e in chosen), sum(e.accepted for e in chosen),
            reason.strip(), left, kept,
        )  # fmt: skip


def _users(case: Case, table: str) -> list[str]:
    """What else in the plan names a table."""
    plan = case.plan
    found = [f"screen {s.name!r}" for s in plan.screens if plan.base_of(s.table) == table]
    found += [f"population {name!r}" for name, p in plan.populations.items() if p.table == table]
    for name, section in plan.tables.items():
        found += [
            f"a link of {name!r}"
            for target in section.links.values()
            if target.partition(".")[0] == table
        ]
    return found
