"""What is kept from loading, because it costs time and is not used."""

from __future__ import annotations

import sys


class _WithoutPandas:
    """Lets ``import pandas`` fail in this process.

    The Arrow library imports pandas wherever it is installed, to know its frames when it meets
    them; none is ever met here, and the import costs half a second of every command.
    """

    @staticmethod
    def find_spec(name: str, path: object = None, target: object = None) -> None:
        if name == "pandas":
            raise ImportError("pandas is not used by this program")
        if name == "scipy":
            _spare_numpy()
        elif name == "scipy.special":
            _spare_docstrings()


def _spare_numpy() -> None:
    """Keep SciPy from loading all of NumPy: it clones whatever NumPy lists, and so imports a Fortran
    parser, a test framework and masked arrays, a tenth of a second that nothing here uses."""
    import numpy

    unused = {"f2py", "testing", "ma", "typing", "polynomial", "ctypeslib"}
    listed = getattr(numpy, "__dir__", None)
    if listed is not None:
        names = [name for name in listed() if name not in unused]
        vars(numpy)["__dir__"] = lambda: names
    numpy.__all__ = [name for name in numpy.__all__ if name not in unused]


def _spare_docstrings() -> None:
    """Keep SciPy from parsing the docstring of each special function to add a table to it, which
    takes as long as loading the functions does."""
    from scipy._lib import _array_api

    if hasattr(_array_api, "FunctionDoc"):
        _array_api.FunctionDoc = _AsItIs


class _AsItIs:
    """A docstring that what is added to does not change."""

    def __init__(self, function: object) -> None:
        self._text = getattr(function, "__doc__", None) or ""

    def __getitem__(self, section: str) -> list[str]:
        return []

    def __str__(self) -> str:
        # The first line is the signature, which the caller cuts off.
        return f"\n{self._text}"


_FINDER = _WithoutPandas()


def leave_pandas_out() -> None:
    """From here on pandas cannot be imported."""
    if _FINDER not in sys.meta_path:
        sys.meta_path.insert(0, _FINDER)


def let_pandas_in() -> None:
    """For a library that refuses to start without it."""
    if _FINDER in sys.meta_path:
        sys.meta_path.remove(_FINDER)
