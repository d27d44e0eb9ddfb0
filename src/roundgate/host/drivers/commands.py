"""A server that commands of its owner's start and stop: a container, a terminal multiplexer, a host's scripts."""

from __future__ import annotations

from roundgate.core.values import ValueProblem
from roundgate.core.values.units import parse_seconds
from roundgate.host.drivers.outside import UNSEEN, OutsideDriver
from roundgate.host.errors import Trouble


class CommandsDriver(OutsideDriver):
    """Runs ``start``, ``stop`` and ``alive`` of the server's ``commands`` in the site file."""

    kind = "commands"

    def _within(self) -> float:
        try:
            return float(parse_seconds(self.server.entry.commands.within))
        except ValueProblem as error:
            raise Trouble(f"'within' of {self.server.name}: {error.cause}", "Fix it in the site file.") from error

    def start_it(self) -> str:
        """See OutsideDriver."""
        command = self.server.entry.commands.start or self.server.entry.start
        code, output = self.run(command, self._within())
        return f"'{' '.join(command)}' ended with exit code {code}: {output}" if code else ""

    def stop_it(self) -> str:
        """See OutsideDriver. Raises Trouble where the command fails."""
        command = self.server.entry.commands.stop
        if not command:
            return ""
        code, output = self.run(command, self._within())
        if code:
            raise Trouble(f"'{' '.join(command)}' ended with exit code {code}: {output}", "")
        return " ".join(command)

    def process(self) -> int | None:
        """See OutsideDriver: by the command ``alive``, where there is one; it may print the process."""
        command = self.server.entry.commands.alive
        if not command:
            return super().process()
        code, output = self.run(command, self._within())
        if code:
            return None
        first = output.split()[0] if output.split() else ""
        return int(first) if first.isascii() and first.isdigit() and int(first) > 1 else UNSEEN
