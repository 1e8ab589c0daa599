"""Commands as they are printed: ready to paste, and nothing in them that a shell would run."""

from __future__ import annotations

import os
import shlex


def shell(text: str) -> str:
    """An argument that a shell passes on as it is: what a client wrote is never run."""
    if text and all(c.isalnum() or c in "_-./:,+%" for c in text):
        return text
    if os.name != "nt" and any(c in "$`\\!" for c in text):
        return shlex.quote(text)
    return '"' + text.replace('"', '\\"') + '"'
