"""What people get wrong in start scripts."""

from __future__ import annotations

import re
from collections import Counter, deque
from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.launch.tokens import without_documents
from roundgate.core.formats.shared.common_problems import (
    CURLY,
    DASHES,
    flood,
    handful,
    hidden_characters,
    pointless,
)
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice

if TYPE_CHECKING:
    from roundgate.core.formats.launch.document import LaunchDocument

_VARIABLE = lazy(r"[A-Za-z_]\w*")
_SOURCED = lazy(r"^[ \t]*(?:\.|source)[ \t]", re.MULTILINE)
_USED = lazy(r"\$(?:(\w+)|\{(\w+)\})")


def problems_of(document: LaunchDocument) -> list[Problem]:
    """Find every problem of a start script, in the order of the file."""
    body = document.text.body
    if first := pointless(body):
        return first
    found: list[Problem] = []
    if not document.batch:
        found += [*_first_line(body), *_line_ends(body), *_assignments(document), *_unset(document)]
    else:
        found += [*_batch_sets(body), *_batch_variables(body, document.variables)]
    opened = list(_batch_quotes(body)) if document.batch else list(_quotes(without_documents(body)))
    found += [*opened, *_continuations(document), *hidden_characters(body)]
    if not opened:
        found += [*_curly_quotes(document), *_long_dashes(document), *_doubles(document), *_separators(document)]
        if document.main is None and not found and not _only_sets_variables(document):
            cause = "No command in this script looks like one that starts a server."
            found.append(problem("command-missing", (0, 1), cause, "Write the command line at its end."))
    return flood(handful(found))


def _only_sets_variables(document: LaunchDocument) -> bool:
    """Return whether a script has no command but assignments: a file of variables that other scripts read."""
    body = document.text.body
    return not body.startswith("#!") and all(
        re.match(r"(?:export|readonly|declare|set|[A-Za-z_]\w*=)", body[command.words[0].start : command.words[0].end])
        for command in document.commands
    )


def _lines(body: str) -> Iterator[tuple[int, str]]:
    at = 0
    while at < len(body):
        end = LINE_END.search(body, at)
        stop = end.start() if end else len(body)
        yield at, body[at:stop]
        at = end.end() if end else len(body)


def _first_line(body: str) -> Iterator[Problem]:
    late = re.match(r"[\s\ufeff]+(?=#!)", body)
    if late:
        cause = "There is something before the line that names the shell, so it is only a comment."
        repair = [Splice(0, late.end(), "")]
        yield problem(
            "first-line-late", (late.end(), late.end() + 2), cause, "Delete what is before it.", repair, safe=True
        )


def _line_ends(body: str) -> Iterator[Problem]:
    ends = [found.span() for found in re.finditer(r"\r(?=\n)", body)]
    if ends and body.startswith("#!"):
        cause = "The lines end as on Windows; the system then looks for a shell of another name."
        repair = [Splice(*span, "") for span in ends]
        yield problem("line-ends-windows", ends[0], cause, "Save the file with Unix line ends.", repair, safe=True)


def _assignments(document: LaunchDocument) -> Iterator[Problem]:
    """Find ``NAME = value`` and ``NAME= value``: three words, or two, that were meant as one."""
    body = document.text.body
    arithmetic = deque(_arithmetic(body))
    for command in document.commands:
        words = [word for word in command.words if word.value not in ("export", "readonly")]
        raw = [body[word.start : word.end] for word in words]
        begin = command.words[0].start
        while arithmetic and arithmetic[0][1] < begin:
            arithmetic.popleft()
        if arithmetic and arithmetic[0][0] < begin:
            continue  # spaces and a lone = mean something else there
        if len(raw) == 3 and raw[1] == "=" and _VARIABLE.fullmatch(raw[0]):
            span = (words[0].end, words[2].start)
        elif (
            len(raw) == 2 and raw[0].endswith("=") and _VARIABLE.fullmatch(raw[0][:-1]) and raw[1][0] in "\"'0123456789"
        ):
            span = (words[0].end - 1, words[1].start)
        elif len(raw) == 2 and raw[1][:1] == "=" and _VARIABLE.fullmatch(raw[0]):
            span = (words[0].end, words[1].start + 1)
        else:
            continue
        name = raw[0].rstrip("=")
        cause = f"The shell runs {name} as a command here; a variable is set without spaces around the sign."
        yield problem("assignment-spaces", span, cause, "Write = without spaces.", [Splice(*span, "=")])


