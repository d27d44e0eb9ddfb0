"""A second reader's opinion on a YAML text: a grammar of the whole language, where libyaml reads most of it.

It knows more of the language than libyaml does and tells less; it is asked whether a text is YAML at all, no more.
"""

from __future__ import annotations

_LONGEST = 200_000
_MOST_LINES = 30_000
"""The grammar fails on files of more than 32,768 lines."""


def second_opinion(body: str) -> int | None:
    """Give the index at which the grammar finds a mistake, -1 where it finds none, None where it cannot be asked."""
    if len(body) > _LONGEST or body.count("\n") > _MOST_LINES:
        return None
    import tree_sitter
    import tree_sitter_yaml

    parser = tree_sitter.Parser(tree_sitter.Language(tree_sitter_yaml.language()))
    data = body.encode("utf-8", "surrogatepass")
    root = parser.parse(data).root_node
    if not root.has_error:
        return -1
    node = root
    while True:
        child = next((one for one in node.children if one.has_error or one.is_error or one.is_missing), None)
        if child is None or node.is_error:
            return len(data[: node.start_byte].decode("utf-8", "replace"))
        node = child
