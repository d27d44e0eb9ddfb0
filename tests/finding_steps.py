"""Files of the demo, each with one mistake put into it by a seed: what each finding proposes is followed on a copy.

A command must run as it stands, name the server, and leave fewer findings than before, on disk or as the slate would
leave the files. One that only shows something must leave all as it was. What it leaves open, shell and program refuse.
"""

from __future__ import annotations

import json
import random
import shlex
import shutil
import subprocess
from collections.abc import Iterator
from typing import Any, NamedTuple

from conftest import SiteUnderTest
from next_steps import ANSWERS, slip
from roundgate.core.quoting import placeholder_in

SERVERS = ("regatta", "harbour", "nightwatch")
LOOKS = ("explain", "show", "status", "compare", "rounds", "ranks why", "people show", "slate", "check", "curve")
"""Commands that change nothing, unless ``check`` has ``--fix``."""
WRONG = ("-5", "999999", "perhaps", "1,5", "1e9", "", "true", "[]", "Gull", "0.5", "10", "2", "../evil")

SIGNS = "=:,;{}[]()\"'"

Identity = tuple[str, str, str]


class Step(NamedTuple):
    """What a finding proposes: the mistake, the finding's code, the command, and what is wrong with it."""

    mistake: str
    code: str
    proposed: str
    wrong: str

    def __str__(self) -> str:
        return f"{self.wrong}: {self.code} after {self.mistake}\n    do: {self.proposed}"


def files_of(site: SiteUnderTest) -> list[str]:
    """Name the small text files of the servers, below the site's folder."""
    found = []
    for server in SERVERS:
        for path in sorted((site.folder / server).rglob("*")):
            name = path.relative_to(site.folder).as_posix()
            if path.is_file() and not any(word in name for word in ("logs/", ".key", "hulls/", ".roundgate", "needs.")):
                found.append(name)
    return found


def with_mistake(text: str, rng: random.Random) -> tuple[str, str]:
    """Return a text with one mistake, and what it is."""
    lines = text.splitlines(keepends=True)
    full = [at for at, line in enumerate(lines) if line.strip()]
    at = rng.choice(full)
    line = lines[at].rstrip("\n")
    words = [(start, end) for start, end in _words(line)]
    kind = rng.choice(("twice", "gone", "slip", "value", "value", "slip", "sign", "tab", "lost"))
    if kind == "twice":
        lines.insert(rng.choice(full), lines[at])
    elif kind == "gone":
        del lines[at]
    elif kind in ("slip", "value") and words:
        start, end = rng.choice(words[-2:] if kind == "value" else words)
        new = rng.choice(WRONG) if kind == "value" else slip(line[start:end], rng)
        lines[at] = f"{line[:start]}{new}{line[end:]}\n"
    elif kind == "sign":
        where = rng.randrange(len(line) + 1)
        lines[at] = f"{line[:where]}{rng.choice(SIGNS)}{line[where:]}\n"
    elif kind == "tab":
        lines[at] = f"\t{line}\n"
    else:
        where = rng.randrange(len(line))
        lines[at] = f"{line[:where]}{line[where + 1 :]}\n"
    new = lines[at].rstrip("\n") if at < len(lines) else ""
    return "".join(lines), f"{kind} in line {at + 1} ({line.strip()!r}, now {new.strip()!r})"


def _words(line: str) -> Iterator[tuple[int, int]]:
    start = None
    for at, sign in enumerate(f"{line} "):
        if sign.isalnum() or sign in "-._/":
            start = at if start is None else start
        elif start is not None:
            yield start, at
            start = None


def findings(site: SiteUnderTest, server: str, *more: str) -> dict[Identity, dict[str, Any]]:
    """Return what ``check`` finds of a server, by what it says."""
    done = site.run("check", server, "--json", *more)
    assert done.returncode in (0, 1) and done.stdout, done.stderr
    found = json.loads(done.stdout)["findings"]
    return {(each["code"], each["file"], each["cause"]): each for each in found}


def steps(site: SiteUnderTest, rng: random.Random, many: int) -> Iterator[Step]:
    """Put so many mistakes into files, follow what each new finding proposes, and yield what came of it."""
    whole = {name: (site.folder / name).read_bytes() for name in files_of(site)}
    first = {server: set(findings(site, server)) for server in SERVERS}
    for _ in range(many):
        name = rng.choice(sorted(whole))
        text, mistake = with_mistake(whole[name].decode(), rng)
        server = name.partition("/")[0]
        wrong = text.encode()
        (site.folder / name).write_bytes(wrong)
        found = findings(site, server)
        for identity, finding in found.items():
            if identity in first[server] or not finding["do"]:
                continue
            problem = follow(site, server, identity, set(found), finding["do"])
            yield Step(f"{mistake} of {name}", finding["code"], finding["do"], problem)
            site.run("discard", "@all")
            restore(site, whole | {name: wrong})
        restore(site, whole)


def restore(site: SiteUnderTest, files: dict[str, bytes]) -> None:
    """Put the files back, and take away what is new."""
    for name in files_of(site):
        if name not in files:
            (site.folder / name).unlink()
    for name, data in files.items():
        path = site.folder / name
        if not path.is_file() or path.read_bytes() != data:
            path.parent.mkdir(exist_ok=True)
            path.write_bytes(data)


def follow(site: SiteUnderTest, server: str, identity: Identity, before: set[Identity], proposed: str) -> str:
    """Do what a finding proposes; return what is wrong with that, or an empty text."""
    try:
        words = shlex.split(proposed)
    except ValueError as error:
        return f"no shell can read it: {error}"
    if words[0] == "mv":
        if shutil.which("mv"):
            subprocess.run(words, check=True, cwd=site.folder)
        return "" if identity not in findings(site, server) else "the finding is still there"
    done = site.run(*words[1:])
    if placeholder_in(proposed):
        return "" if done.returncode == 2 else "what it leaves open is taken as it stands"
    if done.returncode > any(tuple(words[1 : 1 + len(answer)]) == answer for answer in ANSWERS):
        return f"it ends with {done.returncode} ({(done.stdout + done.stderr).strip()[:300]})"
    if not any(server in word for word in words) and words[1] not in ("rulebook", "people"):
        return "it names no server"
    if " ".join(words[1:]).startswith(LOOKS) and "--fix" not in words:
        return ""
    after = set(findings(site, server, "--slate"))
    if identity in after:
        return "the finding is still there"
    if "--fix" in words:
        return ""  # what the mistake kept from being read is found now
    if len(after) >= len(before):
        return f"it brings {[each for each in after if each not in before]}"
    return ""
