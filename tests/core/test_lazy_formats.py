"""A command that looks at settings loads the formats of the files that hold them, and no others."""

from __future__ import annotations

import subprocess
import sys

CODE = """
import sys
from functools import partial
from roundgate.core.checks import check_after, check_disk
from roundgate.core.files import ServerFiles
from roundgate.core.rescue import rescue
from roundgate.core.operations.values import SetValue
from roundgate.core.slate import replay
from roundgate.core.text import Text
from roundgate.host.rulebooks import load_rulebook
from pathlib import Path

book = load_rulebook("gullwind", Path("."))
texts = {file.path: Text("a") for file in book.file.values()}
texts["gullwind.properties"] = Text("boat.slots=16\\n")
files = ServerFiles(book, texts)
outcome = replay([SetValue("gullwind.properties", "boat.slots", "20")], files)
check = partial(check_disk, "regatta", unreadable={}, written={"gullwind.properties"})
check_after("regatta", outcome, {}, check)
rescue(files, ServerFiles(book, texts), [])
OTHERS = ("yaml", "tree_sitter", "xml", "lua", "json")  # settings are in the others
print(sorted(name for name in sys.modules if name.split(".")[-1] in OTHERS
             and (name.startswith("roundgate") or name in ("yaml", "tree_sitter"))))
"""


def test_a_set_of_a_property_loads_no_other_format() -> None:
    done = subprocess.run([sys.executable, "-c", CODE], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"
