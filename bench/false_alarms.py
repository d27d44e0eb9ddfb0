"""False alarms: errors that a check reports in files that their own readers take.

    python bench/false_alarms.py [FOLDER...]     (/etc and /usr/share where none is named)

Every text file below the folders is checked as ``check FILE`` does. Where an independent reader of its format takes it
(the standard library's for JSON, TOML, XML and ini, PyYAML, ``sh -n`` and ``bash -n`` for scripts), an error is false.
The mark: one file with a false error in 500.
"""

from __future__ import annotations

import configparser
import json
import os
import subprocess
import sys
import tomllib
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from xml.parsers import expat

import yaml

from roundgate.core.checks.standalone import check_standalone
from roundgate.core.formats.detect import format_for
from roundgate.core.text import NotText, decode

LARGEST = 300_000


def files(folders: list[str]) -> Iterator[tuple[Path, bytes]]:
    """Yield every regular file that is text and not large."""
    seen: set[tuple[int, int]] = set()
    for top in folders:
        for folder, _, names in os.walk(top):
            for name in sorted(names):
                path = Path(folder) / name
                try:
                    about = path.stat()
                    if path.is_symlink() or not path.is_file() or not 0 < about.st_size < LARGEST:
                        continue
                    if (about.st_dev, about.st_ino) in seen:
                        continue
                    seen.add((about.st_dev, about.st_ino))
                    yield path, path.read_bytes()
                except OSError:
                    continue


def _script(path: Path) -> bool:
    return any(
        subprocess.run([shell, "-n", str(path)], capture_output=True, check=False).returncode == 0
        for shell in ("sh", "bash")
    )


def _ini(path: Path) -> bool:
    reader = configparser.RawConfigParser(strict=False, allow_no_value=True)
    reader.read_string(path.read_text("utf-8", "replace"))
    return True


def _xml(path: Path) -> bool:
    expat.ParserCreate().Parse(path.read_bytes(), True)
    return True


def _yaml(path: Path) -> bool:
    return sum(1 for _ in yaml.parse(path.read_bytes(), Loader=yaml.SafeLoader)) > 0


READERS: dict[str, Callable[[Path], object]] = {
    "json": lambda path: json.loads(path.read_bytes()) is not ...,
    "toml": lambda path: tomllib.loads(path.read_text("utf-8")) is not ...,
    "xml": _xml,
    "yaml": _yaml,
    "ini": _ini,
    "launch": _script,
}


def is_taken(name: str, path: Path) -> bool:
    """Return whether the format's own reader takes a file; without one at hand, that it does."""
    if name not in READERS:
        return True
    try:
        return bool(READERS[name](path))
    except Exception:  # noqa: BLE001 - whatever a reader raises, it does not take the file
        return False


def main() -> None:
    """Print each false error, and the figure."""
    checked, wrong = Counter[str](), Counter[str]()
    for path, data in files(sys.argv[1:] or ["/etc", "/usr/share"]):
        try:
            body = decode(data).body
        except NotText:
            continue
        name = format_for(path.name, body)
        if not is_taken(name, path):
            continue
        checked[name] += 1
        errors = [finding for finding in check_standalone(str(path), data) if finding.level == "error"]
        if errors:
            wrong[name] += 1
            first = errors[0]
            print(f"{name:<11} {path}:{first.place.line} {first.code}: {first.place.source.strip()[:90]!r}")
    for name, count in checked.most_common():
        print(f"{name:<11} {count:6} files, {wrong[name]} with a false error")
    total, bad = sum(checked.values()), sum(wrong.values())
    print(f"{total} files, {bad} with a false error: {bad * 500 / max(total, 1):.2f} in 500")


if __name__ == "__main__":
    main()
