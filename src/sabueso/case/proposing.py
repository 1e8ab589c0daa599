"""What a folder of files may become: tables, told by their columns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.found_files import Found, Kind, found_files, key_of
from sabueso.case.plan_parts import TableSection
from sabueso.case.proposed_programme import Proposed as Screened
from sabueso.case.renamed import kinds_held, kinds_of, renamed
from sabueso.case.shared_codes import shared_codes
from sabueso.case.table_names import free_name, named_after, named_after_sheet
from sabueso.case.taken import TakeReport
from sabueso.intake.formats.called import folded
from sabueso.intake.formats.names import said_names
from sabueso.population.links import Link
from sabueso.population.table import HEADING


@dataclass(frozen=True)
class Proposed:
    """Files with the same columns, and the table that they may become; ``known`` where the case has
    it already, ``says_currency`` where the first of them says one. ``sheet`` is that of a workbook whose
    longest sheet is another table, ``names`` the columns that later files call otherwise, with what the table calls them,
    ``types`` the columns that are not read as their values alone would be."""

    table: str
    files: tuple[Path, ...]
    columns: tuple[str, ...]
    known: bool = False
    says_currency: bool = False
    sheet: str = ""
    names: Mapping[str, str] = field(default_factory=dict)
    types: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Alike:
    """A table whose files are called as those of another are, and have most of its columns; ``beside`` are
    those that one has and the other has not."""

    table: str
    other: str
    beside: tuple[str, ...]


@dataclass(frozen=True)
class Proposal:
    """What a folder holds, and what no reader takes, with the reason."""

    tables: list[Proposed]
    unread: list[tuple[Path, str]]
    alike: list[Alike] = field(default_factory=list)


@dataclass(frozen=True)
class Worked:
    """What became of a proposal: tables taken in, those refused with the reason, the links found, and the
    screens that were written to a plan without any."""

    proposal: Proposal
    taken: list[TakeReport] = field(default_factory=list)
    refused: list[tuple[str, str]] = field(default_factory=list)
    links: list[Link] = field(default_factory=list)
    kept: frozenset[tuple[str, str]] = frozenset()
    screens: list[Screened] = field(default_factory=list)
    done: bool = False


def propose(case: Case, paths: Sequence[str]) -> Proposal:
    """Tables that files may become: those with the same columns are one.

    Raises
    ------
    UserError
        If a path names nothing, or nothing in it can be read.
    """
    read = found_files(case, paths)
    if not read.groups:
        given = ", ".join(paths)
        if not read.unread:
            raise UserError(f"{given}: holds no file to read")
        path, reason = read.unread[0]
        if len(read.unread) == 1 and Path(given).name == path.name:
            raise UserError(f"{given}: {reason}")
        raise UserError(f"{given}: no file of it can be read: {path.name}: {reason}")
    tables = _Tables(case, read)
    # Of tables called alike the one of most files has the name.
    for kind, found in sorted(read.groups.items(), key=lambda group: -len(group[1])):
        tables.add(kind, tuple(path for path, _, _ in found), *found[0][1:])
    proposed = sorted(tables.proposed, key=lambda each: each.table)
    return Proposal(proposed, read.unread, tables.alike)


class _Tables:
    """Tables that groups of files go to, one group after another."""

    def __init__(self, case: Case, read: Found) -> None:
        self._plan, self._read = case.plan.tables, read
        self._types = shared_codes(read.layouts)
        held = {name: source for name in case.plan.tables for source in case.sources(name)[-1:]}
        self._held = {name: source.columns for name, source in held.items()}
        self._columns: dict[str, Sequence[str]] = {
            name: [c.name for c in columns if not c.is_place]
            for name, columns in self._held.items()
        }
        self._known = {
            Kind(key_of(columns), self._plan[name].read.sheet or ""): name
            for name, columns in self._columns.items()
        }
        # What the plan says of a table before its first file, such as rates, is said of the files that are called so.
        self._taken = {name.lower() for name in self._held}
        self.proposed: list[Proposed] = []
        self.alike: list[Alike] = []

    def add(self, kind: Kind, files: tuple[Path, ...], header: tuple[str, ...], root: Path) -> None:
        """Find the table of some files: one that the case has, one of other files, or one of their own."""
        says, of_book = kind in self._read.saying, self._read.sheets.get(files[0], "")
        name = self._known.get(kind) or self._known.get(Kind(kind.columns, of_book))
        if name is None and not kind.sheet:
            name = self._made_of(header) or self._called_so(header)
        if name is not None:
            self._put(Proposed(name, files, header, True, says, kind.sheet))
            return
        sheet = kind.sheet or (of_book if len(files) == 1 else "")
        wanted = named_after_sheet(sheet) or named_after(files, root)
        if not sheet and (there := self._under_other_names(wanted, kind)) is not None:
            self._put(replace(there, files=files, says_currency=says))
            return
        name = free_name(wanted, self._taken)
        self._taken.add(name.lower())
        if name != wanted and wanted in self._columns:
            beside = _beside(header, self._columns[wanted])
            self.alike += [Alike(name, wanted, beside)] if beside else []
        self._columns[name] = header
        types = self._types.get(kind, {})
        self._put(Proposed(name, files, header, False, says, kind.sheet, types=types))

    def _put(self, new: Proposed) -> None:
        """Add files to a table, beside those that go there already."""
        for place, each in enumerate(self.proposed):
            if (each.table, each.sheet, new.sheet) == (new.table, "", ""):
                self.proposed[place] = replace(
                    each, files=tuple(sorted((*each.files, *new.files))), names={**each.names, **new.names},
                    says_currency=each.says_currency or new.says_currency,
                )  # fmt: skip
                return
        self.proposed.append(new)

    def _under_other_names(self, wanted: str, kind: Kind) -> Proposed | None:
        """The table of that name, new or not, that has the columns of a file under other names, with these."""
        mine, said = kinds_of(self._read.layouts[kind]), dict[str, str]()
        there = next((t for t in self.proposed if t.table == wanted and not t.sheet), None)
        if wanted in self._held:
            theirs, said = kinds_held(self._held[wanted]), dict(self._plan[wanted].read.names)
        elif there is not None:
            theirs, said = (
                kinds_of(self._read.layouts[Kind(key_of(there.columns))]),
                dict(there.names),
            )
        else:
            return None
        names = renamed(mine, theirs)
        if names is None or any(said.get(name, other) != other for name, other in names.items()):
            return None
        columns = tuple(self._columns[wanted])
        return Proposed(wanted, (), columns, wanted in self._held, names={**said, **names})

    def _called_so(self, header: Sequence[str]) -> str | None:
        """The table that has a file's columns under the names that its plan says."""
        for kind, name in self._known.items():
            said = said_names(header, self._plan[name].read.names)
            if said and not kind.sheet and key_of([said.get(c, c) for c in header]) == kind.columns:
                return name
        return None

    def _made_of(self, header: Sequence[str]) -> str | None:
        """The table that has a file's columns and, beside them, none but those that intake made of such columns."""
        mine = set(key_of(header))
        for name in self._held:
            columns = self._columns[name]
            beside = [c for c in columns if key_of([c])[0] not in mine]
            made = [c for c in beside if _made_by(self._plan[name], c)]
            if beside and len(made) == len(beside) and len(columns) - len(beside) == len(mine):
                return name
        return None


def _made_by(table: TableSection, name: str) -> bool:
    """Whether intake makes a column of that name for a table: the amount of a debit and a credit, or by rates, the period
    of a file's name, what stands in lines above the rows."""
    if name == HEADING:
        return True
    if name == "period":
        return bool(table.read.period or table.read.months or table.roles.get("date") == name)
    sides = {"debit", "credit"} <= table.roles.keys()
    return name == table.roles.get("amount") and (sides or bool(table.read.rates))


MOSTLY_ALIKE = 0.5
"""Share of the columns of two tables from which those that both have make them alike."""


def _beside(one: Sequence[str], other: Sequence[str]) -> tuple[str, ...]:
    """The columns that one of two tables lacks; none where both have too few of the same to be alike."""
    mine, its = key_of(one), key_of(other)
    every = {folded(name) or name: name for name in (*other, *one)}
    beside = tuple(name for key, name in every.items() if key not in mine or key not in its)
    return beside if len(beside) <= (1 - MOSTLY_ALIKE) * len(every) else ()
