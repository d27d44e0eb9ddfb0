"""The stand-in's other files: weather, start-up commands, seamanship, scoring, waters, and a mod's own.

Each is read as the core file is: unknown keys are ignored, bad values give way to defaults, numbers are clamped, all
without a word. The tide of the weather file counts in one mode only, and the club's own scoring before the game's.
"""

from __future__ import annotations

import configparser
import os
import re
import tomllib
from typing import Any, NamedTuple


class Key(NamedTuple):
    """A key: its default, and what else may be there: bounds of a number, words, or a pattern."""

    default: str
    bounds: tuple[float, float] | None = None
    words: tuple[str, ...] = ()
    pattern: str = ""


_SWITCH = ("on", "off")
WEATHER = {
    "wind.Mean": Key("9.0", (0, 40)),
    "wind.Gusts": Key("3", (0, 20)),
    "wind.Storms": Key("0.1", (0, 1)),
    "wind.Veer": Key("15", (0, 180)),
    "wind.From": Key("sw", words=("n", "ne", "e", "se", "s", "sw", "w", "nw")),
    "wind.Calm": Key("0.5", (0, 1)),
    "tide.Name": Key("spring"),
    "tide.Height": Key("3.10", (0, 12)),
    "tide.Stream": Key("100", (0, 300)),
    "tide.Period": Key("12", (1, 48)),
    "tide.Drift1": Key("100", (0, 200)),
    "tide.Drift2": Key("120", (0, 200)),
    "tide.Drift3": Key("150", (0, 200)),
    "fog.Chance": Key("0.05", (0, 1)),
    "fog.Density": Key("0.40", (0, 1)),
    "fog.From": Key("05:00", pattern=r"[0-2]\d:[0-5]\d"),
    "fog.Until": Key("09:30", pattern=r"[0-2]\d:[0-5]\d"),
    "fog.Tint": Key("0.8 0.85 0.9 1", pattern=r"[\d.]+( [\d.]+){3}"),
    "rain.Chance": Key("20", (0, 100)),
    "rain.Longest": Key("600", (0, 7200)),
    "sky.Sunrise": Key("06:30", pattern=r"[0-2]\d:[0-5]\d"),
    "sky.Horizon": Key("#9fb8c9", pattern=r"#[0-9a-f]{6}"),
    "sky.Birds": Key("gulls", pattern=r"[a-z]*(\|[a-z]+)*"),
    "sky.Season": Key("summer", words=("spring", "summer", "autumn", "winter")),
}
STARTUP = {
    "hail": Key(""),
    "patrol.boats": Key("0", (0, 6)),
    "patrol.route": Key("0 0 0|0", pattern=r"\S+ \S+ \S+\|\S+"),
    "patrol.speed": Key("4.5", (0, 20)),
    "horn.every": Key("0", (0, 240)),
    "horn.at": Key("12:00", pattern=r"[0-2]\d:[0-5]\d"),
    "flags": Key("ensign", pattern=r"[a-z]*(\|[a-z]+)*"),
    "lights": Key("on", words=_SWITCH),
    "radio.channel": Key("72", (1, 88)),
}
SEAMANSHIP = {
    "open": Key("true", words=("true", "false")),
    "title": Key("Seamanship"),
    "points-per-mile": Key("10", (0, 1000)),
    "bonus": Key("0.1", (0, 1)),
    "season-start": Key("2026-04-01", pattern=r"\d{4}-\d\d-\d\d"),
    "season-end": Key("2026-10-31", pattern=r"\d{4}-\d\d-\d\d"),
}
SCORING = {
    "points.first": Key("10", (0, 100)),
    "points.second": Key("8", (0, 100)),
    "points.third": Key("6", (0, 100)),
    "points.finish": Key("1", (0, 100)),
    "penalty.collision": Key("2", (0, 100)),
    "penalty.mark": Key("3", (0, 100)),
    "count.best-of": Key("5", (1, 20)),
}
WATERS = {
    "water.Depth": Key("8.5", (0.5, 60)),
    "water.Wrecks": Key("3", (0, 40)),
    "water.Mud": Key("20", (0, 100)),
    "marks.Committee": Key("0 0 0|0", pattern=r"\S+ \S+ \S+\|\S+"),
    "marks.Colour": Key("255 140 0", pattern=r"\d+ \d+ \d+"),
}
LANTERNS = {
    "lantern.Oil": Key("60", (1, 600)),
    "lantern.Glow": Key("255,214,120", pattern=r"\d+,\d+,\d+"),
    "lantern.Reach": Key("40", (5, 200)),
    "lantern.Count": Key("2", (1, 8)),
}
Values = dict[str, str]


