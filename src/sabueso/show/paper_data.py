"""The papers as data files: whatever they print as a table, whole, for whoever computes further."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sabueso.base.files import json_text, numbered, write_whole
from sabueso.base.plain import Cells, Json, plain
from sabueso.case.recording import RecordedFinding, RecordedView
from sabueso.report.blocks import Sheet
from sabueso.screens import find_screen
from sabueso.screens.finding import Finding
from sabueso.screens.view import as_mapping, flags_sheet
from sabueso.show.drill_sheets import drill_sheet
from sabueso.show.export import columns_apart, sheets_as
from sabueso.show.pages import file_name

FOLDER, LIST = "data", "contents.json"
FORMS = ("csv", "json", "parquet")


@dataclass(frozen=True)
class DataFile:
    """A table of the papers and the file that it becomes, without its suffix."""

    name: str
    sheet: Sheet


def finding_tables(recorded: RecordedFinding) -> list[DataFile]:
    """What a screen found as tables: its groups, and its own table or its flags."""
    finding = recorded.finding
    name = f"screen-{file_name(recorded.screen)}"
    own = find_screen(finding.test).view(finding).sheet()
    found = [DataFile(f"{name}-{own.name}", own)]
    groups = _groups_sheet(finding)
    if groups.rows and own.name != groups.name:
        found.insert(0, DataFile(f"{name}-{groups.name}", groups))
    if own.name != "flags" and len(finding.flags):
        found.append(DataFile(f"{name}-flags", flags_sheet(finding.flags)))
    return found


def view_table(recorded: RecordedView) -> DataFile:
    return DataFile(f"view-{file_name(recorded.name)}", drill_sheet(recorded.drill))


def write_data(
    folder: Path, form: str, files: Sequence[DataFile], facts: Mapping[str, Any]
) -> list[Path]:
    """Write the files into a folder, with a list of them; those that an earlier paper wrote there and
    this one does not are taken away, as long as they are as it left them.

    Parameters
    ----------
    form : {"csv", "json", "parquet"}
    facts : mapping
        What the list says of the papers beside its files.
    """
    listed: list[Json] = []
    contents = {}
    for each in _apart(files):
        name = f"{each.name}.{form}"
        contents[name] = sheets_as(f".{form}", [each.sheet], _records(each.sheet))
        digest = hashlib.sha256(contents[name]).hexdigest()
        listed.append(
            {
                "file": name,
                "table": each.sheet.name,
                "rows": len(each.sheet.rows),
                "columns": each.sheet.header,
                "sha256": digest,
            }
        )
    for name, digest in _listed(folder / LIST).items():
        old = folder / name
        ours = name not in contents and old.parent == folder and old.is_file()
        if ours and hashlib.sha256(old.read_bytes()).hexdigest() == digest:
            old.unlink()
    for name, content in contents.items():
        write_whole(folder / name, content)
    told = numbered({**facts, "files": listed})
    write_whole(folder / LIST, (json_text(told) + "\n").encode())
    return [folder / LIST, *(folder / name for name in contents)]


def _records(sheet: Sheet) -> Json:
    """A table as JSON: its rows by the names of their columns."""
    names = columns_apart(sheet.header)
    rows = [dict(zip(names, map(plain, row), strict=True)) for row in sheet.rows]
    return {"table": sheet.name, "rows": rows}


def _listed(path: Path) -> dict[str, str]:
    """Files that an earlier list has, and their hashes; none where it is no list of ours."""
    try:
        known = json.loads(path.read_text(encoding="utf-8"))
        return {str(each["file"]): str(each["sha256"]) for each in known["files"]}
    except (OSError, ValueError, KeyError, TypeError):
        return {}


def _apart(files: Sequence[DataFile]) -> list[DataFile]:
    """Files of names of their own: two screens may differ in marks and blanks alone."""
    found: list[DataFile] = []
    used: set[str] = set()
    for each in files:
        name, again = each.name, 2
        while name in used:
            name, again = f"{each.name}-{again}", again + 1
        used.add(name)
        found.append(DataFile(name, each.sheet))
    return found


def _groups_sheet(finding: Finding[Any]) -> Sheet:
    """Every group with its single figures."""
    rows: list[Cells] = []
    for group in finding.groups:
        figures = dict(as_mapping(group))
        row = dict(figures.pop("group", None) or {})
        for name, value in figures.items():
            if isinstance(plain(value), (int, float, str)) or value is None:
                row[name if name not in row else f"figure {name}"] = value
        rows.append(row)
    header = list(dict.fromkeys(n for row in rows for n, value in row.items() if value is not None))
    return Sheet("groups", header, [[row.get(name) for name in header] for row in rows])
