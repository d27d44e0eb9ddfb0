"""Asking a tree-sitter grammar within bounds: on a broken text its recovery may take time that grows with the square.

The grammar reads the text in pieces, and asks for one again whenever it goes back. How often it does so is bounded, in
proportion to the text: an honest file needs one to two reads a piece.
"""

from __future__ import annotations

from typing import Any

import tree_sitter

_PIECE = 1024
_READS_ALWAYS = 20_000
_READS_A_PIECE = 40


def reads_needed(language: tree_sitter.Language, data: bytes) -> int:
    """Return how many pieces the grammar asks for, the same one again too: a measure of what a text costs it."""
    reads = 0

    def read(at: int, _point: object) -> bytes:
        nonlocal reads
        reads += 1
        return data[at : at + _PIECE] if reads < _READS_ALWAYS else b""

    tree_sitter.Parser(language).parse(read)
    return reads


def bounded_parse(language: tree_sitter.Language, data: bytes) -> Any | None:
    """Return the grammar's root node, or None where the text is too tangled to be read in time."""
    left = _READS_ALWAYS + _READS_A_PIECE * (len(data) // _PIECE)

    def read(at: int, _point: object) -> bytes:
        nonlocal left
        left -= 1
        return data[at : at + _PIECE] if left > 0 else b""

    tree = tree_sitter.Parser(language).parse(read)
    return tree.root_node if tree is not None and left > 0 else None
