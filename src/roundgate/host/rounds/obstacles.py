"""What keeps a round from beginning: errors, a server that runs outside Round Gate, a port that is taken."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from roundgate.core.files import ServerFiles
from roundgate.core.fleet.ports import overlap
from roundgate.core.fleet.wanted import wanted_ports
from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundOutcome
from roundgate.host import machine
from roundgate.host.drivers.protocol import RunState
from roundgate.host.errors import Trouble
from roundgate.host.files import write_obstacle
from roundgate.host.rounds.options import RoundAborted
from roundgate.host.rulebooks import mistake_in
from roundgate.host.servers import Server


def refuse_unwritable(server: Server, paths: Sequence[str]) -> None:
    """End the round where a file cannot be written. Raises RoundAborted, or Trouble for a link that leads away."""
    for path in paths:
        why = write_obstacle(server.files_folder, path)
        if why:
            raise RoundAborted(RoundOutcome.REFUSED, f"{why}, so nothing was done.", f"ls -l {server.folder / path}")


def check_rulebook_whole(server: Server) -> None:
    """See that the whole rulebook is right before a round begins, for a keeper acts on it. Raises Trouble."""
    mistake = mistake_in(server.entry.rulebook, server.site.folder)
    if mistake:
        raise mistake


def refuse_outsiders(server: Server, state: RunState) -> None:
    """Refuse to go on where the server runs outside Round Gate. Raises Trouble."""
    if state.runs or server.mirror is not None:
        return
    found = machine.running_in(server.run_in, server.book.server.process)
    if found:
        processes = ", ".join(machine.name_process(process) for process in found)
        what = f"{server.name} already runs outside Round Gate: {processes}."
        raise Trouble(what, typed_command("adopt", server.name, options=("--running",)))


def refuse_stop_of_self(server: Server, ends_up: str) -> None:
    """Refuse to take a server down for good that its host starts again whenever it ends. Raises RoundAborted."""
    if ends_up == "down" and server.entry.driver == "self":
        message = f"{server.name} cannot be stopped for good: its host starts it again whenever it ends."
        raise RoundAborted(RoundOutcome.REFUSED, message, typed_command("restart", server.name))


def refuse_taken_ports(server: Server, files: ServerFiles, ours: Sequence[int]) -> None:
    """Refuse to go on where somebody else owns a port that the server will need. Raises RoundAborted."""
    for wanted in wanted_ports(files) if server.mirror is None else ():
        for owner in machine.holders(wanted.protocol, wanted.port, ours):
            # The server's own process holds its ports now and lets them go at the stop.
            if owner.process not in ours and overlap(owner.address, wanted.address):
                who = _whose(server, owner.process)
                message = f"Port {wanted.port} ({wanted.protocol}) is taken by {who}; {server.name} could not start."
                other = f", or: roundgate set {server.name} {wanted.setting}=<value>" if wanted.setting else "."
                raise RoundAborted(RoundOutcome.REFUSED, message, f"Stop that{other}")


def _whose(server: Server, process: int | None) -> str:
    for name in server.site.file.server:
        folder = Path(server.site.folder_of(name))
        if process is not None and process in machine.running_in(str(folder), server.book.server.process):
            return f"{name} of this site, {machine.name_process(process)}"
    return machine.name_process(process)
