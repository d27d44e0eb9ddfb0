"""Keeping secrets out of everything that is shown: which values are secret, and texts with them blanked out."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache

from roundgate.core.formats.protocol import Document, Entry
from roundgate.core.nearest import nearest
from roundgate.core.patterns import lazy
from roundgate.core.rulebook.expansion import beneath
from roundgate.core.rulebook.model import Rulebook
from roundgate.core.text import Splice, Text

HIDDEN = "(hidden)"
_ANYWHERE = lazy(
    r"passw|passphrase|passcode|secret|token|credential|webhook|sasl"
    r"|(?:api|private|licen[cs]e|access|encryption|signing|session|auth|login|motd)[\W_]?key"
    r"|(?:entry|access|door|admin|rcon|invite)[\W_]?(?:code|pin|key)",
    re.IGNORECASE,
)
"""What tells of a secret wherever it stands in a name."""
_LAST_WORD = frozenset(
    (
        *("pass", "pwd", "pw", "psk", "pin", "auth", "creds", "passkey"),
        *("bearer", "cookie", "session", "salt", "sasl", "signature", "dsn"),
    )
)
"""What tells of a secret as a word at the end of a name: ``rcon_pass``, ``rconPass``, but not ``pass_count``."""
_RUN_TOGETHER = lazy(r"(?<!by)(?<!com)(?<!tres)(?<!over)(?<!under)(?<!sur)(?:pass|pwd)$", re.IGNORECASE)
"""The same in a name without any mark between its words: ``rconpass``, but not ``bypass``."""
_PARTS = lazy(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|[0-9]+")
_LONGEST_NAME = 200
_HOLDS_SECRETS = lazy(r"passwords?|passwd|secrets?|credentials?|passphrases?|passcodes?", re.IGNORECASE)
"""Names of lists and tables in which all values are secrets."""
_LOGIN_IN_URL = lazy(r"(?<=://)[^/\s:@\"']{0,200}:[^/\s@\"']{1,200}(?=@)")


def without_logins(text: str) -> str:
    """Return a text with the user and password of every web address in it blanked out."""
    return _LOGIN_IN_URL.sub(HIDDEN, text) if "://" in text and "@" in text else text


_STEP = lazy(r"[.\[\]\"]+")
_NAME_STEPS = frozenset(("name", "key", "id", "setting", "option", "variable", "property"))
_VALUE_STEPS = frozenset(("value", "val", "content", "data", "text"))


@lru_cache(maxsize=4096)
def sounds_secret(key: str) -> bool:
    """Return whether a key that no rulebook knows is likely to hold a secret."""
    # The end of a name says what it is; a key of megabytes must not cost a search of megabytes.
    key = key[-_LONGEST_NAME:]
    if _ANYWHERE.search(key) or _RUN_TOGETHER.search(key):
        return True
    parts = _PARTS.findall(key)
    return bool(parts) and parts[-1].lower() in _LAST_WORD


_SWITCHES = frozenset(("0", "1", "true", "false", "yes", "no", "on", "off"))
"""Values that are no secret, however the name of their key sounds: a permission may be called ``keys``."""


def is_switch(value: str | None) -> bool:
    """Return whether a value only says on or off, and so is a secret only where the rulebook says so."""
    return value is not None and value.lower() in _SWITCHES


def is_secret(book: Rulebook, file_path: str, key: str, value: str | None = None) -> bool:
    """Whether a key of a file holds a secret, by the rulebook or by the sound of its name, or of what it is in.

    ``value`` is what it holds, where that is known: what is only on or off is none by its sound.
    """
    types = _types(book, file_path)
    if is_switch(value):
        return not {key, _last_name(_STEP.split(key))}.isdisjoint(_declared(types))
    if _holds_secret(types, key):
        return True
    names = [name for name in _STEP.split(key) if name and not name.isdecimal()]
    return bool(names) and (sounds_secret(names[-1]) or any(_HOLDS_SECRETS.fullmatch(name) for name in names))


def hidden_paths(book: Rulebook, file_path: str, document: Document) -> frozenset[tuple[str | int, ...]]:
    """Return the paths of a document's values that must not be shown."""
    return frozenset(entry.path for entry in secret_entries(book, file_path, document))


def may_be_named_elsewhere(key: str) -> bool:
    """Whether a key's name says nothing, so that another field may name what it holds: ``value``, ``content``."""
    return _bare(_STEP.split(key.rstrip(']"'))[-1]) in _VALUE_STEPS


def _types(book: Rulebook, file_path: str) -> dict[str, str]:
    """Return the type of each key that the rulebook knows in a file."""
    files = {setting for name, file in book.file.items() if file.path == file_path for setting in beneath(book, name)}
    types = {
        place.key: spec.type
        for spec in book.setting.values()
        for place in spec.also
        if (place.file or spec.file) in files
    }
    fields = {
        (field.key.strip('"') or name): field.type
        for spec in book.records.values()
        if spec.file in files
        for name, field in spec.field.items()
        if field.type == "secret"
    }
    return fields | types | {spec.key: spec.type for spec in book.setting.values() if spec.file in files}