def _arithmetic(body: str) -> Iterator[tuple[int, int]]:
    """Yield the span of each ``(( ... ))``, in order."""
    at = body.find("((")
    while at >= 0 and (end := body.find("))", at + 2)) >= 0:
        yield at, end
        at = body.find("((", end)


def _quotes(body: str) -> Iterator[Problem]:
    """Find the quote that is still open at the end of the file, on the first line where they do not pair up."""
    whole = re.compile(r"'[^']*'|\"(?:[^\"\\]|\\.)*\"|\\.|(?<!\S)#[^\r\n]*|[^'\"\\]", re.S)
    ended = re.search(r"^exit(?:[ \t]+\d+)?[ \t]*$", body, re.MULTILINE)
    if ended:
        body = body[: ended.end()]  # the shell reads no further
    at = 0
    while at < len(body):
        part = whole.match(body, at)
        if part is None:
            break
        at = part.end()
    if at >= len(body):
        return
    for start, line in _lines(body):
        opened = _open_quote(line)
        if opened >= 0:
            if re.match(r"\w'\w", line[opened - 1 : opened + 2]) and line.rstrip()[-1:] == '"':
                opened = len(line.rstrip()) - 1  # an apostrophe in a text of which only the end is quoted
            end = start + _text_end(line, opened)
            repair = [_text_begin(line, start, opened) or Splice(end, end, line[opened])]
            cause = "This quote is opened and not closed."
            yield problem(
                "shell-quote",
                (start + opened, max(end, start + opened + 1)),
                cause,
                "Write a quote where the text ends.",
                repair,
            )
            return
    yield problem(
        "shell-quote", (at, at + 1), "This quote is opened and not closed.", "Write a quote where the text ends."
    )


def _text_end(line: str, opened: int) -> int:
    """Return where the text that a quote opens most likely ends: before the next flag, or at the line's end."""
    if re.fullmatch(r"[ \t]*(?:export[ \t]+)?[A-Za-z_]\w*=", line[:opened]):
        note = re.compile(r"[ \t]+#").search(line, opened + 1)
        return note.start() if note else len(line.rstrip())
    flag = re.compile(r"[ \t]+(?=-{1,2}[A-Za-z]|[&|;]|\\?[ \t]*$)").search(line, opened + 1)
    return flag.start() if flag else len(line.rstrip(" \t\\"))


def _text_begin(line: str, start: int, opened: int) -> Splice | None:
    """Where a quote closes a text that was not opened, return the quote to put in before it."""
    if not re.match(r"\w[\"'](?:[ \t]|$)", line[opened - 1 : opened + 2]):
        return None
    begun = list(re.finditer(r"=(?=\w)|-{1,2}[\w-]+[ \t]+(?=\w)", line[:opened]))
    return Splice(start + begun[-1].end(), start + begun[-1].end(), line[opened]) if begun else None


_BATCH_SET = lazy(r"[ \t]*@?set[ \t]+(?!/)(?P<name>[A-Za-z_]\w*)(?P<before>[ \t]*)=(?P<after>[ \t]*)", re.IGNORECASE)


def _batch_sets(body: str) -> Iterator[Problem]:
    """Find ``set NAME = value``: the spaces become part of the name and of the value."""
    for start, line in _lines(body):
        found = _BATCH_SET.match(line)
        if found and (found["before"] or found["after"]):
            span = (start + found.start("before"), start + found.end("after"))
            cause = f"The spaces belong to the name and to the value here, so %{found['name']}% stays empty."
            yield problem("assignment-spaces", span, cause, "Write = without spaces.", [Splice(*span, "=")])


