"""A console that reads lines from a named pipe in the server's folder; the answers are in its log."""

from __future__ import annotations

import errno
import os
import stat

from roundgate.core.next_step import typed_command
from roundgate.host.consoles.protocol import console_line
from roundgate.host.consoles.stdin import StdinConsole
from roundgate.host.errors import ConsoleCut
from roundgate.host.places import OpenPlace


class PipeConsole(StdinConsole):
    """Opens the pipe for each line: a pipe that is held open could keep the server from noticing its end."""

    def send(self, text: str) -> None:
        """See Console. Raises ConsoleCut where nobody reads from the pipe."""
        line = console_line(text)
        spec = self.server.book.server.console
        path = spec.path if spec else ""
        try:
            with self.server.files_folder.place(path) as place:
                why = _written(place, line.encode("utf-8", "replace") + b"\n")
        except OSError as error:
            why = (error.strerror or str(error)).lower()
        if why:
            do = typed_command("log", self.server.name)
            raise ConsoleCut(f"The console pipe {path} of {self.server.name}: {why}.", do)


def _written(place: OpenPlace, data: bytes) -> str:
    """Write to a pipe; return an empty text, or why that cannot be done."""
    try:
        handle = place.open_pipe()
    except OSError as error:
        return "no process reads from it" if error.errno == errno.ENXIO else (error.strerror or str(error)).lower()
    try:
        if not stat.S_ISFIFO(os.fstat(handle).st_mode):
            return "it is not a named pipe"
        os.write(handle, data)
    except OSError as error:
        return "the server does not read from it" if isinstance(error, BlockingIOError) else str(error.strerror)
    finally:
        os.close(handle)
    return ""
