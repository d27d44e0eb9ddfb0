"""The stand-in server: starts, listens, talks on its consoles, and stops with all the habits of a real one."""

from __future__ import annotations

import argparse
import asyncio
import json
import os
import signal
import stat
import sys
import time
from collections.abc import Callable

from gullwind_standin import settings as files
from gullwind_standin.berths import read_berths
from gullwind_standin.flotsam import Flotsam
from gullwind_standin.more_files import read_all, read_levels
from gullwind_standin.ranks import Ranks
from gullwind_standin.rosters import Rosters
from gullwind_standin.settings import Settings, WillNotStart

_SAILORS = ("Wren", "Tern", "Plover", "Dunlin", "Avocet", "Curlew", "Knot", "Ruff", "Sanderling", "Turnstone")
_LETTERS = "23456789ABCDEFGHJKLMNPQRSTUVWXYZ"
_SECRET = ("entry.code", "console.code")


def sailor_id(number: int) -> str:
    """Make a sailor's ID such as GW-7K3M-Q2XD; the same number gives the same ID."""
    mixed = (number + 1) * 2654435761 % 2**40
    signs = "".join(_LETTERS[mixed >> (5 * at) & 31] for at in range(8))
    return f"GW-{signs[:4]}-{signs[4:]}"


class GullwindServer:
    """One running server."""

    def __init__(self, folder: str, may_take: int, words: argparse.Namespace) -> None:
        """Read the folder's faults; ``may_take`` is the memory, in megabytes, that the machine grants."""
        self.folder = folder
        self.words = words
        self.mods = [mod for mod in words.mods.split(";") if mod]
        self.more: Settings = {}
        self.paused = "off"
        self.course = ""
        self.may_take = may_take
        self.trials = files.read_trials(folder)
        self.settings: Settings = {}
        self.written: Settings = {}
        self.sailors: dict[str, str] = {}
        self.stopping = asyncio.Event()
        self.exit_code = 0
        self.signals = 0
        self.stops_missed = 0
        os.makedirs(os.path.join(folder, "logs"), exist_ok=True)
        self.log_file = open(os.path.join(folder, "logs", "latest.log"), "w", encoding="utf-8")  # noqa: SIM115

    def log(self, line: str) -> None:
        """Say a line on standard output and in the log file."""
        print(line, flush=True)
        self.log_file.write(f"[{time.strftime('%Y-%m-%d %H:%M:%S')}] {line}\n")
        self.log_file.flush()

    async def run(self) -> int:
        """Live from start to stop; give the exit code."""
        self.log(f"Gullwind server {self.words.like}")
        try:
            self._load()
            servers = await self._listen()
        except WillNotStart as error:
            self.log(str(error))
            return 1
        await asyncio.sleep(self.trials.start_seconds)
        if self.trials.die_at_start:
            self.log("ERROR bad config")
            return 1
        if self.trials.fails_and_stays:
            self.log("ERROR bad config")
            await self.stopping.wait()
        await self._console_on_stdin()
        self._ready()
        await self.stopping.wait()
        return await self._stop(servers)

    def _load(self) -> None:
        first = not os.path.exists(os.path.join(self.folder, "gullwind.properties"))
        counting = files.effective(files.read_properties(self.folder), self.words.like, self.words.edition)
        if first:
            files.write_properties(self.folder, counting, first=True)
        self.written = dict(counting)
        self.settings = files.fix_by_world(self.folder, counting)
        courses = files.read_courses(self.folder)
        self.course = courses[0] if courses else ""
        if int(float(self.settings["memory.limit"])) > self.may_take:
            raise WillNotStart("fatal: alloc")
        if int(float(self.settings["tick.rate"])) >= 60:
            raise WillNotStart("fatal: tick")
        self._check_words()
        self.rosters = Rosters(self.folder, self.settings)
        self.ranks = Ranks(self.folder, self.settings["ranks.kept"], self.settings["world.save"])
        self.more = read_all(self.folder, self.settings["world.save"], self.settings["tide.mode"], self.mods)
        self.flotsam = Flotsam(self.folder)
        if self.flotsam.remark:
            self.log(self.flotsam.remark)
        self.categories, self.roles = read_berths(self.folder)
        self.levels = read_levels(self.folder)
        self.log(f"World {self.settings['world.save']}, tide {self.settings['tide.mode']}, {len(courses)} courses")

    def _check_words(self) -> None:
        """Look at the start script's words; what is wrong ends the server with one line that helps nobody."""
        if self.words.hold is not None and self.words.hold != self.may_take:
            raise WillNotStart("fatal: hold")
        for number, mod in enumerate(self.mods):
            home = os.path.join(self.folder, "mods", mod)
            if not os.path.isdir(home):
                raise WillNotStart("fatal: dir")
            needs = os.path.join(home, "needs.txt")
            if os.path.exists(needs):
                with open(needs, encoding="utf-8") as file:
                    wanted = [line.strip() for line in file if line.strip()]
                if any(mod not in self.mods[:number] for mod in wanted):
                    raise WillNotStart("fatal: order")
        if self.words.profile:
            os.makedirs(os.path.join(self.folder, self.words.profile), exist_ok=True)

    async def _listen(self) -> list[asyncio.Server]:
        servers = [await self._listen_on("net.address", "net.port", self._meet)]
        if self.settings["console.open"] == "true":
            servers.append(await self._listen_on("console.address", "console.port", self._tcp_console))
        return servers

    async def _listen_on(
        self, address_key: str, port_key: str, meet: Callable[..., asyncio.Future[None] | object]
    ) -> asyncio.Server:
        address, port = self.settings[address_key], int(self.settings[port_key])
        try:
            return await asyncio.start_server(meet, address, port)  # type: ignore[arg-type]
        except OSError as error:
            if error.errno in (98, 48):
                raise WillNotStart("fatal: socket") from error
        try:
            return await asyncio.start_server(meet, "0.0.0.0", port)  # type: ignore[arg-type]
        except OSError as error:
            raise WillNotStart("fatal: socket") from error

    async def _meet(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Answer a boat that hails: the game's own greeting, in one line."""
        if await reader.readline() == b"hail\n":
            writer.write(f"gullwind {self.words.like} {len(self.sailors)}/{self.settings['boat.slots']}\n".encode())
        writer.close()

    def _ready(self) -> None:
        for number, sign in enumerate((signal.SIGTERM, signal.SIGINT)):
            asyncio.get_running_loop().add_signal_handler(sign, self._asked_to_stop, number)
        if not self.trials.ready_never and not self.trials.quiet_start:
            self.log(f"Ready: 0 of {self.settings['boat.slots']} boats")
        if self.settings["lobby.listed"] == "true" and not self.words.unlisted:
            self.background = asyncio.create_task(asyncio.to_thread(self._tell_lobby, "POST"))
        if self.trials.dies_on_broken_pipe:
            signal.signal(signal.SIGPIPE, signal.SIG_DFL)
            self.talk_task = asyncio.create_task(self._talk_again_and_again())
        if self.trials.restless:
            self.restless_task = asyncio.create_task(self._write_again_and_again())
        if self.trials.die_after >= 0:
            asyncio.get_running_loop().call_later(self.trials.die_after, self._die)

    async def _talk_again_and_again(self) -> None:
        number = 0
        while True:
            await asyncio.sleep(0.05)
            number += 1
            self.log(f"Wave {number}")

    async def _write_again_and_again(self) -> None:
        number = 0
        while True:
            await asyncio.sleep(self.trials.restless)
            number += 1
            files.write_properties(self.folder, {**self.written, "saved.count": str(number)})

    def _die(self) -> None:
        self.log("keel bolt sheared")
        os._exit(3)

    def _asked_to_stop(self, _number: int = 0) -> None:
        self.signals += 1
        if not self.trials.hang_at_stop and self.signals >= self.trials.signals_needed:
            self.stopping.set()

    async def _stop(self, servers: list[asyncio.Server]) -> int:
        self.log("Stopping")
        for server in servers:
            server.close()
        if self.settings["lobby.listed"] == "true":
            await asyncio.to_thread(self._tell_lobby, "DELETE")
        await asyncio.sleep(self.trials.stop_seconds)
        files.write_properties(self.folder, self.written)
        self.log("Stopped")
        return self.exit_code

    def _tell_lobby(self, method: str) -> None:
        entry = {
            "name": self.settings["server.name"],
            "port": int(self.settings["net.port"]),
            "slots": int(float(self.settings["boat.slots"])),
            "hidden": files.hidden_from_lobby(self.settings),
            "delay": self.trials.lobby_delay,
        }
        import urllib.error
        import urllib.request

        url = self.settings["lobby.url"].rstrip("/") + "/servers"
        request = urllib.request.Request(url, json.dumps(entry).encode(), method=method)
        try:
            urllib.request.urlopen(request, timeout=2).close()
        except (urllib.error.URLError, OSError, ValueError):
            self.log("lobby: no answer")

    async def _console_on_stdin(self) -> None:
        if self.trials.closes_console:
            os.close(0)
            return
        if (self.trials.wants_terminal or not stat.S_ISFIFO(os.fstat(0).st_mode)) and not os.isatty(0):
            return
        reader = asyncio.StreamReader()
        loop = asyncio.get_running_loop()
        await loop.connect_read_pipe(lambda: asyncio.StreamReaderProtocol(reader), sys.stdin)
        self.stdin_task = asyncio.create_task(self._read_console(reader, self.log))

    async def _read_console(self, reader: asyncio.StreamReader, answer: Callable[[str], None]) -> None:
        while line := await reader.readline():
            said_now = self._do(line.decode("utf-8", "replace").strip())
            await asyncio.sleep(self.trials.answer_seconds)
            for said in said_now:
                answer(said)

    async def _tcp_console(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.write(b"code?\n")
        given = (await reader.readline()).decode("utf-8", "replace").strip()
        if self.trials.cut_console or given != self.settings["console.code"] or not given:
            if not self.trials.cut_console:
                writer.write(b"go away\n")
            writer.close()
            return
        writer.write(b"aboard\n")
        await self._read_console(reader, lambda said: writer.write(said.encode() + b"\n"))
        writer.close()

    def _do(self, line: str) -> list[str]:
        word, _, rest = line.partition(" ")
        command = getattr(self, f"_do_{word}", None)
        return command(rest.strip()) if command else ([f"unknown: {word}"] if word else [])

    def _do_help(self, _rest: str) -> list[str]:
        words = "help status sailors say stop save course pause honour reload value muster ashore who may ban unban"
        return [f"{words} officers roll berths levels where"]

    def _do_where(self, rest: str) -> list[str]:
        """Return where a sailor is, in the words that administrators copy from here into files."""
        names = {name: number for number, name in enumerate(self.sailors.values())}
        if rest not in names:
            return ["nobody"]
        return [f"{rest} is at {120.5 + names[rest]:.1f} {-34.0:.1f} {0.0:.1f}, facing {90.0:.1f}"]

    def _do_roll(self, rest: str) -> list[str]:
        return [self.flotsam.roll(rest)]

    def _do_berths(self, _rest: str) -> list[str]:
        return [f"berths: {', '.join(sorted(self.roles)) or 'none'}; categories: {', '.join(sorted(self.categories))}"]

    def _do_levels(self, _rest: str) -> list[str]:
        return [f"levels: {', '.join(f'{level} at {points}' for level, points in self.levels) or 'none'}"]

    def _do_status(self, _rest: str) -> list[str]:
        return [f"{len(self.sailors)} of {self.settings['boat.slots']} boats, tide {self.settings['tide.mode']}"]

    def _do_sailors(self, _rest: str) -> list[str]:
        names = ", ".join(f"{name} ({sailor})" for sailor, name in self.sailors.items())
        return [f"sailors {len(self.sailors)}: {names}"]

    def _do_say(self, rest: str) -> list[str]:
        return [f"[harbour radio] {rest}"]

    def _do_stop(self, _rest: str) -> list[str]:
        if self.stops_missed < self.trials.stop_missed:
            self.stops_missed += 1
            return []
        self._asked_to_stop()
        return []

    def _do_save(self, _rest: str) -> list[str]:
        with open(os.path.join(self.folder, "saves", "saved.txt"), "a", encoding="utf-8") as file:
            file.write(f"{len(self.sailors)} aboard\n")
        return ["saved"]

    def _do_course(self, rest: str) -> list[str]:
        """Go to another course at once; no file keeps that."""
        if rest:
            if rest not in files.read_courses(self.folder):
                return [f"no course {rest}"]
            self.course = rest
        return [f"course is {self.course}"]

    def _do_honour(self, rest: str) -> list[str]:
        """Read or set the honour of the club, which the server keeps in a database of its own."""
        import contextlib
        import sqlite3

        with contextlib.closing(sqlite3.connect(os.path.join(self.folder, "honours.db"), isolation_level=None)) as db:
            db.execute("CREATE TABLE IF NOT EXISTS honour (points INTEGER)")
            if rest.isdigit():
                db.execute("DELETE FROM honour")
                db.execute("INSERT INTO honour VALUES (?)", (int(rest),))
            found = db.execute("SELECT points FROM honour").fetchone()
        return [f"honour is {found[0] if found else 0}"]

    def _do_who(self, rest: str) -> list[str]:
        return [self.rosters.who(rest)]

    def _do_may(self, rest: str) -> list[str]:
        sailor, _, permission = rest.partition(" ")
        rank, level = self.rosters.officers.get(sailor, ""), int(self.rosters.grants.get(sailor, "0"))
        may = self.ranks.allows(sailor, permission, rank, level)
        return [f"{sailor} {'may' if may else 'may not'} {permission}"]

    def _do_ban(self, rest: str) -> list[str]:
        return [self.rosters.ban(rest)] if rest else ["ban whom?"]

    def _do_unban(self, rest: str) -> list[str]:
        return [self.rosters.unban(rest)]

    def _do_officers(self, rest: str) -> list[str]:
        if rest == "reload":
            self.rosters.reload_officers()
        return [f"officers: {len(self.rosters.officers)}"]

    def _do_reload(self, _rest: str) -> list[str]:
        return ["reloaded"]

    def _do_value(self, rest: str) -> list[str]:
        """Read or set a value while running; what is set so is gone after the next start."""
        key, _, value = rest.partition(" ")
        if key in self.more and not value:
            return [f"{key} is {self.more[key]}"]
        if key not in self.settings or key in _SECRET:
            return ["?"]
        if value and key not in ("net.port", "world.save", "tide.mode", "world.size"):
            self.settings[key] = files.effective({key: value}, self.words.like, self.words.edition)[key]
        return [f"{key} is {self.settings[key]}"]

    def _do_pause(self, rest: str) -> list[str]:
        """Let the race stand still; no file keeps that."""
        if rest in ("on", "off"):
            self.paused = rest
        return [f"pause is {self.paused}"]

    def _do_muster(self, rest: str) -> list[str]:
        said = []
        for _ in range(int(rest) if rest.isdigit() else 1):
            number = len(self.sailors)
            sailor, name = sailor_id(number), _SAILORS[number % len(_SAILORS)]
            if not self.rosters.may_board(sailor):
                said.append(f"sailor {name} ({sailor}) was turned away")
                continue
            self.sailors[sailor] = name
            said.append(f"sailor {name} ({sailor}) came aboard")
        return said

    def _do_ashore(self, rest: str) -> list[str]:
        gone = [sailor for sailor, name in self.sailors.items() if rest in (name, sailor, "")]
        return [f"sailor {self.sailors.pop(sailor)} ({sailor}) went ashore" for sailor in gone]
