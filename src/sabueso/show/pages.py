"""What pages have in common: their templates, how they write figures, and the names of their files."""

from __future__ import annotations

from decimal import Decimal

import jinja2

from sabueso.base.visible import visible
from sabueso.report import numbers as num
from sabueso.report import palette


def environment() -> jinja2.Environment:
    """The templates. Texts are escaped, and what would not be seen is shown."""
    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("sabueso.show"),
        autoescape=True,
        undefined=jinja2.StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=lambda value: visible(value, "\n\t") if type(value) is str else value,
    )
    environment.globals.update(palette=palette)
    environment.filters.update(
        amount=lambda v, scale=2: num.amount(None if v is None else Decimal(str(v)), scale),
        count=num.count, p=num.p_value, number=num.number, percent=num.percent, signed=num.signed,
    )  # fmt: skip
    return environment


def file_name(name: str) -> str:
    """A name as a file's, on every system."""
    letters = "".join(c if c.isascii() and c.isalnum() else "-" for c in name.lower())
    return "-".join(part for part in letters.split("-") if part)[:60] or "named"
