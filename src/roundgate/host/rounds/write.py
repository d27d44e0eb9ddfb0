"""The step write: read again, replay, check again, and write all files or none; and the way back."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from msgspec import MsgspecError

from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundOutcome, Step
from roundgate.core.slate import Outcome
from roundgate.core.text import NotEncodable
from roundgate.host import files
from roundgate.host.errors import ChangedMeanwhile, OutOfReach, Trouble
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import HalfWritten, RoundAborted
from roundgate.host.rounds.snapshot.save import MANIFEST, keep_copy, saved_files
from roundgate.host.servers import Server
from roundgate.host.site import Site
from roundgate.host.store import Waiting

_FIRST_PAUSE, _LONGEST_PAUSE = 1.0, 30.0
"""Seconds between two tries to put files back on a rented machine that is out of reach."""


def replayed(round: Round, waiting: Sequence[Waiting]) -> Outcome:
    """Replay the slate on the files as they were saved after the stop. Raises RoundAborted on errors."""
    outcome = round.workspace.outcome([entry.operation for entry in waiting])
    if not waiting:
        return outcome
    findings = round.workspace.findings_of(outcome)
    wrong = next((finding for finding in findings if finding.level == "error" and finding.waiting), None)
    if wrong:
        message = f"After the stop the files no longer fit the changes ({wrong.cause}), so nothing was written."
        raise RoundAborted(RoundOutcome.FAILED, message, typed_command("check", round.server.name))
    return outcome


def contents_of(outcome: Outcome) -> dict[str, bytes | None]:
    """Return the new bytes of every file that an outcome changes."""
    return {path: outcome.after.texts[path].encode() for path in outcome.touched}


def read_for(outcome: Outcome) -> dict[str, str | None]:
    """Return the digests of what an outcome was worked out from, for every file that it changes."""
    texts = outcome.before.texts
    return {path: files.digest(texts[path].encode()) if path in texts else None for path in outcome.touched}


def write(round: Round, contents: Mapping[str, bytes | None], expected: Mapping[str, str | None]) -> None:
    """Write all or none; ``expected`` are the digests that the files must have.

    Raises ChangedMeanwhile where somebody else has changed one, or RoundAborted where it cannot be done; then no file
    is changed. Raises HalfWritten where some may be.
    """
    if not contents:
        return
    folder, mirror, is_sent = round.server.files_folder, round.server.mirror, False
    try:
        prepared = files.prepare(folder, contents, _marks(round)[0], expected)
    except ChangedMeanwhile:
        raise
    except (OSError, Trouble, NotEncodable) as error:
        raise _failed(error) from error
    try:
        # The manifest is on disk before the first file changes places: without it, recovery could not tell which files
        # are ours.
        files.write_durably(str(round.make_folder() / MANIFEST), files.manifest_bytes(prepared))
        if mirror is not None:
            mirror.compare(expected)
            is_sent = True
            mirror.push(contents, _marks(round)[0])
        files.commit(folder, prepared, lambda path, data: keep_copy(round, path, data, "somebody changed it just now"))
    except (OSError, Trouble) as error:
        changed = [
            replacement.path
            for replacement in prepared
            if replacement.new != replacement.old and files.digest(folder.read(replacement.path)) == replacement.new
        ]
        if changed or is_sent:  # some files are new already, or may be: the engine rewinds
            raise HalfWritten(getattr(error, "what", str(error)).rstrip(".")) from error
        files.discard(folder, prepared)
        if isinstance(error, ChangedMeanwhile):
            raise
        raise _failed(error) from error


def _failed(error: Exception) -> RoundAborted:
    if isinstance(error, Trouble):
        return RoundAborted(RoundOutcome.FAILED, f"{error.what} Nothing was written.", error.do)
    place = f": {error.filename}" if isinstance(error, OSError) and error.filename else ""
    why = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    return RoundAborted(
        RoundOutcome.FAILED,
        f"The files could not be written ({why}{place}); none was changed.",
        "Correct that, then apply again.",
    )


def _marks(round: Round) -> tuple[str, str]:
    """Return the marks of what is written beside its place: on the way there, and on the way back."""
    return str(round.number), f"{round.number}-back"


def undo(round: Round, saved: Mapping[str, bytes | None]) -> None:
    """Put back the files that the round wrote, byte for byte. Files that it never wrote are left as they are.

    What somebody else, or the server itself, has made of one meanwhile is kept beside the snapshot and named. Works
    from any point at which a write may have been interrupted.
    """
    within_reach(round, lambda: _undo(round, saved))


def within_reach(round: Round, act: Callable[[], None]) -> None:
    """Do what may be done again; a rented machine that is out of reach is waited for, as long as a start may take.

    Raises OutOfReach after that, and what ``act`` raises.
    """
    pause, until = _FIRST_PAUSE, time.monotonic() + round.server.seconds("start_within")
    while True:
        try:
            return act()
        except OutOfReach as error:
            if time.monotonic() + pause > until:
                raise
            if pause == _FIRST_PAUSE:
                round.journal.note(Step.WRITE, f"{error.what} Its files are put back as soon as it answers")
            time.sleep(pause)
            pause = min(2 * pause, _LONGEST_PAUSE)


def _undo(round: Round, saved: Mapping[str, bytes | None]) -> None:
    manifest = _manifest(round.folder)
    folder = round.server.files_folder
    written = [replacement.path for replacement in manifest]
    # Both ways may have been interrupted, the one there and the one back, and each leaves temporary files.
    for mark in _marks(round):
        files.sweep(folder, [*written, *saved], mark)
    if round.server.mirror is not None:
        round.server.mirror.sweep(written, _marks(round))
    digests = {replacement.path: replacement.new for replacement in manifest}
    put_back(round, {path: saved[path] for path in written if path in saved}, digests)


def put_back(round: Round, wanted: Mapping[str, bytes | None], ours: Mapping[str, str | None]) -> None:
    """Give files these contents; keep a copy of what is there, unless it has a digest of ``ours``.

    Raises OSError, or Trouble where they change again and again.
    """
    folder = round.server.files_folder
    for last in (False, False, True):
        round.server.fetch(list(wanted))
        now = {path: folder.read(path) for path in wanted}
        wrong = {path: data for path, data in wanted.items() if now[path] != data}
        for path in wrong:
            there = now[path]
            if there is not None and files.digest(there) != ours.get(path):
                keep_copy(round, path, there, _whose(round, path))
        try:
            expected = {path: files.digest(now[path]) for path in wrong}
            made = files.prepare(folder, wrong, _marks(round)[1], expected)
            if round.server.mirror is not None:
                round.server.mirror.compare(expected)
                round.server.mirror.push(wrong, _marks(round)[1])
            files.commit(folder, made, lambda path, data: keep_copy(round, path, data, "somebody changed it just now"))
        except ChangedMeanwhile:
            if last:
                raise
        else:
            return


def _whose(round: Round, path: str) -> str:
    rewritten = next((file.rewritten for file in round.server.book.file.values() if file.path == path), "never")
    if rewritten in ("at-stop", "while-running"):
        return "the server had rewritten it, or somebody had changed it, since it was saved"
    return "somebody had changed it since the round wrote it"


def rewind_target(site: Site, number: int) -> dict[str, bytes | None]:
    """Return the files that a round wrote, as they were before it. Raises Trouble where there are none."""
    manifest = _manifest(site.state / "rounds" / str(number))
    if not manifest:
        raise Trouble(
            f"Round {number} wrote no files, so there is nothing to put back.", typed_command("rounds show", "", number)
        )
    saved = saved_files(site, number)
    return {replacement.path: saved[replacement.path] for replacement in manifest if replacement.path in saved}


def changed_since(server: Server, number: int) -> list[str]:
    """Name the files that a round wrote and that are no longer as it left them: going back drops those changes too."""
    manifest = _manifest(server.site.state / "rounds" / str(number))
    return files.written_by_others(server.files_folder, manifest)


def _manifest(folder: Path) -> list[files.Replacement]:
    raw = files.read_bytes(str(folder / MANIFEST))
    try:
        return files.read_manifest(raw) if raw is not None else []
    except MsgspecError as error:
        raise Trouble(f"The list of what was written, {folder / MANIFEST}, is damaged.", f"ls -l {folder}") from error
