"""The file service of a rented place: FTP, with TLS or without, and the habits that such services have."""

from __future__ import annotations

import errno
import os
from typing import Any

import trustme
from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.filesystems import AbstractedFS
from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
from pyftpdlib.servers import ThreadedFTPServer

from gullwind_standin.place import USER, Habits


def serve_files(folder: str, port: int, habits: Habits) -> None:
    """Serve the folder's parent as the root, so that the game's folder is one of it; never returns.

    What is done to files is counted in the file ``acts`` above that; at the number that the file ``cut`` there names,
    everything breaks off.
    """
    root = os.path.dirname(folder)
    users = DummyAuthorizer()
    users.add_user(USER, habits.password, root, perm="elradfmwT" if habits.no_modes else "elradfmwMT")

    class Handler(TLS_FTPHandler if habits.tls else FTPHandler):  # type: ignore[misc]
        authorizer = users
        abstracted_fs = _files(habits, _Count(os.path.dirname(root)))
        banner = "Berths of Saltmarsh."
        timeout = habits.idle
        encoding = habits.encoding
        use_gmt_times = True

        def log(self, *_words: Any, **_more: Any) -> None:
            """Log nothing."""

        def logerror(self, msg: str) -> None:
            """Log nothing."""

    if habits.tls:
        Handler.certfile = _certificate(habits.tls)
        Handler.tls_control_required = Handler.tls_data_required = True
    if habits.list_only:
        Handler.proto_cmds = {name: one for name, one in Handler.proto_cmds.items() if name not in ("MLSD", "MLST")}
    server = ThreadedFTPServer(("127.0.0.1", port), Handler)
    server.max_cons_per_ip = habits.connections
    server.serve_forever()


class _Count:
    def __init__(self, folder: str) -> None:
        self.acts, self.cut = f"{folder}/acts", f"{folder}/cut"

    def act(self, kind: str) -> None:
        with open(self.acts, "a") as file:
            file.write(f"{kind}\n")
        if os.path.exists(self.cut):
            with open(self.cut) as cut, open(self.acts) as acts:
                if len(acts.readlines()) >= int(cut.read()):
                    os._exit(9)


def _files(habits: Habits, count: _Count) -> Any:
    class Files(AbstractedFS):  # type: ignore[misc]
        def ftp2fs(self, ftppath: str) -> str:
            path: str = super().ftp2fs(ftppath)
            return _found_in_any_case(self.root, path) if habits.no_case else path

        def rename(self, src: str, dst: str) -> None:
            if habits.no_rename_over and os.path.exists(dst):
                raise FileExistsError(errno.EEXIST, "File exists")
            super().rename(src, dst)
            count.act("rename")

        def open(self, filename: str, mode: str) -> Any:
            count.act("read" if "r" in mode else "write")
            file = super().open(filename, mode)
            return file if "r" in mode or not habits.quota else _Limited(file, habits.quota - _used(self.root))

        def listdir(self, path: str) -> list[str]:
            names: list[str] = super().listdir(path)
            return [name for name in names if not (habits.hides_dots and name.startswith("."))]

        def getmtime(self, path: str) -> float:
            exact: float = super().getmtime(path)
            return exact // 60 * 60 if habits.minutes else exact

        def remove(self, path: str) -> None:
            super().remove(path)
            count.act("remove")

    return Files


class _Limited:
    """A file that takes so many bytes more, and no others."""

    def __init__(self, file: Any, left: int) -> None:
        self._file, self._left = file, left

    def write(self, data: bytes) -> int:
        self._left -= len(data)
        if self._left < 0:
            raise OSError(errno.EDQUOT, "Disk quota exceeded")
        written: int = self._file.write(data)
        return written

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)


def _used(root: str) -> int:
    return sum(os.path.getsize(f"{folder}/{name}") for folder, _, names in os.walk(root) for name in names)


def _found_in_any_case(root: str, path: str) -> str:
    """Return a path with the letters that the files there have."""
    found = root
    for part in os.path.relpath(path, root).split("/"):
        names = os.listdir(found) if os.path.isdir(found) else []
        found = f"{found}/{next((name for name in names if name.lower() == part.lower()), part)}"
    return os.path.normpath(found)


def _certificate(shown: str) -> str:
    """Make an authority and a certificate of it; write the authority's to ``shown``, and return the other's file."""
    authority = trustme.CA()
    authority.cert_pem.write_to_path(shown)
    path = f"{shown}.key"
    authority.issue_cert("127.0.0.1").private_key_and_cert_chain_pem.write_to_path(path)
    os.chmod(path, 0o600)
    return path
