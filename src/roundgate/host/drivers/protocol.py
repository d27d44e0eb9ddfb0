"""What every driver can do with a server's process."""

from __future__ import annotations

from typing import Any, Protocol

from msgspec import Struct


class RunState(Struct, frozen=True, rename="kebab"):
    """A server's process as its driver knows it; times in seconds since 1970."""

    process: int | None = None
    started: float | None = None
    ready: float | None = None
    exit_code: int | None = None
    crashes: int = 0
    gave_up: bool = False
    restarting: bool = False
    players: int = 0
    keeper: int | None = None
    round: int | None = None
    """The round that holds the server."""
    recovering: int | None = None
    """How often the recovery of a round has been tried; None where none is under way."""
    slow_patterns: list[str] = []
    """Patterns of the rulebook that took too long and are no longer searched in the log."""

    @property
    def runs(self) -> bool:
        """Return whether the process is there."""
        return self.process is not None


def describe_exit(code: int | None) -> str:
    """Format an exit code, to be put after "it ended"; negative ones are signals, None is not known."""
    if code is None:
        return ""
    if code < 0:
        import signal

        try:
            return f" by {signal.Signals(-code).name}"
        except ValueError:
            return f" by signal {-code}"
    return f" with exit code {code}"


class Driver(Protocol):
    """Starts, stops and watches one server."""

    counts_players: bool
    """Whether it knows how many players are on the server."""
    kind: str
    """Its name in the site file."""

    @property
    def hears(self) -> bool:
        """Whether it hears what the server says; else no ready sign is ever seen."""
        ...

    def stop_it(self) -> str:
        """Stop the server in the driver's own way; describe that way, empty where it has none. Raises Trouble."""
        ...

    def state(self, within: float | None = None) -> RunState:
        """Return how it stands, without starting the server. Raises KeeperGone where no answer comes in time."""
        ...

    def post_state(self) -> None:
        """Ask how it stands without waiting; ``posted_state`` gives the answer."""
        ...

    def posted_state(self, until: float) -> RunState:
        """Return the answer, until a moment of the monotonic clock. Raises KeeperSilent where none comes."""
        ...

    def open(self) -> None:
        """Be ready to start the server and to follow it. Raises KeeperGone."""
        ...

    def start(self) -> None:
        """Start the server's process. Raises Trouble where it cannot be started; does not wait until it is ready."""
        ...

    def expect_stop(self) -> None:
        """Report that the server will now end because somebody wants it to."""
        ...

    def stop_failed(self, *, for_good: bool) -> None:
        """Report that it did not end: if it ends later it is started again, unless it is to stay down ``for_good``."""
        ...

    def send(self, text: str) -> None:
        """Write a line to its console. Raises ConsoleCut."""
        ...

    def signal(self, name: str) -> None:
        """Send it a signal. Raises Trouble where there is no such signal."""
        ...

    def follow(self) -> None:
        """From now on, gather what happens for ``next_event``."""
        ...

    def next_event(self, until: float | None, also: int | None = None) -> dict[str, Any] | None:
        """Wait for what happens next, until a moment of the monotonic clock or until ``also`` can be read."""
        ...

    def pledge(self, round: int) -> None:
        """Have a round recovered should its process die, before it holds the server."""
        ...

    def lease(self, round: int | None, *, up: bool = False) -> None:
        """Let a round hold the server: no restart after a crash, and recovery should the round's process die.

        None lets go; with ``up`` the server is meant to run from now on, and is started again should it have ended.
        """
        ...

    def close(self) -> None:
        """Let go; the server runs on."""
        ...

    def leave(self) -> None:
        """End whatever watches the server, where the server is down."""
        ...
