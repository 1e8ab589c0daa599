"""The seal of a case: what every file and every row of the register was, so that any change shows.

``seal.json`` lists the SHA-256 of each file of the case and of each source file, and what the register
held: its events, the hash of the last, and hashes over exceptions and marks. The register's last event
then is the seal's own, with the hash of that list, so that neither can be changed without the other.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.files import FORMAT, write_whole
from sabueso.base.hashing import file_hash
from sabueso.base.plain import Json
from sabueso.case.folder import Case
from sabueso.case.layout import OWN_FOLDERS, PLAN, REGISTER, relative
from sabueso.case.marked import altered_marks
from sabueso.case.register import Event, Register
from sabueso.case.reviews import check_initials
from sabueso.case.seal_file import SEAL, altered, end_faults, read_seal, seal_text

PAPERS = "papers"
Hashed = Callable[[Path], str]
"""Gives a file's SHA-256."""
_ROWS = {
    "exceptions": "SELECT id, table_name, kind, key, first_run FROM exceptions "
    "WHERE first_run <= :run ORDER BY id",
    "marks": 'SELECT run, screen, exception, rank, flagged, score, "limit", direction, p_adjusted, '
    "amount, at_stake, label, selector FROM marks WHERE run <= :run ORDER BY run, screen, exception",
}


@dataclass(frozen=True)
class Sealed:
    """A seal as it was set: the hash to write down elsewhere, and what it covers."""

    digest: str
    at: str
    files: int
    sources: int
    events: int
    initials: str


@dataclass(frozen=True)
class Checked:
    """What a check found: ``faults`` are what is not as it was sealed, each a sentence; ``since`` what
    came after the seal and is not covered by it."""

    digest: str
    at: str
    files: int
    sources: int
    events: int
    faults: list[str]
    since: list[str]
    sealed: bool = True


def seal_case(case: Case, initials: str) -> Sealed:
    """Hash all of a case, and set the seal.

    Raises
    ------
    UserError
        If something is not what the register has of it: a seal covers nothing that was altered.
    """
    who = check_initials(initials)
    # A file is compared with what was recorded of it, and listed: it is read once for both.
    hashed = cache(file_hash)
    with case.locked() as writer:
        faults = [
            *_register_faults(case.register),
            *_recorded_faults(case, hashed),
            *_changed_sources(case, hashed),
        ]
        if faults:
            raise UserError(f"nothing is sealed: {faults[0]}")
        events, head = case.register.verify()
        content: Json = {
            "format": FORMAT,
            "at": datetime.now(UTC).isoformat(timespec="seconds"),
            "files": {name: hashed(path) for name, path in _own_files(case.folder)},
            "sources": {name: hashed(path) for _, name, path in _source_files(case)},
            "register": {"events": events, "head": head, **row_hashes(case.register)},
        }
        digest = _digest(content)
        writer.append("seal", SEAL, who, {"sha256": digest})
    # The file follows its event: a seal that was not recorded seals nothing. The bytes of the register
    # are told beside it: they can be compared as long as nothing is added.
    case.close()
    register = _file_hash_of_register(case)
    content["seal"] = {"sha256": digest, "event": events + 1, "register_sha256": register}
    write_whole(case.folder / SEAL, seal_text(content))
    return Sealed(
        digest, content["at"], len(content["files"]), len(content["sources"]), events, who
    )


def check_seal(case: Case) -> Checked:
    """Compare a case with its seal; without one, with what the register itself has of it."""
    faults = _register_faults(case.register)
    path = case.folder / SEAL
    sealed = _last_seal(case.register) if not faults else None
    if not path.is_file():
        if sealed is not None:
            faults.append(f"{SEAL} is gone, though the register has it set at event {sealed.seq}")
        else:
            faults += [*_recorded_faults(case, file_hash), *_changed_sources(case, file_hash)]
        files, sources = len(list(_own_files(case.folder))), len(list(_source_files(case)))
        many = len(case.register.read("SELECT seq FROM events"))
        return Checked("", "", files, sources, many, faults, [], sealed=False)
    content = read_seal(path)
    if content is None:
        faults.append(f"{SEAL} was cut or altered: it is no seal")
        return Checked("", "", 0, 0, 0, faults, [])
    told, since = _against(case, content, sealed)
    return Checked(
        digest=str(content["seal"].get("sha256", "")),
        at=str(content.get("at", "")),
        files=len(content["files"]),
        sources=len(content["sources"]),
        events=int(content["register"]["events"]),
        faults=[*faults, *told, *_recorded_faults(case, file_hash, beside=content["files"])],
        since=since,
    )


def _against(case: Case, content: Json, sealed: Event | None) -> tuple[list[str], list[str]]:
    """What is not as sealed, and what came since."""
    faults, since = [], []
    digest, own = _digest(content), content["seal"]
    if digest != own.get("sha256"):
        faults.append(f"{SEAL} was altered: its list has another hash than it states")
    faults += end_faults(case.register, content)
    if sealed is not None and sealed.seq != own.get("event"):
        faults.append(f"{SEAL} is an earlier one: the last was set at event {sealed.seq}")
    rows = row_hashes(case.register, int(content["register"]["run"]))
    for name in _ROWS:
        if rows[name] != content["register"].get(name):
            faults.append(f"the register was altered: rows of its {name} are not those sealed")
    there = dict(_own_files(case.folder))
    for name, known in content["files"].items():
        path = there.get(name)
        if path is None:
            faults.append(f"{name} is gone")
        elif file_hash(path) != known:
            faults.append(f"{name} was altered")
    for name, known in content["sources"].items():
        now = _source_hash(case.folder / name)
        if now != known:
            faults.append(f"source file {name} {'is gone' if now is None else 'was altered'}")
    fresh = sorted(set(there) - set(content["files"]))
    if fresh:
        since.append(f"new files, {len(fresh):,}, the first {fresh[0]}")
    count = len(case.register.read("SELECT seq FROM events")) - int(own.get("event", 0))
    if count > 0:
        since.append(f"events of the register, {count:,}")
    elif _file_hash_of_register(case) != own.get("register_sha256"):
        faults.append(f"{REGISTER} was altered: its bytes are not those that were sealed")
    return faults, since


