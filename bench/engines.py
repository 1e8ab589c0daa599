"""A case's programme on both engines, figure by figure: python bench/engines.py CASE_FOLDER

Each screen of the plan is performed on the embedded engine and on Spark in this machine (Java is needed); the
seconds of both are printed, and what differs. The suite compares every test on rows made for it; this is the
whole of a case, with a time of day, derived columns and links among its columns.
"""

from __future__ import annotations

import statistics
import sys
import time
from typing import Any

from sabueso.case.facts import with_facts
from sabueso.case.folder import Case
from sabueso.population.drill import Asked, drill
from sabueso.population.engines import EngineSettings, open_engine
from sabueso.population.population import Population
from sabueso.population.together import count_together
from sabueso.screens import find_screen


def main() -> None:
    case = Case.find(sys.argv[1])
    tables = {name: case.table(name) for name in case.plan.tables}
    engines = (
        open_engine(EngineSettings(threads=2)),
        open_engine(EngineSettings(kind="spark", master="local[2]", threads=2, memory="3GB")),
    )
    for engine in engines:
        for table in tables.values():
            engine.attach(table)
    ratios, differing = [], []
    ready = []
    for section in case.plan.screens:
        screen = find_screen(section.test)
        if not screen.drawn:
            given = with_facts(section.settings, case.plan.facts_by_name(), section.name)
            ready.append((section, screen, screen.settings.from_plan(dict(given), section.name)))
    of_each, whole = [], []
    for engine in engines:
        known: dict[Any, Any] = {}  # what the screens of a run share
        rows = [
            Population(engine, tables[section.table], settings.where, (), tables, known=known)
            for section, _, settings in ready
        ]
        start = time.monotonic()
        count_together(
            (population, counting)
            for (_, screen, settings), population in zip(ready, rows, strict=True)
            for counting in screen.counts(population, settings)
        )
        whole.append(time.monotonic() - start)
        of_each.append(rows)
    print(f"{'accounts of all screens':<50} {whole[0]:6.2f} s, Spark {whole[1]:6.2f} s")
    for place, (section, screen, settings) in enumerate(ready):
        found, seconds = [], []
        for rows in of_each:
            start = time.monotonic()
            found.append(screen.run(rows[place], settings).as_json())
            seconds.append(time.monotonic() - start)
        whole = [sum(pair) for pair in zip(whole, seconds, strict=True)]
        same = found[0] == found[1]
        differing += [] if same else [section.name]
        ratios.append(seconds[1] / seconds[0])
        print(
            f"{section.name[:50]:<50} {seconds[0]:6.2f} s, Spark {seconds[1]:6.2f} s, {'equal' if same else 'DIFFERS'}",
            flush=True,
        )
    if {"payments", "accounts"} <= set(tables):
        asked = Asked(by=["accounts.nombre"])
        totals = [
            drill(Population(e, tables["payments"], None, (), tables), asked).total for e in engines
        ]
        if totals[0] != totals[1]:
            differing.append("payments by accounts.nombre")
    print(
        f"in all {whole[0]:.1f} s, Spark {whole[1]:.1f} s; median ratio {statistics.median(ratios):.1f}; "
        f"differing: {', '.join(differing) or 'none'}"
    )
    case.close()
    for engine in engines:
        engine.close()
    raise SystemExit(1 if differing else 0)


if __name__ == "__main__":
    main()
