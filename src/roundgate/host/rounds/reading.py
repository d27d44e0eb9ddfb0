"""Reading values back from a running server: one that a round changed, and what its world was made with."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Literal

from roundgate.core import values
from roundgate.core.files import ServerFiles, format_value, value_of
from roundgate.core.records.live import LiveChange
from roundgate.core.rounds import ValueInForce, WorldKept
from roundgate.core.rulebook.model import Setting
from roundgate.host.errors import NoConsole, Trouble
from roundgate.host.patterns import search
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import NotProven
from roundgate.host.servers import stored_value
from roundgate.host.worlds import fixed_by, known_worlds, remember_world


def learn_world(round: Round, names: Collection[str]) -> None:
    """Before a round gives the server another world, remember what the present one was made with.

    Nothing depends on it: a server that does not answer is not asked twice.
    """
    files = round.server.read_started()
    for slot, fixed in fixed_by(round.server.book).items():
        if slot in names:
            remember_world(round.server, slot, files.counting_text(slot), _asked(round, fixed))


def look_at_world(round: Round, files: ServerFiles, names: Sequence[str]) -> list[WorldKept]:
    """Return where the files ask for something else than the world that this round loaded was made with."""
    kept = []
    for slot, fixed in fixed_by(round.server.book).items():
        if not {slot, *fixed} & set(names):
            continue
        world = files.counting_text(slot)
        if not world:
            continue
        known = known_worlds(round.server).get(slot, {}).get(world)
        values = {**(known or {}), **_asked(round, fixed)}
        for name in fixed:
            spec, stored = round.server.book.setting[name], files.stored(name)
            if name not in values and known is None and slot in names:  # a world that this round makes
                values[name] = stored_value(round.server, files, name)
            if name in values and name not in names and value_of(values[name], spec) != value_of(stored, spec):
                wanted = format_value(stored, spec) if stored is not None else None
                kept.append(WorldKept(name, world, format_value(values[name], spec), wanted))
        remember_world(round.server, slot, world, values)
    return kept


def _asked(round: Round, names: Sequence[str]) -> dict[str, str]:
    """Ask the server for settings; return what it says, until it does not answer."""
    found: dict[str, str] = {}
    for name in names:
        try:
            message = read_back(round, name, round.server.book.setting[name])
        except (NotProven, Trouble):
            break
        if message is not None:
            found[name] = message[0]
    return found


def confirmed(round: Round, told: LiveChange) -> bool:
    """Ask for a change of a record; return whether the server confirms it, False where it cannot be asked.

    Raises NotProven where it says otherwise.
    """
    if not told.ask:
        return False
    try:
        answer = round.console.exchange(told.ask)
    except Trouble as error:
        raise NotProven(f"{told.name} could not be read back: {error.what}", round.evidence()) from error
    is_there = any(search(told.shows, line) for line in answer)
    if is_there != told.is_there:
        seen = f": {answer[-1].strip()}" if answer else ", for it does not answer"
        raise NotProven(f"asked with '{told.ask}', the server does not confirm {told.name}{seen}", round.evidence())
    round.journal.fact(ValueInForce(told.name, "there" if is_there else "gone", "console"))
    return True


def read_back(round: Round, name: str, spec: Setting) -> tuple[str, Literal["start-log", "console", "query"]] | None:
    """Return what the server says of a setting, and where it says it; None where it cannot be asked safely.

    Raises NotProven.
    """
    if values.is_hidden(spec):
        return None
    if spec.shown:
        for line in round.log.lines:
            found = search(spec.shown, line)
            if found:
                return found["value"], "start-log"
    if spec.live is None or not spec.live.can_be_read:
        return None
    source: Literal["console", "query"] = "console" if spec.live.read else "query"
    try:
        answer = round.reader.read(spec)
    except NoConsole:
        return None
    except Trouble as error:
        raise NotProven(f"{name} could not be read back: {error.what}", round.evidence()) from error
    if answer is None:
        who = "the console does not answer" if source == "console" else f"the query '{spec.live.query}' does not say it"
        raise NotProven(f"{name} could not be read back: {who}", round.evidence())
    return answer, source
