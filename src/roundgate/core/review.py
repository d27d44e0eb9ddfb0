"""What a slate will mean, in plain values: each change as text, the consequences, and the difference as text."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from enum import StrEnum
from functools import partial

from msgspec import Struct
from msgspec.structs import replace

from roundgate.core import values
from roundgate.core.advice import advice_for, overriding
from roundgate.core.differences import lines_of, opcodes, unified
from roundgate.core.files import ServerFiles, describe_values, format_default, format_value
from roundgate.core.formats.places import find_key
from roundgate.core.formats.protocol import Entry
from roundgate.core.operations.base import Change, Operation
from roundgate.core.operations.copies import CopyFile
from roundgate.core.operations.records import AddRecord, RemoveRecord, SetField
from roundgate.core.records.live import can_be_live, told_for
from roundgate.core.rulebook.expansion import setting_at
from roundgate.core.rulebook.model import Rulebook, Setting
from roundgate.core.secrets import (
    HIDDEN,
    hidden_line,
    hidden_paths,
    is_secret,
    is_secret_field,
    may_be_named_elsewhere,
    secret_entries,
    secret_names,
    without_secrets,
    without_sounding,
)
from roundgate.core.slate import Outcome
from roundgate.core.text import LARGE, Text

_LONG = 72
"""A longer value is cut short where it is only named; the difference below shows the whole of it."""


class DescribedChange(Struct, frozen=True):
    """One change as a person reads it."""

    name: str
    file: str
    before: str
    after: str
    when_slated: str = ""
    """What it was when it was put on the slate, where that is no longer what it is now."""
    is_nothing: bool = False


class ConsequenceCode(StrEnum):
    """What kind of thing the changes of a slate mean."""

    LIVE_POSSIBLE = "live-possible"
    """The changes can also be sent to the live console."""
    NEEDS_RESTART = "needs-restart"
    """The changes take effect at the next restart."""
    NEEDS_NEW_WORLD = "needs-new-world"
    """The changes take effect in a world that is made from then on."""
    ADVICE = "advice"
    """What the rulebook advises for the new values."""
    NOT_DESCRIBED = "not-described"
    """No rulebook describes the keys: they are written without being checked or proven."""
    NOT_READABLE = "not-readable"
    """The server cannot be asked for the values."""
    COMMAND = "command"
    """The rulebook has a command run to read the values back, if the site file allows it."""
    OVERRIDDEN = "overridden"
    """Other settings or a mode keep the server from looking at them."""
    INVERTED = "inverted"
    """The scale runs the other way round from its name."""
    JOINS = "joins"
    """Somebody comes onto a roster."""
    LEAVES = "leaves"
    """Somebody is taken off a roster."""
    RIGHTS = "rights"
    """Somebody gains or loses a permission."""
    ODDS = "odds"
    """What players find changes."""
    WORLD_FIXED = "world-fixed"
    """The world that the files name was made with other values, which stay."""


class Consequence(Struct, frozen=True):
    """Something that the changes of a slate mean."""

    code: ConsequenceCode
    names: tuple[str, ...]
    """The settings, lists or keys that it is about."""
    detail: dict[str, str] = {}
    """``advice``, ``inverted``: the text. ``overridden``: ``by`` what. ``command``: the ``command``, whether it is
    ``allowed``, and the ``server``.

    ``world-fixed``: the ``world``, what it was ``made`` with, and what is ``wanted``.
    """


_TAKES_CODES = {
    "live": ConsequenceCode.LIVE_POSSIBLE,
    "restart": ConsequenceCode.NEEDS_RESTART,
    "new-world": ConsequenceCode.NEEDS_NEW_WORLD,
}


class Review(Struct, frozen=True):
    """The whole review of a slate."""

    changes: tuple[DescribedChange, ...]
    consequences: tuple[Consequence, ...]
    diff: str


def review_of(outcome: Outcome) -> Review:
    """Describe what an outcome means."""
    return Review(describe_changes(outcome), tuple(_consequences(outcome)), diff_of(outcome))


def describe_changes(outcome: Outcome) -> tuple[DescribedChange, ...]:
    """Describe what each operation of an outcome did."""
    return tuple(
        _describe(_masked(change) if _is_named_elsewhere(change, outcome) else change, outcome.before.book)
        for change in outcome.changes
    )


def _is_named_elsewhere(change: Change, outcome: Outcome) -> bool:
    """Return whether another field of its record says that a change's value is a secret."""
    key = change.operation.value_key
    if not key or not may_be_named_elsewhere(key):
        return False
    for files in (outcome.before, outcome.after):
        document = files.document(change.file)
        if document is not None:
            entry = find_key(document, key)
            if entry is not None and entry.path in hidden_paths(files.book, change.file, document):
                return True
    return False


def _masked(change: Change) -> Change:
    before, after = (None if value is None else HIDDEN for value in (change.before, change.after))
    return replace(change, before=before, after="(hidden, new)" if after and change.before != change.after else after)


