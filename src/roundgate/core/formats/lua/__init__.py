"""The registry's entry for Lua data files."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats.lua.document import LuaDocument, Promise
from roundgate.core.formats.lua.grammar import tokens
from roundgate.core.formats.protocol import USUAL, Dialect, Document
from roundgate.core.text import Text, span_kept


class LuaFormat:
    """The registry's entry for Lua data files."""

    name = "lua"

    def read(self, text: Text, dialect: Dialect = USUAL) -> LuaDocument:
        """Read a text. Never raises."""
        return LuaDocument(text, dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.lua.problems import problems_of

        assert isinstance(document, LuaDocument)
        return problems_of(document)

    def confirms(self, document: Document, expected: object) -> bool:
        """Compare text and tokens; check that the grammar finds no mistake and the new value is in its place."""
        assert isinstance(document, LuaDocument) and isinstance(expected, Promise)
        span = span_kept(expected.before, document.text.body, expected.start, expected.end)
        if span is None or document.has_error or tokens(document.text.body[slice(*span)]) != expected.tokens:
            return False
        if expected.path is None or expected.value is None:
            return True
        here = document.find_in(span, expected.path) or document.find(expected.path)
        return here is not None and here.value == expected.value


FORMAT = LuaFormat()