def _own_files(folder: Path) -> Iterator[tuple[str, Path]]:
    """Files of the case but for the register and the seal, by their names within it."""
    yield PLAN, folder / PLAN
    for own in (*OWN_FOLDERS, PAPERS):
        for path in sorted((folder / own).rglob("*")):
            name = path.relative_to(folder).as_posix()
            if path.is_file() and not any(part.startswith(".") for part in Path(name).parts):
                yield name, path


def _source_files(case: Case) -> Iterator[tuple[str, str, Path]]:
    """The client's files that the plan names and that were taken in: table, path of the plan, file."""
    for table, section in case.plan.tables.items():
        taken = {source.file for source in case.sources(table)}
        for pattern in section.sources:
            for path in matching(case.folder, pattern):
                if path.is_file() and path.name in taken:
                    yield table, relative(path, case.folder), path


def matching(folder: Path, pattern: str) -> list[Path]:
    """Files that a path, a folder or a pattern of the plan names; none where there is none any more."""
    path = folder / pattern
    if path.is_dir():
        return sorted(path.iterdir())
    if path.is_file():
        return [path]
    if any(mark in pattern for mark in "*?["):
        anchor = Path(path.anchor or ".")
        return sorted(anchor.glob(str(path.relative_to(anchor))))
    return []


def _changed_sources(case: Case, hashed: Hashed) -> Iterator[str]:
    """Source files that are not what was taken in, where no seal lists them."""
    for table, name, path in _source_files(case):
        if hashed(path) not in {source.sha256 for source in case.sources(table)}:
            yield f"source file {name} was altered since it was taken into table {table!r}"


def _source_hash(path: Path) -> str | None:
    return file_hash(path) if path.is_file() else None


def _file_hash_of_register(case: Case) -> str | None:
    """None where it lies on a server: there its rows are all there is."""
    file = case.folder / REGISTER
    return file_hash(file) if file.is_file() else None


def row_hashes(register: Register, run: int | None = None) -> Json:
    """Hashes over exceptions and marks, of the runs up to one; the last there is where none is given."""
    if run is None:
        (last,) = register.read("SELECT COALESCE(MAX(run), 0) AS run FROM marks")
        (first,) = register.read("SELECT COALESCE(MAX(first_run), 0) AS run FROM exceptions")
        run = max(int(last["run"]), int(first["run"]))
    found: Json = {"run": run}
    for name, query in _ROWS.items():
        digest = hashlib.sha256()
        for row in register.read(query, {"run": run}):
            digest.update(json.dumps(list(row), ensure_ascii=False).encode() + b"\n")
        found[name] = digest.hexdigest()
    return found


def _digest(content: Mapping[str, Any]) -> str:
    """SHA-256 over what a seal lists, as canonical JSON: keys sorted, no blanks."""
    listed = {name: value for name, value in content.items() if name != "seal"}
    text = json.dumps(listed, ensure_ascii=False, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()


def _last_seal(register: Register) -> Event | None:
    events = register.events("seal")
    return events[-1] if events else None


def _register_faults(register: Register) -> list[str]:
    """What is wrong with the chain, each event by its number; where it holds, with the marks that its
    runs recorded."""
    broken = [altered(*each) for each in register.breaks()]
    if broken:
        return broken
    runs = (
        (item["name"], int(event.subject), item.get("marks_sha256"))
        for event in register.events("run")
        for item in event.body["screens"]
    )
    return [f"the register was altered: {fault}" for fault in altered_marks(register, runs)]


def _recorded_faults(case: Case, hashed: Hashed, beside: Iterable[str] = ()) -> Iterator[str]:
    """Files that are not what the events which wrote them say, but for those that a seal lists."""
    known = set(beside)
    told = [
        (source.parquet, case.folder / source.parquet, source.parquet_sha256)
        for source in case.sources()
        if source.parquet not in known and not Path(source.parquet).is_absolute()
    ]
    for event in case.register.events("run"):
        folder = f"runs/{int(event.subject):04d}"
        told += [
            (f"{folder}/{name}", case.folder / folder / name, recorded)
            for name, recorded in event.body.get("files", {}).items()
            if f"{folder}/{name}" not in known
        ]
    evidence = case.folder / "evidence"
    listed = {Path(name).stem for name in known if name.startswith("evidence/")}
    kept = {path.stem: path for path in evidence.glob("*")}
    for event in case.register.events("disposition"):
        for file in event.body.get("evidence", ()):
            recorded = file["sha256"]
            if recorded not in listed:
                what = f"evidence {file['file']} ({recorded[:12]}…)"
                told.append((what, kept.get(recorded, evidence / recorded), recorded))
    for what, path, recorded in told:
        if not path.is_file():
            yield f"{what} is gone"
        elif recorded and hashed(path) != recorded:
            yield f"{what} was altered"
