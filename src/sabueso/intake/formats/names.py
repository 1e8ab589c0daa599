"""Names of a file's columns as the table has them: none is taken for another, none for this program's.

Readers give the names that a file has. Here, in one place for all of them, a column gets another
name where its own is one that this program uses, and the table's spelling where it differs from
that in upper and lower case alone.
"""

from __future__ import annotations

from collections.abc import Collection, Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from sabueso.intake.interface import Batch, Layout, Reader
from sabueso.intake.settings import ReadSettings
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN

RESERVED = (FILE_COLUMN, LINE_COLUMN)


def own_names(header: Sequence[str], known: Iterable[str]) -> dict[str, str]:
    """Column of a file -> column of the table, where they differ.

    Parameters
    ----------
    header : sequence of str
        The file's columns, no two of them alike.
    known : iterable of str
        Columns that the table has already.
    """
    spelt = {name.lower(): name for name in known if name.lower() not in RESERVED}
    taken = {name.lower() for name in header}
    found: dict[str, str] = {}
    for name in header:
        if name.lower() in RESERVED:
            plain = name.strip("_")
            free = (plain, *(f"{plain} {n}" for n in range(2, len(header) + 3)))
            # What an earlier file of the table had it renamed to comes first.
            chosen = next(each for each in free if each.lower() not in taken)
            taken.add(chosen.lower())
            found[name] = spelt.get(chosen.lower(), chosen)
        elif spelt.get(name.lower(), name) != name:
            found[name] = spelt[name.lower()]
    return found


@dataclass(frozen=True)
class Named:
    """A reader whose columns have the table's names."""

    reader: Reader
    names: Mapping[str, str]

    @property
    def unit(self) -> str:
        return self.reader.unit

    def layout(self, layout: Layout) -> Layout:
        """The layout of the file under the table's names, with what is to be said of them."""
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
            notes=(*layout.notes, *notes),
        )

    def batches(
        self, path: Path, own: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        """Batches of a file, whose own layout is ``own``."""
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
