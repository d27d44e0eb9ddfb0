"""Three open-source game servers as the distribution packages them, each in a folder of its own, on loopback alone.

They run in a network namespace without any other interface where root allows it, are never listed publicly, and each
test bounds their run.
"""

from __future__ import annotations

import ctypes
import fcntl
import os
import shutil
import socket
import sqlite3
import struct
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from conftest import SiteUnderTest, free_port

_NEW_NETWORK = 0x40000000
_SET_FLAGS, _UP_AND_RUNNING = 0x8914, 0x41


def leave_the_network() -> bool:
    """Give this thread, and all that it starts, a network of its own with loopback only; return whether that worked."""
    if os.geteuid() or ctypes.CDLL(None, use_errno=True).unshare(_NEW_NETWORK):
        return False
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as link:
        fcntl.ioctl(link, _SET_FLAGS, struct.pack("16sh14x", b"lo", _UP_AND_RUNNING))
    return True


@dataclass
class RealServer:
    """One server: how it is laid down, and what is tried with it."""

    rulebook: str
    program: str
    lay_down: Callable[[Path, int], None]
    """Write its files into a folder, for a port."""
    start: str
    port: str
    """The setting that holds its port."""
    five: dict[str, str]
    """Five settings of different kinds, and values for them."""
    asked: dict[str, str]
    """Lines for its console, and what it must say afterwards of those values."""
    entry: tuple[str, ...]
    """What ``add`` puts into one of its lists."""
    entry_said: str
    wrong: tuple[str, ...]
    live: tuple[str, str]
    """A setting and a value that it takes while it runs."""
    live_asked: tuple[str, str]
    bad_start: str
    """A change with which it does not start."""
    bad_line: tuple[str, str, str]
    """A file, and what somebody writes into it by hand in the place of what: a value that the server would not take."""
    prepare: Callable[[SiteUnderTest, Path], None] = field(default=lambda site, home: None)
    """What it needs besides its files before it is tried."""

    @property
    def is_there(self) -> bool:
        """Whether the package is installed."""
        return shutil.which(self.program, path=f"{os.environ.get('PATH', '')}:/usr/games:/usr/lib/minetest") is not None


def _script(home: Path, line: str) -> None:
    (home / "start.sh").write_text(f"#!/bin/sh\nexec {line}\n")
    (home / "start.sh").chmod(0o755)


def _teeworlds(home: Path, port: int) -> None:
    (home / "server.cfg").write_text(
        f"""# Practice waters of the Saltmarsh Sailing Club
sv_name "Saltmarsh Practice"
bindaddr 127.0.0.1
sv_port {port}
sv_register 0
sv_rcon_password "pebble-beach"
ec_port {free_port()}
ec_bindaddr 127.0.0.1
ec_password "pebble-shore"
sv_maprotation "dm1 dm2"
exec bans.cfg
add_vote "Next map: dm2" "change_map dm2"
"""
    )
    (home / "bans.cfg").write_text('ban 10.9.9.9 0 "rude"\n')


def _openttd(home: Path, port: int) -> None:
    (home / "openttd.cfg").write_text(
        f"""[network]
server_port = {port}
server_game_type = local
max_clients = 25
[vehicle]
max_trains = 500
[game_creation]
map_x = 6
map_y = 6
"""
    )
    (home / "private.cfg").write_text(
        "[network]\nserver_name = Saltmarsh Line\n\n[server_bind_addresses]\n127.0.0.1 = \n\n[bans]\n"
    )
    (home / "secrets.cfg").write_text("[network]\nserver_password = \n")
    _script(home, '/usr/games/openttd -D -c "$PWD/openttd.cfg" -d net=3')


def _minetest(home: Path, port: int) -> None:
    (home / "minetest.conf").write_text(
        f"""# Fields of the Saltmarsh Sailing Club
server_name = Saltmarsh Fields
bind_address = 127.0.0.1
port = {port}
name = wren
server_announce = false
motd = \"\"\"
Fair winds
and no mischief
\"\"\"
max_users = 9
"""
    )
    _script(
        home,
        "/usr/lib/minetest/minetestserver --config minetest.conf --world world --gameid devtest --terminal",
    )


