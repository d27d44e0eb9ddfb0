"""The copy of a file that a person edits: deleted once it is taken over or given up, kept where anything else ends it.

An hour of work must not go with a closed terminal, a full disk, or somebody else's edit of the same file meanwhile.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import stat
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

import typer

from roundgate.cli.screen.output import echo, warn
from roundgate.host.errors import Trouble

_PREFIX = "roundgate-edit-"
_AT_ONCE = 1.0
"""Seconds; nobody has looked at a file and closed it again so soon."""
_ORIGIN = ".origin"
"""Beside a copy that was kept: a file with the path that it is a copy of."""


class GivenUp(typer.Exit):
    """The person has given the edit up: what they wrote is not wanted."""


class PrivateCopy:
    """A copy in a folder that only this user can read."""

    def __init__(self, origin: Path, before: bytes) -> None:
        """Write the copy. Raises OSError."""
        self.origin = origin
        self.before = before
        self.path = Path(tempfile.mkdtemp(prefix=_PREFIX)) / origin.name
        self.is_hung_up = False
        self._is_in_editor = False
        try:
            self.path.write_bytes(before)
            self.path.chmod(0o600)
        except OSError:
            self.delete()
            raise

    def data(self) -> bytes:
        """Return what the copy holds now. Raises Trouble where an editor has left something else in its place."""
        if not os.path.lexists(self.path):
            return self.before
        if not stat.S_ISREG(self.path.lstat().st_mode):
            raise Trouble(f"{self.path} is no longer a file, so there is nothing to take over.", "Edit it again.")
        return self.path.read_bytes()

    def edit(self, editor: Sequence[str]) -> bytes:
        """Run an editor on the copy, and return what it holds then. Raises Trouble."""
        self._is_in_editor = True
        began = time.monotonic()
        try:
            done = subprocess.run([*editor, str(self.path)], check=False)
        except OSError as error:
            raise Trouble(f"The editor '{editor[0]}' cannot be started: {error.strerror}.", "Set EDITOR.") from error
        finally:
            self._is_in_editor = False
        if self.is_hung_up:
            raise Trouble("The terminal was closed; nothing was changed.", "Edit it again.")
        if done.returncode:
            raise Trouble(f"The editor ended with {done.returncode}; nothing was changed.", "Edit it again.")
        data = self.data()
        if data == self.before and time.monotonic() - began < _AT_ONCE and sys.stdin.isatty():
            data = self._after_window(editor[0])
        return data

    def _after_window(self, editor: str) -> bytes:
        """Wait for a person whose editor hands the file to a window of its own and returns. Raises GivenUp."""
        echo(f"{editor} returned at once, and nothing is changed yet. It may work in a separate window, on {self.path}")
        answer = input("save it there, then press Enter here; g gives it up: ").strip().lower()
        if answer[:1] == "g":
            raise GivenUp(1)
        return self.data()

    def hang_up(self, *_: object) -> None:
        """Notice that the terminal is gone. The editor is told too, and has the time to write what it holds.

        Raises Abort where no editor runs.
        """
        self.is_hung_up = True
        if not self._is_in_editor:
            raise typer.Abort

    def keep(self) -> None:
        """Leave the copy where it is, and say so."""
        with contextlib.suppress(OSError):  # on a full disk the message has to do
            (self.path.parent / _ORIGIN).write_text(str(self.origin))
        with contextlib.suppress(OSError):  # there may be no terminal left to say it on
            warn(f"What you wrote is kept in {self.path}")

    def delete(self) -> None:
        """Delete the copy, and what an editor has left beside it."""
        shutil.rmtree(self.path.parent, ignore_errors=True)


@contextlib.contextmanager
def private_copy(origin: Path, before: bytes) -> Iterator[PrivateCopy]:
    """Return a copy to edit. Where an exception ends the edit, what a person has written stays, but for GivenUp."""
    copy = PrivateCopy(origin, before)
    is_person = sys.stdin.isatty()  # a script can do it again, and would leave copy after copy
    ignored = signal.getsignal(signal.SIGHUP) is signal.SIG_IGN
    former = None if ignored else signal.signal(signal.SIGHUP, copy.hang_up)
    try:
        yield copy
    except GivenUp:
        copy.delete()
        raise
    except BaseException:
        if is_person and _is_written(copy):
            copy.keep()
        else:
            copy.delete()
        raise
    else:
        copy.delete()
    finally:
        if not ignored:
            signal.signal(signal.SIGHUP, former)


def _is_written(copy: PrivateCopy) -> bool:
    """Return whether there is anything in the copy that a person may want."""
    try:
        return copy.data() != copy.before
    except (OSError, Trouble):
        return False


def tell_kept(origin: Path) -> None:
    """Tell of earlier copies of a file that were kept, and which nobody has deleted since."""
    for mark in sorted(Path(tempfile.gettempdir()).glob(f"{_PREFIX}*/{_ORIGIN}")):
        with contextlib.suppress(OSError):  # another user's, or deleted just now
            copy = mark.with_name(origin.name)
            if mark.stat().st_uid == os.geteuid() and mark.read_text() == str(origin) and copy.exists():
                when = time.strftime("%Y-%m-%d %H:%M", time.localtime(copy.stat().st_mtime))
                echo(f"What you wrote on {when} was not taken over; it is kept in {copy}")
