"""The step write: read anew, replay, check again, and write all files or none."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from roundgate.core.checks import check_outcome
from roundgate.core.slate import Outcome
from roundgate.core.text import NotEncodable
from roundgate.host import files
from roundgate.host.errors import Trouble
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import RoundEnd
from roundgate.host.store import Waiting

MANIFEST = "manifest.json"


def replayed(round: Round, waiting: Sequence[Waiting]) -> Outcome:
    """Read the files anew, for the server may have rewritten them, and replay the slate. Raises RoundEnd on errors."""
    now, outcome = round.server.outcome([one.operation for one in waiting])
    findings = check_outcome(round.server.name, outcome, now.unreadable)
    wrong = next((one for one in findings if one.level == "error" and one.waiting), None)
    if wrong:
        said = f"After the stop the files no longer fit the changes ({wrong.cause}), so nothing was written."
        raise RoundEnd("failed", said, f"roundgate check {round.server.name}")
    return outcome


def contents_of(outcome: Outcome) -> dict[str, bytes | None]:
    """Give the new bytes of every file that an outcome changes."""
    return {path: outcome.after.texts[path].encode() for path in outcome.touched}


def write(round: Round, contents: Mapping[str, bytes | None]) -> None:
    """Write all or none. Raises RoundEnd where it cannot be done; then no file is changed."""
    if not contents:
        return
    try:
        prepared = files.prepare(round.server.files_folder, contents, _marks(round)[0])
    except (OSError, Trouble, NotEncodable) as error:
        raise _failed(error) from error
    try:
        files.write_durably(str(round.make_folder() / MANIFEST), files.manifest_bytes(prepared))
        files.commit(prepared)
    except (OSError, Trouble) as error:
        changed = [one.path for one in prepared if files.digest(files.read_bytes(one.target)) == one.new != one.old]
        if changed:
            raise  # some files are new already: the engine rewinds
        files.discard(prepared)
        raise _failed(error) from error


def _failed(error: Exception) -> RoundEnd:
    if isinstance(error, Trouble):
        return RoundEnd("failed", f"{error.what} Nothing was written.", error.do)
    place = f": {error.filename}" if isinstance(error, OSError) and error.filename else ""
    why = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    return RoundEnd("failed", f"The files could not be written ({why}{place}); none was changed.", "Mend that first.")


def _marks(round: Round) -> tuple[str, str]:
    """Give the marks of what is written beside its place: on the way there, and on the way back."""
    return str(round.number), f"{round.number}-back"


def undo(round: Round, saved: Mapping[str, bytes | None]) -> list[str]:
    """Put the saved files back, byte for byte; give the paths that somebody else has written meanwhile.

    Works from any point at which a write may have been broken off.
    """
    raw = files.read_bytes(str(round.folder / MANIFEST))
    others: list[str] = []
    if raw is not None:
        manifest = files.read_manifest(raw)
        others = files.strangers(manifest)
    folder = round.server.files_folder
    for mark in _marks(round):
        files.sweep(folder, saved, mark)
    wrong = {
        path: data
        for path, data in saved.items()
        if files.digest(files.read_bytes(folder.resolve(path))) != files.digest(data)
    }
    files.commit(files.prepare(folder, wrong, _marks(round)[1]))
    return others
