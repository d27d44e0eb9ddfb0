"""Edits of each kind in every good file of the corpus and the demo, and the lines that each one takes and writes.

    python tests/edits.py     write what each edit does to ``corpus/edits.txt``

Other tests say what an edit must keep; this record says how it looks: which comment goes along, how a new line is
indented, where it goes.
"""

from __future__ import annotations

import difflib
import json
import random
from collections.abc import Callable, Iterator
from pathlib import Path

from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.formats.protocol import Document, Edit, EditRefused, Entry
from slips import good_files

RECORD = Path(__file__).parent / "corpus" / "edits.txt"
"""What each edit does: a change of it is a change for the user, and is read before it is kept."""
EACH = 2
"""Edits of each kind in a file."""


def _sibling(entry: Entry, name: str | int) -> tuple[str | int, ...]:
    return (*entry.path[:-1], name)


def _other(entry: Entry) -> str:
    """Return another value of an entry's kind."""
    if entry.kind == "bool":
        return "false" if entry.value == "true" else "true"
    return "77" if entry.kind == "number" or entry.value.isdigit() else "fair winds"


def _of_record(entry: Entry) -> dict[str, str]:
    return {"name": "Plover", "depth": "4"} if len(entry.path) > 1 else {"name": "Plover"}


EDITS: dict[str, Callable[[Document, Entry], Edit]] = {
    "set": lambda document, entry: document.set(entry.path, _other(entry)),
    "empty": lambda document, entry: document.set(entry.path, ""),
    "add": lambda document, entry: document.set(_sibling(entry, "moorings"), "12"),
    "add-record": lambda document, entry: document.set(_sibling(entry, "plover"), _of_record(entry)),
    "remove": lambda document, entry: document.remove(entry.path),
    "remove-group": lambda document, entry: document.remove(entry.path[:-1]),
    "rename": lambda document, entry: document.rename(entry.path, "moorings"),
    "insert": lambda document, entry: document.insert(entry.path, _other(entry)),
    "insert-last": lambda document, entry: document.insert(_sibling(entry, _length(document, entry)), _other(entry)),
    "insert-record": lambda document, entry: document.insert(_sibling(entry, 0), _of_record(entry)),
    "move": lambda document, entry: document.move(entry.path, 0 if entry.path[-1] else 1),
    "switch": lambda document, entry: document.switch(entry.path, on=False),
}
OF_LISTS = ("insert", "insert-last", "insert-record", "move")


def _fits(kind: str, entry: Entry) -> bool:
    return isinstance(entry.path[-1], int) if kind in OF_LISTS else len(entry.path) > 1 or kind != "remove-group"


def _length(document: Document, entry: Entry) -> int:
    """Return how many items the list of an entry has."""
    end = len(entry.path)
    mates = [one.path[end - 1] for one in document.entries() if one.path[: end - 1] == entry.path[:-1]]
    return 1 + max((step for step in mates if isinstance(step, int)), default=-1)


def _lines(before: str, after: str) -> str:
    """Return the lines that go, and those that come, each with the line's number."""
    old, new = before.splitlines(keepends=True), after.splitlines(keepends=True)
    blocks = difflib.SequenceMatcher(None, old, new, autojunk=False).get_opcodes()
    rows = []
    for kind, start, end, first, last in blocks:
        if kind != "equal":
            gone, come = (json.dumps("".join(part), ensure_ascii=False) for part in (old[start:end], new[first:last]))
            rows.append(f"{start + 1} {gone} -> {come}")
    return ", ".join(rows)


def edits() -> Iterator[str]:
    """Yield a line for each edit: format, kind, file, path, and what it does or why it is refused."""
    for name, path, document in good_files(()):
        chance = random.Random(f"{name} {path.name}")
        for kind, make in EDITS.items():
            entries = [one for one in document.entries() if _fits(kind, one)]
            for entry in chance.sample(entries, min(EACH, len(entries))):
                try:
                    after = apply_edit(FORMATS[name], document, make(document, entry)).text
                    done = _lines(document.text.body, after.body)
                except EditRefused as error:
                    done = f"refused: {error}"
                yield f"{name} {kind} {path.name} {'/'.join(map(str, entry.path))}: {done}"
        off = list(document.switched_off())
        for entry in chance.sample(off, min(EACH, len(off))):
            after = apply_edit(FORMATS[name], document, document.switch(entry.path, on=True)).text
            done = _lines(document.text.body, after.body)
            yield f"{name} switch-on {path.name} {'/'.join(map(str, entry.path))}: {done}"


if __name__ == "__main__":
    RECORD.write_text("".join(f"{row}\n" for row in edits()), "utf-8")
