"""The address of a rented server's folder, as the site file has it: ``ftps://club@files.example:21/regatta``."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING
from urllib.parse import unquote, urlsplit

from msgspec import Struct

from roundgate.host.errors import Trouble

if TYPE_CHECKING:
    from roundgate.host.site_file.tables import ServerEntry

_PORTS = {"sftp": 0, "ftps": 21, "ftp": 21}
"""How files are reached, and the port where the address names none: SFTP, whose port is then as ssh's configuration
says; FTP with TLS from the first command on that says so (AUTH TLS); and FTP without any."""
_EXAMPLE = "sftp://club@files.example/regatta"
_HOME = "~"
"""What a folder in the user's home begins with, by SFTP."""


class Address(Struct, frozen=True):
    """Where a folder is."""

    scheme: str
    host: str
    port: int
    """0 with SFTP for the one that ssh's configuration says."""
    user: str
    """Empty with SFTP for the one that ssh's configuration says."""
    folder: str
    """From the place's root or the user's home, with slashes and without one at its end; empty for that itself."""
    is_in_home: bool = False

    @property
    def where(self) -> str:
        """The machine and the port, for a person."""
        return f"{self.host}:{self.port}" if self.port else self.host


def parse_address(text: str) -> Address:
    """Parse an address. Raises Trouble, without a password that may be in it."""
    try:
        parts = urlsplit(text)
        port = parts.port or _PORTS.get(parts.scheme, 0)
    except ValueError as error:
        raise Trouble("The address of the folder has a port that is not a number.", f"Write {_EXAMPLE}.") from error
    if parts.password is not None:
        raise Trouble(
            f"The address of the folder on {parts.hostname} has a password in it; the site file is no place for one.",
            'Take it out of the address; write password = "{secret.NAME}", and the secret into the secrets file.',
        )
    if parts.scheme not in _PORTS:
        raise Trouble(f"'{parts.scheme}' is not a way to a folder.", f"Write {_EXAMPLE}, or ftps:// or ftp://.")
    if not parts.hostname or not (parts.username or parts.scheme == "sftp"):
        raise Trouble(f"'{text}' does not name the machine and the user.", f"Write {_EXAMPLE}.")
    if parts.hostname.startswith("-") or (parts.username or "").startswith("-"):
        raise Trouble(f"'{text}' has a machine or a user that begins with a dash.", f"Write {_EXAMPLE}.")
    folder = unquote(parts.path).strip("/")
    if ".." in folder.split("/"):
        raise Trouble(f"The folder of '{text}' leads upward.", f"Write {_EXAMPLE}.")
    first, _, rest = folder.partition("/")
    is_in_home = parts.scheme == "sftp" and first == _HOME
    return Address(
        parts.scheme, parts.hostname, port, unquote(parts.username or ""), rest if is_in_home else folder, is_in_home
    )


def without_password(text: str) -> tuple[str, str]:
    """Take a password out of an address, which may have an @ in it; return both."""
    found = re.match(r"([a-z]+://[^/@:]*):([^/]*)@", text)
    return (f"{found[1]}@{text[found.end() :]}", unquote(found[2])) if found else (text, "")


def check_entry(name: str, entry: ServerEntry, site_file: str) -> None:
    """See that what the site file says of a rented server fits together. Raises Trouble."""
    address = parse_address(entry.folder)
    fix = f"Fix {site_file}."
    if address.scheme == "ftp" and not entry.insecure:
        raise Trouble(
            f"{site_file}: {name} is reached by plain FTP, which sends the password and the files in the clear.",
            "Write ftps:// where the service knows TLS; or allow it: insecure = true.",
        )
    if entry.driver not in ("requests", "by-hand"):
        raise Trouble(
            f"{site_file}: {name} is on a rented machine, where the driver '{entry.driver}' cannot start it.",
            'Write driver = "requests" where the service takes HTTP requests, else driver = "by-hand".',
        )
    has_secret = entry.password.startswith("{secret.") and entry.password.endswith("}")
    if not has_secret and (address.scheme != "sftp" or entry.password):  # by SFTP a key does
        raise Trouble(
            f"{site_file}: {name} needs its password as a secret.",
            'Write password = "{secret.NAME}", and the secret into the secrets file or the environment.',
        )
    if entry.driver == "requests" and not (entry.requests.start.url and entry.requests.stop.url):
        raise Trouble(f"{site_file}: {name} has the driver 'requests' and does not say what to request.", fix)
    if entry.driver == "requests" and not (entry.requests.state.url and entry.requests.state.up):
        raise Trouble(f"{site_file}: {name} does not say how its service tells that it is up.", fix)
    if entry.driver == "by-hand" and not (entry.by_hand.start and entry.by_hand.stop):
        raise Trouble(f"{site_file}: {name} does not say what to press to start and to stop it.", fix)
