"""Chances as text and bars, in tables and pictures."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from roundgate.api.loot import OddsTable

_WIDTH = 16
"""Signs of a bar."""


def title_of(table: OddsTable) -> str:
    """Describe what a table is about."""
    if not table.record:
        return f"{table.loot}: all that is there after a restart"
    return f"{table.record}, opened once" + (f" ({table.at_once} there at a time)" if table.at_once > 1 else "")


def bar(chance: float) -> str:
    """Draw a chance as a bar of blocks."""
    eighths = round(chance * _WIDTH * 8)
    full, rest = divmod(eighths, 8)
    return "█" * full + ("▏▎▍▌▋▊▉"[rest - 1] if rest else "")