def _batch_quotes(body: str) -> Iterator[Problem]:
    """Find lines of a Windows script with an odd number of quotes."""
    for start, line in _lines(body):
        is_comment = re.match(r"[ \t]*@?(?:rem\b|::|echo\b)", line, re.IGNORECASE)
        if line.count('"') % 2 == 0 or is_comment:
            continue
        opened = line.rindex('"')
        begin = _text_begin(line, start, opened)
        end = start + _text_end(line, opened)
        repair = [begin or Splice(end, end, '"')]
        span = (start + opened, max(end, start + opened + 1))
        yield problem("shell-quote", span, "This quote has no partner.", "Write a quote where the text ends.", repair)


def _batch_variables(body: str, known: Collection[str]) -> Iterator[Problem]:
    """Find ``%NAME`` without its second sign."""
    for start, line in _lines(body):
        paired = re.sub(r"%%|%\w+(?::[^%]*)?%|%~?\w*[0-9*]", lambda match: " " * len(match[0]), line)
        for match in re.finditer(r"%(\w+)|(?<![\w%])(\w+)%", paired):
            name = match[1] or match[2]
            if name.upper() in known:
                at = start + (match.end(1) if match[1] else match.start(2))
                span = (start + match.start(), start + match.end())
                cause = f"A variable has a % on both sides, so {name} is not read as one."
                yield problem("variable-unset", span, cause, f"Write %{name}%.", [Splice(at, at, "%")])


def _open_quote(line: str) -> int:
    at = 0
    while at < len(line):
        if line[at] == "\\":
            at += 2
            continue
        if line[at] == "#" and (at == 0 or line[at - 1] in " \t"):
            return -1
        if line[at] in "\"'":
            closed = re.compile(r"'[^']*'|\"(?:[^\"\\]|\\.)*\"").match(line, at)
            if closed is None:
                return at
            at = closed.end()
            continue
        at += 1
    return -1


def _continuations(document: LaunchDocument) -> Iterator[Problem]:
    """Look at lines that are continued, and at those that should be."""
    sign = "^" if document.batch else "\\"
    body = document.text.body
    lines = list(_lines(body))
    arrays = [word for word, start in document.variables.values() if body[start : start + 1] == "("]
    continued = False
    for number, (start, line) in enumerate(lines):
        stripped = line.strip()
        if any(word.start <= start + len(line) < word.end for word in arrays):
            continue
        blank = re.search(rf"{re.escape(sign)}([ \t]+)$", line)
        if (
            blank
            and not stripped.startswith(("#", "rem ", "::"))
            and number + 1 < len(lines)
            and lines[number + 1][1].strip()
        ):
            span = (start + blank.start(1), start + blank.end(1))
            cause = f"There is a space after {sign}, so the line is not continued."
            yield problem("continuation-space", span, cause, "Delete the spaces.", [Splice(*span, "")], safe=True)
        following = lines[number + 1][1] if number + 1 < len(lines) else ""
        is_comment = stripped.startswith("#") if not document.batch else stripped.lower().startswith(("rem ", "::"))
        if continued and (is_comment or not stripped) and _is_flag_line(following):
            what = "comment" if stripped else "empty line"
            cause = f"This {what} ends the command: the flags below are run as a command of their own."
            yield problem("continuation-cut", (start, start + max(len(line), 1)), cause, "Move it above the command.")
            continued = False
            continue
        ends = line.endswith(sign)
        is_main = document.main is not None and document.main.end == start + len(line)
        if is_main and not is_comment and not ends and not blank and _is_flag_line(following):
            end = start + len(line.rstrip())
            cause = "The next line begins with a flag, and this one is not continued."
            yield problem(
                "continuation-missing",
                (end, end + 1),
                cause,
                f"Write {sign} at the end of the line.",
                [Splice(end, end, f" {sign}")],
            )
        continued = ends and not is_comment


def _is_flag_line(line: str) -> bool:
    return re.match(r"[ \t]+[-+]{1,2}[A-Za-z]", line) is not None


def _long_dashes(document: LaunchDocument) -> Iterator[Problem]:
    if document.main is None:
        return
    body = document.text.body
    for word in document.main.words:
        raw = body[word.start : word.end]
        if raw[0] in DASHES and len(raw) > 1:
            dashes = "--" if len(raw.lstrip(DASHES)) > 1 and raw[1] not in "-" + DASHES else "-"
            repair = [Splice(word.start, word.start + 1, dashes)]
            cause = "A long dash is not a minus sign: the server does not know this flag."
            yield problem("flag-dash", (word.start, word.start + 1), cause, f"Write {dashes}.", repair)


