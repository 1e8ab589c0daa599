"""Names of a file's columns as the table has them: none is taken for another, none for this program's.

Readers give the names that a file has. Here, in one place for all of them, a column gets another
name where its own is one that this program uses, and the table's spelling where it differs from
that in capitals, accents, blanks or marks alone.
"""

from __future__ import annotations

import unicodedata
from collections import Counter
from collections.abc import Collection, Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pyarrow as pa

from sabueso.base.errors import UserError
from sabueso.intake.formats.called import worded
from sabueso.intake.formats.downward import Downward, changed
from sabueso.intake.formats.headings import Filling, Headings
from sabueso.intake.formats.page_heads import without_page_heads
from sabueso.intake.formats.year_month import periods
from sabueso.intake.interface import Assumed, Batch, Layout, Reader
from sabueso.intake.settings import ReadSettings
from sabueso.population.period_names import period_of, shared_year
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN

PERIOD = "period"
RESERVED = (FILE_COLUMN, LINE_COLUMN)


def own_names(
    header: Sequence[str], known: Iterable[str], called: Mapping[str, str] | None = None
) -> dict[str, str]:
    """Column of a file -> column of the table, where they differ.

    Parameters
    ----------
    header : sequence of str
        The file's columns, no two of them alike.
    known : iterable of str
        Columns that the table has already.
    called : mapping of str to str, optional
        Column of a file -> column of the table that it is, where the plan says so.

    Raises
    ------
    UserError
        If a file has both columns, or two that are said to be one.
    """
    said = said_names(header, called or {})
    _check_said(header, said)
    spelt = {_folded(name): name for name in known if name.lower() not in RESERVED}
    taken = {name.lower() for name in header}
    alike = Counter(_folded(name) for name in header)
    found: dict[str, str] = {}
    for name in header:
        if name in said:
            found[name] = spelt.get(_folded(said[name]), said[name])
        elif name.lower() in RESERVED:
            plain = name.strip("_")
            free = (plain, *(f"{plain} {n}" for n in range(2, len(header) + 3)))
            # What an earlier file of the table had it renamed to comes first.
            chosen = next(each for each in free if each.lower() not in taken)
            taken.add(chosen.lower())
            found[name] = spelt.get(_folded(chosen), chosen)
        elif name not in spelt.values() and alike[_folded(name)] == 1:
            other = spelt.get(_folded(name), name)
            if other != name:
                found[name] = other
    return found


def said_names(header: Sequence[str], called: Mapping[str, str]) -> dict[str, str]:
    """The columns of a file that the plan says to be columns of the table under another name."""
    targets = {_folded(name): other for name, other in called.items()}
    own = {_folded(name): name for name in header}
    return {name: targets[key] for key, name in own.items() if key in targets}


def _check_said(header: Sequence[str], said: Mapping[str, str]) -> None:
    """Refuse two columns of a file that would be one of the table."""
    became: dict[str, str] = {}
    for name in header:
        other = said.get(name, name)
        before = became.setdefault(_folded(other), name)
        if before != name and {before, name} & said.keys():
            raise UserError(
                f"{before!r} and {name!r} are both {other!r} by read.names; a column of the table is one of the file"
            )


def _folded(name: str) -> str:
    """A name without what one export writes and another does not: capitals, accents, blanks and marks."""
    plain = unicodedata.normalize("NFKD", name.casefold())
    return "".join(c for c in plain if c.isalnum()) or name.lower()


def beside_sheets(path: Path, layout: Layout) -> str:
    """What may tell the year of sheets called by a month: the file's name, those of all, and the lines above."""
    stem = path.name.partition(".")[0]
    return f"{stem} {shared_year(layout.sheets)} {layout.titled}"


def free_period(header: Sequence[str]) -> str:
    """The name of the column that periods are put into."""
    taken = {name.casefold() for name in header}
    return PERIOD if PERIOD not in taken else f"{PERIOD} of the file"


def _check_there(path: Path, layout: Layout, key: str, names: Sequence[str]) -> None:
    """Refuse columns that ``read`` names and a file does not have."""
    lacking = [name for name in names if name not in layout.sample.column_names]
    if lacking:
        raise UserError(f"{path}: read.{key} names {lacking[0]!r}, which the file does not have")


def _added(
    layout: Layout, name: str, texts: pa.Array, kinds: Mapping[str, str], note: str
) -> Layout:
    """A layout with a column that no line has; ``kinds`` are the types of columns that it settles."""
    types = {**kinds, **layout.settled.get("types", {})}
    return replace(
        layout,
        header=[*layout.header, name],
        added=(*layout.added, name),
        sample=layout.sample.append_column(name, texts),
        settled={**layout.settled, "types": types},
        notes=(*layout.notes, note),
    )


