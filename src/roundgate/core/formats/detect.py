"""Which format a text is in, by its content: for files whose names say nothing, and for names that say wrong."""

from __future__ import annotations

import re

from roundgate.core.formats import FORMATS, format_name
from roundgate.core.patterns import lazy
from roundgate.core.text import Text

_ENOUGH = 20_000
_SECTION = lazy(r"^[ \t]*\[[^\]\r\n]+\][ \t]*(?:[;#].*)?$", re.MULTILINE)
_EQUALS = lazy(r"^[ \t]*[\w./+!\-]+(?:\[\w*\])?[ \t]*=", re.MULTILINE)
_COLON = lazy(r"^[ \t]*(?:- )?[\w.\-\"']+:(?:[ \t]|$)", re.MULTILINE)
_DASH = lazy(r"^[ \t]*- \S", re.MULTILINE)
_LUA = lazy(r"^[ \t]*(?:local[ \t]+\w+|return[ \t]*\{|[A-Za-z_]\w*[ \t]*(?:=[ \t]*\{|\([ \t]*[\"'{]))", re.MULTILINE)
_HASH = lazy(r"^[ \t]*#", re.MULTILINE)
_WORD_LINE = lazy(r"^[ \t]*(?:set[ \t]+)?[+\-]?[A-Za-z_][\w.]*[ \t]+(?:\"[^\"\r\n]*\"|-?\d[\w.]*)", re.MULTILINE)
_SCRIPT = lazy(r"#![ \t]*\S*/(?:env[ \t]+)?(?:ba|da|k|z|a)?sh\b|[ \t\r\n]*@?(?:echo off|setlocal)\b", re.IGNORECASE)
_VARIABLE = lazy(
    r"^[ \t]*(?:export[ \t]+)?[A-Za-z_]\w*=(?:\"[^\"]*\"|'[^']*'|[^\s\"'=(]*)[ \t]*(?:#.*)?$", re.MULTILINE
)
_QUOTED_VARIABLE = lazy(r"^[ \t]*(?:export[ \t]+)?[A-Za-z_]\w*=[\"']", re.MULTILINE)


def _is_markup(start: str, body: str) -> bool:
    """Return whether a text that begins with < is XML: by its declaration, or because its first element is closed."""
    if start.startswith(("<?xml", "<!DOCTYPE", "<!--")):
        return True
    root = re.match(r"<([A-Za-z_][\w:.-]*)(?=[\s/>])", start)
    if root is None:
        return False
    opening = re.match(r"<[\w:.-]+(?:\s+[\w:.-]+\s*=\s*(?:\"[^\"]*\"|'[^']*'))*\s*/?>", start)
    return opening is not None or body.rstrip().endswith(f"</{root[1]}>")


def sniffed(body: str) -> str:
    """Return the name of the format that a text looks like, or an empty text where it could be anything."""
    head = body[:_ENOUGH]
    start = head.lstrip()
    if not start:
        return ""
    if _SCRIPT.match(head):
        return "launch"
    if _is_statements(head):
        return "statements"
    if head.startswith("#!"):
        return ""  # a script of another language
    if start[0] == "<":
        return "xml" if _is_markup(start, body) else ""
    if start[0] == "{" or (start[0] == "[" and re.match(r"\[\s*(?:[\"{\[\d\]-]|true|false|null|$)", start)):
        return "json"
    return _of_lines(head)


def sniffed_settings(body: str) -> str:
    """Like ``sniffed``, for a file that holds settings by its name: most of them may be commented out.

    A line that is commented out begins with its mark and no space; a sentence has one.
    """
    settings = _COMMENTED_OUT.sub("", _SENTENCE.sub("", body))
    seen = sniffed(body) or sniffed(settings)
    if seen:
        return seen
    lines = [line for line in settings.splitlines() if line.strip()]
    if not lines and len(_PAIR_OFF.findall(body)) >= _FEW:  # all of it is commented out, with a space after the mark
        return "properties"
    return "directives" if lines and len(_KEY_AND_WORD.findall(settings)) >= len(lines) * 0.6 else ""


