"""Files of a rented machine by FTP: always in binary, passive, and with TLS unless the site file allows none."""

from __future__ import annotations

import ftplib
import io
import re
import ssl
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any, BinaryIO

from roundgate.host.errors import OutOfReach, SignInRefused, Trouble
from roundgate.host.rented.address import Address
from roundgate.host.rented.protocol import WITHIN, Progress, Remote, RemoteFiles, Sink, is_plain

_TRIES, _PAUSE = 3, 0.5
"""How often a service that is busy or has hung up is called, and the seconds before the second time."""
_BLOCK = 256 * 1024


class _SecureFtp(ftplib.FTP_TLS):
    """FTP with TLS whose data connections go on with the session of the control connection, as several services ask."""

    def ntransfercmd(self, cmd: str, rest: int | str | None = None) -> Any:
        """See FTP."""
        link, size = ftplib.FTP.ntransfercmd(self, cmd, rest)
        if self._prot_p:  # type: ignore[attr-defined]
            session = self.sock.session  # type: ignore[union-attr]
            link = self.context.wrap_socket(link, server_hostname=self.host, session=session)
        return link, size


class FtpFiles(RemoteFiles):
    """The files below one folder. A connection that has broken is made anew; what is under way then is told."""

    def __init__(self, address: Address, password: str, trusted: str = "") -> None:
        """Connect to nothing yet; ``trusted`` is a file with the certificate of a service that no authority knows."""
        self.address = address
        self._password = password
        self._trusted = trusted
        self._link: ftplib.FTP | None = None
        self._encoding = "utf-8"

    # --- the connection ---

    def _connected(self) -> ftplib.FTP:
        if self._link is None:
            self._link = self._connect()
        return self._link

    def _connect(self) -> ftplib.FTP:
        host, port = self.address.host, self.address.port
        link: ftplib.FTP
        if self.address.scheme == "ftps":
            context = ssl.create_default_context(cafile=self._trusted or None)
            link = _SecureFtp(context=context, timeout=WITHIN)
        else:
            link = ftplib.FTP(timeout=WITHIN)
        link.encoding = self._encoding
        link.connect(host, port)
        link.login(self.address.user, self._password)
        if isinstance(link, ftplib.FTP_TLS):
            link.prot_p()
        if self.address.folder:
            link.cwd(f"/{self.address.folder}")
        link.voidcmd("TYPE I")
        return link

    def close(self) -> None:
        """Hang up."""
        if self._link is not None:
            with suppress(OSError, EOFError, ftplib.Error):
                self._link.quit()
            self._drop()

    def _drop(self) -> None:
        if self._link is not None:
            self._link.close()
            self._link = None

    def _again(self, what: str, act: Any) -> Any:
        """Do what may be done twice without harm; a service that hung up or is busy is called again.

        Raises OutOfReach, or Trouble for what will be so again.
        """
        pause = _PAUSE
        for left in reversed(range(_TRIES)):
            try:
                return act(self._connected())
            except UnicodeDecodeError:  # an old service, whose names are not in UTF-8
                self._drop()
                self._encoding = "latin-1"
            except (OSError, EOFError, ftplib.Error) as error:
                self._drop()
                told = _described(self.address, what, error)
                if not left or not isinstance(told, OutOfReach) or isinstance(error, ssl.SSLError):
                    raise told from error
                time.sleep(pause)  # a service that limits its connections needs a moment to see that one has ended
                pause *= 2
        raise OutOfReach(f"{self.address.where} cannot {what} now.", "Try again later.")

    @contextmanager
    def _once(self, what: str) -> Iterator[ftplib.FTP]:
        """Do what must not be done twice. Raises OutOfReach or Trouble."""
        try:
            yield self._connected()
        except (OSError, EOFError, ftplib.Error) as error:
            self._drop()
            raise _described(self.address, what, error) from error

    # --- files ---

    def listing(self, folder: str = "") -> dict[str, Remote]:
        """Return what a folder holds, by name; nothing where there is no such folder. Raises OutOfReach, Trouble."""

        def listed(link: ftplib.FTP) -> dict[str, Remote]:
            found = {}
            try:
                for name, facts in link.mlsd(folder, ["type", "size", "modify"]):
                    if facts.get("type") in ("file", "dir") and is_plain(name):
                        is_folder = facts["type"] == "dir"
                        found[name] = Remote(int(facts.get("size", 0)), facts.get("modify", ""), is_folder)
            except ftplib.error_perm as error:
                if str(error)[:3] == "550":
                    return {}
                if str(error)[:3] not in ("500", "501", "502", "504"):
                    raise
                return _listed_by_name(link, folder)
            return found

        output: dict[str, Remote] = self._again(f"list {folder or 'the folder'}", listed)
        return output

    def fetch(self, path: str, into: Sink, start: int = 0) -> bool:
        """See RemoteFiles. Raises OutOfReach, Trouble."""
        done = start

        def take(piece: bytes) -> None:
            nonlocal done
            into.write(piece)
            done += len(piece)

        def fetched(link: ftplib.FTP) -> bool:
            try:
                link.retrbinary(f"RETR {path}", take, _BLOCK, rest=done or None)
            except ftplib.error_perm as error:
                if str(error)[:3] == "550" and path.rpartition("/")[2] not in self._names(link, path):
                    return False
                raise
            return True

        try:
            output: bool = self._again(f"read {path}", fetched)
        except Trouble:
            self._drop()  # a transfer that was broken off leaves the connection in the middle of it
            raise
        return output

    def _names(self, link: ftplib.FTP, path: str) -> list[str]:
        try:
            return [name.rpartition("/")[2] for name in link.nlst(path.rpartition("/")[0])]
        except ftplib.error_perm:
            return []

    def send(self, path: str, source: BinaryIO, told: Progress = lambda _: None) -> None:
        """See RemoteFiles. Raises OutOfReach, Trouble."""

        def sent(link: ftplib.FTP) -> None:
            source.seek(0)
            link.storbinary(f"STOR {path}", source, _BLOCK, lambda piece: told(len(piece)))

        self._again(f"write {path}", sent)

    def rename(self, path: str, name: str) -> None:
        """Give a file another name, over whatever has that name where the service allows it. Raises OutOfReach."""
        with self._once(f"rename {path}") as link:
            if not _keep_mode(link, path, name):
                self._overwrite(link, path, name)
                return
            try:
                link.rename(path, name)
                self.renames_over = self.renames_over is not False
            except ftplib.error_perm:
                # Several services rename over nothing: the old file goes aside first. Should the connection break in
                # between, the round's journal has its bytes.
                aside = f"{path}-old"
                link.rename(name, aside)
                link.rename(path, name)
                link.delete(aside)
                self.renames_over = False

    def _overwrite(self, link: ftplib.FTP, path: str, name: str) -> None:
        """Write over a file whose mode another one cannot be given: a start script must stay one that can be run."""
        data = io.BytesIO()
        link.retrbinary(f"RETR {path}", data.write)
        data.seek(0)
        link.storbinary(f"STOR {name}", data)
        link.delete(path)

    def remove(self, path: str) -> None:
        """Remove a file, if it is there. Raises OutOfReach, Trouble."""
        with self._once(f"remove {path}") as link:
            try:
                link.delete(path)
            except ftplib.error_perm:
                if path.rpartition("/")[2] in self._names(link, path):
                    raise

    def move(self, path: str, name: str) -> None:
        """See RemoteFiles. Raises OutOfReach, Trouble."""
        with self._once(f"rename {path}") as link:
            link.rename(path, name)

    def make_folder(self, path: str) -> None:
        """See RemoteFiles. Raises OutOfReach, Trouble."""
        with self._once(f"make the folder {path}") as link:
            try:
                link.mkd(path)
            except ftplib.error_perm:
                if path.rpartition("/")[2] not in self._names(link, path):
                    raise

    def remove_folder(self, path: str) -> None:
        """See RemoteFiles. Raises OutOfReach, Trouble."""
        with self._once(f"remove the folder {path}") as link:
            try:
                link.rmd(path)
            except ftplib.error_perm:
                if path.rpartition("/")[2] in self._names(link, path):
                    raise


