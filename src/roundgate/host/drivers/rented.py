"""Drivers for rented servers: nothing of them can be seen from here but their ports, their log and what is told."""

from __future__ import annotations

import contextlib
import time

from roundgate.core.fleet.wanted import wanted_ports
from roundgate.host.drivers.outside import UNSEEN, OutsideDriver
from roundgate.host.drivers.protocol import RunState
from roundgate.host.errors import OutOfReach, Trouble
from roundgate.host.rented.mirror import Mirror
from roundgate.host.rented.ports import answers
from roundgate.host.rented.power import PowerService
from roundgate.host.servers import Server

_DEAF_PAUSE = 5.0
"""Seconds after which a place that was out of reach is asked for the log again."""


class RentedDriver(OutsideDriver):
    """Watches a rented server by its port and by its log, which is read from where its files are."""

    pause = 0.5
    _known: RunState | None = None
    _deaf_since: float | None = None
    """Since when (monotonic) its log cannot be read, as its place is out of reach."""

    @property
    def hears(self) -> bool:
        """See Driver: it reads the logs that the rulebook names, while their place answers."""
        return super().hears and self._deaf_since is None

    def is_up(self) -> bool:
        """Return whether the server is up, as far as can be told. Raises Trouble."""
        files = self.server.read_started()
        if not files.texts:  # nothing was started from here yet
            files = self.server.read().files
        ports = [wanted.port for wanted in wanted_ports(files) if wanted.protocol == "tcp"]
        if not ports:
            raise Trouble(
                f"{self.server.name} has no TCP port by which it could be seen whether it is up.",
                "Give it the driver 'requests', with a 'state'.",
            )
        return answers(self.server.entry, ports[0])

    def process(self) -> int | None:
        """See OutsideDriver: its process is on another machine."""
        return UNSEEN if self.is_up() else None

    def state(self, within: float | None = None) -> RunState:
        """See Driver. Raises OutOfReach where nothing is known; what was known last is not made another by that."""
        self._pull_logs()
        try:
            self._known = super().state(within)
        except OutOfReach:
            if self._known is None:
                raise
        return self._known

    def forget(self) -> None:
        """See OutsideDriver."""
        self._pull_logs()
        super().forget()

    def follow(self) -> None:
        """See Driver."""
        self._pull_logs()
        super().follow()

    def _look(self) -> None:
        self._pull_logs()
        with contextlib.suppress(OutOfReach):  # it is looked at again in a moment
            super()._look()

    def _pull_logs(self) -> None:
        """Read what has come since; where the place is out of reach, that is tried again after a pause."""
        if self._deaf_since is not None and time.monotonic() - self._deaf_since < _DEAF_PAUSE:
            return
        try:
            self._mirror.pull_logs(self.server.book.server.logs)
        except OutOfReach:
            if self._deaf_since is None:
                self.events.append({"event": "deaf"})
            self._deaf_since = time.monotonic()
        else:
            self._deaf_since = None

    @property
    def _mirror(self) -> Mirror:
        assert self.server.mirror is not None
        return self.server.mirror

    def _tell_former_keeper(self) -> None:
        """Nobody here has held it."""


class RequestsDriver(RentedDriver):
    """Starts and stops by the requests of the site file."""

    kind = "requests"

    def __init__(self, server: Server) -> None:
        """Ask nothing yet."""
        super().__init__(server)
        self._service = PowerService(server.site, server.entry.requests)

    def is_up(self) -> bool:
        """See RentedDriver: its service tells; one that is on its way down is still there."""
        state = self._service.state()
        return state == "up" or (state == "between" and self._last is not None)

    def stop_it(self) -> str:
        """See OutsideDriver. Raises Trouble."""
        self._service.send(self.server.entry.requests.stop)
        return f"its service, {self._service.host}"

    def start_it(self) -> str:
        """See OutsideDriver."""
        try:
            self._service.send(self.server.entry.requests.start)
        except Trouble as error:
            return error.what.rstrip(".")
        return ""

    def signal(self, name: str) -> None:
        """See Driver: only the last resort can be asked for. Raises Trouble."""
        call = self.server.entry.requests.kill
        if name != "SIGKILL" or not call.url:
            return super().signal(name)
        return self._service.send(call)


class ByHandDriver(RentedDriver):
    """Has a person start and stop the server, and notices by itself when that is done."""

    kind = "by-hand"

    def stop_it(self) -> str:
        """See OutsideDriver: the round says what to press, and waits."""
        return self.server.entry.by_hand.stop

    def start_it(self) -> str:
        """See OutsideDriver: the round says what to press, and waits."""
        return ""
