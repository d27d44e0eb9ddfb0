"""TOML, and what is wrong in it, before anybody asks what it means: site files and rulebooks alike."""

from __future__ import annotations

import re
from typing import Any

from roundgate.core.findings import Finding, Place
from roundgate.core.patterns import lazy

_TOML_PLACE = lazy(r"\(at line (\d+), column (\d+)\)|\(at end of document\)")


class RulebookProblem(ValueError):
    """A rulebook that cannot be used; ``findings`` say where and why."""

    def __init__(self, findings: list[Finding]) -> None:
        """Keep the findings; the first one is the message."""
        super().__init__(findings[0].cause)
        self.findings = findings


def parse_toml(file: str, source: str) -> dict[str, Any]:
    """Read TOML. Raises RulebookProblem with the place where the reader gave up."""
    import tomllib  # a rulebook in the cache needs no reader

    try:
        return tomllib.loads(source)
    except (ValueError, RecursionError) as error:
        match = _TOML_PLACE.search(str(error))
        lines = source.split("\n")
        line = int(match[1]) if match and match[1] else len(lines)
        column = int(match[2]) if match and match[2] else 1
        cause = _TOML_PLACE.sub("", str(error)).strip()
        place = Place(file, line, column, 1, lines[line - 1].rstrip("\r"))
        do = "Fix the line; a text value is in double quotes, and a name with a dot in it too."
        raise RulebookProblem(
            [Finding("rulebook-syntax", "error", place, f"This is not TOML: {cause}.", do)]
        ) from error


def place_in_toml(source: str, path: tuple[str, ...]) -> tuple[int, int, str]:
    """Return line, column and text of the line where a path stands in a TOML text, or of its nearest parent."""
    lines = source.split("\n")
    start, depth = 0, 0
    for number, line in enumerate(lines):
        header = re.match(r"\s*\[\[?(.+?)\]\]?\s*(?:#.*)?$", line)
        steps = (
            tuple(part.strip("\"'") for part in re.findall(r"\"[^\"]*\"|'[^']*'|[^.\s]+", header[1])) if header else ()
        )
        if header and steps == path[: len(steps)] and len(steps) > depth:
            start, depth = number, len(steps)
    wanted = path[depth] if depth < len(path) else ""
    for number in range(start + (1 if depth else 0), len(lines)):
        if depth and re.match(r"\s*\[", lines[number]):
            break
        match = re.match(rf"(\s*)[\"']?{re.escape(wanted)}[\"']?\s*=", lines[number]) if wanted else None
        if match:
            return number + 1, len(match[1]) + 1, lines[number].rstrip("\r")
    return start + 1, 1, lines[start].rstrip("\r")
