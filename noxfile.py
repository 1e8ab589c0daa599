"""The project's tasks, in the environment at hand: nox -l lists them, nox -s lint runs one."""

from __future__ import annotations

import sys

import nox

nox.options.default_venv_backend = "none"
nox.options.sessions = ["lint", "types", "tests"]


@nox.session
def lint(session: nox.Session) -> None:
    """Style, and the form of every file."""
    session.run(sys.executable, "-m", "ruff", "check", ".", external=True)
    session.run(sys.executable, "-m", "ruff", "format", "--check", ".", external=True)


@nox.session
def types(session: nox.Session) -> None:
    """Types of the program."""
    session.run(sys.executable, "-m", "mypy", external=True)


@nox.session
def tests(session: nox.Session) -> None:
    """The test suite; arguments go to pytest."""
    session.run(sys.executable, "-m", "pytest", *session.posargs, external=True)


@nox.session
def long(session: nox.Session) -> None:
    """The tests that take long: simulations, a cluster, every command that is printed, folders and what they are proposed."""
    command = [sys.executable, "-m", "pytest", "-m", "long", *session.posargs]
    session.run(*command, external=True)


@nox.session
def hostile(session: nox.Session) -> None:
    """All hostile trials, of which the suite runs a part: half an hour and more."""
    session.run(sys.executable, "bench/torture.py", *session.posargs, external=True)


@nox.session
def options(session: nox.Session) -> None:
    """Write again what --help and completion keep of the tests' options."""
    session.run(sys.executable, "-m", "sabueso.cli.options", external=True)


@nox.session
def tour(session: nox.Session) -> None:
    """Fill the README's outputs from a new sample case in ./marisma."""
    session.run(sys.executable, "-m", "sabueso", "demo", "marisma", external=True)
    session.run(sys.executable, "docs/refresh.py", "marisma", external=True)
