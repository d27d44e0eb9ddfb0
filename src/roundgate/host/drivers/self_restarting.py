"""A server that its host starts again whenever it ends: its console stops it, and another process is awaited."""

from __future__ import annotations

import time

from roundgate.host.drivers.outside import OutsideDriver, _born
from roundgate.host.errors import Trouble

_PAUSE = 0.05


class SelfRestartingDriver(OutsideDriver):
    """Starts nothing: it waits for the host."""

    kind = "self"
    _stopped: int | None = None
    """The process that was told to end."""

    def forget(self) -> None:
        """Forget nothing: the host may have started the next process already, and that may be ready."""

    def expect_stop(self) -> None:
        """See Driver."""
        super().forget()
        super().expect_stop()
        self._stopped = self.process()

    def start_it(self) -> str:
        """Wait for the process that the host starts; what came before the files were written may have read old ones.

        Such a one is let come up and sent away once more, unless it writes files itself when it ends: then it would
        write the old values over the new ones, and the proof says which it has.
        """
        within = self.server.seconds("start_within")
        written, until = time.time(), time.monotonic() + within
        can_go_again = all(file.rewritten == "never" for file in self.server.book.file.values())
        old = self._stopped
        while time.monotonic() < until:
            process = self.process()
            if process is not None and process != old:
                if _born(process) >= written or not old or not can_go_again:
                    self._take(process)
                    return ""
                self._await_ready(until)
                # Once at most: a server that ends again and again is a crash, and no start.
                old, can_go_again = process, False
                self._send_away()
            time.sleep(_PAUSE)  # nothing tells when the host starts a process
        return f"its host has not started it again within {within:g} s"

    def _take(self, process: int) -> None:
        """Go on with the process that the host has started."""
        # What was heard until now is of those that were sent away: the end of one of them is not the end of this one.
        self._last = process
        self.events.clear()
        if self._ready is not None:
            self.events.append({"event": "ready"})

    def _await_ready(self, until: float) -> None:
        """Wait until a process is ready, so that its console hears that it is to end; then forget its output."""
        while self.server.book.server.ready and time.monotonic() < until:
            event = self.next_event(until)
            if event is None or event["event"] in ("ready", "exit"):
                break
        self.events.clear()
        self._ready = None
        self._log.skip()

    def _send_away(self) -> None:
        from roundgate.host.consoles import console_of

        console = console_of(self.server, self)
        try:
            console.send(self.server.book.server.stop)
        except Trouble:
            for step in self.server.book.server.signals[:1]:
                self.signal(step.partition(" ")[0])
        finally:
            console.close()
