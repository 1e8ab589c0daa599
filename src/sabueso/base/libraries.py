"""What this program asks of the libraries it loads."""

from __future__ import annotations

import os
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


_FINDER = _WithoutPandas()


def leave_pandas_out() -> None:
    """From here on pandas cannot be imported."""
    if _FINDER not in sys.meta_path:
        sys.meta_path.insert(0, _FINDER)


def let_pandas_in() -> None:
    """For a library that refuses to start without it."""
    if _FINDER in sys.meta_path:
        sys.meta_path.remove(_FINDER)


def use_one_thread_for_algebra() -> None:
    """Matrices are few columns wide here: threads for them cost a tenth of a second of each command,
    and the order in which they add is then the machine's. To be called before NumPy is loaded."""
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
