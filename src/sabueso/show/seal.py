"""A seal, set or checked, as terminal text."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from sabueso.case.seal_file import SEAL
from sabueso.case.sealing import Checked, Sealed
from sabueso.report import numbers as num
from sabueso.show.console import next_steps, notes, said, title

LISTED = 20


def show_sealed(console: Console, done: Sealed) -> None:
    """Print what was sealed, and the hash that is to be kept elsewhere."""
    title(console, "case sealed", f"{done.at[:16].replace('T', ' ')} UTC, {done.initials}")
    console.print(
        Text(
            f" {num.many(done.files, 'file')} of the case, {num.many(done.sources, 'source file')} and "
            f"{num.many(done.events, 'event')} of the register, with its exceptions and marks"
        )
    )
    said(console, f" SHA-256 {done.digest}")
    console.print(
        Text(
            " keep this hash outside of the case: whoever could change every file here, the register and "
            f"{SEAL} could set another seal, but not one with this hash"
        )
    )
    next_steps(console, ["sabueso seal --check"])


def show_checked(console: Console, found: Checked) -> None:
    """Print whether a case is as it was sealed, and each thing that is not."""
    right = f"sealed {found.at[:16].replace('T', ' ')} UTC" if found.at else "not sealed"
    title(console, "case checked", right)
    covered = (
        f" {num.many(found.files, 'file')} of the case, {num.many(found.sources, 'source file')} and "
        f"{num.many(found.events, 'event')} of the register"
    )
    if found.digest:
        said(console, f" SHA-256 {found.digest}")
    if not found.faults:
        by = "as they were sealed" if found.sealed else "as the register has them"
        console.print(Text(f"{covered} are {by}"))
        if not found.sealed:
            console.print(
                Text(
                    " without a seal the plan and the papers are not covered, nor a register whose last "
                    "events were cut off"
                )
            )
    notes(console, "found", found.faults[:LISTED])
    if len(found.faults) > LISTED:
        console.print(Text(f" and {len(found.faults) - LISTED:,} more; all with --format json"))
    notes(console, "since", (f"{each}: not covered by the seal" for each in found.since))
    next_steps(
        console, ["sabueso redo"] if found.sealed or found.faults else ["sabueso seal --as KL"]
    )
