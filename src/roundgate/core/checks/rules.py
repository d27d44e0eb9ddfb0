"""Do the settings fit together, as the rulebook's rules want it, and can a change take effect at all?"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from contextlib import suppress

from roundgate.core import values
from roundgate.core.checks.context import CheckContext
from roundgate.core.files import describe_values, format_value
from roundgate.core.findings import Finding, FindingCode, Place
from roundgate.core.next_step import written_command
from roundgate.core.records.model import Record
from roundgate.core.records.sets import records_in
from roundgate.core.rulebook.conditions import broken_rules
from roundgate.core.rulebook.expansion import fields_of_sets
from roundgate.core.rulebook.expressions import ExpressionProblem, names_in, read_expression, work_out
from roundgate.core.rulebook.model import Setting
from roundgate.core.slate import Outcome
from roundgate.core.values.protocol import ValueProblem

CODES = (
    FindingCode(
        "rule-broken",
        "error",
        "Settings that do not fit together",
        "Each value is right by itself, and together they are not. The rule is the rulebook's own.",
        "heat.size=12 with boat.slots=8",
        "heat.size=8 with boat.slots=8",
    ),
    FindingCode(
        "world-fixed",
        "error",
        "A setting that only a new world takes",
        "The server reads it when it makes a world and never again. "
        "Name a new world in the same round; the old one stays.",
        "tide.mode changed, world.save as it was",
        "tide.mode changed, and world.save given a new name",
    ),
    FindingCode(
        "slate-stuck",
        "error",
        "A waiting change that can no longer be made",
        "What is on disk has changed so much that the change has nothing to work on.",
    ),
    FindingCode(
        "rulebook-value", "error", "A mistake in a rulebook", "A name that leads nowhere, or a value of the wrong kind."
    ),
    FindingCode(
        "rulebook-syntax", "error", "A rulebook that is not TOML", "The line named is where the reader gave up."
    ),
)


def check_rules(context: CheckContext, written: Collection[str] | None = None) -> Iterator[Finding]:
    """Check the rulebook's rules on the values that count; not those about records alone whose files are not written.

    A rule about a value that is wrong by itself is left out: the value has its own finding, and what the rule would
    compare with is anybody's guess.
    """
    asked = {rule.name: rule.needs for rule in context.book.rule if _may_change(context, rule.needs, written)}
    broken = set(broken_rules(context.files.names, asked))
    for rule in context.book.rule:
        if rule.name in broken:
            names = sorted(names_in(read_expression(rule.needs), fields_of_sets(context.book)))
            settings = context.book.setting
            if any(is_unreadable(context.files.stored(name), settings[name]) for name in names if name in settings):
                continue
            failing = _failing(context, rule.needs)
            have = describe_values(context.files, names) if not failing else _named(failing)
            place = _place_of(context, names) if not failing else _record_place(context, *failing[0])
            do = written_command(rule.do, context.server) or f"Change one of {', '.join(names)}."
            yield context.finding(
                "rule-broken", rule.level, place, f"{rule.say} ({have})", do, names[0] if names else ""
            )


def _may_change(context: CheckContext, needs: str, written: Collection[str] | None) -> bool:
    """Return whether what is written may matter to a rule: files of records are read only where it does."""
    if written is None:
        return True
    book = context.book
    names = names_in(read_expression(needs), fields_of_sets(book))
    if not all(name in book.records and name not in book.setting for name in names):
        return True
    sets = {*names, *(field.to for name in names for field in book.records[name].field.values() if field.to)}
    return any(book.file[book.records[set_name].file].path in written for set_name in sets if set_name in book.records)


_MOST_NAMED = 5
"""Records that a finding names; of more it says how many."""


def _failing(context: CheckContext, needs: str) -> list[tuple[str, Record]]:
    """Return the records for which a rule about all records of a set does not hold, each with the set's name."""
    tree = read_expression(needs)
    if tree[:2] != ("over", "all") or tree[2][0] != "name" or tree[2][1] not in context.book.records:
        return []
    name = tree[2][1]
    spec = context.book.records[name]
    records = records_in(context.files.document(context.book.file[spec.file].path), spec)
    found = []
    for record, row in zip(records, context.files.names[name], strict=True):
        with suppress(ExpressionProblem):
            if not work_out(("over", "all", ("value", [row]), tree[3]), context.files.names):
                found.append((name, record))
    return found


def _named(failing: list[tuple[str, Record]]) -> str:
    joined = ", ".join(f"{name}/{record.key}" for name, record in failing[:_MOST_NAMED])
    return joined + (f", and {len(failing) - _MOST_NAMED} more" if len(failing) > _MOST_NAMED else "")


def _record_place(context: CheckContext, name: str, record: Record) -> Place:
    path = context.book.file[context.book.records[name].file].path
    entry = next((entry for held in record.fields.values() for entry in held.entries), None)
    return context.entry_place(path, entry) if entry is not None else Place(path)


def is_unreadable(stored: str | None, spec: Setting) -> bool:
    """Return whether a setting's stored value is one that the server would not take."""
    if stored is None:
        return False
    try:
        values.read(stored, spec)
    except ValueProblem:
        return True
    return False


def _place_of(context: CheckContext, names: list[str]) -> Place:
    for name in names:
        entry = context.files.entry(name) if name in context.book.setting else None
        if entry:
            return context.entry_place(context.files.path_of(context.book.setting[name]), entry)
    sets = [context.book.records[name] for name in names if name in context.book.records]
    if sets:
        return Place(context.book.file[sets[0].file].path)
    return Place(next((context.files.path_of(context.book.setting[n]) for n in names if n in context.book.setting), ""))


def next_world(world: str, spec: Setting) -> str:
    """Offer a name for a new world beside one that is there; ``NEW-NAME`` where none can be made that fits."""
    stem, _, last = world.rpartition("-")
    offered = f"{stem}-{int(last) + 1}" if stem and last.isdecimal() and len(last) < 4 else f"{world}-2"
    return values.sure_meaning(offered, spec) or "NEW-NAME"


def check_worlds(context: CheckContext, outcome: Outcome) -> Iterator[Finding]:
    """Find changes to what a world has fixed, made without naming a new world in the same round."""
    changed = {change.name for change in outcome.changes if not change.is_nothing}
    for change in outcome.changes:
        spec = context.book.setting.get(change.name)
        if change.is_nothing or spec is None or not spec.fixed_by or spec.fixed_by in changed:
            continue
        if is_unreadable(change.before, spec):
            continue  # no world was made with a value that the server does not take: this fixes the file
        world = outcome.before.counting_text(spec.fixed_by)
        if not world:  # each start makes a new one
            continue
        cause = f"{change.name} was fixed when the world '{world}' was made; a change does nothing there."
        wanted = next_world(world, context.book.setting[spec.fixed_by])
        shown = f"{change.name}={format_value(change.after, spec)}" if change.after is not None else change.name
        do = context.command("set", shown, options=("--new-world", wanted))
        entry = context.files.entry(change.name)
        path = context.files.path_of(spec)
        place = context.entry_place(path, entry) if entry else Place(path)
        yield context.finding("world-fixed", "error", place, cause, do, change.name)