def _taken(found: Values, keys: dict[str, Key]) -> Values:
    return {name: _fitted(found.get(name), key) for name, key in keys.items()}


def _fitted(value: str | None, key: Key) -> str:
    if value is None:
        return key.default
    if key.words:
        return value if value in key.words else key.default
    if key.pattern:
        return value if re.fullmatch(key.pattern, value) else key.default
    if key.bounds is None:
        return value
    try:
        number = float(value)
    except ValueError:
        return key.default
    least, most = key.bounds
    return value if least <= number <= most else f"{least if number < least else most:g}"


def _ini(path: str) -> Values:
    parser = configparser.ConfigParser(strict=False, interpolation=None, comment_prefixes=(";", "#"))
    parser.optionxform = str  # type: ignore[method-assign,assignment]
    try:
        parser.read(path, encoding="utf-8")
    except (configparser.Error, ValueError, OSError, RecursionError):
        return {}  # the whole file is dropped, without a word
    return {
        f"{section}.{name}": value.strip('"') for section in parser.sections() for name, value in parser.items(section)
    }


def _toml(path: str) -> Values:
    try:
        with open(path, "rb") as file:
            found = tomllib.load(file)
    except (OSError, ValueError, RecursionError):
        return {}
    values: Values = {}

    def walk(prefix: str, table: dict[str, Any]) -> None:
        for name, value in table.items():
            if isinstance(value, dict):
                walk(f"{prefix}{name}.", value)
            else:
                values[f"{prefix}{name}"] = str(value).lower() if isinstance(value, bool) else str(value)

    try:
        walk("", found)
    except RecursionError:
        return {}
    return values


def read_levels(folder: str) -> list[tuple[int, int]]:
    """Read the levels of seamanship: each with its points. What does not rise above the one before is left out."""
    try:
        with open(os.path.join(folder, "seamanship.toml"), "rb") as file:
            found = tomllib.load(file).get("levels", [])
        pairs = [(int(row["level"]), int(row["points"])) for row in found]
    except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return []
    kept: list[tuple[int, int]] = []
    for level, points in pairs:
        if not kept or points > kept[-1][1]:
            kept.append((level, points))
    return kept


def _commands(path: str, *, depth: int = 0) -> Values:
    """Read the start-up commands: ``set KEY VALUE`` or ``KEY VALUE``, several on a line with semicolons between.

    ``run FILE`` reads another file in its place.
    """
    try:
        with open(path, encoding="utf-8", errors="replace") as file:
            lines = file.read().splitlines()
    except OSError:
        return {}
    values: Values = {}
    for line in lines:
        for words in re.findall(r"(?:\"[^\"]*\"|//.*|[^;\"])+", line):
            command = re.sub(r"(?<!\S)//.*$", "", words).strip()
            name, _, value = command.removeprefix("set ").strip().partition(" ")
            if name == "run" and not depth:
                values.update(_commands(os.path.join(os.path.dirname(path), value.strip().strip('"')), depth=1))
                continue
            values[name] = value.strip().strip('"')
    return values


def read_all(folder: str, world: str, tide_mode: str, mods: list[str]) -> Values:
    """Read all files; return what counts, each key with its file's short name before it."""

    def path(*parts: str) -> str:
        return os.path.join(folder, *parts)

    weather = _ini(path("weather.ini"))
    if tide_mode != "custom":  # the tide follows its mode, whatever the file says
        weather = {
            name: value for name, value in weather.items() if not name.startswith("tide.") or name == "tide.Name"
        }
    scoring = _toml(path("scoring.toml")) | _toml(path("scoring.local.toml"))
    found = {
        "weather": _taken(weather, WEATHER),
        "startup": _taken(_commands(path("startup.cfg")), STARTUP),
        "seamanship": _taken(_toml(path("seamanship.toml")), SEAMANSHIP),
        "scoring": _taken(scoring, SCORING),
        "waters": _taken(_ini(path("waters", world, "rules.ini")), WATERS),
    }
    if "lanterns" in mods:
        found["lanterns"] = _taken(_ini(path("lanterns.ini")), LANTERNS)
    return {f"{file}:{name}": value for file, values in found.items() for name, value in values.items()}
