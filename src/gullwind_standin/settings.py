"""How the stand-in reads its files: silently, forgivingly, and not always as the person meant it."""

from __future__ import annotations

import json
import os
import re
from dataclasses import dataclass
from typing import Any

DEFAULTS = {
    "server.name": "A Gullwind server",
    "server.motto": "",
    "welcome.text": "Welcome aboard.|Mind the tide.",
    "server.site": "",
    "language": "en",
    "boat.slots": "12",
    "reserve.slots": "0",
    "spectators.most": "-1",
    "heat.size": "8",
    "laps.count": "3",
    "race.length": "20",
    "finish.wait": "90",
    "idle.drop.minutes": "0",
    "ping.limit": "-1",
    "collisions": "true",
    "hull.damage": "50",
    "anchor.drag": "1.0",
    "gusts": "true",
    "gust.limit": "18",
    "gust.share": "0.25",
    "wind.scale": "1.0",
    "tide.mode": "spring",
    "world.save": "first-tide",
    "world.size": "middle",
    "save.every": "10",
    "crew.voice": "true",
    "ranks.kept": "deck",
    "chat.filter": "true",
    "entry.code": "",
    "guests.only": "false",
    "wardens": "",
    "net.address": "127.0.0.1",
    "net.port": "27800",
    "console.open": "false",
    "console.address": "127.0.0.1",
    "console.port": "27801",
    "console.code": "",
    "lobby.listed": "false",
    "lobby.url": "http://127.0.0.1:27900",
    "memory.limit": "1024",
    "tick.rate": "30",
    "log.detail": "usual",
    "chart.url": "",
    "chart.file": "",
    "tide.table": "saltmarsh.tide",
    "club.colour": "#1f4e79",
    "club.secretary": "",
    "race.classes": "gull,tern",
    "relay.address": "",
    "race.handicap": "0",
    "race.tally": "low",
    "ocean.swell": "1.5",
}
RELEASES = {
    "race.handicap": ("since", "2.4"),
    "race.tally": ("until", "2.4"),
    "ocean.swell": ("edition", "offshore"),
}
"""Keys that not every version and edition has."""
_CLAMPED = {
    "boat.slots": (1, 64),
    "reserve.slots": (0, 4),
    "heat.size": (2, 16),
    "laps.count": (1, 20),
    "race.length": (1, 120),
    "idle.drop.minutes": (0, 240),
    "ping.limit": (-1, 2000),
    "spectators.most": (-1, 200),
    "hull.damage": (0, 100),
    "anchor.drag": (0.1, 5.0),
    "gust.limit": (0, 40),
    "gust.share": (0.0, 1.0),
    "wind.scale": (0.5, 2.0),
    "save.every": (1, 120),
    "finish.wait": (10, 600),
    "tick.rate": (10, 60),
    "memory.limit": (256, 1_000_000),
    "race.handicap": (0, 100),
    "ocean.swell": (0, 9),
}
_WORDS = {
    "tide.mode": ("calm", "spring", "storm", "maelstrom", "custom"),
    "world.size": ("small", "middle", "large"),
    "log.detail": ("quiet", "usual", "chatty"),
    "language": ("en", "de", "fr", "nl"),
    "race.tally": ("low", "high"),
    "ranks.kept": ("deck", "signals", "stores", "lines", "levels", "waters"),
}
_SWITCHES = {key for key, value in DEFAULTS.items() if value in ("true", "false")}
_PORTS = ("net.port", "console.port")
_FIXED = ("tide.mode", "world.size")
COURSES = ("Harbour Mile", "Gull Rock Loop", "The Narrows")
BLOCKED = ("pirate", "privateer")

Settings = dict[str, str]


class WillNotStart(Exception):
    """The server ends at once, with one line that helps nobody."""


@dataclass(frozen=True)
class Trials:
    """Faults and times asked for, in ``sea-trials.txt``: a word and a number to a line."""

    restless: float = 0.0
    """Seconds after which the server rewrites its core file again and again, each time a little different."""
    start_seconds: float = 0.0
    stop_seconds: float = 0.0
    die_after: float = -1.0
    lobby_delay: float = 0.0
    hang_at_stop: bool = False
    die_at_start: bool = False
    cut_console: bool = False
    ready_never: bool = False
    stop_missed: float = 0
    """How many times the word ``stop`` on a console is not heard."""
    signals_needed: float = 1
    """How many signals it takes until the server stops."""
    answer_seconds: float = 0.0
    """Seconds until a console answers."""
    wants_terminal: bool = False
    """It reads its standard input only where that is a terminal."""
    closes_console: bool = False
    """It closes its standard input once it is up."""
    fails_and_stays: bool = False
    """It says what is wrong, and goes on living without ever being ready."""
    dies_on_broken_pipe: bool = False
    """It keeps printing, and dies of SIGPIPE where nobody reads its output any more."""
    quiet_start: bool = False
    """It says nothing of being ready, though it is."""