def spec_of(change: Change, book: Rulebook) -> Setting | None:
    """Return the setting that a change is about, where the rulebook knows it."""
    return book.setting.get(change.name) if change.operation.value_key else None


def format_stored(stored: str | None, change: Change, book: Rulebook) -> str:
    """Format a value of a change: as its setting says it, hidden where it is secret."""
    spec = spec_of(change, book)
    if spec:
        default = f" (default {format_default(spec)})" if stored is None and spec.default is not None else ""
        return format_value(stored, spec) if stored is not None else f"not set{default}"
    if stored is None:
        return "not set"
    if is_secret(book, change.file, change.operation.value_key, stored):
        return "(set, hidden)"
    lines = [line.strip() for line in without_sounding(stored, secret_names(book, change.file)).splitlines()]
    if not "".join(lines):
        return "(empty)"
    shown = lines[0] if len(lines[0]) <= _LONG else f"{lines[0][: _LONG - 1].rstrip()}…"
    return shown if len(lines) == 1 else f"{shown} … ({len(lines)} lines)"


def _describe(change: Change, book: Rulebook) -> DescribedChange:
    operation = change.operation
    key = change.name.partition(":")[2]
    # One that only says on or off now may have held a secret before.
    held = [value for value in (change.before, change.after) if value is not None]
    is_hidden = any(is_secret(book, change.file, key, value) for value in held or (None,))
    is_hidden = is_hidden or _has_secret_fields(operation, book)

    def format_one(stored: str | None) -> str:
        return format_stored(stored, change, book)

    when_slated = format_one(operation.value_when_slated) if change.has_moved_on else ""
    before, after = operation.describe_change(change, format_one, is_secret=is_hidden)
    return DescribedChange(change.name, change.file, before, after, when_slated, change.is_nothing)


def _has_secret_fields(operation: Operation, book: Rulebook) -> bool:
    """Return whether an operation on a record is about a field that must not be shown."""
    if isinstance(operation, SetField):
        return is_secret_field(book, operation.set, operation.field)
    if isinstance(operation, AddRecord):
        return any(is_secret_field(book, operation.set, name) for name, _ in operation.values)
    return False


def _consequences(outcome: Outcome) -> Iterator[Consequence]:
    book = outcome.before.book
    real = [change for change in outcome.changes if not change.is_nothing]
    for takes, code in _TAKES_CODES.items():
        names = dict.fromkeys(change.name for change in real if _takes(change, book) == takes)
        if names:
            yield Consequence(code, tuple(names))
    for change in real:
        spec = spec_of(change, book)
        advice = advice_for(change.name, spec, outcome.after.names) if spec else ""
        if advice:
            yield Consequence(ConsequenceCode.ADVICE, (change.name,), {"advice": advice})
    yield from _of_people(real, book)
    yield from _of_loot(outcome)
    yield from _of_settings(real, outcome)
    unknown = [change.name for change in real if _is_not_described(change, book)]
    if unknown:
        yield Consequence(ConsequenceCode.NOT_DESCRIBED, tuple(unknown))
    asked = {setting.name for setting in told_for([change.operation for change in real], outcome.after) if setting.ask}
    readable = [
        change.name for change in real if not isinstance(change.operation, CopyFile) and change.name not in asked
    ]
    unread = [name for name in dict.fromkeys(readable) if not _can_be_read(name, book, unknown)]
    if unread:
        yield Consequence(ConsequenceCode.NOT_READABLE, tuple(unread))


_MEANINGS = {"admin": "an admin", "allow": "on the allow list", "ban": "banned", "other": "on it"}


def _of_people(real: Sequence[Change], book: Rulebook) -> Iterator[Consequence]:
    """Describe who comes onto a roster, and who leaves one."""
    rosters = {roster.records: (name, roster) for name, roster in book.roster.items()}
    for change in real:
        operation = change.operation
        if isinstance(operation, AddRecord) and operation.set in rosters:
            name, roster = rosters[operation.set]
            values = dict(operation.values)
            rank = f" as {values[roster.rank]}" if values.get(roster.rank) else ""
            detail = {
                "who": values.get("name") or operation.record,
                "roster": name,
                "what": _MEANINGS[roster.meaning] + rank,
            }
            yield Consequence(ConsequenceCode.JOINS, (change.name,), detail)
        elif isinstance(operation, RemoveRecord) and operation.set in rosters:
            name, roster = rosters[operation.set]
            detail = {"who": change.before or operation.record, "roster": name, "what": _MEANINGS[roster.meaning]}
            yield Consequence(ConsequenceCode.LEAVES, (change.name,), detail)


_MOST_SHIFTS = 5
"""Shifts of odds that a review names; of more it says how many."""


