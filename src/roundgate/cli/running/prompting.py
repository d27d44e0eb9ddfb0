"""The console at a terminal: a prompt with a history and completion of the rulebook's commands, the log above it."""

from __future__ import annotations

import os
import re
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from prompt_toolkit import PromptSession
from prompt_toolkit.completion import FuzzyWordCompleter
from prompt_toolkit.history import FileHistory
from prompt_toolkit.patch_stdout import patch_stdout

from roundgate.cli.screen.output import plain
from roundgate.host.drivers import driver_of
from roundgate.host.errors import Trouble
from roundgate.host.masking import secrets_of
from roundgate.host.workspace import Workspace

if TYPE_CHECKING:
    from roundgate.host.drivers.protocol import Driver
    from roundgate.host.servers import Server


class _History(FileHistory):
    """Keeps what was typed, readable by this user only; a line with a secret in it is not kept."""

    def __init__(self, path: Path, secrets: set[str]) -> None:
        os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o600))
        super().__init__(str(path))
        self._secrets = secrets

    def store_string(self, string: str) -> None:
        if not any(secret and secret in string for secret in self._secrets):
            super().store_string(string)


def prompt_lines(server: Server, send: Callable[[str], list[str]]) -> None:
    """Read lines and send them until Ctrl-D or the server's end; what the server says appears above the prompt."""
    secrets = secrets_of(Workspace(server), [])
    session: PromptSession[str] = PromptSession(
        f"{server.name}> ",
        history=_History(Path(server.state) / "console-history", secrets),
        completer=FuzzyWordCompleter(sorted(set(commands_of(server)))),
        complete_while_typing=False,
    )
    listener = driver_of(server)
    with patch_stdout():
        thread = threading.Thread(target=_show_log, args=(listener, session), daemon=True)
        thread.start()
        try:
            while True:
                line = session.prompt()
                for answer in send(line) if line.strip() else ():
                    print(plain(answer))
        except (EOFError, KeyboardInterrupt):
            return
        finally:
            listener.close()


def _show_log(driver: Driver, session: PromptSession[str]) -> None:
    """Print what the server says; leave the prompt where it has ended."""
    try:
        driver.follow()
        while event := driver.next_event(None):
            if event["event"] == "line":
                print(plain(str(event["text"])))
            if event["event"] == "exit" and event.get("restart-in") is None:
                print(f"-- the server has ended, exit code {event['code']}")
                break
    except (Trouble, OSError, ValueError):  # the prompt was left, and its connection closed
        return
    app = session.app
    if app.is_running and app.loop is not None:
        app.loop.call_soon_threadsafe(lambda: app.exit(exception=EOFError()))


def commands_of(server: Server) -> Iterator[str]:
    """Yield the beginnings of the lines that the rulebook knows, each up to its first argument."""
    book = server.book
    forms = [book.server.stop, book.server.say, *(step.send for step in book.server.before_stop)]
    forms += [action.send for action in book.action.values()]
    for spec in book.setting.values():
        forms += [spec.live.set, spec.live.read] if spec.live else []
    for roster in book.roster.values():
        forms += [roster.live.add, roster.live.remove, roster.live.ask] if roster.live else []
    forms += [record.reload for record in book.records.values()]
    for form in forms:
        begin = re.split(r'["\']?\{', form, maxsplit=1)[0].strip()
        if begin:
            yield begin
