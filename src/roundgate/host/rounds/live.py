"""A live round: what a running server can be told of goes into the files and into force without a stop.

Its steps are gather, save, write, tell and prove. What is not proven is put back, in the files and at the console.
"""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path

from roundgate.core.next_step import typed_command
from roundgate.core.operations.base import Operation
from roundgate.core.records.live import LiveChange, commands_of, told_for
from roundgate.core.rounds import RoundOutcome, Step, ValuesUnread
from roundgate.host.errors import Trouble
from roundgate.host.files import write_durably
from roundgate.host.rounds.bring_up import RoundResult, as_far_as_seen
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import NotProven, RoundAborted
from roundgate.host.rounds.reading import confirmed
from roundgate.host.rounds.snapshot.save import saved_files
from roundgate.host.rounds.write import undo

_KEPT_WITHIN = 3.0
"""Seconds within which a server that rewrites a file must have what it was told in it."""
_PAUSE = 0.05


def hold(round: Round) -> None:
    """Hold a running server for a live round. Raises RoundAborted where it is down."""
    if not round.driver.state().runs:
        message = f"{round.server.name} is down, so there is nothing to tell. The changes wait."
        raise RoundAborted(RoundOutcome.REFUSED, message, typed_command("apply", round.server.name))
    round.driver.open()
    round.driver.lease(round.number)
    round.driver.follow()


def tell_and_prove(round: Round) -> RoundResult:
    """Tell the running server what is in the files now, and see that it has it; else put all back."""
    operations = [entry.operation for entry in round.operations]
    name = round.server.name
    if not round.driver.state().runs:
        message = f"{name} is down by now. The changes are in its files, and in force once it starts."
        return RoundResult(RoundOutcome.WRITTEN, message, typed_command("start", name), operations=round.operations)
    try:
        read, unread = _tell(round, operations)
    except NotProven as error:
        round.journal.note(Step.PROVE, f"not proven: {error.why}")
        return take_back(round, error)
    _remember_started(round)
    if unread:
        round.journal.fact(ValuesUnread(tuple(unread)))
    if unread and not read:
        message = f"{name} received it, and it is in the files. {as_far_as_seen(', '.join(unread))}"
        return RoundResult(RoundOutcome.UNREAD, message, operations=round.operations)
    more = f" {as_far_as_seen(', '.join(unread))}" if unread else ""
    message = f"In force on {name}, without a stop: {', '.join(read)}.{more}"
    return RoundResult(RoundOutcome.PROVEN, message, operations=round.operations)


def _remember_started(round: Round) -> None:
    """Let the copies of what the running server has read be what it was told of."""
    folder = round.server.files_folder
    # The change is in force and in the file; a copy that is older only makes status say that a restart is due.
    with suppress(OSError, Trouble):
        for path in {entry.operation.file for entry in round.operations}:
            data = folder.read(path)
            if data is not None:
                copy = Path(round.server.state) / "started" / path
                copy.parent.mkdir(parents=True, exist_ok=True)
                write_durably(str(copy), data)


def _tell(round: Round, operations: Sequence[Operation]) -> tuple[list[str], list[str]]:
    """Return the names of what the server confirms, and of what it cannot be asked for. Raises NotProven."""
    told = told_for(operations, round.look().read().files)
    refused = next((command for command in told if command.refused), None)
    if refused is not None:
        raise NotProven(f"{refused.name} cannot be sent: {refused.refused}", round.evidence())
    try:
        commands = commands_of(told)
        with round.journal.step(Step.TELL, "; ".join(commands)):
            for command in commands:
                answer = round.console.exchange(command)
                if answer:
                    round.journal.note(Step.TELL, answer[-1])
        with round.journal.step(Step.PROVE):
            _see_files(round, operations)
            read = [command.name for command in told if confirmed(round, command)]
    except Trouble as error:
        raise NotProven(error.what, round.evidence()) from error
    finally:
        round.console.close()
    names = dict.fromkeys(operation.shown_name for operation in operations)
    return read, [name for name in names if name not in read]


def _see_files(round: Round, operations: Sequence[Operation]) -> None:
    """See that the files hold the changes, also where the server rewrote them. Raises NotProven."""
    until = time.monotonic() + _KEPT_WITHIN
    while True:
        outcome = round.look().outcome(operations)
        lost = [change.name for change in outcome.changes if not change.is_nothing]
        if not lost and not outcome.refused:
            return
        if time.monotonic() > until:
            names = ", ".join(lost or [finding.setting for finding in outcome.refused])
            raise NotProven(f"the server rewrote its file, without {names}", round.evidence())
        round.log.hear(time.monotonic() + _PAUSE)


def take_back(round: Round, error: NotProven) -> RoundResult:
    """Tell a running server that it is not so after all, and put the files back as they were.

    What the server takes from the command comes first, because it may rewrite its file then; what it reads from the
    file comes last.
    """
    name, why = round.server.name, error.why.rstrip(".")
    round.journal.degraded = True
    untold = ""
    try:
        with round.journal.step(Step.REWIND, error.why):
            saved = saved_files(round.server.site, round.number)
            back = _back(round, saved)
            untold = _say(round, commands_of(back, reads_file=False))
            undo(round, saved)
            untold = _say(round, commands_of(back, reads_file=True)) or untold
    except (Trouble, OSError) as second:
        reason = getattr(second, "what", None) or str(second)
        message = f"Not proven ({why}), and the files could NOT be put back: {reason} {round.where_saved}"
        return RoundResult(RoundOutcome.UNFINISHED, message, typed_command("rounds recover", name), error.evidence)
    if not round.driver.state().runs:
        message = f"Not proven: {why}. The files are as they were, and the slate is kept; {name} is down."
        return RoundResult(RoundOutcome.REWOUND, message, typed_command("start", name), error.evidence)
    if untold:
        message = (
            f"Not proven: {why}. The files are as they were, and {name} could not be notified ({untold}): it may have "
            "a part of the change until it starts again."
        )
        return RoundResult(RoundOutcome.REWOUND, message, typed_command("restart", name), error.evidence)
    message = f"Not proven: {why}. The files are as they were, {name} was notified, and the slate is kept."
    return RoundResult(RoundOutcome.REWOUND, message, typed_command("slate", name), error.evidence)


def _back(round: Round, saved: Mapping[str, bytes | None]) -> list[LiveChange]:
    """Return what the server is told on the way back; nothing where it cannot have heard of the change."""
    if not round.driver.state().runs:
        return []
    before = round.workspace.with_contents(saved).read().files
    return told_for([entry.operation for entry in round.operations], before, back=True)


def _say(round: Round, commands: Sequence[str]) -> str:
    """Send commands, and wait for their answers; give why that could not be done, else an empty text."""
    try:
        for command in commands:
            round.console.exchange(command)
            round.journal.note(Step.REWIND, f"sent to {round.server.name}: {command}")
    except Trouble as error:
        return error.what.rstrip(".")
    finally:
        round.console.close()
    return ""
