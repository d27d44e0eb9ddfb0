"""Start scripts after an edit, judged by the shell: the server gets the new value and every other word as before."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

from corpus_files import CORPUS
from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.formats.protocol import EditRefused
from roundgate.core.text import decode

SERVER = f"#!{sys.executable}\nimport json, sys\nprint(json.dumps(sys.argv[1:]))\nraise SystemExit(7)\n"

MADE_UP = {
    "case": """#!/bin/sh
MODE=${1:-race}
case "$MODE" in
  race) SLOTS=16 ;;
  -h | --help) echo usage; exit 0 ;;
  *) SLOTS=4 ;;
esac
./gullwind-server --slots "$SLOTS" --tide spring
""",
    "default-expansion": """#!/bin/bash
JAVA=${JAVA:-$(command -v ls || echo none)}
NAME="Salt Marsh"
[ -n "$JAVA" ] || exit 1
exec ./gullwind-server --name "$NAME" --port 4000 --motto 'a; b & c' -Xmx4G
""",
    "function": """#!/bin/bash
set -eu
start() {
  local more="--listed"
  ./gullwind-server "$@" $more
}
start --slots 8 --name "harbour's best"
""",
    "here-document": """#!/bin/sh
cat > note.txt <<'END'
it's $HOME and --slots 3
END
./gullwind-server --slots 12 "-mods=reef;mile" # a comment's apostrophe
""",
    "loop": """#!/bin/bash
for ((i = 0; i < 1; i++)); do
  ./gullwind-server -port=4000 --slots 2 2>&1 || break
done
""",
    "arithmetic": """#!/bin/bash
MEMORY=$((2 * 512))
./gullwind-server --memory $MEMORY --slots 3 --say "${MEMORY}M" && true
""",
}
SCRIPTS = {path.stem: path.read_text() for path in sorted(CORPUS.glob("launch/good/*.sh"))} | MADE_UP
NEW_VALUES = ("27", "a new b", "it's", '"$HOME"', "x;y")


def words_heard(folder: Path, script: str) -> list[str]:
    """Run a script by bash, with a server that prints the words it got; return them."""
    (folder / "start.sh").write_text(script)
    done = subprocess.run(
        ["bash", "start.sh"],
        cwd=folder,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
        env={"PATH": f"{folder}:/usr/bin:/bin", "HOME": "/nowhere"},
    )
    log = folder / "log.txt"
    output = done.stdout + (log.read_text() if log.exists() else "")
    lines = [line for line in output.splitlines() if line.startswith("[")]
    assert lines, f"{script}\n{done.stdout}{done.stderr}"
    heard: list[str] = json.loads(lines[0])
    return heard


@pytest.mark.parametrize("name", sorted(set(SCRIPTS) - {"background"}))
def test_an_edited_script_gives_its_server_the_new_value_and_all_other_words(tmp_path: Path, name: str) -> None:
    """Each flag and variable, each of a few hard values: what the shell hands over differs in that one place only."""
    script = SCRIPTS[name].replace("while true; do", "for once in 1; do").replace("sleep 5", ":")
    (tmp_path / "gullwind-server").write_text(SERVER)
    (tmp_path / "gullwind-server").chmod(0o755)
    before = words_heard(tmp_path, script)
    reader = FORMATS["launch"]
    document = reader.read(decode(script.encode()))
    edited = 0
    for entry in document.entries():
        if not entry.value or "$" in entry.value or entry.value.startswith(("(", "-")):
            continue
        for value in NEW_VALUES:
            try:
                after = apply_edit(reader, document, document.set(entry.path, value, on_copy=True))
            except EditRefused:
                continue
            heard = words_heard(tmp_path, after.text.body)
            what = f"{entry.path} = {value!r}\n{after.text.body}"
            assert len(heard) == len(before) and heard != before, what
            assert all(new == old or value in new for new, old in zip(heard, before, strict=True)), what
            edited += 1
    assert edited


@pytest.mark.parametrize(
    ("name", "path", "value", "why"),
    [
        ("case", "$SLOTS", "27", "sets $SLOTS in 2 places (lines 4, 6)"),
        ("case", "--slots", "27", "sets $SLOTS in 2 places (lines 4, 6)"),
        ("variables", "$PORT", "a b", "would become several words"),
        ("arithmetic", "$MEMORY", "1 2", "would become several words"),
    ],
)
def test_an_edit_whose_effect_is_not_sure_is_refused(name: str, path: str, value: str, why: str) -> None:
    document = FORMATS["launch"].read(decode(SCRIPTS[name].encode()))
    with pytest.raises(EditRefused, match=re.escape(why)):
        document.set((path,), value)
