"""How much of what is planted stands among the first exceptions: python bench/recall.py [--seeds 1,2,3] [--world second|third]

The sample world is made anew for each seed, its inbox taken in, and the programme is the one that
survey --propose makes: nothing is set by hand. A planted subject counts as found when an exception is
about its entity (an entity, or a class that is somebody's, most of whose rows are planted), or covers
fewer than 200 rows of which a tenth are planted. Printed are the mean shares
by kind among the first 50, 100 and 200, and the innocents there.
"""

from __future__ import annotations

import argparse
import csv
import subprocess
import sys
import tempfile
from collections import defaultdict
from collections.abc import Callable
from pathlib import Path

import tomlkit

import second_world
import third_world
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException, queue
from sabueso.population.drill import rows as drill_rows

MOST_ROWS, PART, MOST_OF_ENTITY, MOSTLY = 200, 0.1, 5_000, 0.5
PLACES = (50, 100, 200)


def run(case: Path, *command: str) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "sabueso", *command],
        cwd=case,
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode not in (0, 2):
        raise SystemExit(f"{command}: {done.stderr}")


def world(folder: Path, seed: int, capacity: str, scale: str) -> tuple[Path, list[dict[str, str]]]:
    """A case of the sample's files under a seed, with the programme that is proposed, and its answers."""
    case = folder / "made"
    run(folder, "demo", str(case), "--seed", str(seed), "--scale", scale)
    with (case / "inbox" / "answers.csv").open(encoding="utf-8") as handle:
        answers = list(csv.DictReader(handle))
    plan = tomlkit.parse((case / "case.toml").read_text(encoding="utf-8"))
    del plan["screens"]
    (case / "case.toml").write_text(tomlkit.dumps(plan), encoding="utf-8")
    run(case, "survey", "--propose", "--keep", "--capacity", capacity)
    run(case, "screen", "--as", "XX")
    return case, answers


def second(folder: Path, seed: int, capacity: str) -> tuple[Path, list[dict[str, str]]]:
    """The same of the clinics: taken in as a folder, with nothing told but the facts of the plan."""
    second_world.write(folder / "inbox", seed)
    return _taken_in(folder, capacity, second_world.FACTS)


def third(folder: Path, seed: int, capacity: str) -> tuple[Path, list[dict[str, str]]]:
    """The same of the county."""
    third_world.write(folder / "inbox", seed)
    return _taken_in(folder, capacity, third_world.FACTS)


def _taken_in(folder: Path, capacity: str, facts: str) -> tuple[Path, list[dict[str, str]]]:
    run(folder, "open", "case")
    case = folder / "case"
    with (case / "case.toml").open("a", encoding="utf-8") as plan:
        plan.write(facts)
    run(case, "intake", "../inbox", "--yes")
    plan_ = tomlkit.parse((case / "case.toml").read_text(encoding="utf-8"))
    del plan_["screens"]
    (case / "case.toml").write_text(tomlkit.dumps(plan_), encoding="utf-8")
    run(case, "survey", "--propose", "--keep", "--capacity", capacity)
    run(case, "screen", "--as", "XX")
    with (folder / "answers.csv").open(encoding="utf-8") as handle:
        return case, list(csv.DictReader(handle))


WORLDS: dict[str, Callable[..., tuple[Path, list[dict[str, str]]]]] = {
    "first": world,
    "second": second,
    "third": third,
}


def found_in(
    case: Case, answers: list[dict[str, str]], items: list[AuditException]
) -> list[set[int]]:
    """For each exception the answers that it finds."""
    by_table: dict[str, dict[str, int]] = defaultdict(dict)
    for number, answer in enumerate(answers):
        by_table[answer["table"]][answer["key"]] = number
    told = []
    with case.populations(*{item.table for item in items}) as opened:
        for item in items:
            own = by_table.get(item.table, {})
            hits = {own[str(v)] for v in item.key.values() if str(v) in own}
            rows = drill_rows(opened(item.table, item.selector), limit=MOST_OF_ENTITY).rows
            about = item.kind in ("entity", "class")
            if about and len(rows) > MOST_ROWS:
                planted = [{own[str(v)] for v in row.values() if str(v) in own} for row in rows]
                if sum(map(bool, planted)) >= MOSTLY * len(rows):
                    hits = hits.union(*planted)
            elif 0 < len(rows) <= MOST_ROWS:
                planted = [{own[str(v)] for v in row.values() if str(v) in own} for row in rows]
                if sum(map(bool, planted)) >= PART * len(rows):
                    hits = hits.union(*planted)
            told.append(hits)
    return told


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seeds", default="1,2,3")
    parser.add_argument("--capacity", default="300")
    parser.add_argument("--scale", default="1", help="of the first world: 1 is 36,000 payments")
    parser.add_argument("--world", choices=tuple(WORLDS), default="first")
    parser.add_argument("--list", action="store_true", help="print the queue with what it finds")
    args = parser.parse_args()
    shares: dict[str, dict[int, list[float]]] = defaultdict(lambda: defaultdict(list))
    innocents: dict[int, list[int]] = defaultdict(list)
    for seed in args.seeds.split(","):
        with tempfile.TemporaryDirectory(prefix="recall") as place:
            sized = (args.scale,) if args.world == "first" else ()
            folder, answers = WORLDS[args.world](Path(place), int(seed), args.capacity, *sized)
            with Case(folder) as case:
                items = queue(case)[: PLACES[-1]]
                told = found_in(case, answers, items)
                listed = [
                    (item.place, item.label, " + ".join(m.screen for m in item.marks))
                    for item in items
                ]
            for place_ in PLACES:
                seen = set().union(*told[:place_]) if told else set()
                kinds: dict[str, list[bool]] = defaultdict(list)
                for number, answer in enumerate(answers):
                    kinds[answer["kind"]].append(number in seen)
                innocents[place_].append(
                    sum(
                        any(answers[n]["kind"] == "innocent" for n in hits)
                        and all(answers[n]["kind"] == "innocent" for n in hits)
                        for hits in told[:place_]
                    )
                )
                for kind, hits in kinds.items():
                    if kind != "innocent":
                        shares[kind][place_].append(sum(hits) / len(hits))
            print(f"seed {seed}: {len(items)} exceptions of the first {PLACES[-1]}", flush=True)
            if args.list:
                for (at, label, marks), hits in zip(listed, told, strict=True):
                    kinds_ = ",".join(sorted({answers[n]["kind"] for n in hits}))
                    print(f"{at:>4} {label[:44]:<44} {marks[:60]:<60} {kinds_}")
    print("kind " + "".join(f"{f'first {p}':>11}" for p in PLACES))
    for kind in sorted(shares, key=lambda k: (len(k), k)):
        row = [sum(shares[kind][p]) / len(shares[kind][p]) for p in PLACES]
        print(f"{kind:<5}" + "".join(f"{share:>11.0%}" for share in row))
    means = [
        sum(sum(s[p]) / len(s[p]) for s in shares.values()) / max(len(shares), 1) for p in PLACES
    ]
    print("mean " + "".join(f"{share:>11.0%}" for share in means))
    print(
        "innocents "
        + ", ".join(f"{sum(innocents[p]) / len(innocents[p]):.1f} of {p}" for p in PLACES)
    )


if __name__ == "__main__":
    main()
