"""A table's part of the plan as text, ready to paste: how its files were read, and what its columns are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any


def section_text(
    table: str,
    prefix: str,
    sources: Sequence[str],
    read: Mapping[str, Any],
    roles: Mapping[str, str],
) -> str:
    """The lines of ``case.toml`` for a table.

    Examples
    --------
    >>> print(section_text("bank", "BAN", ["bank.csv"], {"decimal": ","}, {"amount": "importe"}))
    [tables.bank]
    prefix = "BAN"
    sources = ["bank.csv"]
    read = {decimal = ","}
    roles = {amount = "importe"}
    """
    import tomlkit

    section = tomlkit.table()
    section.add("prefix", prefix)
    section.add("sources", list(sources))
    for name, values in (("read", read), ("roles", roles)):
        if values:
            inline = tomlkit.inline_table()
            inline.update(dict(values))
            section.add(name, inline)
    tables = tomlkit.table(is_super_table=True)
    tables.add(table, section)
    document = tomlkit.document()
    document.add("tables", tables)
    return tomlkit.dumps(document).strip()
