"""One server of an open site, as a program or a command works with it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from roundgate.api.lookup import find_name
from roundgate.core.findings import Finding
from roundgate.core.operations.base import Operation
from roundgate.core.rulebook.expansion import setting_at
from roundgate.core.rulebook.model import Rulebook
from roundgate.host.drivers.protocol import RunState
from roundgate.host.errors import OutOfReach, Trouble
from roundgate.host.servers import Server
from roundgate.host.store import Store, Waiting
from roundgate.host.workspace import Workspace

if TYPE_CHECKING:
    from roundgate.api.key_changes import AskSecret, ChangeOptions, KeyChanges
    from roundgate.api.list_changes import ListChanges
    from roundgate.api.proposal import Proposal
    from roundgate.core.layers import Known, Layers
    from roundgate.host.rounds.gather import Gathered
    from roundgate.host.rounds.options import Options
    from roundgate.host.rounds.process import RoundWindow
    from roundgate.host.store import RoundRow


class Discarded(Struct, frozen=True):
    """What came of taking changes off a slate."""

    gone: tuple[int, ...]
    """The ids of the entries that are off the slate."""
    held: tuple[Waiting, ...]
    """Entries that were asked for and that a round is bringing into force; nobody takes those off."""
    finished: tuple[Waiting, ...]
    """Entries that a round brought into force meanwhile."""
    left: int
    """How many entries still wait."""


class OpenServer:
    """A server of an open site. What it says of the files is of one moment, until ``refresh`` or ``put``."""

    def __init__(self, server: Server, store: Store) -> None:
        """Read nothing yet."""
        self.server = server
        self.store = store
        self._workspace: Workspace | None = None

    @property
    def name(self) -> str:
        """Its name in the site file."""
        return self.server.name

    @property
    def book(self) -> Rulebook:
        """Its rulebook. Raises BrokenRulebook or Trouble."""
        return self.server.book

    @property
    def workspace(self) -> Workspace:
        """Its files and slate, read when they are first needed."""
        if self._workspace is None:
            self._workspace = Workspace(self.server, self.store.slate(self.name))
        return self._workspace

    def refresh(self) -> None:
        """Look at the disk and at the slate again the next time that they are needed."""
        self._workspace = None

    # --- looking ---

    def state(self) -> RunState:
        """Return whether it runs, since when, and who is on it. Raises KeeperGone where its keeper does not answer."""
        from roundgate.host.drivers import driver_of

        driver = driver_of(self.server)
        try:
            return driver.state()
        except OutOfReach as error:
            if self.server.mirror is not None:
                self.server.mirror.out_of_reach = error  # told at the end, with when the copy is from
            return RunState()
        except Trouble:
            if self.server.mirror is None:
                raise
            return RunState()  # nothing tells whether it is up; a round will say why
        finally:
            driver.close()

    def known(self, state: RunState, asked: dict[str, str] | None = None, also: Sequence[str] = ()) -> Known:
        """Gather what is known of its values: on disk, on the slate, running, and live.

        ``asked`` are answers of its console; ``also`` are files to read that its rulebook does not name.
        """
        from roundgate.api.known import known_of

        return known_of(self.workspace, self.store, state, asked, also)

    def layers(self, name: str) -> Layers:
        """Return the layers of one setting. Raises UnknownName."""
        from roundgate.api.lookup import setting_of
        from roundgate.core.layers import layers_of

        return layers_of(setting_of(self.workspace, name).name, self.known(self.state()))

    def check(self) -> list[Finding]:
        """Check its files on disk and as the slate would leave them; what the slate brings is marked as waiting."""
        from roundgate.host.checking import check_one

        return check_one(self.workspace)

    # --- changing ---

    def key_changes(self, options: ChangeOptions | None = None, ask_secret: AskSecret | None = None) -> KeyChanges:
        """Return the maker of operations on settings and keys."""
        from roundgate.api.key_changes import KeyChanges

        return KeyChanges(self.workspace, options, ask_secret)

    def list_changes(self, options: ChangeOptions | None = None) -> ListChanges:
        """Return the maker of operations on lists."""
        from roundgate.api.list_changes import ListChanges

        return ListChanges(self.workspace, options)

    def propose(self, operations: Sequence[Operation]) -> Proposal:
        """Check what the slate would be with the operations on it. Nothing is kept."""
        from roundgate.api.proposal import propose
        from roundgate.host.fleet.clashes import clashes_brought

        proposal = propose(self.workspace, operations)
        before = self.workspace.outcome(self.workspace.operations).after
        more = clashes_brought(self.server, before, proposal.outcome.after)
        return replace(proposal, findings=(*proposal.findings, *more)) if more else proposal

    def put(self, operations: Sequence[Operation], by: str = "") -> None:
        """Put operations on the slate, in the name of ``by`` or of this user."""
        from roundgate.host.person import who

        self.store.add_to_slate(self.name, operations, by or who())
        if self._workspace is not None:
            self._workspace = self._workspace.with_slate(self.store.slate(self.name))

    def matching(self, names: Sequence[str]) -> list[Waiting]:
        """Return what waits under some names, each as a person may say it."""
        wanted = {find_name(self.book, name) or name for name in names}
        return [
            entry
            for entry in self.store.slate(self.name)
            if entry.operation.shown_name in wanted
            or setting_at(self.book, entry.operation.file, entry.operation.value_key) in wanted
        ]

    def discard(self, names: Sequence[str] = ()) -> Discarded:
        """Take what waits under some names off the slate; without names all of it, unreadable entries too."""
        odd = [] if names else self.store.odd_entries(self.name)
        return self._take_off(self.matching(names) if names else self.store.slate(self.name), odd)

    def discard_last(self) -> Discarded:
        """Take off the slate what was put there last, by one call."""
        waiting = self.store.slate(self.name)
        return self._take_off([entry for entry in waiting if entry.at == waiting[-1].at], [])

    def discard_idle(self, proposal: Proposal) -> set[str]:
        """Take off the slate what the files have already; return its names.

        What is in a file that the running server writes over when it stops waits on: it would be lost.
        """
        from roundgate.core.review import describe_changes

        changes = [change for change in describe_changes(proposal.outcome) if change.name in proposal.names]
        idle = {change.name for change in changes if change.is_nothing}
        idle -= {change.name for change in changes if not change.is_nothing}
        operations = [operation for operation in self.workspace.operations if operation.shown_name in idle]
        written_over = {file.path for file in self.book.file.values() if file.rewritten}
        kept = [operation for operation in operations if operation.file in written_over]
        if kept and self.state().runs:
            idle -= {operation.shown_name for operation in kept}
        left = [operation for operation in operations if operation.shown_name in idle]
        if left and self.workspace.outcome(left).touched:  # the same value, written in another way
            return set()
        if left:  # by what is meant, not by name: another place of a setting may still change
            self._take_off([entry for entry in self.workspace.waiting if entry.operation in left], [])
        return idle

    def _take_off(self, asked: Sequence[Waiting], odd: Sequence[int]) -> Discarded:
        waiting = self.store.slate(self.name)
        gone = self.store.take_off_slate([*(entry.id for entry in asked), *odd])
        self.refresh()
        still = {entry.id for entry in self.store.slate(self.name)}
        kept = [entry for entry in asked if entry.id not in gone]
        return Discarded(
            tuple(gone),
            tuple(entry for entry in kept if entry.id in still),
            tuple(entry for entry in kept if entry.id not in still),
            len(waiting) + len(odd) - len(gone),
        )

    # --- rounds ---

    def review(self) -> Gathered:
        """Work out what a round would do now: the changes, what they mean, the difference, and the findings."""
        from roundgate.host.rounds.gather import gather_at_rest

        return gather_at_rest(self.workspace, self.state())

    def start_round(self, options: Options) -> RoundWindow:
        """Start a round in a process of its own; its ``events`` tell how it goes. Raises Busy or Trouble."""
        from roundgate.host.rounds.locking import held, refuse_broken_off
        from roundgate.host.rounds.process import launch

        refuse_broken_off(self.server, self.store)
        with held(self.server, self.store):
            pass  # quickly told here; the round's own process takes the lock for good
        self.server.hang_up()
        return launch(self.server, self.store, options)

    def rounds(self) -> list[RoundRow]:
        """Return its rounds so far, the newest first."""
        return self.store.rounds(self.name)
