"""Paths as people write them: ``officers[0].rank``, ``weather."gusts.strength"``; numbers count from 0, as files do."""

from __future__ import annotations

from roundgate.core.formats.protocol import Path
from roundgate.core.patterns import lazy

_STEP = lazy(r'\.?(?:\[(?P<number>[0-9]+)\]|(?P<quoted>"(?:[^"\\]|\\.)*")|(?P<plain>[^.\[\]"]+))')
_PLAIN = lazy(r'[^.\[\]"\s]+')


def parse_path(typed: str) -> Path:
    """Read a path. What cannot be one is taken as a single name."""
    path: list[str | int] = []
    at = 0
    while at < len(typed):
        step = _STEP.match(typed, at)
        if step is None or (at == 0 and typed[0] == "."):
            return (typed,)
        at = step.end()
        path.append(int(step["number"]) if step["number"] else _name(step["quoted"], step["plain"]))
    return tuple(path)


def _name(quoted: str | None, plain: str | None) -> str:
    if quoted is None:
        return plain or ""
    import json  # only names in quotes need it, and every command reads paths

    try:
        return str(json.loads(quoted, strict=False))
    except ValueError:
        return quoted[1:-1]


def format_path(path: Path) -> str:
    """Write a path so that ``parse_path`` reads it again."""
    text = ""
    for step in path:
        if isinstance(step, int):
            text += f"[{step}]"
        else:
            text += ("." if text else "") + (step if _PLAIN.fullmatch(step) else _quoted(step))
    return text


def _quoted(step: str) -> str:
    import json

    return json.dumps(step, ensure_ascii=False)
