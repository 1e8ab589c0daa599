"""Letters of pictures that the first font lacks."""

from __future__ import annotations

import pytest

from sabueso.report import canvas
from sabueso.report.canvas import drawn, one_plot

LOST = "\ue123"  # of nobody's alphabet


def test_letters_that_no_font_has_are_said(monkeypatch: pytest.MonkeyPatch) -> None:
    def of(title: str) -> canvas.Drawing:
        return one_plot(lambda axes: bool(axes.set_title(title)))

    plain, lost = drawn(of("Müller"), "svg"), drawn(of(f"Müller {LOST}"), "svg")
    assert plain is not None and lost is not None
    notes: list[str] = []
    told = canvas._drawn
    monkeypatch.setattr(
        canvas,
        "_drawn",
        lambda *given, note="": (notes.append(note), told(*given, note=note))[1],
    )
    assert drawn(of("Müller"), "svg") == plain and notes == [""]
    notes.clear()
    assert drawn(of(f"Müller {LOST}"), "svg") == lost and notes[-1] == canvas.LACKING
