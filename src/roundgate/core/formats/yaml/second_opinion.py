"""A second reader's opinion on a YAML text: a grammar of the whole language, where libyaml reads most of it.

It knows more of the language than libyaml does and tells less; it is asked whether a text is YAML at all, no more.
"""

from __future__ import annotations

import re

from roundgate.core.patterns import lazy

_LONGEST = 200_000
_MOST_LINES = 30_000
"""The grammar fails on files of more than 32,768 lines."""

_MOST_COLUMNS = 200
"""The grammar's library keeps the columns of the open blocks in 1,024 bytes, and crashes from 254 columns on."""
_BLOCK_STARTS = lazy(r"^[ \t]*+(?:[-?:][ \t]++)*+", re.MULTILINE)


def _columns_of_blocks(body: str) -> int:
    """Count the columns at which a block may begin: no more can be open at once, for each lies further to the right."""
    columns: set[int] = set()
    for line in _BLOCK_STARTS.finditer(body):
        columns.add(line.end() - line.start())
        if line.end() > line.start():
            columns.update(mark.start() for mark in re.finditer("[-?:]", line[0]))
    return len(columns)


def second_opinion(body: str) -> int | None:
    """Return the index at which the grammar finds a mistake, -1 where it finds none, None where it cannot be asked."""
    if len(body) > _LONGEST or body.count("\n") > _MOST_LINES or _columns_of_blocks(body) > _MOST_COLUMNS:
        return None
    import tree_sitter
    import tree_sitter_yaml

    from roundgate.core.formats.shared.bounded_parse import bounded_parse

    data = body.encode("utf-8", "surrogatepass")
    root = bounded_parse(tree_sitter.Language(tree_sitter_yaml.language()), data)
    if root is None:
        return None
    if not root.has_error:
        return -1
    node = root
    while True:
        child = next((child for child in node.children if child.has_error or child.is_error or child.is_missing), None)
        if child is None or node.is_error:
            return len(data[: node.start_byte].decode("utf-8", "replace"))
        node = child