def _holds_secret(types: Mapping[str, str], key: str) -> bool:
    if key in types:
        return types[key] == "secret"
    # A misspelt secret is still one, and a finding about its name shows its line.
    secrets = [known for known, kind in types.items() if kind == "secret"]
    return sounds_secret(key) or (bool(secrets) and types.get(nearest(key, types, least=75)) == "secret")


def secret_names(book: Rulebook, file_path: str) -> frozenset[str]:
    """Return the last names of the keys that hold a secret in a file, for a text that cannot be read."""
    return frozenset(_last_name(_STEP.split(key.strip('"]'))) for key in _declared(_types(book, file_path)))


def _declared(types: Mapping[str, str]) -> frozenset[str]:
    """Return the keys that the rulebook says are secrets, and the last name of each."""
    keys = {key for key, kind in types.items() if kind == "secret"}
    return frozenset(keys | {_last_name(_STEP.split(key.strip('"]'))) for key in keys})


def secret_entries(book: Rulebook, file_path: str, document: Document) -> list[Entry]:
    """Return every entry, commented-out ones included, whose value must not be shown; a misspelt secret too."""
    types = _types(book, file_path)
    declared = _declared(types)
    answers: dict[str, bool] = {}
    entries = [
        entry for entry in (*document.entries(), *document.switched_off()) if entry.end > entry.start and entry.path
    ]
    named = _named_secrets(entries)
    found = []
    for entry in entries:
        if is_switch(entry.value) and _last_name(entry.path) not in declared:
            continue
        key = next((step for step in reversed(entry.path) if isinstance(step, str)), "")
        if key not in answers:
            answers[key] = _holds_secret(types, key)
        if (
            answers[key]
            # The quick test first: there may be a hundred thousand values.
            or ("://" in entry.value and _LOGIN_IN_URL.search(entry.value))
            or any(isinstance(step, str) and _HOLDS_SECRETS.fullmatch(step) for step in entry.path[:-1])
            or (entry.path[:-1] in named and _bare(entry.path[-1]) in _VALUE_STEPS)
        ):
            found.append(entry)
    return apart(found)


def _last_name(path: Sequence[str | int]) -> str:
    """Return the last name of a path, without the mark of an XML attribute."""
    return next((step for step in reversed(path) if isinstance(step, str)), "").lstrip("@")


def _bare(step: str | int) -> str:
    """Return a step's name without the mark of an XML attribute."""
    return step.lstrip("@").lower() if isinstance(step, str) else ""


def _named_secrets(entries: Sequence[Entry]) -> set[tuple[str | int, ...]]:
    """Return the records that name a secret in one field and hold it in another: ``name: password``, ``value: ...``."""
    return {
        entry.path[:-1]
        for entry in entries
        if _bare(entry.path[-1]) in _NAME_STEPS and sounds_secret(entry.value.strip())
    }


def apart(entries: list[Entry]) -> list[Entry]:
    """Return entries in order, without those inside another one: a line of a text may look like a key with a value."""
    kept: list[Entry] = []
    for entry in sorted(entries, key=lambda span: (span.start, -span.end)):
        if not kept or entry.start >= kept[-1].end:
            kept.append(entry)
    return kept


def without_secrets(text: Text, entries: list[Entry], word: str = HIDDEN) -> Text:
    """Return the text with the values of ``entries`` blanked out."""
    return text.spliced(Splice(entry.start, entry.end, word) for entry in entries)


_NAMED_VALUE = lazy(
    r"(?<![\w.\-])(?P<name>[\w.\-]++)[\"']?\]?[ \t]*+(?:[:=>]|(?<=[ \t]))[ \t]*+"
    r"(?P<value>\"[^\"]*+\"?|'[^']*+'?|[^\s,;{}\[\]<>\"'=:/]++)"
)
"""A name and its value by the looks of a line. It never goes back over what it has read: lines may be very long."""
_LONGEST_LINE = 4000
"""Characters of a line around the place of interest that are searched for secrets."""


def sounding_secret(
    text: Text, start: int, names: frozenset[str] = frozenset(), *, is_broken: bool = False
) -> list[Entry]:
    """Find what looks like a secret on the line that holds an index; ``names`` are more names of secrets.

    This goes by the looks of the line alone, so that it works in a file that cannot be read. Where the line itself is
    ``is_broken``, all that comes after the name of a secret may be the secret, but for a value between two quotes.
    """
    line_start, line_end = text.line_around(start)
    line_start = max(line_start, start - _LONGEST_LINE)
    line_end = min(line_end, start + _LONGEST_LINE)
    line = text.body[line_start:line_end]
    found = list(_sounding(line, line_start, names))
    return apart([*found, *_after_name(line, line_start, names)]) if is_broken else found


