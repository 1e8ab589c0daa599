"""What is shown of a finding: the default for every test, from which a room departs where it must."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import asdict, is_dataclass
from decimal import Decimal
from typing import Any, Generic, TypeVar

from sabueso.base.plain import Cells, plain
from sabueso.population.expressions import equals
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Sheet, Table
from sabueso.report.commands import shell
from sabueso.screens.finding import Finding, Flags

MOST_GROUPS, MOST_FLAGS, MOST_FIGURES = 12, 20, 6
MARKS = {"high": "▲ high", "low": "▼ low"}

R = TypeVar("R")


class View(Generic[R]):
    """A finding as blocks, a sheet, a drawing and the next commands."""

    subjects: tuple[str, str] = ("subject", "subjects")
    """What is tested, one and several."""
    foremost: frozenset[str] = frozenset()
    """Codes of cautions that must be read before any figure."""
    conforming: str = "normal data"
    """The data that ``flags_by_chance`` supposes."""
    judges_by_p = True
    """Whether that is how many flags have a p: others are flagged for what has none."""
    places: int | None = None
    """Decimal places of the figures in :meth:`figures`; those of the measure where None."""

    def __init__(self, finding: Finding[R]) -> None:
        self.finding = finding

    def headline(self) -> str:
        """How the table was tested, after its name and the measure's."""
        return self.finding.test + self.by()

    def by(self) -> str:
        return f" by {', '.join(self.finding.by)}" if self.finding.by else ""

    def blocks(self, *, whole: bool = False) -> list[Block]:
        """What was found, and what of it was flagged; ``whole`` where a reader can turn pages."""
        head, rows = group_figures([as_mapping(g) for g in self.finding.groups])
        found: list[Block] = []
        if rows:
            rest = len(self.finding.groups) - len(rows)
            columns = [Column(head[0], "flex"), *map(Column, head[1:])]
            found += [Table(columns, rows, rest=and_more(rest, "group")), Gap()]
        return [*found, *self.flagged()]

    def flagged(self) -> list[Block]:
        """What was flagged, strongest first."""
        finding = self.finding
        if not len(finding.flags):
            return [Line("nothing is flagged")]
        columns = [
            Column("subject", "flex"), Column(finding.heading), Column("score"), Column("adj. p"),
            Column("", "left"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                finding.flags.named(flag).short(),
                num.amount(flag.get("amount"), finding.scale),
                figure(flag.get("score")),
                num.p_value(flag.get("p_adjusted")),
                Marked(f"▲ {flag.get('direction') or 'flagged'}"),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        """Why one of the flags is one, in a sentence with its figures; empty where the table of the
        flags tells all that there is."""
        return ""

    def is_told_by_peers(self, columns: Collection[str]) -> bool:
        """Whether what is told of a row's peers by these columns says all that the test does."""
        return False

    def figures(self, group: Any) -> dict[str, float | None]:
        """Figures of a group that are compared with and without the rows set aside."""
        return {}

    def sheet(self) -> Sheet:
        """The table of the finding in a data file: its flags."""
        return flags_sheet(self.finding.flags)

    def steps(self, where: str | None) -> list[str]:
        """The commands to look behind what was flagged."""
        flag = next(self.finding.flags.rows(1), None)
        if flag is None:
            return []
        # The rows that the flag names, else the group it was judged in, else the subject itself.
        selects = flag.get("selects")
        if selects is None:
            clients = self.finding.flags.named(flag).clients()
            opened = next(iter((flag.get("group") or clients).items()), None)
            if opened is None:
                return []
            name, value = opened
            selects = equals(name, value, self.finding.columns)
        return [f"sabueso dig {self.finding.source} --where {shell(selects)} --rows"]

    def asked_for(self) -> str:
        """How much was flagged of how much, where no hypothesis is tested."""
        looked_at = num.many(self.finding.looked_at, *self.subjects)
        return f"{len(self.finding.flags):,} of {looked_at}"

    def untested(self) -> str:
        """What was flagged, where no hypothesis is tested."""
        return f"flagged {self.asked_for()}, by what was asked for: no hypothesis is tested"

    def name(self) -> str:
        """What the screen may be called in the programme."""
        return f"{self.finding.test} of {self.finding.source}{self.by().replace(', ', ' and ')}"

    def drawing(self, kind: str = "plain") -> Drawing | None:
        """The figure, of those that the test has; None where there is nothing to draw."""
        from sabueso.screens.flags_figure import flags_drawing

        return flags_drawing(self.finding, f"{self.finding.source} · {self.headline()}")


def as_mapping(group: Any) -> Mapping[str, Any]:
    """A group as its figures by name, whatever its type."""
    if is_dataclass(group) and not isinstance(group, type):
        return asdict(group)
    found: Mapping[str, Any] = group
    return found


def and_more(rest: int, word: str, after: str = "") -> str:
    """``… and 3 groups more``; empty where there are none."""
    return f"… and {num.many(rest, word)} more{after}" if rest > 0 else ""


def more_flags(flags: Flags, shown: int = MOST_FLAGS) -> str:
    """How many flags are not shown, and where they are."""
    rest = len(flags) - shown
    return f"… and {rest:,} more; all of them with --out FILE.csv" if rest > 0 else ""


def flags_sheet(flags: Flags) -> Sheet:
    """Every flag with all its columns."""
    header: list[str] = []
    flat = []
    for flag in flags.rows():
        row: Cells = {}
        for name, value in flag.items():
            if isinstance(value, dict):
                for key, each in value.items():
                    # A client's column may be called as one of this program's is.
                    known = key if name in ("subject", "context", "group") else f"{name} {key}"
                    row[known if known not in (*row, *flag) else f"{name} {key}"] = each
            else:
                row[name] = value
        flat.append(row)
        header = header or list(row)
    return Sheet("flags", header, [[row.get(name) for name in header] for row in flat])


def group_figures(groups: Sequence[Mapping[str, Any]]) -> tuple[list[str], list[list[str]]]:
    """The single figures of the groups with most flags, under the names that the test gave them."""
    chosen = sorted(groups, key=lambda g: -(g.get("flagged") or 0))[:MOST_GROUPS]
    names = [
        name
        for name, value in (chosen[0].items() if chosen else ())
        if name != "group" and _is_figure(value)
    ][:MOST_FIGURES]
    if not names:
        return ["group"], []
    rows = [
        [num.group_name(g.get("group") or {}), *(figure(g.get(name)) for name in names)]
        for g in chosen
    ]
    return ["group", *names], rows


def _is_figure(value: Any) -> bool:
    return isinstance(plain(value), (int, float, str)) or value is None


def figure(value: Any) -> str:
    """A figure of whatever kind as text."""
    if isinstance(value, Decimal):
        return num.amount(value)
    shown = plain(value)
    if isinstance(shown, (bool, str)):
        return str(shown)
    if isinstance(shown, int):
        return num.count(shown)
    return num.number(shown)


def cell_text(value: Any, width: int = 40) -> str:
    """What helps to recognise a row, on one line and no longer than there is room for."""
    text = "–" if value is None else " ".join(str(value).split())
    return text if len(text) <= width else text[: width - 1] + "…"
