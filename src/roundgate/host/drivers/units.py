"""Units for systemd: one that brings a server up at boot, held by its keeper, with no more rights than it needs."""

from __future__ import annotations

from pathlib import Path

from roundgate.host.keeper.interpreter import own
from roundgate.host.ownership import name_of_user
from roundgate.host.servers import Server

_SPARE = 30
"""Seconds beyond a server's grace time before systemd ends what is left."""


def _quoted(word: str) -> str:
    """Write a word of a command line as systemd reads it."""
    plain = word.replace("%", "%%").replace("$", "$$")
    return f'"{plain}"' if " " in plain else plain


def keeper_unit(server: Server) -> str:
    """Return the text of a unit that starts and stops a server as a person would. Raises Trouble."""
    site = server.site.folder
    call = own("roundgate", "--site", str(site))
    start, stop = (" ".join(map(_quoted, (*call, word, server.name))) for word in ("start", "stop"))
    places = [str(site), str(server.folder.resolve()), *server.entry.outside]
    written = " ".join(_quoted(place) for place in dict.fromkeys(places) if Path(place).is_absolute())
    until_up = int(server.seconds("start_within") + server.seconds("watch")) + _SPARE
    ways = 1 + len(server.book.server.signals)
    until_down = int(server.seconds("grace")) * ways + _SPARE
    owner = name_of_user(site.stat().st_uid)
    return f"""[Unit]
Description={server.book.rulebook.title or "Game server"}: {server.name}
After=network-online.target
Wants=network-online.target

[Service]
Type=oneshot
RemainAfterExit=yes
User={owner}
ExecStart={start}
ExecStop={stop}
TimeoutStartSec={until_up}
TimeoutStopSec={until_down}
KillMode=mixed
NoNewPrivileges=yes
ProtectSystem=strict
ReadWritePaths={written}
PrivateTmp=yes
PrivateDevices=yes
ProtectKernelTunables=yes
ProtectKernelModules=yes
ProtectControlGroups=yes
RestrictSUIDSGID=yes
RestrictNamespaces=yes
LockPersonality=yes

[Install]
WantedBy=multi-user.target
"""
