"""Files of a rented machine by SFTP: OpenSSH's own program is the connection, and a library speaks SFTP over it.

So the person's configuration, agent, keys, jumps and known hosts count, and one connection is shared by commands.
"""

from __future__ import annotations

import errno
import socket
import stat
import subprocess
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, BinaryIO, TypeVar

from roundgate.host.errors import OutOfReach, Trouble
from roundgate.host.rented.address import Address
from roundgate.host.rented.protocol import PIECE, Progress, Remote, RemoteFiles, Sink, is_plain, leads_out
from roundgate.host.rented.ssh import Ssh

if TYPE_CHECKING:
    from paramiko.sftp_attr import SFTPAttributes
    from paramiko.sftp_client import SFTPClient

_ANSWERS = 60.0
"""Seconds for one request, after which the connection is given up."""
_SENT = 256 * 1024
"""Bytes of a file that are sent before the service has confirmed them."""
Found = TypeVar("Found")


class _Pipe(socket.socket):
    """The way to ``ssh``, in place of a channel of the library's own."""

    def get_name(self) -> str:
        """Return what the library's log calls it."""
        return "ssh"


class SftpFiles(RemoteFiles):
    """The files below one folder; see RemoteFiles."""

    def __init__(self, address: Address, ssh: Ssh) -> None:
        """Connect to nothing yet."""
        self.address = address
        self._ssh = ssh
        self._client: SFTPClient | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._root = ""
        self._timer: threading.Timer | None = None

    # --- the connection ---

    def _connected(self) -> SFTPClient:
        return self._client or self._connect()

    def _connect(self) -> SFTPClient:
        import paramiko  # a quarter of a second to load: only who connects needs it

        end, theirs = socket.socketpair()
        ours = _Pipe(fileno=end.detach())
        with theirs, tempfile.TemporaryFile() as told:
            self._process = self._ssh.start(theirs.fileno(), told.fileno())
            theirs.close()
            try:
                with self._limited():
                    client = paramiko.SFTPClient(ours)  # type: ignore[arg-type]  # a socket does as well as a channel
            except (paramiko.SSHException, EOFError, OSError) as error:
                ours.close()
                self._end_process()
                told.seek(0)
                raise self._ssh.described(told.read(65536).decode("utf-8", "replace")) from error
        self._client = client
        try:
            self._root = self._find_root(client)
        except BaseException:
            self._drop()
            raise
        return client

    def _find_root(self, client: SFTPClient) -> str:
        """Return the server's folder as the service names it, links resolved. Raises Trouble where it is none."""
        from paramiko import SSHException

        asked = self.address.folder if self.address.is_in_home else f"/{self.address.folder}"
        try:
            with self._limited():
                root = client.normalize(asked or ".")
                is_folder = stat.S_ISDIR(client.stat(root).st_mode or 0)
        except (SSHException, EOFError, OSError) as error:
            raise self._described("open its folder", error) from error
        if not is_folder:
            raise Trouble(f"{asked} on {self.address.host} is a file.", "Name the folder that holds the server.")
        return root.rstrip("/")

    def close(self) -> None:
        """See RemoteFiles."""
        self._drop()

    def _drop(self) -> None:
        if self._client is not None:
            with suppress(OSError, EOFError):
                self._client.close()
            self._client = None
        self._end_process()

    def _end_process(self) -> None:
        if self._process is not None:
            self._process.terminate()
            self._process.wait()
            self._process = None

    @contextmanager
    def _limited(self) -> Iterator[None]:
        """Give a service that takes a request and never answers up: what waits for it sees the connection end."""
        self._heard()
        try:
            yield
        finally:
            if self._timer is not None:
                self._timer.cancel()

    def _heard(self) -> None:
        """Begin to wait anew: the service has just answered."""
        if self._timer is not None:
            self._timer.cancel()
        assert self._process is not None
        self._timer = threading.Timer(_ANSWERS, self._process.kill)
        self._timer.daemon = True
        self._timer.start()

    def _do(self, what: str, act: Callable[[SFTPClient], Found], *, twice: bool = True) -> Found:
        """Do something; what may be done twice without harm is tried again over a new connection.

        Raises OutOfReach, Trouble.
        """
        from paramiko import SSHException

        for is_last in (not twice, True):
            client = self._connected()
            try:
                with self._limited():
                    return act(client)
            except UnicodeDecodeError as error:
                raise Trouble(
                    f"A name on {self.address.host} is not in UTF-8: {error.object[:80]!r}.", "Rename it there."
                ) from error
            except (SSHException, EOFError, OSError) as error:
                told = self._described(what, error)
                if isinstance(told, OutOfReach):
                    self._drop()
                if is_last or not isinstance(told, OutOfReach):
                    raise told from error
        raise AssertionError

    def _described(self, what: str, error: Exception) -> Trouble:
        where = self.address.host
        number = error.errno if isinstance(error, OSError) else None
        if number == errno.ENOENT:
            return Trouble(f"{where} cannot {what}: there is nothing of that name.", "Correct the address.")
        if number == errno.EACCES:
            return Trouble(
                f"{where} does not let {self.address.user or 'you'} {what}.", "Ask the service for the right."
            )
        if isinstance(error, OSError) and number is None and str(error) and not isinstance(error, TimeoutError):
            return Trouble(f"{where} refuses to {what}: {error}", "See whether there is room left.")
        return OutOfReach(f"{where} is out of reach: the connection was closed.", "Try again when it answers.")

    # --- files ---

    def _path(self, path: str) -> str:
        return f"{self._root}/{path}" if path else self._root or "/"

    def _leads_out(self, real: str) -> bool:
        """Return whether a path, links resolved, is outside the server's folder."""
        return not f"{real}/".startswith(f"{self._root}/")

    def _refuse_outside(self, path: str, real: str) -> None:
        if self._leads_out(real):
            raise leads_out(path, self.address)

    def listing(self, folder: str = "") -> dict[str, Remote]:
        """See RemoteFiles."""

        def listed(client: SFTPClient) -> dict[str, Remote]:
            try:
                real = client.normalize(self._path(folder))
                self._refuse_outside(folder, real)
                entries = client.listdir_attr(real)
            except FileNotFoundError:
                return {}
            named = [(entry.filename, entry) for entry in entries if is_plain(entry.filename)]
            found = {name: self._remote(client, f"{folder}/{name}" if folder else name, entry) for name, entry in named}
            return {name: one for name, one in found.items() if one is not None}

        return self._do(f"list {folder or 'its folder'}", listed)

    def _remote(self, client: SFTPClient, path: str, entry: SFTPAttributes) -> Remote | None:
        """Return what an entry of a listing is: of a link what it leads to; None for a special file."""
        mode, is_outside = entry.st_mode or 0, False
        if stat.S_ISLNK(mode):
            try:
                target = client.normalize(self._path(path))
                entry = client.stat(target)
            except OSError:
                return None  # it leads to nothing
            mode, is_outside = entry.st_mode or 0, self._leads_out(target)
        if not (stat.S_ISREG(mode) or stat.S_ISDIR(mode)):
            return None
        return Remote(entry.st_size or 0, str(entry.st_mtime), stat.S_ISDIR(mode), is_outside)

    def fetch(self, path: str, into: Sink, start: int = 0) -> bool:
        """See RemoteFiles."""
        done = start

        def fetched(client: SFTPClient) -> bool:
            nonlocal done
            try:
                file = client.open(self._path(path), "rb")
            except FileNotFoundError:
                return False
            with file:
                while True:
                    self._heard()
                    # Asks for all parts at once, where one after the other would take a way and back each.
                    size = min(file.stat().st_size or 0, done + PIECE)
                    piece = b"".join(file.readv([(done, size - done)])) if size > done else b""
                    into.write(piece)
                    done += len(piece)
                    if len(piece) < PIECE:
                        return True

        return self._do(f"read {path}", fetched)

    def send(self, path: str, source: BinaryIO, told: Progress = lambda _: None) -> None:
        """See RemoteFiles."""

        def sent(client: SFTPClient) -> None:
            source.seek(0)
            with client.open(self._path(path), "wb") as file:
                file.set_pipelined(True)
                while piece := source.read(_SENT):
                    self._heard()
                    file.write(piece)
                    told(len(piece))

        self._do(f"write {path}", sent)

    def rename(self, path: str, name: str) -> None:
        """See RemoteFiles. The file gets the mode of the one that it takes the place of; a link there stays one."""

        def renamed(client: SFTPClient) -> None:
            target = self._path(name)
            with suppress(FileNotFoundError):
                former = client.lstat(target)
                if stat.S_ISLNK(former.st_mode or 0):
                    target = client.normalize(target)
                    self._refuse_outside(name, target)
                    former = client.stat(target)
                with suppress(OSError):  # a service that sets no modes has its own for all files
                    client.chmod(self._path(path), stat.S_IMODE(former.st_mode or 0o600))
            try:
                client.posix_rename(self._path(path), target)
                self.renames_over = True
            except OSError as error:
                if error.errno is not None:
                    raise
                self._exchange(client, self._path(path), target)

        self._do(f"rename {path}", renamed, twice=False)

    def _exchange(self, client: SFTPClient, path: str, target: str) -> None:
        """Rename where the service has no renaming over a file: the old one goes aside first.

        Should the connection break in between, the round's journal has its bytes.
        """
        aside = f"{path}-old"
        with suppress(FileNotFoundError):
            client.rename(target, aside)
        client.rename(path, target)
        with suppress(FileNotFoundError):
            client.remove(aside)
        self.renames_over = False

    def remove(self, path: str) -> None:
        """See RemoteFiles."""

        def removed(client: SFTPClient) -> None:
            with suppress(FileNotFoundError):
                client.remove(self._path(path))

        self._do(f"remove {path}", removed)

    def move(self, path: str, name: str) -> None:
        """See RemoteFiles."""
        self._do(f"rename {path}", lambda client: client.rename(self._path(path), self._path(name)), twice=False)

    def make_folder(self, path: str) -> None:
        """See RemoteFiles."""

        def made(client: SFTPClient) -> None:
            try:
                client.mkdir(self._path(path))
            except OSError:
                if not stat.S_ISDIR(client.lstat(self._path(path)).st_mode or 0):
                    raise

        self._do(f"make the folder {path}", made)

    def remove_folder(self, path: str) -> None:
        """See RemoteFiles."""

        def removed(client: SFTPClient) -> None:
            with suppress(FileNotFoundError):
                client.rmdir(self._path(path))

        self._do(f"remove the folder {path}", removed)
