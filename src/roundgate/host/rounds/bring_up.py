"""Bringing a server up in a round, proving it, and going back where it is not proven."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from roundgate.core.next_step import Advice, typed_command
from roundgate.core.rounds import RoundOutcome, Step
from roundgate.host.backups.in_place import swap_back
from roundgate.host.errors import Trouble
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import NotProven, RoundAborted
from roundgate.host.rounds.prove import Proof, prove
from roundgate.host.rounds.snapshot.save import saved_files
from roundgate.host.rounds.start import start
from roundgate.host.rounds.stop import stop
from roundgate.host.rounds.write import put_back, undo, within_reach
from roundgate.host.store import Waiting


class RoundResult(Struct, frozen=True):
    """How a round ended."""

    outcome: RoundOutcome
    message: str
    do: Advice = ""
    evidence: Sequence[str] = ()
    operations: Sequence[Waiting] = ()
    """What went into the files and is to be taken off the slate."""


def as_it_was(round: Round, end: RoundResult, *, was_up: bool) -> RoundResult:
    """Nothing was written: start the server again as it was."""
    if not was_up:
        return end
    round.journal.degraded = True
    try:
        failure = _up_again(round, watch=False)
    except NotProven as error:
        message = f"{end.message} AND {round.server.name} DID NOT COME UP AGAIN: {error.why}. {round.where_saved}"
        return RoundResult(RoundOutcome.LOST, message, typed_command("log", round.server.name), error.evidence)
    return RoundResult(end.outcome, f"{end.message} {round.server.name} is up again {failure or 'as it was'}.", end.do)


def _up_again(round: Round, *, watch: bool) -> str:
    """Start the server with what is on disk, or else with the files that it had last started with.

    Gives an empty text, or with what it is up. Raises NotProven.
    """
    try:
        _start_as_it_was(round, watch=watch)
        return ""
    except NotProven as error:
        if not _bring_started_back(round, error):
            raise
    _start_as_it_was(round, watch=True)
    return "with the files that it had last started with; what was on disk is kept beside the snapshot"


def _start_as_it_was(round: Round, *, watch: bool) -> None:
    files = round.look().read().files
    if not round.driver.state().ready:
        with round.journal.step(Step.START):
            start(round)
    if watch:
        with round.journal.step(Step.PROVE):
            prove(round, files, ())


def _bring_started_back(round: Round, error: NotProven) -> bool:
    """Put the files back that the server had last started with, where they differ; return whether any did."""
    try:
        started = saved_files(round.server.site, round.number, "started")
        busy = {file.path for file in round.server.book.file.values() if file.rewritten != "never"}
        folder = round.server.files_folder
        there = {path: data for path, data in started.items() if path not in busy and data is not None}
        wanted = {path: data for path, data in there.items() if folder.read(path) != data}
        if not wanted:
            return False
        round.journal.note(Step.START, f"it does not come up with what is on disk: {error.why}")
        with round.journal.step(Step.REWIND, f"back to what it had last started with: {', '.join(wanted)}"):
            stop(round, None)
            put_back(round, wanted, {})
    except (Trouble, RoundAborted, OSError) as second:
        round.journal.note(Step.REWIND, f"that could not be done: {getattr(second, 'what', None) or second}")
        return False
    return True


def start_and_prove(round: Round, names: Sequence[str]) -> RoundResult:
    """Start the server, unless it is up already, prove the change, and rewind where it is not proven."""
    name, waiting = round.server.name, round.operations
    files = round.workspace.read().files  # as they are before the start: what the server makes of them is not a measure
    try:
        if not round.driver.state().ready:
            with round.journal.step(Step.START):
                start(round)
        with round.journal.step(Step.PROVE):
            proof = prove(round, files, names)
        for fact in proof.facts:
            round.journal.fact(fact)
    except NotProven as error:
        return _not_proven(round, waiting, error)
    if round.plan.writes == "backup":
        message = f"{name} is up with what backup {round.options.target} holds."
        return RoundResult(RoundOutcome.PROVEN, message, operations=waiting)
    if round.plan.ends_up == "up" and not waiting:
        return RoundResult(RoundOutcome.DONE, f"{name} is up, and proven to be.", operations=waiting)
    return _seen(name, proof, waiting)


def _seen(name: str, proof: Proof, waiting: Sequence[Waiting]) -> RoundResult:
    """Describe what was proven and what was not: a change that nobody read back is written, and no more is known."""
    unread = ", ".join(dict.fromkeys(proof.unread))
    if not proof.read and proof.unread:
        message = f"{name} is up with the new files. {as_far_as_seen(unread)}"
        return RoundResult(RoundOutcome.UNREAD, message, operations=waiting)
    if proof.unread:
        message = f"{name} is up. In force: {', '.join(proof.read)}. {as_far_as_seen(unread)}"
        return RoundResult(RoundOutcome.PROVEN, message, operations=waiting)
    return RoundResult(
        RoundOutcome.PROVEN, f"{name} is up, and confirms that the change is in force.", operations=waiting
    )


def as_far_as_seen(unread: str) -> str:
    """Describe what was written and cannot be asked for, as a person who runs a server would say it."""
    return f"In force as far as can be seen: this server cannot be asked for {unread}."


def _not_proven(round: Round, waiting: Sequence[Waiting], error: NotProven) -> RoundResult:
    round.journal.note(Step.PROVE, f"not proven: {error.why}")
    name = round.server.name
    if not round.plan.rewinds:
        is_up = round.driver.state().runs
        message = f"{name} runs, and is not proven: {error.why}." if is_up else f"{name} did not come up: {error.why}."
        return RoundResult(RoundOutcome.FAILED, message, typed_command("log", name), error.evidence)
    if round.options.keep:
        message = f"Kept as you asked, though not proven: {error.why}."
        return RoundResult(
            RoundOutcome.WRITTEN, message, typed_command("rounds rewind", "", round.number), error.evidence, waiting
        )
    return rewind(round, error)


def rewind(round: Round, error: NotProven) -> RoundResult:
    """Put back what the round wrote, byte for byte, start, and prove that the server is up as it was."""
    name = round.server.name
    # From here on the server's life comes before the books: a journal that cannot be written stops nothing.
    round.journal.degraded = True
    try:
        with round.journal.step(Step.REWIND, error.why):
            stop(round, None)
            if round.plan.writes == "backup":
                within_reach(round, lambda: swap_back(round))
            undo(round, saved_files(round.server.site, round.number))
    except (RoundAborted, Trouble, OSError) as second:
        why = getattr(second, "what", None) or str(second)
        message = f"Not proven ({error.why}), and the files could NOT be put back: {why} {round.where_saved}"
        return RoundResult(RoundOutcome.UNFINISHED, message, typed_command("rounds recover", name), error.evidence)
    return _up_as_before(round, error)


def _up_as_before(round: Round, error: NotProven) -> RoundResult:
    name = round.server.name
    why = error.why.rstrip(".")
    if not round.ran:
        message = f"Not proven: {why}. The files are as they were; {name} is down, as it was."
        return RoundResult(RoundOutcome.REWOUND, message, "", error.evidence)
    try:
        failure = _up_again(round, watch=True)
    except NotProven as second:
        message = (
            f"Not proven: {why}. The files are as they were, but {name} DOES NOT COME UP WITH THEM EITHER: "
            f"{second.why}. {round.where_saved}"
        )
        return RoundResult(RoundOutcome.LOST, message, typed_command("log", name), [*error.evidence, *second.evidence])
    if failure:
        return RoundResult(
            RoundOutcome.REWOUND,
            f"Not proven: {why}. {name} is up {failure}, and the slate is kept.",
            "",
            error.evidence,
        )
    message = f"Not proven: {why}. The files are as they were, {name} is up with them, and the slate is kept."
    return RoundResult(RoundOutcome.REWOUND, message, typed_command("slate", name), error.evidence)
