"""What is known of a server's values: on disk, on the slate, as it was started, and by its console."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core import values
from roundgate.core.files import ServerFiles
from roundgate.core.layers import Known
from roundgate.host.drivers.protocol import RunState
from roundgate.host.servers import Server
from roundgate.host.store import Store, secret_mark
from roundgate.host.workspace import Workspace
from roundgate.host.worlds import world_of
from roundgate.host.written import drifted


def known_of(
    workspace: Workspace,
    store: Store,
    state: RunState,
    asked: dict[str, str] | None = None,
    also: Sequence[str] = (),
) -> Known:
    """Gather what is known of a server's values; ``also`` are files to read that its rulebook does not name."""
    server = workspace.server
    unknown = {name.partition(":")[0] for name in store.written(server.name) if ":" in name}
    outcome = workspace.outcome(workspace.operations, [*also, *sorted(unknown)])
    files = workspace.read().files
    started = server.read_started() if state.runs else None
    live = _live(server, store, state, files, outcome.after)
    gone = drifted(server, store, files)
    return Known(files, outcome.after, started, live, asked, gone, world_of(server, started) if started else None)


def _live(
    server: Server, store: Store, state: RunState, disk: ServerFiles, slate: ServerFiles
) -> dict[str, str] | None:
    """Return what was sent to the console since the start. Of a secret only a mark is kept; the files may know it."""
    if not state.started:
        return None
    found = store.live(server.name, state.started)
    for name, kept in found.items():
        spec = server.book.setting.get(name)
        if spec is not None and values.is_hidden(spec):
            held = [files.stored(name) for files in (slate, disk)]
            known = (
                kept_value
                for kept_value in held
                if kept_value is not None and secret_mark(server.name, name, kept_value) == kept
            )
            found[name] = next(known, "")
    return found
