"""Asking a running server for the values of its settings: at its console, at a port, or by a command of its owner's."""

from __future__ import annotations

import os
import re
import subprocess

from roundgate.core import values
from roundgate.core.files import ServerFiles
from roundgate.core.next_step import typed_command
from roundgate.core.probes import is_answer, value_in
from roundgate.core.rulebook.model import Query, Setting
from roundgate.core.values.units import parse_seconds
from roundgate.host.asking.commands import run_command
from roundgate.host.asking.ports import ask_port
from roundgate.host.consoles.protocol import Console
from roundgate.host.errors import ConsoleCut, Trouble
from roundgate.host.keeper.account import account_of
from roundgate.host.patterns import search
from roundgate.host.servers import Server, stored_value

_VARIABLES = ("PATH", "HOME", "USER", "LOGNAME", "LANG", "LC_ALL", "TZ")
"""The variables that a rulebook's command gets; ours may hold secrets."""
_IN_BRACES = re.compile(r"\{([\w.\[\]@-]+)\}")


class ValueReader:
    """Reads values of one running server. A query is asked once, however many settings are in its answer."""

    def __init__(self, server: Server, console: Console, files: ServerFiles) -> None:
        """Ask for nothing yet. ``files`` are those that the server runs with: they say where it listens."""
        self.server = server
        self.console = console
        self.files = files
        self._answers: dict[str, bytes] = {}

    def read(self, spec: Setting) -> str | None:
        """Return what the server says of a setting, None where its answer does not hold it.

        Raises ConsoleCut where it does not answer.
        """
        live = spec.live
        if live is None or not live.can_be_read:
            return None
        if live.read:
            found = self.console.ask(live.read, live.match)
            return found["value"] if found else None
        if live.query not in self._answers:
            self._answers[live.query] = self._answer(live.query)
        return value_in(live, self._answers[live.query], search)

    def forget(self) -> None:
        """Ask again from now on."""
        self._answers.clear()

    def _answer(self, name: str) -> bytes:
        query = self.server.book.query[name]
        try:
            return self._output(query) if query.run else self._from_port(query)
        except (OSError, ValueError, subprocess.SubprocessError) as error:
            why = "it took too long" if isinstance(error, subprocess.TimeoutExpired) else _error_reason(error)
            raise ConsoleCut(
                f"The query '{name}' of {self.server.name} has no answer: {why}.",
                typed_command("log", self.server.name),
            ) from error

    def _from_port(self, query: Query) -> bytes:
        port = int(stored_value(self.server, self.files, query.port)) + query.plus
        address = stored_value(self.server, self.files, query.address) if query.address else ""
        answer = ask_port(query.protocol, address, port, query, lambda seen: is_answer(query, seen, search))
        if not is_answer(query, answer, search):
            raise TimeoutError("the answer is not the one that the rulebook describes")
        return answer

    def _output(self, query: Query) -> bytes:
        command = [_IN_BRACES.sub(self._word, word) for word in query.run]
        # With the server's own rights: its user can write to the folder that the command may come from.
        account = account_of(self.server.entry.user)
        variables = {name: os.environ[name] for name in _VARIABLES if name in os.environ} | dict(account.environment)
        within = float(parse_seconds(query.within))
        code, output = run_command(command, self.server.folder, within, account, variables, is_question=True)
        if code:
            last = output.decode("utf-8", "replace").strip().rpartition("\n")[2][:120]
            raise OSError(f"'{query.run[0]}' ended with exit code {code}" + (f": {last}" if last else ""))
        return output

    def _word(self, found: re.Match[str]) -> str:
        """Return what stands in a command's word for a name in braces. Raises Trouble for a secret."""
        name = found[1]
        if name == "folder":
            return str(self.server.folder)
        spec = self.server.book.setting.get(name)
        if spec is None:
            return found[0]
        if values.is_hidden(spec):
            raise Trouble(f"A query may not have the secret {name} among its arguments; others could read it.", "")
        return stored_value(self.server, self.files, name)


def _error_reason(error: Exception) -> str:
    return str(getattr(error, "strerror", None) or error).rstrip(".")
