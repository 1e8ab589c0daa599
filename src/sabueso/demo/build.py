"""Build the sample case: inbox, case, programme, run, reviews, paper."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.noting import record_note
from sabueso.case.plan_writing import (
    NewScreen,
    write_facts,
    write_links,
    write_rules,
    write_screens,
)
from sabueso.case.programme import run_programme
from sabueso.case.queue import AuditException, queue
from sabueso.case.recording import Run
from sabueso.case.reviews import Disposition, record_disposition, record_sign_off
from sabueso.case.sources import source_files
from sabueso.case.taken import TakeReport, Taking
from sabueso.case.taking import take_in
from sabueso.demo.inbox import Answer, write_inbox
from sabueso.demo.programme import FACTS, INTAKES, LINKS, NOTES, PROGRAMME, RULES
from sabueso.screens.subject import Class


@dataclass(frozen=True)
class Demo:
    """What the demo did."""

    case: Case
    taken: list[TakeReport]
    run: Run
    queue: list[AuditException]
    answers: list[Answer]
    papers: list[Path]


def build_demo(
    folder: Path, seed: int, scale: float, progress: Callable[[str, int, int], None]
) -> Demo:
    """Write the sample inbox and case into a new folder and work it from end to end.

    Raises
    ------
    UserError
        If the folder exists and is not empty, or the scale is not positive.
    """
    if not 0.05 <= scale <= 100:
        raise UserError(f"--scale {scale:g}: expected a number from 0.05 to 100")
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UserError(f"{folder} exists and is not empty; name a new folder for the sample case")
    steps = 7 + len(INTAKES) + len(PROGRAMME)
    done = 0

    def step(what: str) -> None:
        nonlocal done
        progress(what, done, steps)
        done += 1

    case = Case.create(folder, "Naviera Marisma 2024-2025", "EUR")
    answers = write_inbox(folder / "inbox", seed, scale, lambda what: step(f"writing {what}"))
    for table, (prefix, rules) in RULES.items():
        write_rules(case.plan_path, table, prefix, rules)
    taken = []
    for table, patterns in INTAKES:
        step(f"taking in {table}")
        named = [str(folder / pattern) for pattern in patterns]
        taken.append(
            take_in(case, Taking(table, source_files(case, named, table), named, initials="KL"))
        )
    taken.sort(key=lambda report: report.amount is None)  # the books first, then the masters
    write_links(case.plan_path, LINKS)
    write_facts(case.plan_path, FACTS)
    programme = [
        NewScreen(name, test, table, settings, purpose)
        for name, test, table, purpose, settings in PROGRAMME
    ]
    write_screens(case.plan_path, programme)
    case.changed()
    run = run_programme(
        case, initials="KL", progress=lambda name, _i, _n: step(f"screening {name}")
    )
    step("reviewing")
    _review(case, answers)
    step("writing the paper")
    from sabueso.show.paper import write_paper

    papers = write_paper(case)
    return Demo(case, taken, run, queue(case), answers, papers)


def _review(case: Case, answers: list[Answer]) -> None:
    """The sample reviews: what a good reviewer would record with the documents at hand."""
    every = queue(case)

    def of(table: str, *keys: str) -> list[str]:
        return [
            item.id
            for item in every
            if item.table == table and any(subject_key(item) == key for key in keys)
        ]

    def keys(kind: str, note: str = "") -> list[str]:
        return [a.key for a in answers if a.kind == kind and note in a.note]

    contract = case.folder / "inbox" / "evidence" / "contract-VR-2024-03.txt"
    cleared: tuple[tuple[list[str], str, list[Path]], ...] = (
        (of("payments", *keys("innocent", "overhaul")),
         "dry-dock overhaul, contract VR-2024-03 and board minute 2024/17 seen", [contract]),
        (of("payments", *keys("innocent", "premium")),
         "one-off liability premium, policy seen, insurer confirmed", []),
        (of("journal", "62130", "70530"),
         "route to Los Carrizos opened in March 2025: there is no prior period", []),
        (of("journal", "62230"), "2024 holds the dry-dock overhaul of the Págalo, cleared there", []),
        (of("journal", "62520"), "the one-off liability premium of March 2025, cleared there", []),
    )  # fmt: skip
    signed: list[str] = []
    for ids, reason, evidence in cleared:
        if ids:
            record_disposition(case, ids, "KL", Disposition("cleared", reason, None, evidence))
            signed += ids
    mistyped = of("payments", *keys("12"))
    if mistyped:
        record_disposition(
            case,
            mistyped,
            "KL",
            Disposition("error", "amount mistyped by a factor of 100; invoice seen"),
        )
    split = of("payments", "first-two 48", "first-two 49")
    if split:
        record_disposition(
            case,
            split,
            "KL",
            Disposition(
                "referred", "invoices split under the approval limit; to the audit committee"
            ),
        )
    if signed:
        record_sign_off(case, signed, "MR")
    for subject, kind, text in NOTES:
        record_note(case, subject, kind, text, "KL")


def subject_key(item: AuditException) -> str:
    """A subject as the answer key names it: an id, an account, an employee, or a digit class."""
    if isinstance(item.subject, Class):
        return item.label.split(" · ")[0]
    for name in ("pago", "cuenta", "empleado", "asiento"):
        if name in item.key:
            return str(item.key[name])
    return ""
