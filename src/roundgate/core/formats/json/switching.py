"""Switching a name of a JSON file off by commenting its lines out, and on again, where the dialect has comments."""

from __future__ import annotations

import json
import re

from roundgate.core.formats.json.reader import JsonError, decoded, strict_form
from roundgate.core.formats.json.spans import Child, JsonReading
from roundgate.core.formats.protocol import Dialect, Edit, EditRefused, Path
from roundgate.core.formats.shared import trees
from roundgate.core.formats.shared.commented_out import Uncommented, commented, uncommented
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice, line_start

_OFF = lazy(r'^[ \t]*//[ \t]?(?P<key>"(?:[^"\\\r\n]|\\.)*")[ \t]*:', re.MULTILINE)
_REST = lazy(r"[ \t]*,?[ \t]*(?://[^\r\n]*)?(?=[\r\n]|\Z)")


def switched(document: JsonReading, path: Path, *, on: bool) -> Edit:
    """Comment a name and its value out, or let the ones count that stand commented out. Raises EditRefused."""
    if not document.dialect.comments:
        raise EditRefused("this file cannot hold what is switched off, because its server reads no comments; remove it")
    home = document.locate(path[:-1]) if path else None
    if home is None or document.strict[home.start] != "{":
        raise EditRefused("only a name with its value can be commented out")
    return _on(document, home, path) if on else _off(document, home, path)


def _off(document: JsonReading, home: Child, path: Path) -> Edit:
    members = list(document.children(home.start))
    numbers = [at for at, child in enumerate(members) if child.step == path[-1]]
    if len(numbers) != 1:
        raise EditRefused(f"{path[-1]} is there {'more than once' if numbers else 'no longer'}")
    here, body = members[numbers[0]], document.text.body
    if body[line_start(body, here.key_start) : here.key_start].strip() or not _REST.match(body, here.end):
        raise EditRefused("only a name that has its lines to itself can be commented out")
    cuts = list(commented(document.text, here.key_start, here.end, "//"))
    if numbers[0] and here is members[-1] and not document.dialect.last_comma:
        comma = document.strict.index(",", members[numbers[0] - 1].end)
        cuts.insert(0, Splice(comma, comma + 1, ""))
    return Edit(tuple(cuts), trees.without(document.plain(), path))


def _on(document: JsonReading, home: Child, path: Path) -> Edit:
    members = list(document.children(home.start))
    if any(member.step == path[-1] for member in members):
        raise EditRefused(f"{path[-1]} is not commented out")
    for off in reversed(list(_OFF.finditer(document.text.body, home.start, home.end))):
        inside = any(member.start < off.start() < member.end for member in members)
        if inside or json.loads(off["key"], strict=False) != path[-1]:
            continue
        for lines in uncommented(document.text, off.start("key"), "//"):
            pair = _pair(document, lines)
            if pair is not None:
                cuts = [*_commas(document, members, lines), *lines.cuts]
                number = sum(1 for member in members if member.end <= off.start())
                return Edit(tuple(cuts), trees.changed(document.plain(), path[:-1], _with(number, pair)))
    raise EditRefused(f"{path[-1]} is not commented out in the file")


def _with(number: int, pair: tuple[str, trees.Tree]) -> trees.Change:
    return lambda tree: (*tree[:number], pair, *tree[number:])


def _pair(document: JsonReading, lines: Uncommented) -> tuple[str, trees.Tree] | None:
    """Read lines as one name with its value, and a comma or not."""
    content = strict_form(lines.left, document.dialect).rstrip().removesuffix(",")
    try:
        tree = decoded("{" + content + "}")
    except JsonError:
        return None
    return (tree[0][0], tree[0][1]) if len(tree) == 1 else None


def _commas(document: JsonReading, members: list[Child], lines: Uncommented) -> list[Splice]:
    """Return the cuts that see to the commas before and after lines that are to count again."""
    at = lines.cuts[0].start
    uncommented = strict_form(document.text.body, Dialect(comments=True))
    before = [member for member in members if member.end <= at]
    behind = [member for member in members if member.start > at]
    cuts = []
    if before and not behind and "," not in uncommented[before[-1].end : at]:
        cuts.append(Splice(before[-1].end, before[-1].end, ","))
    last = lines.left.rstrip("\r\n").replace("\r", "\n").split("\n")[-1]
    content = strict_form(last, document.dialect).rstrip()
    end = lines.end - (len(last) - len(content))
    if behind and not content.endswith(","):
        cuts.append(Splice(end, end, ","))
    if not behind and content.endswith(",") and not document.dialect.last_comma:
        cuts.append(Splice(end - 1, end, ""))
    return cuts
