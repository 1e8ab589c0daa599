"""The examples of modules without a table: they say what they do."""

from __future__ import annotations

import doctest
from importlib import import_module

import pytest

MODULES = [
    "base.currencies",
    "intake.formats.currencies",
    "stats.alike",
    "stats.change",
    "stats.silence",
    "stats.bursts",
]


@pytest.mark.parametrize("name", MODULES)
def test_examples_are_true(name: str) -> None:
    found = doctest.testmod(import_module(f"sabueso.{name}"))
    assert found.attempted and not found.failed
