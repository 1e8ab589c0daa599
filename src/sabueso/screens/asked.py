"""Options of a test as a command has them, whatever the columns are called."""

from __future__ import annotations

from collections.abc import Sequence

from sabueso.report.commands import shell


def asked(**options: str | Sequence[str]) -> str:
    """Options with their values, several with commas between them, as a shell passes them on.

    Examples
    --------
    >>> asked(per='"Vendor ID"', measures=["sum(amount)", "count(*)"])
    '--per "\\\\"Vendor ID\\\\"" --measures "sum(amount),count(*)"'
    """
    joined = {
        name: value if isinstance(value, str) else ",".join(value)
        for name, value in options.items()
    }
    return " ".join(f"--{name.replace('_', '-')} {shell(v)}" for name, v in joined.items() if v)
