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

    @property
    def runs(self) -> bool:
        """Tell whether the process is there."""
        return self.process is not None


class Driver(Protocol):
    """Starts, stops and watches one server."""

    def state(self) -> RunState:
        """Tell how it stands, without starting anything."""
        ...

    def open(self) -> None:
        """Be ready to start the server and to follow it. Raises KeeperGone."""
        ...

    def start(self) -> None:
        """Start the server's process. Raises Trouble where it cannot be started; does not wait until it is ready."""
        ...

    def expect_stop(self) -> None:
        """Say that the server will now end because somebody wants it to."""
        ...

    def send(self, text: str) -> None:
        """Write a line to its console. Raises ConsoleCut."""
        ...

    def signal(self, name: str) -> None:
        """Send it a signal."""
        ...

    def follow(self) -> None:
        """From now on, gather what happens for ``next_event``."""
        ...

    def next_event(self, until: float | None, also: int | None = None) -> dict[str, Any] | None:
        """Wait for what happens next, until a moment of the monotonic clock or until ``also`` can be read."""
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
