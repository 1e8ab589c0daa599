"""How much of what is planted stands among the first exceptions: python bench/recall.py [--seeds 1,2,3]

The sample world is made anew for each seed, its inbox taken in, and the programme is the one that
survey --propose makes: nothing is set by hand. A planted subject counts as found when an exception is
about its entity, or covers fewer than 200 rows of which a tenth are planted. Printed are the mean shares
by kind among the first 50, 100 and 200, and the innocents there.
"""

from __future__ import annotations

import argparse
import csv
import json
import subprocess
import sys
import tempfile
from collections import defaultdict
from pathlib import Path
from typing import Any

MOST_ROWS, PART = 200, 0.1
PLACES = (50, 100, 200)


def run(case: Path, *command: str) -> Any:
    done = subprocess.run(
        [sys.executable, "-m", "sabueso", *command],
        cwd=case,
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode not in (0, 2):
        raise SystemExit(f"{command}: {done.stderr}")
    return done.stdout


def world(folder: Path, seed: int) -> tuple[Path, list[dict[str, str]]]:
    """A sample case of a seed without its programme, and its answers."""
    subprocess.run(
        [sys.executable, "-m", "sabueso", "demo", str(folder / "made"), "--seed", str(seed)],
        check=True, capture_output=True,
    )  # fmt: skip
    with (folder / "made" / "inbox" / "answers.csv").open(encoding="utf-8") as handle:
        answers = list(csv.DictReader(handle))
    case = folder / "made"
    plan = (case / "case.toml").read_text()
    kept, held = [], True
    for line in plan.splitlines():
        if line.startswith("["):
            held = not line.startswith("[[screens]]")
        if held:
            kept.append(line)
    (case / "case.toml").write_text("\n".join(kept) + "\n")
    return case, answers


def found_in(
    case: Path, answers: list[dict[str, str]], items: list[dict[str, Any]]
) -> list[set[int]]:
    """For each exception the answers that it finds."""
    by_table: dict[str, dict[str, int]] = defaultdict(dict)
    for number, answer in enumerate(answers):
        by_table[answer["table"]][answer["key"]] = number
    told = []
    for item in items:
        own = by_table.get(item["table"], {})
        values = {str(v) for v in item["subject"].values()}
        hits = {number for key, number in own.items() if key in values}
        if not hits or item["kind"] in ("class", "line", "cell", "cluster"):
            opened = run(case, "dig", item["id"], "--limit", str(MOST_ROWS + 1), "--format", "json")
            rows = json.loads(opened).get("rows", []) if opened else []
            if 0 < len(rows) <= MOST_ROWS:
                inside = [
                    number for row in rows
                    for number in {own[str(v)] for v in row.values() if str(v) in own}
                ]  # fmt: skip
                if len(inside) >= PART * len(rows):
                    hits |= set(inside)
        told.append(hits)
    return told


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seeds", default="1,2,3")
    parser.add_argument("--capacity", default="300")
    parser.add_argument("--list", action="store_true", help="print the queue with what it finds")
    args = parser.parse_args()
    shares: dict[str, dict[int, list[float]]] = defaultdict(lambda: defaultdict(list))
    innocents: dict[int, list[int]] = defaultdict(list)
    for seed in args.seeds.split(","):
        with tempfile.TemporaryDirectory(prefix="recall") as place:
            case, answers = world(Path(place), int(seed))
            run(case, "survey", "--propose", "--keep", "--capacity", args.capacity)
            run(case, "screen", "--as", "XX")
            items = json.loads(run(case, "queue", "--top", str(PLACES[-1]), "--format", "json"))
            told = found_in(case, answers, items)
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
                for item, hits in zip(items, told, strict=True):
                    kinds_ = sorted({answers[n]["kind"] for n in hits})
                    marks = " + ".join(m["screen"] for m in item["marks"])
                    print(
                        f"{item['place']:>4} {item['label'][:44]:<44} {marks[:60]:<60} {','.join(kinds_)}"
                    )
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
