"""A register moved from the case's folder to a server, row by row as it is."""

from __future__ import annotations

from dataclasses import dataclass

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.layout import REGISTER
from sabueso.case.plan_writing import write_server
from sabueso.case.register import TABLES
from sabueso.case.register_server import ServerRegister
from sabueso.case.sealing import row_hashes

LEFT = "register-moved.db"
"""What the file is called afterwards: kept, and read by nothing."""


@dataclass(frozen=True)
class Moved:
    """A register that lies on a server now."""

    case: Case
    location: str
    events: int
    head: str


def move_register(case: Case, server: tuple[str, str]) -> Moved:
    """Copy a case's register to a server and read it from there from now on.

    Raises
    ------
    UserError
        If the register is on a server already, was altered, or the server has one there.
    """
    left = case.folder / LEFT
    with case.locked():
        source = case.register
        if not (case.folder / REGISTER).is_file():
            raise UserError(f"{case.plan_path}: the register lies on a server already")
        if left.exists():
            raise UserError(f"{left} is there; take it away before the register is moved again")
        events, head = source.verify()
        target = ServerRegister(*server, fresh=True)
        try:
            with target.writing() as writer:
                for table in TABLES:
                    writer.copy(table, source.read(f"SELECT * FROM {table}"))
            if target.verify() != (events, head) or row_hashes(target) != row_hashes(source):
                raise UserError(
                    f"{target.location}: what arrived there is not what was sent; the case goes on "
                    "with its file"
                )
            location = target.location
        finally:
            target.close()
        write_server(case.plan_path, server)
    case.close()
    (case.folder / REGISTER).rename(left)
    return Moved(case, location, events, head)