_MODE = re.compile(r"(?:.*;)?unix\.mode=([0-7]+);", re.IGNORECASE)
_RIGHTS = re.compile(r"-([r-][w-][xst-]){3}")


def _mode_of(link: ftplib.FTP, path: str) -> int | None:
    """Return the mode of a file; None where it is not there, or the service does not tell."""
    with suppress(ftplib.error_perm):
        found = _MODE.search(link.sendcmd(f"MLST {path}"))
        if found:
            return int(found[1], 8) & 0o777
    lines: list[str] = []
    with suppress(ftplib.error_perm, ftplib.error_temp):
        link.retrlines(f"LIST {path}", lines.append)
    link.voidcmd("TYPE I")
    if len(lines) != 1 or not _RIGHTS.match(lines[0]):
        return None
    return int("".join("0" if letter in "-ST" else "1" for letter in lines[0][1:10]), 2)


def _keep_mode(link: ftplib.FTP, path: str, name: str) -> bool:
    """Give a file the mode of the one whose place it is to take; return False where it must have it and cannot."""
    mode = _mode_of(link, name)
    if mode is None:
        return True
    try:
        link.sendcmd(f"SITE CHMOD {mode:o} {path}")
    except ftplib.error_perm:
        return not mode & 0o111
    return True


def _listed_by_name(link: ftplib.FTP, folder: str) -> dict[str, Remote]:
    """List a folder of a service that knows no MLSD; a name without a size is a folder."""
    found: dict[str, Remote] = {}
    try:
        names = link.nlst(folder)
    except ftplib.error_perm as error:
        if str(error)[:3] == "550":  # there is no such folder, or nothing in it
            return found
        raise
    link.voidcmd("TYPE I")  # the list came as text, and sizes are those of the bytes
    for whole in names:
        name = whole.rpartition("/")[2]
        if not is_plain(name):
            continue
        path = f"{folder}/{name}" if folder else name
        try:
            size = link.size(path)
            modified = link.voidcmd(f"MDTM {path}").partition(" ")[2]
            found[name] = Remote(size or 0, modified)
        except ftplib.error_perm:
            found[name] = Remote(0, "", is_folder=True)
    return found


def _described(address: Address, what: str, error: Exception) -> Trouble:
    """Describe what a service did not do; its words are told, and no password is in them."""
    where = address.where
    words = " ".join(str(error).split())[:200]
    if isinstance(error, ssl.SSLCertVerificationError):
        return Trouble(
            f"The certificate of {where} is not trusted: {error.verify_message}.",
            'Ask the service for its certificate; name the file in the site file: certificate = "FILE".',
        )
    if isinstance(error, ftplib.error_perm) and words[:3] == "530":
        return SignInRefused(f"{where} does not let {address.user} in: {words}", "Correct the password, or the user.")
    if isinstance(error, ftplib.error_perm):
        return Trouble(f"{where} refuses to {what}: {words}", "Look with a file client whether it can be done there.")
    if isinstance(error, ftplib.error_temp):
        return OutOfReach(f"{where} cannot {what} now: {words}", "Try again later.")
    if isinstance(error, ftplib.Error):
        return Trouble(f"{where} does not answer as FTP does: {words}", "Correct the address.")
    why = "the connection was closed" if isinstance(error, EOFError) else getattr(error, "strerror", None) or words
    return OutOfReach(f"{where} is out of reach: {str(why).lower().rstrip('.')}.", "Try again when it answers.")
