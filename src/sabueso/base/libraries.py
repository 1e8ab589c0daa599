"""What this program asks of the libraries it loads."""

from __future__ import annotations

import os
import sys
from importlib.machinery import ModuleSpec, PathFinder
from importlib.util import LazyLoader


class _WithoutPandas:
    """Lets ``import pandas`` fail in this process.

    The Arrow library imports pandas wherever it is installed, to know its frames when it meets
    them; none is ever met here, and the import costs half a second of every command.
    """

    @staticmethod
    def find_spec(name: str, path: object = None, target: object = None) -> None:
        if name == "pandas":
            raise ImportError("pandas is not used by this program")


class _AtFirstUse:
    """Loads parts of NumPy when they are first used, by the lazy loader of the import system.

    SciPy takes over all that NumPy offers by name, and so loads its compiler for Fortran and its
    tools for tests: a tenth of a second of every command that needs a distribution. Parts that
    threads may come to use are none of these: two at once would find one half loaded.
    """

    PARTS = frozenset(
        f"numpy.{part}" for part in ("ctypeslib", "f2py", "fft", "polynomial", "testing")
    )

    @classmethod
    def find_spec(
        cls, name: str, path: list[str] | None = None, target: object = None
    ) -> ModuleSpec | None:
        spec = PathFinder.find_spec(name, path) if name in cls.PARTS else None
        if spec is not None and spec.loader is not None:
            spec.loader = LazyLoader(spec.loader)
        return spec


def load_little() -> None:
    """From here on pandas cannot be imported, seldom used parts of NumPy load at their first use, and no package
    is asked whether it has a plug-in for models of settings."""
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    for finder in (_WithoutPandas, _AtFirstUse):
        if finder not in sys.meta_path:
            sys.meta_path.insert(0, finder)  # type: ignore[arg-type]


def let_pandas_in() -> None:
    """For a library that refuses to start without it."""
    if _WithoutPandas in sys.meta_path:
        sys.meta_path.remove(_WithoutPandas)


def use_one_thread_for_algebra() -> None:
    """Matrices are few columns wide here: threads for them cost a tenth of a second of each command,
    and the order in which they add is then the machine's. To be called before NumPy is loaded."""
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
