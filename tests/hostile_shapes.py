"""Small files that are hostile to a reader: they nest, repeat or break off again and again. By format, made to a size.

Each shape is a piece that is repeated, with a beginning and an end; a reader must take time that grows with the size.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple


class Shape(NamedTuple):
    """One shape of a file of a format."""

    format: str
    ending: str
    name: str
    start: str
    piece: str
    end: str = ""

    def text(self, size: int) -> str:
        """Return a text of this shape of about so many characters."""
        return self.start + self.piece * max(1, size // len(self.piece)) + self.end


_PIECES: dict[tuple[str, str], list[tuple[str, ...]]] = {
    ("json", "json"): [
        ("lists-open", "", "["), ("maps-open", "", '{"a":'), ("bad-escapes", '{"a":"', "\\uZZZZ", '"}'),
        ("equal-keys", '{"b":0', ',"a":1', "}"), ("digits", '{"a":', "9", "}"), ("open-text", '"', "x"),
        ("minuses", '{"a": ', "-", "}"), ("commas", "", ","), ("slashes", "", "//"), ("colons-lost", "", '{"a" "b"'),
        ("texts", "", '"a"'), ("closed", "", "}"), ("crossed", "", "[}"),
        ("spaces", '{"a": 1}', " "), ("spaces-inside", '{"a":', " ", "1}"), ("items", '{"a": [0', ",1", "]}"),
        ("equal-maps", '{"a": [0', ',{"b": {}}', "]}"),
    ],
    ("yaml", "yml"): [
        ("items-in-items", "", "- "), ("keys-in-keys", "", "? "), ("flow-maps", "", "{a: "), ("flow-lists", "", "["),
        ("bad-escapes", 'a: "', "\\uZZZZ", '"'), ("equal-keys", "", "a: 1\n"), ("anchors", "", "&a "),
        ("aliases", "", "*a "), ("tags", "", "!"), ("quotes", "", '"'), ("apostrophes", "", "'"), ("bars", "", "|"),
        ("items", "", "a:\n  - b\n", "\tx"), ("block", "a: |\n", "  x\n", " y: [\n"),
        ("spaces", "a: 1", " "), ("spaces-inside", "a:", " ", "1"),
    ],
    ("toml", "toml"): [
        ("digits", "a = ", "9"), ("dotted", "a", ".a", " = 1"), ("lists", "a = ", "["), ("headings", "[a", ".a", "]"),
        ("equal-keys", "", "a = 1\n"), ("bad-escapes", 'a = "', "\\uZZZZ", '"'), ("tables", "a = ", "{b = "),
        ("long-text", 'a = """', "x\n"), ("tables-of", "", "[[a]]\n"), ("equals", "", "=\n"), ("groups", "a = 1", "_1"),
        ("spaces", "a = 1", " "), ("spaces-inside", "a =", " ", "1"),
    ],
    ("xml", "xml"): [
        ("open", "", "<a>"), ("unended", "", "<a"), ("attributes", "", '<a b="'), ("entities", "<a>", "&#"),
        ("comments", "", "<!--"), ("sections", "", "<![CDATA["), ("wrong-ends", "", "<a></b>"), ("bare", "", "<a b=1>"),
        ("declarations", "", "<?xml ?>"), ("equal-attributes", "<a ", 'b="1" ', "/>"), ("ends", "", ">"),
        ("spaces", "<a/>", " "), ("spaces-inside", "<a", " ", "/>"),
    ],
    ("lua", "lua"): [
        ("tables", "return ", "{"), ("assigned", "", "a = {"), ("brackets", "a = ", "("), ("skips", 'x = "', "\\z"),
        ("long-texts", "", "[["), ("comments", "", "--[["), ("calls", "", "f("), ("dots", "", "a.", "b = 1"),
        ("ends", "", "end "), ("ifs", "", "if x then "), ("functions", "", "function() "), ("closed", "", "}"),
        ("equal-names", "return {", "a = 1,", "}"), ("minuses", "x = ", "-", "1"), ("mixed", "", "a = { [[ x "),
        ("junk", "", "@ $ a "),
    ],
    ("ini", "ini"): [
        ("headings", "", "[a]\n"), ("equal-keys", "", "a=1\n"), ("brackets", "", "["), ("nameless", "", "=\n"),
        ("records", "", "a=("), ("quotes", 'a="', 'x="'), ("plus", "", "+a=(x=1,y=2)\n"), ("comments", ";", ";"),
        ("spaces", "a=1", " "), ("spaces-inside", "a=", " ", "1"), ("sections", "", "[a]\nb=1\n"),
    ],
    ("properties", "properties"): [
        ("continued", "", "a\\\n"), ("equal-keys", "", "a=1\n"), ("escapes", "", "\\u"),
        ("bad-escapes", "a=", "\\uZZZZ"),
        ("backslashes", "", "\\"), ("equals", "", "="), ("comments", "", "#"), ("continued-values", "", "a=b \\\n"),
        ("merge-marks", "", "<<<<<<< a\n=======\n>>>>>>> b\n"), ("long-value", "a=", "x"),
    ],
    ("directives", "cfg"): [
        ("quotes", "", 'a "'), ("equal", "", "a b\n"), ("comments", "", "/*"), ("slashes", "", "//"),
        ("parts", "", "a;"),
        ("continued", "", "\\\n"), ("braces", "", "{\n"),
    ],
    ("lines", "txt"): [("equal", "", "a\n"), ("spaces", "", " ", "a"), ("commas", "", "a,"), ("returns", "", "\r")],
    ("launch", "sh"): [
        ("here", "cat <<E\n", "x\n"), ("apostrophes-here", "cat <<E\n", "it's\n", "E\n"), ("quotes", "", '"'),
        ("commands", "", "$("), ("backticks", "", "`"), ("assignments", "", "a=1\n"), ("ifs", "", "if true; then\n"),
        ("defaults", "", "${a:-"), ("heres", "", "<<E "), ("cases", "", "case x in\n"), ("flags", "./s ", "-a b "),
        ("continued", "./s \\\n", " -a b \\\n"), ("functions", "", "f() {\n"), ("arithmetic", "", "(("),
    ],
}  # fmt: skip


def shapes() -> Iterator[Shape]:
    """Yield every shape."""
    for (kind, ending), pieces in _PIECES.items():
        for name, *parts in pieces:
            yield Shape(kind, ending, name, *parts)
