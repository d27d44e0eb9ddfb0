"""Checking and editing a 5 MB file of each format, against the C reader of that format on the same bytes, in one run.

python bench/formats.py [RUNS] [FORMAT...]

The floor of properties, ini, directives and lines is one `re.finditer` pass over the lines. Memory is the peak while a
file is checked, in multiples of the file's size.
"""

from __future__ import annotations

import gc
import json
import pathlib
import re
import statistics
import subprocess
import sys
import tempfile
import time
import tomllib
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable

import tree_sitter
import tree_sitter_lua
import yaml
from measure import end, report

from roundgate.core.formats import FORMATS, apply_edit, problems_of
from roundgate.core.formats.protocol import Path
from roundgate.core.text import Text, decode

SIZE = 5_000_000
LINE = re.compile(r"[^\r\n]*(?:\r\n|\r|\n|\Z)")
LUA = tree_sitter.Language(tree_sitter_lua.language())
MARKS = {
    "json": (2.0, 5.0),
    "yaml": (0.6, 1.2),
    "toml": (1.5, 3.0),
    "xml": (2.0, 4.0),
    "lua": (2.0, 3.0),
    **dict.fromkeys(("properties", "ini", "directives", "lines"), (2.0, 3.0)),
}


def records(make: Callable[[int], str], head: str = "", tail: str = "", join: str = "") -> str:
    """Repeat a record until the text is as long as it shall be."""
    count = SIZE // len(make(10_000))
    return head + join.join(make(number) for number in range(count)) + tail


BODIES = {
    "json": lambda: records(
        lambda n: f'{{"id": "GW-{n:05}", "loot": [{{"item": "rope", "chance": 0.5}}, [1, 2, true, null]], "x": {n}}}',
        '{"crates": [\n',
        '\n], "last": 1}\n',
        ",\n",
    ),
    "yaml": lambda: records(
        lambda n: (
            f'rank{n}:\n  rights: [a.b, c.d, "e f"]\n  colour: red\n  pay: {n}\n  sub:\n    - x: 1\n      y: true\n'
        )
    ),
    "toml": lambda: records(
        lambda n: f'[[levels]]\nname = "Level {n}"\npoints = {n}\nboats = ["tern", "gull"]\nsteep = 2.5\n\n',
        "first = 1\n",
    ),
    "xml": lambda: records(
        lambda n: f'  <buoy id="B{n}" x="1.5" y="{n}">\n    <light>two &amp; one</light>\n  </buoy>\n',
        "<buoys>\n",
        "</buoys>\n",
    ),
    "lua": lambda: records(
        lambda n: f'role("R{n}", {{\n  pay = {n},\n  boats = {{ "gull", "tern" }},\n  open = true, -- always\n}})\n'
    ),
    "properties": lambda: records(lambda n: f"boat.number{n}.slots = {n}\n# a comment\n"),
    "ini": lambda: records(lambda n: f'[boat{n}]\nslots={n}\nname="Gull {n}"\n; note\n'),
    "directives": lambda: records(lambda n: f'set sv_boat{n} "Gull {n}" // note\nsv_slots{n} {n}\n'),
    "lines": lambda: records(lambda n: f"GW-{n:07}-WREN\n"),
}
EDITED: dict[str, Path] = {
    "json": ("crates", 20_000, "id"),
    "yaml": ("rank20000", "colour"),
    "toml": ("levels", 20_000, "name"),
    "xml": ("buoys", "buoy", 20_000, "light"),
    "lua": ("role", "R20000", "pay"),
    "properties": ("boat.number20000.slots",),
    "ini": ("boat20000", "slots"),
    "directives": ("sv_slots20000",),
    "lines": (20_000,),
}
FLOORS: dict[str, Callable[[str], object]] = {
    "json": json.loads,
    "yaml": lambda body: yaml.load(body, Loader=yaml.CSafeLoader),
    "toml": tomllib.loads,
    "xml": lambda body: ElementTree.fromstring(body.encode()),
    "lua": lambda body: tree_sitter.Parser(LUA).parse(body.encode()),
    **dict.fromkeys(("properties", "ini", "directives", "lines"), lambda body: sum(1 for _ in LINE.finditer(body))),
}


def timed(work: Callable[[], object]) -> float:
    """Return the processor time of some work in seconds."""
    gc.collect()
    begun = time.process_time()
    work()
    return time.process_time() - begun


def check(name: str, body: str) -> None:
    """Check a file as the program does."""
    assert not [problem for problem in problems_of(FORMATS[name].read(Text(body))) if problem.level == "error"]


def edit(name: str, body: str) -> None:
    """Change one value and have it confirmed."""
    document = FORMATS[name].read(Text(body))
    value = "77" if name not in ("lines",) else "GW-NEW"
    changed = apply_edit(FORMATS[name], document, document.set(EDITED[name], value))
    assert changed.text.body != body


def peak() -> int:
    """Return the most memory that this process has held so far, in bytes."""
    return int(pathlib.Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) * 1024


def measure_memory(name: str, path: str) -> None:
    """Check a file in this process, and print what that took in multiples of the file."""
    problems_of(FORMATS[name].read(Text("a=1")))
    body = pathlib.Path(path).read_text("utf-8")
    before = peak()
    check(name, body)
    print((peak() - before) / len(body))


def memory(name: str, body: str) -> float:
    """Return the peak memory of a check in a fresh process, above the file's own text, in multiples of the file."""
    with tempfile.NamedTemporaryFile("w", suffix=".txt", encoding="utf-8") as file:
        file.write(body)
        file.flush()
        words = [sys.executable, __file__, "--memory", name, file.name]
        return float(subprocess.run(words, capture_output=True, text=True, check=True).stdout)


def main() -> None:
    """Measure and print."""
    words = sys.argv[1:]
    if words[:1] == ["--memory"]:
        measure_memory(*words[1:])
        return
    runs = int(words.pop(0)) if words and words[0].isdigit() else 7
    kept = []
    for name in words or MARKS:
        body = BODIES[name]()
        assert decode(body.encode()).body == body
        works = {"floor": FLOORS[name], "check": lambda b, n=name: check(n, b), "edit": lambda b, n=name: edit(n, b)}
        times: dict[str, list[float]] = {one: [] for one in works}
        for _ in range(runs):
            for one, work in works.items():
                times[one].append(timed(lambda work=work, body=body: work(body)))  # type: ignore[misc]
        found = {one: statistics.median(several) for one, several in times.items()}
        more = f"   floor {found['floor']:.2f} s, memory {memory(name, body):.1f} times the file"
        kept.append(report(f"{name}: check", found["check"] / found["floor"], MARKS[name][0], more))
        kept.append(report(f"{name}: one value changed", found["edit"] / found["floor"], MARKS[name][1]))
    end(kept)


if __name__ == "__main__":
    main()