@dataclass(frozen=True)
class Named:
    """A reader whose columns have the table's names."""

    reader: Reader
    names: Mapping[str, str]
    period: str = ""
    assumed: bool = False
    """Whether it was not said that the period of rows stands in the name of their file or sheet."""
    headings: Headings | None = None
    fill: tuple[str, ...] = ()
    months: tuple[str, ...] = ()

    def _value(self, path: Path, part: str, layout: Layout) -> str:
        """The period of rows, by the name of their file or sheet.

        Raises
        ------
        UserError
            If the name tells none.
        """
        stem = path.name.partition(".")[0]
        sheet = part or layout.sheet
        of_sheet = self.period == "sheet name"
        if of_sheet and not sheet:
            raise UserError(f'{path}: has no sheets; read.period = "sheet name" is for workbooks')
        found = period_of(sheet, beside_sheets(path, layout)) if of_sheet else period_of(stem)
        if found is None:
            name = f"sheet {sheet!r}" if of_sheet else "the file's name"
            raise UserError(
                f"{path}: {name} tells no period; expected such as 2024-03, March 2024, Q1 2024 or 2024"
            )
        return found

    def _with_period(self, path: Path, layout: Layout) -> Layout:
        """A layout with the column of the period."""
        name = free_period(layout.header)
        value = self._value(path, "", layout)
        kind = (
            "date"
            if value.count("-") and value.replace("-", "").isdigit() and len(value) != 9
            else "text"
        )
        texts = pa.array([value] * layout.sample.num_rows, pa.string())
        note: str = f"{name}: by the {self.period}, such as {value}"
        if self.assumed:
            year = ""
            if self.period == "sheet name" and period_of(layout.sheet, path.stem) is None:
                year = f", and the year {value[:4]} by {'the lines above the header' if layout.titled else 'those of all'}"
            note = Assumed(
                f"{name}: by the {self.period}{year}, since the rows have amounts and no date",
                "read.period",
                (name,),
            )
        return _added(layout, name, texts, {name: kind}, note)

    @property
    def unit(self) -> str:
        return self.reader.unit

    def layout(self, path: Path, layout: Layout) -> Layout:
        """The layout of the file under the table's names, with what is to be said of them."""
        named = self._headed(layout)
        if self.fill:
            _check_there(path, named, "fill", self.fill)
            batch = Batch(np.arange(named.sample.num_rows), named.sample)
            named = replace(named, sample=Downward(self.fill).batch(batch).cells)
        if self.months:
            return self._with_months(path, named)
        return self._with_period(path, named) if self.period else named

    def _with_months(self, path: Path, layout: Layout) -> Layout:
        """A layout with the column of the month that two columns tell."""
        _check_there(path, layout, "months", self.months)
        name = free_period(layout.header)
        year, month = self.months
        note: str = f"{name}: the month by {year!r} and {month!r}"
        if self.assumed:
            fiscal = "; a fiscal year may begin in another" if "fiscal" in worded(year) else ""
            note = Assumed(f"{note}, since the rows have no date{fiscal}", "read.months")
        texts = periods(layout.sample.column(year), layout.sample.column(month))
        if len(texts) and texts.null_count == len(texts):
            raise UserError(
                f"{path}: {year!r} and {month!r}, which read.months names, tell no month; expected such as 2024 and 3, or "
                "March"
            )
        # A year and a month are no measures.
        return _added(layout, name, texts, {year: "text", month: "text", name: "date"}, note)

    def _headed(self, layout: Layout) -> Layout:
        named = self.plain(layout)
        return named if self.headings is None else self.headings.layout(named)

    def plain(self, layout: Layout) -> Layout:
        """The file's own layout under the table's names."""
        if not self.names:
            return layout
        header = [self.names.get(name, name) for name in layout.header]
        notes = [
            f"column {old!r} is called {new!r} in the table" for old, new in self.names.items()
        ]
        return replace(
            layout,
            header=header,
            sample=layout.sample.rename_columns(header),
            units={self.names.get(name, name): shown for name, shown in layout.units.items()},
            notes=(*layout.notes, *notes),
        )

    def batches(
        self, path: Path, own: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        """Batches of a file, whose own layout is ``own``."""
        given = self._batches(path, own, settings, repeated)
        if own.heads:
            given = changed(given, lambda batch: without_page_heads(batch, own.heads))
        if self.headings is not None:
            given = changed(given, Filling(self.headings).batch)
        if self.fill:
            given = changed(given, Downward(self.fill).batch)
        if self.period or self.months:
            name = free_period(self._headed(own).header)
            given = changed(given, lambda batch: self._dated(path, own, name, batch))
        yield from given

    def _dated(self, path: Path, own: Layout, name: str, batch: Batch) -> Batch:
        """A batch with the column of the period of its rows."""
        if self.months:
            texts = periods(*map(batch.cells.column, self.months))
        else:
            value = self._value(path, batch.part, own) if len(batch.lines) else ""
            texts = pa.array([value] * batch.cells.num_rows, pa.string())
        return replace(batch, cells=batch.cells.append_column(name, texts))

    def _batches(
        self, path: Path, own: Layout, settings: ReadSettings, repeated: Collection[str]
    ) -> Generator[Batch]:
        back = {new: old for old, new in self.names.items()}
        given = self.reader.batches(
            path, own, settings, [back.get(name, name) for name in repeated]
        )
        if not self.names:
            yield from given
            return
        try:
            for batch in given:
                names = [self.names.get(name, name) for name in batch.cells.column_names]
                yield replace(
                    batch,
                    cells=batch.cells.rename_columns(names),
                    damaged=[
                        replace(d, column=self.names.get(d.column, d.column)) for d in batch.damaged
                    ],
                    stated={self.names.get(k, k): v for k, v in batch.stated.items()},
                )
        finally:
            given.close()
