"""One look at all processes of the machine, for a command that asks of many servers who runs in their folders."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

LOOKS: list[dict[str, list[Any]]] = []
"""The processes by folder, while one look serves; empty until somebody asks. No look serves where there is none."""


@contextmanager
def one_look() -> Iterator[None]:
    """Let one look at all processes serve for many servers: for commands that show, and never for one that acts."""
    LOOKS.append({})
    try:
        yield
    finally:
        LOOKS.pop()