def _sounding(line: str, offset: int, names: frozenset[str]) -> Iterator[Entry]:
    """Yield what looks like a secret in a piece of text that begins at an offset."""
    at = 0
    while found := _NAMED_VALUE.search(line, at):
        is_open = is_switch(found["value"].strip("\"'")) and found["name"] not in names
        if not is_open and (sounds_secret(found["name"]) or found["name"] in names):
            spans = offset + found.start("value"), offset + found.end("value")
            yield Entry((found["name"],), found["value"].strip("\"'"), 0, 0, *spans)
            at = found.end()
        else:
            at = max(found.end("name"), found.start() + 1)
    for login in _LOGIN_IN_URL.finditer(line):
        yield Entry(("login",), login[0], 0, 0, offset + login.start(), offset + login.end())


_WORD = lazy(r"[\w.\-]+")
_BEFORE_VALUE = lazy(r"[\"'\])]?[\s:=>,;]*")
_IN_QUOTES = lazy(r"(?:\"[^\"]*\"|'[^']*')(?=\W*$)")
"""A value between two quotes, with no more text after it."""


def _after_name(line: str, offset: int, names: frozenset[str]) -> Iterator[Entry]:
    """Yield what comes after the first name of a secret on a line whose signs are wrong, up to the line's end."""
    for word in _WORD.finditer(line):
        if not (sounds_secret(word[0]) or word[0] in names):
            continue
        before = _BEFORE_VALUE.match(line, word.end())
        start, end = before.end() if before else word.end(), len(line.rstrip())
        if line.endswith("</", 0, word.start()):  # it ends an element, whose beginning may be misspelt
            start, end = line.rfind(">", 0, word.start()) + 1, word.start() - 2
        quoted = _IN_QUOTES.match(line, start)
        end = quoted.end() if quoted else end
        if line[start:end].strip():
            yield Entry((word[0],), line[start:end].strip(" \t\"'"), 0, 0, offset + start, offset + end)
            return


def without_sounding(body: str, names: frozenset[str] = frozenset()) -> str:
    """Return a text with every value blanked out whose name sounds like a secret, or is one of ``names``."""
    pieces: list[str] = []
    at = 0
    for cut in apart(list(_sounding(body, 0, names))):
        pieces += (body[at : cut.start], HIDDEN)
        at = cut.end
    return "".join((*pieces, body[at:]))


_OPENS = lazy(r"(?<![\w.\-])(?P<name>[\w.\-]++)[\"']?\]?[ \t]*[:=][ \t]*(?:[|>][-+\d]*|\"\"\"|'''|\[\[|[\[{(])?[ \t]*$")
"""The end of a line that has a name, and its value on the lines below."""
_LOOK_BACK = 50


def hidden_line(lines: Sequence[str], number: int, names: frozenset[str] = frozenset()) -> str:
    """Return a line of a file with what looks like a secret blanked out, by the looks of it and of the lines above."""
    line = lines[number]
    if "(hidden" in line:  # by whoever read the file
        return line
    hidden = without_sounding(line, names)
    indent = len(line) - len(line.lstrip())
    is_item = line.lstrip()[:1] == "-"
    if hidden != line or not (indent or is_item) or not line.strip():
        return hidden
    for above in reversed(lines[max(0, number - _LOOK_BACK) : number]):
        below = len(above) - len(above.lstrip()) - (is_item and above.lstrip()[:1] != "-")
        if above.strip() and below < indent:
            opened = _OPENS.search(above)
            is_secret_name = opened and (sounds_secret(opened["name"]) or opened["name"] in names)
            return line[:indent] + HIDDEN if is_secret_name else line
    return line


def shown_line(text: Text, start: int, end: int, entries: list[Entry]) -> tuple[str, int, int]:
    """Return the line around a span with secrets blanked out, and column (from 1) and length of the span in it."""
    line_start, line_end = text.line_around(start)
    end = max(start + 1, min(end, line_end))
    cuts = [entry for entry in entries if line_start <= entry.start < line_end]
    line, column, length = text.body[line_start:line_end], start - line_start + 1, end - start
    for entry in sorted(cuts, key=lambda cut: cut.start, reverse=True):
        stop = min(entry.end, line_end)
        line = line[: entry.start - line_start] + HIDDEN + line[stop - line_start :]
        if start >= entry.start:
            column, length = entry.start - line_start + 1, len(HIDDEN)
    return line, column, length


def is_secret_field(book: Rulebook, set_name: str, field: str) -> bool:
    """Return whether a field of a set of records is a secret: by the rulebook, or by the sound of its name."""
    spec = book.records.get(set_name)
    described = spec.field.get(field) if spec is not None else None
    return described.type == "secret" if described is not None else sounds_secret(field)