def _with_admin(site: SiteUnderTest, home: Path) -> None:
    """Let the server make its world, and its administrator an account, as somebody who has come in once."""
    site.ok("start", home.name)
    site.ok("stop", home.name)
    with sqlite3.connect(home / "world" / "auth.sqlite") as accounts:
        accounts.execute("INSERT INTO auth (id, name, password, last_login) VALUES (1, 'wren', '#1#YQ#YQ', 1)")
        for right in ("server", "privs", "ban", "kick", "settime", "interact", "shout"):
            accounts.execute("INSERT INTO user_privileges VALUES (1, ?)", (right,))
    accounts.close()


SERVERS = {
    "teeworlds": RealServer(
        rulebook="teeworlds",
        program="teeworlds-server",
        lay_down=_teeworlds,
        start="/usr/games/teeworlds-server -f server.cfg",
        port="server.port",
        five={
            "server.name": 'Long "Reach"',
            "game.score-limit": "none",
            "game.warmup": "30s",
            "vote.kick": "off",
            "players.inactive": "3",
            "game.rotation": "dm1 dm6",
        },
        asked={
            "sv_name": 'Value: Long "Reach"',
            "sv_scorelimit": "Value: 0",
            "sv_warmup": "Value: 30",
            "sv_vote_kick": "Value: 0",
            "sv_inactivekick": "Value: 3",
            "sv_maprotation": "Value: dm1 dm6",
        },
        entry=("bans", "address=10.1.1.1", "reason=too loud"),
        entry_said="bans/10.1.1.1 is there, says its console",
        wrong=("players.most=65", "game.type=regatta", "game.warmup=soon", "vote.kick=maybe", "server.port=99999"),
        live=("game.time-limit", "20m"),
        live_asked=("sv_timelimit", "Value: 20"),
        bad_start="game.map=nowhere",
        bad_line=("server.cfg", "sv_register 0\n", "sv_register 0\nsv_max_clients 65\n"),
    ),
    "openttd": RealServer(
        rulebook="openttd",
        program="openttd",
        lay_down=_openttd,
        start="./start.sh",
        port="network.server_port",
        five={
            "network.server_name": "Long Reach",
            "network.max_clients": "40",
            "network.pause_on_join": "off",
            "vehicle.max_trains": "77",
            "game_creation.landscape": "arctic",
        },
        asked={
            "setting network.server_name": "'Long Reach'",
            "setting network.max_clients": "'40'",
            "setting network.pause_on_join": "'false'",
            "setting vehicle.max_trains": "'77'",
            "setting game_creation.landscape": "'arctic'",
        },
        entry=("bans", "address=10.1.1.1"),
        entry_said="bans/10.1.1.1 is there, says its console",
        wrong=(
            "network.max_clients=256",
            "game_creation.landscape=moon",
            "network.pause_on_join=often",
            'network.server_name="Reach"',
            "game_creation.map_x=13",
        ),
        live=("network.max_lag_time", "600"),
        live_asked=("setting network.max_lag_time", "'600'"),
        bad_start="start.sh:-D=no.such.host.invalid:1",
        bad_line=("openttd.cfg", "max_clients = 25", "max_clients = 256"),
    ),
    "minetest": RealServer(
        rulebook="minetest",
        program="minetestserver",
        lay_down=_minetest,
        start="./start.sh",
        port="port",
        five={
            "server_name": 'Salt "Fields"',
            "max_users": "12",
            "disable_anticheat": "on",
            "chat_message_limit_per_10sec": "7.5",
            "debug_log_level": "info",
        },
        asked={
            "/set server_name": 'server_name = Salt "Fields"',
            "/set max_users": "max_users = 12",
            "/set disable_anticheat": "disable_anticheat = true",
            "/set chat_message_limit_per_10sec": "chat_message_limit_per_10sec = 7.5",
            "/set debug_log_level": "debug_log_level = info",
        },
        entry=("bans", "address=10.1.1.1", "player=pike"),
        entry_said="bans/10.1.1.1",
        wrong=("max_users=65536", "disable_anticheat=maybe", "debug_log_level=loud", "port=0", "name=two words"),
        live=("time_speed", "100"),
        live_asked=("/set time_speed", "time_speed = 100"),
        bad_start="start.sh:--world=/proc/nowhere",
        bad_line=("minetest.conf", "max_users = 9", "max_users = 65536"),
        prepare=_with_admin,
    ),
}
