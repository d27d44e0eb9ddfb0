"""A server that systemd holds, as a unit of the system's or of the user's."""

from __future__ import annotations

import signal as signals

from roundgate.host.drivers.outside import OutsideDriver
from roundgate.host.errors import Trouble

_WITHIN = 90.0


class SystemdDriver(OutsideDriver):
    """Talks to systemd through ``systemctl``."""

    kind = "systemd"

    def _systemctl(self, *arguments: str) -> tuple[int, str]:
        user = ("--user",) if self.server.entry.user_unit else ()
        return self.run(("systemctl", *user, *arguments), _WITHIN)

    def start_it(self) -> str:
        """See OutsideDriver. A unit that has failed too often is given another chance."""
        self._systemctl("reset-failed", self.server.entry.unit)
        code, output = self._systemctl("start", self.server.entry.unit)
        return f"systemctl start {self.server.entry.unit} ended with exit code {code}: {output}" if code else ""

    def stop_it(self) -> str:
        """See OutsideDriver. systemd starts a unit again that ends by itself, so it must do the stopping.

        Raises Trouble.
        """
        code, output = self._systemctl("stop", "--no-block", self.server.entry.unit)
        if code:
            raise Trouble(f"systemctl stop {self.server.entry.unit} ended with exit code {code}: {output}", "")
        return f"systemctl stop {self.server.entry.unit}"

    def process(self) -> int | None:
        """See OutsideDriver: the unit's main process. Raises Trouble where systemd does not say."""
        code, output = self._systemctl("show", "--property=ActiveState,MainPID,LoadState", self.server.entry.unit)
        found = dict(line.split("=", 1) for line in output.splitlines() if "=" in line)
        if code or not found:
            raise Trouble(f"systemctl show {self.server.entry.unit} ended with exit code {code}: {output}", "")
        if found.get("LoadState") == "not-found":
            raise Trouble(f"systemd knows no unit {self.server.entry.unit}.", "Correct 'unit' in the site file.")
        process = int(found.get("MainPID") or 0)
        return process if process and found.get("ActiveState") not in ("inactive", "failed") else None

    def signal(self, name: str) -> None:
        """See Driver. Raises Trouble."""
        if not isinstance(getattr(signals, name, None), signals.Signals):
            raise Trouble(f"{self.server.name}: there is no signal '{name}'.", "Correct 'signals' in the rulebook.")
        self._systemctl("kill", f"--signal={name}", self.server.entry.unit)
