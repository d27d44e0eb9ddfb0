"""What a slate alters of what people may do, for its review."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from roundgate.core.files import ServerFiles
from roundgate.core.findings import Finding, Place
from roundgate.core.next_step import typed_command
from roundgate.core.review import Consequence, ConsequenceCode
from roundgate.core.slate import Outcome
from roundgate.host.errors import Trouble
from roundgate.host.files import read_bytes
from roundgate.host.people.book import load_people, places_of
from roundgate.host.people.seen import seen_before
from roundgate.host.servers import Server

if TYPE_CHECKING:
    from roundgate.core.ranks.expected import Expectation
    from roundgate.core.ranks.expected import ExpectationResult as Tested

EXPECTATIONS = "expectations.toml"
"""The file, in the site's folder, of what people should and should not be allowed."""
_MOST = 8
"""So many are said in a review; ``ranks impact`` says all."""


def rank_consequences(server: Server, outcome: Outcome) -> list[Consequence]:
    """Describe who gains and who loses which permission, where ranks or their members change."""
    book = outcome.before.book
    if not book.ranks or not outcome.touched:
        return []
    from roundgate.core.ranks.impact import describe_shift, impact
    from roundgate.core.ranks.reading import counts, is_loaded, paths_of, scheme_of, tables_of

    touched = set(outcome.touched)
    names = [
        name
        for name in tables_of(book)
        if set(paths_of(outcome.before, name)) & touched
        and counts(outcome.after, name)
        and is_loaded(outcome.after, name)
    ]
    if not names:
        return []
    try:
        people = load_people(server.site)
    except Trouble:
        people = None
    shifts = [
        shift
        for name in names
        for shift in impact(
            scheme_of(outcome.before, name, people),
            scheme_of(outcome.after, name, people),
            tuple(book.ranks[name].permissions),
        )
    ]
    found = [Consequence(ConsequenceCode.RIGHTS, (), {"what": describe_shift(shift)}) for shift in shifts[:_MOST]]
    if len(shifts) > _MOST:
        text = f"{len(shifts) - _MOST} more changes of rights: roundgate ranks impact {server.name}"
        found.append(Consequence(ConsequenceCode.RIGHTS, (), {"what": text}))
    return [*found, *_unmet(server, outcome)]


def _unmet(server: Server, outcome: Outcome) -> Iterator[Consequence]:
    """Describe what is as expected now and would not be any more."""
    path = server.site.folder / EXPECTATIONS
    try:
        expectations = load_expectations(path) if path.is_file() else []
        before = {test.expectation for test in tested(server, outcome.before, expectations) if test.is_met}
        for test in tested(server, outcome.after, expectations):
            if test.expectation in before and not test.is_met:
                what = f"Not as expected any more: {test.expectation.description}."
                yield Consequence(ConsequenceCode.RIGHTS, (), {"what": what})
    except Trouble:  # check says what is wrong with the file
        return


# --- what is expected ---


def load_expectations(path: Path) -> list[Expectation]:
    """Read a file of expectations; none where it does not exist. Raises Trouble with the place of a mistake."""
    from roundgate.core.ranks.expected import ExpectationProblem, read_expectations

    raw = read_bytes(str(path))
    try:
        return read_expectations(raw.decode()) if raw is not None else []
    except ExpectationProblem as error:
        where = f":{error.line}" if error.line else ""
        raise Trouble(f"{path.name}{where}: {error}.", f"Correct {path}.") from error
    except UnicodeDecodeError as error:
        raise Trouble(f"{path.name} is not UTF-8.", f"Correct {path}.") from error


def tested(server: Server, files: ServerFiles, expectations: list[Expectation]) -> list[Tested]:
    """Compare what is expected of a server with its ranks; nothing where no ranks count there."""
    from roundgate.core.ranks.expected import outcomes
    from roundgate.core.ranks.reading import schemes_of

    people = load_people(server.site)
    schemes = schemes_of(files, people)
    return list(outcomes(expectations, schemes, people, places_of(server))) if schemes else []


def check_expectations(server: Server, files: ServerFiles) -> Iterator[Finding]:
    """Find where the ranks of a server are not as expected, and what is wrong with the file of expectations."""
    path = server.site.folder / EXPECTATIONS
    if not path.is_file() or not files.book.ranks:
        return
    try:
        found = tested(server, files, load_expectations(path))
    except Trouble as error:
        yield Finding("rank-expected", "error", Place(EXPECTATIONS), error.what, error.do)
        return
    for outcome in found:
        if outcome.is_met:
            continue
        expectation = outcome.expectation
        why = typed_command("ranks why", server.name, expectation.who, expectation.permission)
        cause = f"Expected: {expectation.description}. {outcome.unknown.capitalize() or 'It is not so'}."
        yield Finding("rank-expected", "error", Place(EXPECTATIONS, expectation.line, 1), cause, why, server.name)


# --- people whom nobody knows ---


def check_strangers(server: Server, files: ServerFiles) -> Iterator[Finding]:
    """Find people with a rank who are on no other roster, not in the people book, and were never seen in the logs.

    Nothing is said where no log has been read yet, for then nobody was seen.
    """
    if not files.book.ranks:
        return
    from roundgate.core.people.rosters import standings_in
    from roundgate.core.ranks.reading import record_place, records_of, tables_of

    seen = seen_before(server)
    if not seen:
        return
    try:
        people = load_people(server.site)
    except Trouble:
        return
    book = files.book
    own = {roster for name in tables_of(book) for roster in book.ranks[name].members}
    elsewhere = {standing.id for standing in standings_in(files, [name for name in book.roster if name not in own])}
    for name in sorted(own):
        roster = book.roster[name]
        for record in records_of(files, roster.records):
            if record.key in seen or record.key in elsewhere or people.named(record.key, book.kind):
                continue
            what = f" as {record.value(roster.rank)}" if roster.rank and record.value(roster.rank) else ""
            cause = f"{record.key} is on {name}{what}, and was never seen here; nobody knows who that is."
            remove = typed_command("remove", server.name, f"{roster.records}/{record.key}")
            do = typed_command("people add", "", "<name>", record.key, hint=f"or: {remove}")
            place = record_place(files, roster.records, record)
            yield Finding("rank-stranger", "note", place, cause, do, server.name, name)
