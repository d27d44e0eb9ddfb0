"""A real OpenSSH server for tests, on loopback alone, with keys of its own; and a line to it that can be cut."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import threading
from pathlib import Path

from conftest import wait_for
from ports import free_port

SSHD = shutil.which("sshd", path="/usr/sbin:/usr/local/sbin:/usr/bin")


class Sshd:
    """The server and its files: keys, configuration, and what ``ssh`` needs to get in."""

    def __init__(self, folder: Path, more: str = "") -> None:
        folder.mkdir(parents=True)
        self.folder, self.port, self.more = folder, free_port(), more
        self.process: subprocess.Popen[bytes] | None = None
        for name in ("host", "user"):
            self.make_key(name)
        shutil.copy(folder / "user.pub", folder / "authorized")
        # Where root runs it, it wants this folder for those who have not signed in yet.
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        self.start()

    def make_key(self, name: str) -> None:
        for path in self.folder.glob(f"{name}*"):
            path.unlink()
        command = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.folder / name)]
        subprocess.run(command, check=True)

    def make_known(self) -> None:
        """Have ``ssh`` know the host key already, by whatever port."""
        (self.folder / "known").write_text(f"[127.0.0.1]:* {(self.folder / 'host.pub').read_text()}")

    def start(self) -> None:
        """Begin to serve, also again."""
        self.stop()
        (self.folder / "conf").write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {self.folder}/host\n"
            f"AuthorizedKeysFile {self.folder}/authorized\nStrictModes no\nUsePAM no\nPermitRootLogin yes\n"
            f"PidFile {self.folder}/pid\nSubsystem sftp internal-sftp\n{self.more}"
        )
        words = [str(SSHD), "-D", "-e", "-f", str(self.folder / "conf")]
        with (self.folder / "log").open("ab") as log:
            self.process = subprocess.Popen(words, stdin=subprocess.DEVNULL, stdout=log, stderr=log)
        wait_for(self.answers)

    def stop(self) -> None:
        """End it; connections that are open go on."""
        if self.process is not None:
            self.process.terminate()
            self.process.wait(20)
            self.process = None

    def answers(self) -> bool:
        try:
            socket.create_connection(("127.0.0.1", self.port), 1).close()
        except OSError:
            return False
        return True

    def configuration(self, port: int | None = None, *, with_key: bool = True) -> str:
        """Return what ``ssh`` is configured by to get in, by another port where a line lies in between."""
        key = f"  IdentityFile {self.folder}/user\n" if with_key else ""
        return (
            f"Host files.saltmarsh.example\n  HostName 127.0.0.1\n  Port {port or self.port}\n{key}"
            f"  UserKnownHostsFile {self.folder}/known\n"
        )


class Line:
    """A line to a port of this machine: it can be cut after so many bytes, both ways counted."""

    def __init__(self, port: int) -> None:
        self.to, self.passed, self.cut_after = port, 0, -1
        self.lock = threading.Lock()
        self.open: set[socket.socket] = set()
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port: int = self.listener.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    @property
    def is_cut(self) -> bool:
        return 0 <= self.cut_after <= self.passed

    def _serve(self) -> None:
        while True:
            try:
                near, _ = self.listener.accept()
            except OSError:
                return
            try:
                far = socket.create_connection(("127.0.0.1", self.to))
            except OSError:
                near.close()
                continue
            with self.lock:
                self.open |= {near, far}
            if self.is_cut:
                self.hang_up()
            for source, target in ((near, far), (far, near)):
                threading.Thread(target=self._pass, args=(source, target), daemon=True).start()

    def _pass(self, source: socket.socket, target: socket.socket) -> None:
        try:
            while data := source.recv(65536):
                with self.lock:
                    room = len(data) if self.cut_after < 0 else max(0, self.cut_after - self.passed)
                    self.passed += min(room, len(data))
                target.sendall(data[:room])
                if self.is_cut:
                    self.hang_up()
        except OSError:
            pass
        for end in (source, target):
            with self.lock:
                self.open.discard(end)
            end.close()

    def hang_up(self) -> None:
        """Break all connections off."""
        with self.lock:
            ends = list(self.open)
        for end in ends:
            try:
                end.shutdown(socket.SHUT_RDWR)
            except OSError:
                continue

    def mend(self) -> None:
        """Let everything through again."""
        self.cut_after = -1

    def close(self) -> None:
        self.listener.close()
        self.hang_up()