def _of_loot(outcome: Outcome) -> Iterator[Consequence]:
    """Describe what becomes of the odds, the largest shifts first."""
    if not outcome.before.book.loot:
        return
    from roundgate.core.loot.shape import loot_paths

    if not loot_paths(outcome.before) & set(outcome.touched):
        return
    from roundgate.core.loot.shifts import describe_shift, shifts  # NumPy is loaded only where odds change

    moved = shifts(outcome.before, outcome.after)
    for shift in moved[:_MOST_SHIFTS]:
        yield Consequence(ConsequenceCode.ODDS, (shift.record,), {"what": describe_shift(shift)})
    if len(moved) > _MOST_SHIFTS:
        more = {"what": f"{len(moved) - _MOST_SHIFTS} more odds change: roundgate odds --slate"}
        yield Consequence(ConsequenceCode.ODDS, (), more)


def _of_settings(real: Sequence[Change], outcome: Outcome) -> Iterator[Consequence]:
    """Describe what changes mean by the nature of their settings: what does not count now, what is easily misread."""
    for change in real:
        spec = spec_of(change, outcome.before.book)
        by = overriding(spec, outcome.after.names) if spec else []
        if by:
            held = describe_values(outcome.after, by)
            yield Consequence(ConsequenceCode.OVERRIDDEN, (change.name,), {"by": held})
        if spec and spec.inverted:
            yield Consequence(ConsequenceCode.INVERTED, (change.name,), {"text": spec.inverted})


def _is_not_described(change: Change, book: Rulebook) -> bool:
    """Return whether a change is about a key that the rulebook says nothing of, not even as a second place."""
    key = change.operation.value_key
    return bool(key) and not spec_of(change, book) and setting_at(book, change.file, key) is None


def _can_be_read(name: str, book: Rulebook, unknown: Sequence[str]) -> bool:
    spec = book.setting.get(name)
    if spec is None:
        return name in unknown  # that is said already
    return not values.is_hidden(spec) and bool(spec.shown or (spec.live and spec.live.can_be_read))


def _takes(change: Change, book: Rulebook) -> str:
    spec = spec_of(change, book)
    if spec:
        is_live = spec.live and spec.live.set and spec.takes == "live" and change.operation.can_be_live
        return "live" if is_live else "restart" if spec.takes == "live" else spec.takes
    known = book.list.get(change.name)
    if known is None and can_be_live(change.operation, book):
        return "live"
    return known.takes if known else "restart"


def diff_of(outcome: Outcome) -> str:
    """Return the difference of every file that changes, secrets blanked out, in unified form."""
    pieces = []
    for path in outcome.touched:
        names = (f"{path} (on disk)", f"{path} (after)")
        texts = [files.texts.get(path, Text("")) for files in (outcome.before, outcome.after)]
        hidden = partial(hidden_line, names=secret_names(outcome.after.book, path))
        if max(len(text.body) for text in texts) > LARGE:  # reading all of it to find its secrets would take too long
            old, new = (lines_of(text.body) for text in texts)
        else:
            kept = _kept_lines(texts)
            old, new = (_shown(outcome, path, kept[side], old=side == 0) for side in (0, 1))
        pieces.append("\n".join(unified(old, new, names, shown=hidden)))
    return "\n".join(pieces)


def lines_shown(files: ServerFiles, path: str, text: Text) -> list[str]:
    """Return the lines of a text of one of a server's files, secrets blanked out."""
    kind, names = files.format(path), secret_names(files.book, path)
    if len(text.body) <= LARGE and kind:
        text = without_secrets(text, secret_entries(files.book, path, kind.read(text, files.dialect(path))))
    lines = lines_of(text.body)
    return [hidden_line(lines, number, names) for number in range(len(lines))]


def _kept_lines(texts: Sequence[Text]) -> tuple[set[int], set[int]]:
    """Return the numbers of the lines that a change leaves as they are, in the old text and in the new one."""
    old: set[int] = set()
    new: set[int] = set()
    for what, old_start, old_end, new_start, new_end in opcodes(*(lines_of(text.body) for text in texts)):
        if what == "equal":
            old.update(range(old_start, old_end))
            new.update(range(new_start, new_end))
    return old, new


def _shown(outcome: Outcome, path: str, kept: Collection[int], *, old: bool) -> list[str]:
    files = outcome.before if old else outcome.after
    document = files.document(path)
    if document is None:
        return []
    book, other = files.book, (outcome.after if old else outcome.before).document(path)
    text = document.text
    changed: list[Entry] = []
    same: list[Entry] = []
    for entry in secret_entries(book, path, document):
        there = other.find(entry.path) if other else None
        first, last = (text.place(at)[0] - 1 for at in (entry.start, entry.end))
        is_same = (there and there.value == entry.value) or all(line in kept for line in range(first, last + 1))
        (same if is_same else changed).append(entry)
    word = "(hidden, old)" if old else "(hidden, new)"
    blanked = {entry.start: "(hidden)" for entry in same} | {entry.start: word for entry in changed}
    for entry in sorted((*same, *changed), key=lambda finding: finding.start, reverse=True):
        text = without_secrets(text, [entry], blanked[entry.start])
    return lines_of(text.body)
