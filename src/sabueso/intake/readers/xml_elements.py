"""Elements of an XML file one after another, each let go once it is read; no entity is expanded."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Values
from sabueso.intake.readers.source import opened

SAFELY: Values = {
    "resolve_entities": False, "load_dtd": False, "no_network": True, "huge_tree": False,
    "remove_comments": True, "remove_pis": True,
}  # fmt: skip
"""Nothing is fetched and no entity expanded, however the file asks for it."""


def root_name(path: Path) -> tuple[str, str]:
    """Namespace and name of the document's root; empty where the file is no XML."""
    from lxml import etree

    try:
        with opened(path) as file:
            for _, element in etree.iterparse(file, events=("start",), **SAFELY):
                name = etree.QName(element)
                return name.namespace or "", name.localname
    except (etree.XMLSyntaxError, OSError):
        pass
    return "", ""


@contextmanager
def events_of(
    path: Path, kinds: Sequence[str], tags: str | Sequence[str] | None = None
) -> Iterator[Any]:
    """What comes in a file, element by element: all, or those of some tags.

    Raises
    ------
    UserError
        If the file is no well-formed XML, or declares entities.
    """
    from lxml import etree

    if _has_entities(path):
        raise UserError(
            f"{path}: declares a document type, in which entities of its own may stand; such a file is not read"
        )
    try:
        with opened(path) as file:
            yield etree.iterparse(file, events=kinds, tag=tags, **SAFELY)
    except etree.XMLSyntaxError as error:
        reason = (error.msg or "not well-formed").split(", line")[0]
        raise UserError(
            f"{path}, line {error.lineno or 0}: {reason[:1].lower()}{reason[1:]}"
        ) from None


def _has_entities(path: Path) -> bool:
    """Whether the document declares a type of its own before its root, in which entities may stand."""
    from lxml import etree

    try:
        with opened(path) as file:
            for _, element in etree.iterparse(file, events=("start",), **SAFELY):
                return element.getroottree().docinfo.internalDTD is not None
    except etree.XMLSyntaxError:
        pass  # whoever reads on says what is wrong with it
    return False


def elements(path: Path, large: str, names: Sequence[str]) -> Iterator[tuple[str, Any]]:
    """(local name, element) of each complete element of these names, in the order they end.

    A ``large`` one is emptied after it was handed out, and what stood before it let go, so that
    memory does not grow with the file.

    Raises
    ------
    UserError
        If the file is no well-formed XML, or declares entities.
    """
    from lxml import etree

    tags = [f"{{*}}{name}" for name in (large, *names)]
    with events_of(path, ("end",), tags) as context:
        for _, element in context:
            name = etree.QName(element).localname
            yield name, element
            if name == large:
                element.clear()
                while element.getprevious() is not None:
                    del element.getparent()[0]


def value(element: Any, path: str) -> str | None:
    """The text at a path of local names, or None."""
    found = element.find("/".join(f"{{*}}{part}" for part in path.split("/")))
    text = None if found is None else (found.text or "").strip()
    return text or None
