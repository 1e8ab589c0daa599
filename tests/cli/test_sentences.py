"""No sentence of a result contradicts another, nor the figures: a part of bench/calibration.py."""

from __future__ import annotations

import pytest

from calibration import TRIED, contradictions, populations, said
from sabueso.screens import find_screen


@pytest.mark.long
def test_sentences_go_together(tmp_path):
    verdicts = set()
    for kind, population in populations(9, tmp_path):
        for test, settings in TRIED:
            screen = find_screen(test)
            finding = screen.run(population, screen.settings.from_plan(settings, test))
            text = said(finding)
            assert not contradictions(finding, text), (kind, test, settings)
            if test == "digits" and finding.groups and not finding.by:
                verdicts.add(finding.groups[0].conformity)
    assert {"no departure shown", "nonconforming"} <= verdicts