_KEY_AND_WORD = lazy(r"^[A-Za-z][\w.+-]*[ \t]+[^\s=:{<].*$", re.MULTILINE)
_PAIR_OFF = lazy(r"^[ \t]*[#;][ \t]?[A-Za-z_][\w.-]*[ \t]*=(?!=)", re.MULTILINE)
_FEW = 3
_SENTENCE = lazy(r"^[ \t]*[#;](?:[ \t#;].*|)(?:\r?\n|\Z)", re.MULTILINE)
_COMMENTED_OUT = lazy(r"^[ \t]*[#;](?=[A-Za-z_])", re.MULTILINE)
_STATEMENT = lazy(r"^[ \t]*(?:[A-Za-z_]\w*(?:\[\])?[ \t]*=[^=].*;|class[ \t]+[A-Za-z_]\w*)", re.MULTILINE)
_OTHER_LINE = lazy(r"^[ \t]*(?![ \t\r\n])(?!//|/\*|\*|[{}]|#)", re.MULTILINE)


def _is_statements(head: str) -> bool:
    """Return whether most lines are ``key = value;``, so that it is a file of statements."""
    statements = len(_STATEMENT.findall(head))
    return ";" in head and statements > 1 and statements * 10 >= len(_OTHER_LINE.findall(head)) * 6


def _of_lines(head: str) -> str:
    lines = [line for line in head.splitlines() if line.strip() and line.lstrip()[0] not in "#;!"]
    if not lines:
        return ""
    half = len(lines) / 2
    if _LUA.search(head) and "{" in head and not _SECTION.search(head) and not _HASH.search(head):
        return "lua"
    if _SECTION.search(head) and len(_EQUALS.findall(head)) + len(_SECTION.findall(head)) >= half:
        return "toml" if _is_toml(head) else "ini"
    if len(_COLON.findall(head)) + len(_DASH.findall(head)) > half and _COLON.search(head):
        return "yaml"
    if _QUOTED_VARIABLE.search(head) and len(_VARIABLE.findall(head)) >= len(lines) * 0.8:
        return "launch"
    if len(_EQUALS.findall(head)) > half:
        return "properties"
    return "directives" if len(_WORD_LINE.findall(head)) > half else ""


def _is_toml(head: str) -> bool:
    from roundgate.core.formats.toml.reader import read_tree  # only where a file's name says nothing

    try:
        read_tree(head)
    except (ValueError, RecursionError):
        return False
    return re.search(r"=[ \t]*[\"'\[{]", head) is not None


def format_for(file_name: str, body: str) -> str:
    """Return a file's format by its name, then by its content; a list of lines where neither says anything."""
    by_name = format_name(file_name)
    if by_name == "directives" and file_name.lower().endswith(".cfg"):
        seen = sniffed(body)
        return seen if seen in ("ini", "properties", "json", "yaml", "lua", "xml", "toml", "statements") else by_name
    if by_name == "lines" and _has_structure(body):
        seen = sniffed(body)
        return seen if seen in ("json", "xml", "yaml", "toml", "ini", "statements") else by_name
    return by_name or sniffed(body) or "lines"


_STRUCTURE = lazy(
    r"\A\s*[{<]|\A\s*\[\s*[{\"]|^[ \t]*\[[^\]\r\n]+\][ \t]*\r?\n"
    r"|^[\w.-]+:[ \t]*\r?\n(?:[ \t]*(?:#.*)?\r?\n)*(?:[ ]+|- )\S",
    re.MULTILINE,
)


def _has_structure(body: str) -> bool:
    """Return whether a text of lines has brackets, sections or lines below names, which no list of entries has."""
    head = body[:_ENOUGH]
    return _STRUCTURE.search(head) is not None or _is_statements(head)


def looks_like_another(name: str, text: Text) -> str:
    """Return the format that a text which is broken in format ``name`` is written in without a mistake, or nothing."""
    seen = sniffed(text.body)
    if seen in ("", name, "properties", "directives") or (name, seen) in _ALIKE:
        return ""
    few = sum(1 for line in text.body.splitlines() if line.strip()) < _FEW
    if (few and seen not in ("xml", "json", "launch")) or text.body.lstrip()[:1] in _OPENERS.get(name, ""):
        return ""
    wrong = any(problem.level == "error" for problem in FORMATS[seen].problems(FORMATS[seen].read(text)))
    return "" if wrong else seen


_FEW = 3
"""So many lines a text must have before their look tells more than the name of its file."""
_OPENERS = {"json": "{[", "xml": "<"}
_ALIKE = {("toml", "lua"), ("toml", "ini"), ("ini", "toml"), ("properties", "ini"), ("directives", "ini")}