def _curly_quotes(document: LaunchDocument) -> Iterator[Problem]:
    """Find curly quotes where the shell splits words: in the command line, and in what a variable is set to."""
    body = document.text.body
    main = [(document.main.words[0].start, document.main.end)] if document.main else []
    spans = main + [(assignment.start, assignment.word.end) for assignment in document.assignments]
    pairs = re.compile(rf"(?P<held>'[^']*'|\"[^\"]*\")|[{CURLY}](?P<text>[^{CURLY}\"'\r\n]*)[{CURLY}\"]?")
    for found in {match.start(): match for span in spans for match in pairs.finditer(body, *span)}.values():
        if found["held"]:
            continue  # letters of a text
        cause = "Curly quotes are letters to the shell; only straight ones hold a text together."
        repair = [Splice(*found.span(), f'"{found["text"]}"')] if found["text"] else []
        yield problem("quote-curly", (found.start(), found.start() + 1), cause, "Write straight quotes.", repair)


def _doubles(document: LaunchDocument) -> Iterator[Problem]:
    last: dict[str, int] = {}
    counts = Counter(flag.name for flag in document.flags)
    for number, flag in enumerate(document.flags):
        if not isinstance(flag.name, str):
            continue
        before = last.get(flag.name)
        last[flag.name] = number
        if before is None or counts[flag.name] > 2 or document.is_repeated(flag.name):
            continue
        lost = document.flags[before]
        cause = f"{flag.name} is set again further on, and most servers take only the last one."
        yield problem("flag-twice", (lost.word.start, lost.word.end), cause, "Delete the one that should not count.")


def _separators(document: LaunchDocument) -> Iterator[Problem]:
    """Find a ; or & right after a flag's list, without a space: it was meant as a separator of the list."""
    if document.main is None or document.batch:
        return
    body = document.text.body
    at = document.main.end
    last = document.main.words[-1]
    if body[at : at + 1] in (";", "&") and last.end == at and re.match(r"[;&][\w@]", body[at:]) and "=" in last.value:
        rest = re.compile(r"[^\s\"']*").match(body, last.start)
        end = rest.end() if rest else at
        whole = body[last.start : end]
        repair = [Splice(last.start, end, f'"{whole}"')] if not re.search(r"[\"'$`\\]", whole) else []
        cause = f"This {body[at]} ends the command, because there are no quotes around the list."
        yield problem("separator-in-flag", (at, at + 1), cause, "Write quotes around the whole flag.", repair)


_OUTSIDE = frozenset(
    [
        "HOME",
        "PATH",
        "USER",
        "PWD",
        "SHELL",
        "LANG",
        "TERM",
        "HOSTNAME",
        "OLDPWD",
        "IFS",
        "LD_LIBRARY_PATH",
        "LD_PRELOAD",
        "JAVA_HOME",
        "TMPDIR",
    ]
)


def _unset(document: LaunchDocument) -> Iterator[Problem]:
    """Find variables that nothing sets and that look like one that is set."""
    from roundgate.core.nearest import nearest

    body = document.text.body
    known = set(document.variables)
    if _SOURCED.search(body):
        return  # another script may set them
    known |= set(re.findall(r"\b(?:for|read)[ \t]+(?:-\w+[ \t]+)*([A-Za-z_]\w*)", body))
    for used in _USED.finditer(body):
        name = used[1] or used[2]
        line = body[body.rfind("\n", 0, used.start()) + 1 : used.start()]
        if name in known or name in _OUTSIDE or name.isdigit() or line.lstrip().startswith("#") or line.count("'") % 2:
            continue
        near = nearest(name, known, least=85) if len(name) > 3 else ""
        if near:
            span = used.span(1 if used[1] else 2)
            cause = f"Nothing sets ${name}. Did you mean ${near}?"
            yield problem("variable-unset", span, cause, f"Write ${near}.", [Splice(*span, near)])