def read_trials(folder: str) -> Trials:
    """Read the faults asked for; none where the file is missing."""
    try:
        with open(os.path.join(folder, "sea-trials.txt"), encoding="utf-8") as file:
            words = [line.split() for line in file if line.strip() and not line.startswith("#")]
    except FileNotFoundError:
        return Trials()
    asked: dict[str, Any] = {pair[0].replace("-", "_"): float(pair[1]) if len(pair) > 1 else True for pair in words}
    return Trials(**asked)


def read_properties(folder: str) -> Settings:
    """Read ``gullwind.properties``; the last of equal keys counts, as in the platform it imitates."""
    try:
        with open(os.path.join(folder, "gullwind.properties"), "rb") as file:
            body = file.read().decode("utf-8-sig", "replace")
    except FileNotFoundError:
        return {}
    found: Settings = {}
    joined = re.sub(r"(?<!\\)((?:\\\\)*)\\(?:\r\n|\r|\n)[ \t\f]*", r"\1", body)
    for line in re.split(r"\r\n|\r|\n", joined):
        stripped = line.lstrip(" \t\f")
        if stripped and stripped[0] not in "#!":
            key, value = _pair(stripped)
            found[key] = value
    return found


def _pair(line: str) -> tuple[str, str]:
    match = re.match(r"((?:\\.|[^\\=:\s])*)(?:[ \t\f]*[=:][ \t\f]*|[ \t\f]+|$)(.*)$", line, re.DOTALL)
    key, value = match.groups() if match else (line, "")
    return _plain(key), _plain(value)


def _plain(raw: str) -> str:
    def one(match: re.Match[str]) -> str:
        if match[1]:
            return chr(int(match[1], 16))
        return {"t": "\t", "n": "\n", "r": "\r", "f": "\f"}.get(match[2], match[2])

    return re.sub(r"\\(?:u([0-9a-fA-F]{4})|(.))", one, raw)


def known_keys(version: str, edition: str) -> list[str]:
    """Return the keys that a version and an edition have."""
    numbers = [int(number) for number in version.split(".")[:2]]

    def has(key: str) -> bool:
        how, what = RELEASES.get(key, ("", ""))
        if how == "edition":
            return edition == what
        is_later = numbers >= [int(number) for number in what.split(".")] if what else True
        return is_later if how != "until" else not is_later

    return [key for key in DEFAULTS if has(key)]


def effective(found: Settings, version: str = "2.4", edition: str = "inshore") -> Settings:
    """Make of a file what counts: unknown keys dropped, bad values replaced, numbers clamped, all without a word."""
    counting = {key: DEFAULTS[key] for key in known_keys(version, edition)}
    for key, value in found.items():
        if key in counting:
            counting[key] = _taken(key, value)
    if counting["tide.mode"] == "maelstrom" and edition != "offshore":
        counting["tide.mode"] = DEFAULTS["tide.mode"]
    return counting


def _taken(key: str, value: str) -> str:
    if key in _SWITCHES:
        return value if value in ("true", "false") else DEFAULTS[key]
    if key in _WORDS:
        return value if value in _WORDS[key] else DEFAULTS[key]
    if key in _PORTS:
        return str(int(value) % 65536) if value.isdigit() else DEFAULTS[key]
    if key not in _CLAMPED:
        return value
    try:
        number = float(value)
    except ValueError:
        return DEFAULTS[key]
    least, most = _CLAMPED[key]
    return value if least <= number <= most else str(least if number < least else most)


def fix_by_world(folder: str, counting: Settings) -> Settings:
    """Let the saved world's tide and size count, or make the world with those that the file asks for."""
    path = os.path.join(folder, "saves", re.sub(r"[^\w\-]", "_", counting["world.save"]) + ".world")
    if os.path.exists(path):
        with open(path, encoding="utf-8") as file:
            fixed: Settings = json.load(file)
        return counting | fixed
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "w", encoding="utf-8") as file:
        json.dump({key: counting[key] for key in _FIXED}, file)
    return counting


def write_properties(folder: str, counting: Settings, *, first: bool = False) -> None:
    """Write the file from memory: known keys only, no comments, in the server's own order."""
    lines = ["# Gullwind server settings\n"] if first else []
    lines += [f"{key}={_escaped(value)}\n" for key, value in counting.items()]
    with open(os.path.join(folder, "gullwind.properties"), "w", encoding="utf-8") as file:
        file.writelines(lines)


def _escaped(value: str) -> str:
    shown = value.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
    return "\\" + shown if shown[:1] in (" ", "=", ":") else shown


def read_courses(folder: str) -> list[str]:
    """Read the rotation, or make it with the built-in courses. An empty one crashes the server."""
    path = os.path.join(folder, "courses.txt")
    if not os.path.exists(path):
        with open(path, "w", encoding="utf-8") as file:
            file.writelines(f"{course}\n" for course in COURSES)
    with open(path, encoding="utf-8", errors="replace") as file:
        courses = [line.strip() for line in file if line.strip() and not line.startswith("#")]
    if not courses:
        raise WillNotStart("fatal: index 0")
    return courses


def hidden_from_lobby(settings: Settings) -> bool:
    """Return whether the lobby hides the server: too many slots, or a blocked word inside its name."""
    name = settings["server.name"].lower()
    return int(float(settings["boat.slots"])) > 32 or any(word in name for word in BLOCKED)
