"""Drill-down: totals by group, narrower groups within, any column across, and the rows themselves."""

from sabueso.population.drill.drilling import Asked, Drill, Node, Others, drill
from sabueso.population.drill.measures import MEASURES, SHARE, Figure, Measure
from sabueso.population.drill.recorded import drill_json, read_drill
from sabueso.population.drill.rows import Rows, first_rows, rows

__all__ = [
    "MEASURES",
    "SHARE",
    "Asked",
    "Drill",
    "Figure",
    "Measure",
    "Node",
    "Others",
    "Rows",
    "drill",
    "drill_json",
    "first_rows",
    "read_drill",
    "rows",
]
