"""The check of a file of which nothing is known but its name and its bytes: no site, no rulebook."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from roundgate.core.findings import STANDARD_INPUT, Finding, Fix, Place, Problem
from roundgate.core.formats import FORMATS, problems_of
from roundgate.core.formats.protocol import USUAL, Dialect, Document, Entry
from roundgate.core.next_step import mapped, typed_command
from roundgate.core.patterns import lazy
from roundgate.core.secrets import HIDDEN, shown_line, sounding_secret, sounds_secret
from roundgate.core.text import NotText, Text, decode


def read_standalone(name: str, data: bytes, given: str = "") -> Document:
    """Read a file by the format given, by its name, then by its content. Raises NotText."""
    from roundgate.core.formats.detect import format_for

    text = decode(data)
    if given == WITH_COMMENTS:
        return FORMATS["json"].read(text, Dialect(comments=True, last_comma=True))
    kind = FORMATS[given or format_for(name, text.body)]
    return kind.read(text, dialect_by_name(name))


WITH_COMMENTS = "jsonc"
"""JSON with comments and a comma after the last item, as a format that can be given."""


def format_given(given: str) -> str:
    """Return the name of the format that a person gave, or an empty text."""
    return "json" if given == WITH_COMMENTS else given


def dialect_by_name(name: str) -> Dialect:
    """Return the dialect that a file's name stands for."""
    return Dialect(comments=True, last_comma=True) if name.lower().endswith(".jsonc") else USUAL


def check_standalone(name: str, data: bytes, given: str = "") -> list[Finding]:
    """Check one file; ``name`` is what the findings call it."""
    try:
        document = read_standalone(name, data, given)
    except NotText as error:
        do = "Fix or restore the file, then check again."
        return [Finding("file-not-text", "error", Place(name), f"{name}: {error}.", do)]
    text = document.text
    problems = problems_here(name, document, given)
    return [_standalone_finding(name, text, mistake) for mistake in _or_unknown(name, document, given, problems)]


def _or_unknown(name: str, document: Document, given: str, problems: Sequence[Problem]) -> Sequence[Problem]:
    """Report that nobody knows a file's format, where its name does not tell it and its content does not either."""
    from roundgate.core.formats import format_name
    from roundgate.core.formats.detect import sniffed

    if given or format_name(name) or not document.text.body.strip():
        return problems
    guess = sniffed(document.text.body)
    name = "-" if name == STANDARD_INPUT else name
    wrong = next((problem for problem in problems if problem.level == "error"), None)
    if not guess:
        cause = "The format of this file is unknown: neither its name nor its content shows it. It was not checked."
        return [
            Problem(
                "format-unknown", "note", 0, 0, cause, typed_command("check", "", name, options=("--as", "<format>"))
            )
        ]
    if wrong and guess not in _SURE:
        cause = f"This looks like {guess}, but not all of it is: {wrong.cause} Its name does not say the format."
        do = typed_command("check", "", name, options=("--as", guess), hint=f"if it is {guess}")
        return [Problem("format-unknown", "note", wrong.start, wrong.end, cause, do)]
    return problems


def _standalone_finding(name: str, text: Text, problem: Problem) -> Finding:
    secrets = sounding_secret(text, problem.start, is_broken=True)
    source, column, length = shown_line(text, problem.start, problem.end, secrets)
    line, _ = text.place(problem.start)
    return hide_secrets(finding_of(problem, Place(name, line, column, length, source), text), secrets)


def hide_secrets(finding: Finding, secrets: Sequence[Entry]) -> Finding:
    """Keep secrets on a finding's line out of its message, and out of its repair."""
    if any(sounds_secret(word) for fix in finding.fixes for word in _NAMES.findall(fix.new)):
        finding = replace(finding, fixes=())  # one that joins lines may bring a secret from another line
    values = [secret.value for secret in secrets if secret.value.strip()]
    if not values:
        return finding
    # What is hidden up to a line's end may be named by its words.
    values += [word for value in values for word in _WORDS.findall(value) if word != value]

    def hidden(text: str) -> str:
        for value in values:
            text = text.replace(value, HIDDEN)
        return text

    cause, do = hidden(finding.cause), mapped(finding.do, hidden)
    fixes = tuple(fix for fix in finding.fixes if not any(value in fix.new for value in values))
    return replace(finding, cause=cause, do=do, fixes=fixes if len(fixes) == len(finding.fixes) else ())


_NAMES = lazy(r"[\w.\-]+")
_WORDS = lazy(r"\w{3,}")


def problems_here(name: str, document: Document, given: str = "") -> Sequence[Problem]:
    """Return a document's problems; one only, where the whole file is in another format than its name says."""
    from roundgate.core.formats import format_name
    from roundgate.core.formats.detect import looks_like_another

    problems = at_most(problems_of(document))
    by_name = format_given(given) or format_name(name)
    if by_name and any(problem.level == "error" for problem in problems):
        other = looks_like_another(by_name, document.text)
        if other:
            return [_other(by_name, other, document.text)]
    return problems


_SURE = ("json", "xml", "launch")
"""Formats that a file's beginning tells; the others are a guess where the name says nothing."""

MOST_ALIKE = 100
"""Problems of one code that are told of one file; whoever has more repairs them all the same way."""


def at_most(problems: Sequence[Problem]) -> Sequence[Problem]:
    """Keep so many problems of each code, and let the last of them say how many more there are."""
    if len(problems) <= MOST_ALIKE:
        return problems
    counts = Counter(mistake.code for mistake in problems)
    seen: Counter[str] = Counter()
    kept = []
    for problem in problems:
        seen[problem.code] += 1
        if seen[problem.code] < MOST_ALIKE or counts[problem.code] == MOST_ALIKE == seen[problem.code]:
            kept.append(problem)
        elif seen[problem.code] == MOST_ALIKE:
            more = counts[problem.code] - MOST_ALIKE
            kept.append(
                replace(problem, cause=f"{problem.cause.rstrip('.')}. There are {more} more like this in the file.")
            )
    return kept


def _other(name: str, other: str, text: Text) -> Problem:
    start = len(text.body) - len(text.body.lstrip())
    cause = f"The name says {name}, and what is in the file is {other}."
    do = "Restore the right file, or give this one the right name."
    return Problem("other-format", "error", start, text.line_around(start)[1], cause, do)


def placed(text: Text, problems: Sequence[Problem]) -> dict[int, tuple[int, int]]:
    """Return line and column of every index that some problems name, found in one pass."""
    wanted = list(_indexes(problems))
    return dict(zip(wanted, text.places(wanted), strict=True))


def _indexes(problems: Sequence[Problem]) -> Iterator[int]:
    for problem in problems:
        yield problem.start
        if problem.gave_up >= 0:
            yield problem.gave_up
        for cut in problem.repair:
            yield from (cut.start, cut.end)


def finding_of(problem: Problem, place: Place, text: Text, server: str = "") -> Finding:
    """Make a finding of what a reader noticed."""
    places = placed(text, [problem])
    fixes = tuple(Fix(*places[cut.start], *places[cut.end], cut.new) for cut in problem.repair)
    gave_up = places[problem.gave_up] if problem.gave_up >= 0 else (0, 0)
    return Finding(
        problem.code,
        problem.level,
        place,
        problem.cause,
        problem.do,
        server,
        gave_up=gave_up,
        fixes=fixes,
        safe=problem.safe,
    )
