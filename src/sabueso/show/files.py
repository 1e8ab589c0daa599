"""A finding as the file that is asked for."""

from __future__ import annotations

from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.screens.interface import Finding
from sabueso.show.export import FIGURES, finding_sheet, sheets_as
from sabueso.show.figures import draw


def finding_as(path: Path, finding: Finding, case: Case, kind: str = "plain") -> bytes:
    """A finding as the file that a path's suffix asks for: data, figure, or a page.

    Raises
    ------
    UserError
        If a figure is asked for and there is nothing to draw.
    """
    suffix = path.suffix.lower()
    content = finding.as_json()
    if suffix in FIGURES:
        picture = draw(content, suffix[1:], kind)
        if picture is None:
            raise UserError(f"--out {path}: there is nothing to draw")
        return picture
    if suffix == ".html":
        from sabueso.show.paper import finding_page

        return finding_page(case, content).encode()
    return sheets_as(suffix, [finding_sheet(finding)], content)
