"""How much of a rulebook a draft gets right: the files of packaged daemons against a truth made by hand.

The packages are downloaded, not installed (``apt-get download``); without a network there is nothing to measure. Held
to: 80 % of settings with the right type, and of the defaults that a file tells, 80 %.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path
from typing import Any

from roundgate.api.drafting import file_by_its_looks
from roundgate.core.draft.writer import draft
from roundgate.core.files import ServerFiles
from roundgate.core.rulebook.model import NO_RULEBOOK, Rulebook
from roundgate.core.text import decode

TRUTH = tomllib.loads((Path(__file__).parent / "draft_truth.toml").read_text("utf-8"))
MARK = 0.80


def unpacked(package: str, folder: Path) -> Path | None:
    """Download a package and unpack it; None where that cannot be done."""
    home = folder / package
    home.mkdir()
    done = subprocess.run(["apt-get", "download", package], cwd=home, capture_output=True, check=False)
    found = list(home.glob("*.deb"))
    if done.returncode or not found:
        return None
    subprocess.run(["dpkg-deb", "-x", str(found[0]), str(home / "root")], check=True)
    return home / "root"


def drafted(path: Path) -> dict[str, dict[str, Any]]:
    """Draft a rulebook from one file; return its settings by their keys."""
    name = f"{path.stem}.conf" if path.suffix == ".sample" else path.name
    text = decode(path.read_bytes())
    book = Rulebook(rulebook=NO_RULEBOOK.rulebook, file={name: file_by_its_looks(name, text)})
    made = draft("bench", ServerFiles(book, {name: text}), (), {})
    return {spec["key"]: spec for spec in tomllib.loads(made.text)["setting"].values()}


def main() -> None:
    """Measure, print each miss, and end with 1 where a mark is missed."""
    right = {"types": 0, "defaults": 0}
    of = {"types": 0, "defaults": 0}
    with tempfile.TemporaryDirectory() as folder:
        for package, truth in TRUTH.items():
            root = unpacked(package, Path(folder))
            if root is None:
                print(f"{package}: cannot be downloaded")
                continue
            found = drafted(root / truth["file"])
            for key, wanted in truth["types"].items():
                got = found.get(key, {}).get("type")
                of["types"] += 1
                right["types"] += got == wanted
                if got != wanted:
                    print(f"  {package} {key}: {got}, and it is {wanted}")
            for key, wanted in truth.get("defaults", {}).items():
                got = found.get(key, {}).get("default", "")
                of["defaults"] += 1
                right["defaults"] += got == wanted
                if got != wanted:
                    print(f"  {package} {key}: default {got!r}, and the file says {wanted!r}")
    if not of["types"]:
        sys.exit("no package could be downloaded")
    shares = {what: right[what] / of[what] for what in right}
    for what, share in shares.items():
        word = "ok  " if share >= MARK else "UNDER"
        print(f"{word} {what}: {right[what]} of {of[what]} right, {share:.0%} (mark {MARK:.0%})")
    sys.exit(any(share < MARK for share in shares.values()))


if __name__ == "__main__":
    main()
