"""What can go wrong on this machine, each with a message for the person: what, why, and what to do.

The exit codes: 0 done, 1 findings or not done, 2 wrong arguments, 3 a round was rewound, 4 a round needs
``recover``, 5 busy.
"""

from __future__ import annotations

import errno
from typing import Any

from roundgate.core.next_step import Advice


class Trouble(Exception):
    """Something a person must know of and can do something about."""

    exit_code = 1
    excerpt = ""
    """The line of a file that it is about, for a terminal; what happened is one line without it."""

    def __init__(self, what: str, do: Advice = "") -> None:
        """Keep what happened and why, in one sentence or two, and what to do about it."""
        super().__init__(what)
        self.what = what
        self.do = do

    def __reduce__(self) -> tuple[Any, ...]:
        """Come whole out of another process, whatever a kind of trouble is made of."""
        return _made_again, (type(self), self.what, self.do)


def _made_again(kind: type[Trouble], what: str, do: Advice) -> Trouble:
    trouble = kind.__new__(kind)
    Trouble.__init__(trouble, what, do)
    return trouble


class WrongUsage(Trouble):
    """The arguments of the call are wrong."""

    exit_code = 2


class SeveralMeant(WrongUsage):
    """A name that several people have."""

    def __init__(self, what: str, do: Advice, word: str, choices: list[tuple[str, str]]) -> None:
        """Keep the word, and for each whom it could mean the id and what tells them apart."""
        super().__init__(what, do)
        self.word = word
        self.choices = choices


class NoSite(Trouble):
    """There is no site file here."""

    exit_code = 2


class UnknownName(Trouble):
    """A server, setting or list of this name does not exist."""

    exit_code = 2


class NeedsRecovery(Trouble):
    """A round was interrupted."""

    exit_code = 4


class Busy(Trouble):
    """Somebody else holds the server."""

    exit_code = 5


class BooksUnusable(Trouble):
    """The state file cannot be opened or written. A server's life does not hang on it."""


class ChangedMeanwhile(Trouble):
    """Somebody else changed a file between its reading and its writing."""

    def __init__(self, path: str) -> None:
        """Report which file."""
        self.path = path
        super().__init__(f"{path} was changed by somebody else just now.", "Look at it, then apply again.")


class OutOfReach(Trouble):
    """A rented machine's service does not answer, or breaks off."""


class SignInRefused(Trouble):
    """A rented machine's service does not take the user or the password."""


class KeeperGone(Trouble):
    """The keeper does not answer."""


class KeeperSilent(KeeperGone):
    """The keeper is there and does not answer in time."""


class NoConsole(Trouble):
    """The server has no console as it is started now, or one that may not do what it was asked."""


class ConsoleCut(Trouble):
    """The console cannot be reached, or the connection was cut."""


def as_trouble(error: Exception) -> Trouble | None:
    """Return the message for a disk that is full or cannot be written, whoever met it; None for anything else."""
    if isinstance(error, PermissionError):
        return Trouble(f"{error.filename or 'A file'}: permission denied.", "See who owns it: ls -ld on it")
    is_books = type(error).__module__ == "sqlite3" and type(error).__name__ == "OperationalError"
    is_disk = isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EFBIG)
    if not (is_books or is_disk):
        return None
    if is_books and "locked" in str(error):
        return BooksUnusable("Another process holds the state file.", "Try again in a moment.")
    is_closed = "readonly" in str(error) or "unable to open" in str(error)
    if is_closed or (isinstance(error, OSError) and error.errno == errno.EROFS):
        place = getattr(error, "filename", None) or "The state folder"
        return BooksUnusable(
            f"{place} cannot be written: {getattr(error, 'strerror', None) or error}.",
            "See who may write there, and how it is mounted: ls -ld .roundgate",
        )
    why = getattr(error, "strerror", None) or error
    return BooksUnusable(f"The disk is full, or a limit is reached: {why}.", "Make room, then: roundgate status")
