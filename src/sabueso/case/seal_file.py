"""The seal as a file, and what it says of the register's end: read by every command that writes."""

from __future__ import annotations

import json
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.base.files import json_text
from sabueso.base.plain import Json
from sabueso.case.register import Register, chain_breaks

SEAL = "seal.json"


def check_head(folder: Path, register: Register) -> None:
    """Refuse to write to a register whose end is not what it was when it was sealed.

    Raises
    ------
    UserError
        If the last event was altered, or events that a seal covers are gone.
    """
    last = register.read("SELECT * FROM events ORDER BY seq DESC LIMIT 2")
    told = [altered(*each) for each in chain_breaks(reversed(last), whole=False)]
    path = folder / SEAL
    if not told and path.is_file():
        content = read_seal(path)
        if content is not None:
            told = end_faults(register, content)
    if told:
        raise UserError(f"{register.location}: {told[0]}; nothing was written")


def altered(seq: int, how: str) -> str:
    """The sentence of a break in the chain."""
    return f"the register was altered: event {seq} {how}"


def seal_text(content: Json) -> bytes:
    return (json_text(content) + "\n").encode()


def read_seal(path: Path) -> Json | None:
    """What a seal lists; None where it is none, or is not as it was written to the last blank."""
    try:
        content = json.loads(path.read_bytes())
        register = content["register"]
        whole = isinstance(content["files"], dict) and isinstance(content["sources"], dict)
        int(register["events"]), int(register["run"]), str(register["head"])
        same = path.read_bytes() == seal_text(content)
        return content if whole and same and isinstance(content["seal"], dict) else None
    except (ValueError, KeyError, TypeError):
        return None


def end_faults(register: Register, content: Json) -> list[str]:
    """Whether the chain still reaches to where it was sealed: a tail that was cut leaves no trace in the
    chain itself."""
    wanted = content["register"]
    events, head = int(wanted["events"]), str(wanted["head"])
    if events:
        row = register.read("SELECT hash FROM events WHERE seq = :seq", {"seq": events})
        if not row:
            (last,) = register.read("SELECT COALESCE(MAX(seq), 0) AS seq FROM events")
            return [
                f"the end of the register is gone: it held {events:,} events when it was sealed, and "
                f"holds {last['seq']:,}"
            ]
        if row[0]["hash"] != head:
            return [altered(events, "is not the one that was sealed")]
    own = content["seal"]
    query = "SELECT body FROM events WHERE seq = :seq AND kind = 'seal'"
    recorded = register.read(query, {"seq": own.get("event", 0)})
    if not recorded:
        return [
            f"the end of the register is gone: it lacks event {own.get('event')}, that of the seal"
        ]
    if json.loads(recorded[0]["body"]).get("sha256") != own.get("sha256"):
        return [f"{SEAL} is not the one that event {own['event']} of the register set"]
    return []
