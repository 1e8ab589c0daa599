"""Folders of files as clients send them, taken into a case, with the programme that is proposed of them."""

from __future__ import annotations

import csv
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

from conftest import inside, inside_json

Records = Sequence[Mapping[str, Any]]
Headed = tuple[Sequence[str], Sequence[Sequence[Any]]]


@dataclass(frozen=True)
class Style:
    """How a program writes tables."""

    delimiter: str = ","
    decimal: str = "."
    days: str = "%Y-%m-%d"
    moments: str = "%Y-%m-%d %H:%M"
    encoding: str = "utf-8"

    def cell(self, value: Any) -> Any:
        if isinstance(value, datetime):
            return value.strftime(self.moments)
        if isinstance(value, date):
            return value.strftime(self.days)
        return str(value).replace(".", self.decimal) if isinstance(value, Decimal) else value


PLAIN = Style()
AMERICAN = Style(days="%m/%d/%Y", moments="%m/%d/%Y %I:%M %p")
GERMAN = Style(";", ",", "%d.%m.%Y", "%d.%m.%Y %H:%M", "cp1252")
FRENCH = Style(";", ",", "%d/%m/%Y", "%d/%m/%Y %H:%M", "latin-1")


def write_folder(
    folder: Path, tables: Mapping[str, Records | Headed], style: Style = PLAIN
) -> None:
    """A file for each table: a header and its rows, or records that name their columns."""
    folder.mkdir()
    for name, table in tables.items():
        if isinstance(table, tuple):
            head, rows = table
        else:
            head, rows = list(table[0]), [list(row.values()) for row in table]
        with (folder / f"{name}.csv").open("w", newline="", encoding=style.encoding) as file:
            lines = csv.writer(file, delimiter=style.delimiter)
            lines.writerows([head, *([style.cell(value) for value in row] for row in rows)])


def taken_in(
    at: Path, tables: Mapping[str, Records | Headed], style: Style = PLAIN
) -> tuple[Path, dict[str, Any]]:
    """The case that a folder of tables was taken into, and the screens that stand in its plan, by name."""
    write_folder(at / "in", tables, style)
    inside("open", "case", cwd=at)
    found = inside_json("intake", "../in", "--yes", cwd=at / "case")
    return at / "case", {screen["name"]: screen for screen in found["screens"]}


def asked_for(case: Path) -> dict[str, list[dict[str, Any]]]:
    """The exceptions of each screen of the programme once it has run, by its name."""
    inside("screen", cwd=case)
    found: dict[str, list[dict[str, Any]]] = {}
    for item in inside_json("queue", "--top", "300", cwd=case):
        for name in {mark["screen"] for mark in item["marks"]}:
            found.setdefault(name, []).append(item)
    return found
