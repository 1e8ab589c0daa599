"""A survey as tables of cells, for data files and for CSV on standard output."""

from __future__ import annotations

from collections.abc import Sequence

from sabueso.base.plain import Cells, Json
from sabueso.population.links import Link
from sabueso.population.pairs import Correlation
from sabueso.population.survey import ColumnSurvey, MeasureSurvey
from sabueso.report.blocks import Sheet, Suit


def table_sheets(tables: Sequence[Json], links: Sequence[Link]) -> list[Sheet]:
    """All tables, the doubts about each, and the links between them."""
    head = ["table", "rows", "columns", "first_date", "last_date", "total"]
    doubts = [[t["table"], text] for t in tables for text in t["doubts"]]
    return [
        Sheet("tables", [*head, "doubts"], [[*(t[k] for k in head), len(t["doubts"])] for t in tables]),
        Sheet("doubts", ["table", "doubt"], doubts),
        Sheet(
            "links", ["column", "other", "rows", "found", "share"],
            [[x.column, x.other, x.rows, x.found, x.share] for x in links],
        ),
    ]  # fmt: skip


def column_sheets(columns: Sequence[ColumnSurvey], suits: Sequence[Suit]) -> list[Sheet]:
    """The columns of a table, and which tests suit it."""
    head = ["column", "type", "role", "rows", "missing", "distinct", "least", "greatest"]
    rows = []
    for survey in columns:
        cells = survey.as_json()
        top = ", ".join(f"{each['value']} ({each['rows']})" for each in cells["top"])
        doubts = "; ".join(each["text"] for each in cells["doubts"])
        rows.append([*(cells[name] for name in head), top, doubts])
    return [
        Sheet("columns", [*head, "most frequent", "doubts"], rows),
        Sheet(
            "tests", ["test", "suits", "because"], [[s.test, s.verdict, s.reason] for s in suits]
        ),
    ]


def measure_sheet(surveys: Sequence[MeasureSurvey]) -> Sheet:
    """One row for each measure and group, one column for each figure."""
    header: list[str] = []
    rows = []
    for survey in surveys:
        for group in survey.as_json()["groups"]:
            cells: Cells = {"measure": survey.on}
            for name, value in group.items():
                if name == "group":
                    cells |= {f"group {label}": v for label, v in value.items()}
                elif name == "percentiles":
                    cells |= {f"p{share}": v for share, v in value.items()}
                elif name == "interval":
                    low, high = value or (None, None)
                    cells |= {"interval low": low, "interval high": high}
                else:
                    cells[name] = value
            rows.append(cells)
            header += [name for name in cells if name not in header]
    return Sheet("measures", header, [[row.get(name) for name in header] for row in rows])


def pair_sheet(found: Sequence[Correlation]) -> Sheet:
    """The correlation of every two measures."""
    groups = list(found[0].group) if found else []
    head = [*groups, "first", "second", "n", "r", "p", "p_adjusted", "rho"]
    rows = [
        [*c.group.values(), c.first, c.second, c.n, c.r, c.p, c.p_adjusted, c.rho] for c in found
    ]
    return Sheet("pairs", head, rows)
