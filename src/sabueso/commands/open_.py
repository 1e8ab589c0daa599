"""A new case, and a case whose register moves to a server."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.layout import PLAN
from sabueso.commands.interface import Answer

if TYPE_CHECKING:
    from rich.console import Console


def new_case(
    folder: Path,
    *,
    name: str | None = None,
    currency: str | None = None,
    register: str | None = None,
    schema: str | None = None,
) -> Answer[Case]:
    """Start a case: its folder and its plan; or move the register of a case that is there.

    Parameters
    ----------
    currency : str, optional
        The ledger's; else what its first amounts state, or EUR, which is said as an assumption.
    register : str, optional
        URL of a PostgreSQL database that holds the review register; else it is a file of the case.
        Of a case that is there already, the register moves.
    schema : str, optional
        The schema for this case's register; made of the folder's name where none is given.

    Raises
    ------
    UserError
        If there is a case already, and no register to move.
    """
    if schema and not register:
        raise UserError(
            "--schema says where on a server the register lies; it goes with --register"
        )
    server = _server(register, schema or _schema_of(folder)) if register else None
    called = name or folder.resolve().name
    if server and (folder / PLAN).is_file():
        return _moved(folder, server)
    case = Case.create(folder, called, currency, server)

    def show(console: Console) -> None:
        from sabueso.show.console import said

        where = f"\n register: {case.register.location}" if server else ""
        said(
            console,
            f"case {called!r} opened: {case.plan_path}{where}",
            f" next: sabueso intake FILES --as payments --case {folder}",
        )

    return Answer(case, show)


def _moved(folder: Path, server: tuple[str, str]) -> Answer[Case]:
    from sabueso.case.moving import LEFT, move_register

    case = Case(folder.resolve())
    try:
        moved = move_register(case, server)
    finally:
        case.close()

    def show(console: Console) -> None:
        from sabueso.show.console import said

        said(
            console,
            f"the register moved: {moved.events:,} events, the last {moved.head[:12]}…, compared row by "
            "row with the file",
            f" from now on: {moved.location}",
            f" the file is kept as {LEFT}, and read no more",
        )

    return Answer(case, show)


def _server(url: str, schema: str) -> tuple[str, str]:
    from pydantic import ValidationError

    from sabueso.case.plan_parts import RegisterSection

    try:
        RegisterSection(url=url, schema=schema)
    except ValidationError as error:
        said = error.errors()[0]
        option = "--schema" if said["loc"] and said["loc"][0] == "schema" else "--register"
        raise UserError(f"{option}: {said['msg'].removeprefix('Value error, ')}") from None
    return url, schema


def _schema_of(folder: Path) -> str:
    """A schema's name out of the folder's."""
    words = re.sub(r"[^a-z0-9]+", "_", folder.resolve().name.lower()).strip("_")
    return f"case_{words}"[:63] if words else "case_register"
