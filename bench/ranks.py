"""Ranks at size: 100,000 members, 2,000 permissions, 300 ranks with ranks above them.

Held to: 0.3 s of processor time for each question once the files are read, and 200 MB of memory for whole commands.
Reading is timed beside ``json.load`` and ``yaml.CSafeLoader`` on the same files, as ratios.
"""

from __future__ import annotations

import json
import os
import random
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import yaml
from msgspec.structs import replace

from roundgate.api.ranks import ranks_of
from roundgate.api.site import open_site
from roundgate.core.findings import Place
from roundgate.core.ranks.deciding import decide, decisions, permissions_of
from roundgate.core.ranks.impact import impact
from roundgate.core.ranks.matrix import matrix_of
from roundgate.core.ranks.model import RankEntry, RankMember, Scheme
from roundgate.core.ranks.rights import Rights

MEMBERS, PERMISSIONS, RANKS = 100_000, 2_000, 300
_LETTERS = "23456789ABCDEFGHJKLMNPQRSTUVWXYZ"


def identifier(number: int) -> str:
    """Return an id; another one for each number."""
    signs = "".join(_LETTERS[number >> (5 * at) & 31] for at in range(8))
    return f"GW-{signs[:4]}-{signs[4:]}"


def write_files(home: Path) -> None:
    """Write ranks and officers of that size; each rank has up to two others' permissions too."""
    dice = random.Random(7)
    words = [f"part{n % 40}.act{n}" for n in range(PERMISSIONS)]
    lines = ["newcomers: rank0", "ranks:"]
    for number in range(RANKS):
        above = sorted({f"rank{dice.randrange(number)}" for _ in range(dice.randint(0, 2))} if number else ())
        may = dice.sample(words, 20) + ([f"part{dice.randrange(40)}.*"] if dice.random() < 0.2 else [])
        lines += [f"  rank{number}:", f"    also: [{', '.join(above)}]", f"    may: [{', '.join(may)}]"]
        lines += [f"    never: [{', '.join(dice.sample(words, 3))}]"]
    (home / "ranks.yml").write_text("\n".join(lines) + "\n")
    officers = [
        {"id": identifier(n), "name": f"Sailor {n}", "rank": f"rank{dice.randrange(RANKS)}"} for n in range(MEMBERS)
    ]
    (home / "officers.json").write_text(json.dumps({"officers": officers}, indent=1))


def timed(what: str, act: Callable[[], object], mark: float = 0.3) -> bool:
    """Time an act, the best of three, in processor time."""
    best = min(_once(act) for _ in range(3))
    print(f"  {what:<28} {best:.3f} s{f'  (mark {mark})' if mark else ''}")
    return not mark or best <= mark


def _once(act: Callable[[], object]) -> float:
    began = time.process_time()
    act()
    return time.process_time() - began


def who(scheme: Scheme, permission: str) -> int:
    """Count who may do something, as the command does: those in the same ranks are decided once."""
    known: dict[tuple[str, ...], bool] = {}
    count = 0
    for member in scheme.members.values():
        if member.groups not in known:
            known[member.groups] = decide(member, permission, scheme).may
        count += known[member.groups]
    return count


def questions(folder: Path) -> bool:
    """Time the questions once the files are read."""
    with open_site(folder) as site:
        began = time.process_time()
        (scheme,) = ranks_of(site.site, site.server("regatta"))
        read = time.process_time() - began
    home = folder / "regatta"
    plainly = _once(lambda: json.loads((home / "officers.json").read_text()))
    by_yaml = _once(lambda: yaml.load((home / "ranks.yml").read_text(), Loader=yaml.CSafeLoader))
    print(f"reading all: {read:.2f} s, {read / (plainly + by_yaml):.1f} times json and libyaml alone")
    permissions = permissions_of(scheme)
    group = scheme.groups["rank3"]
    entry = RankEntry("part1.act1", True, "rank3", Place("ranks.yml"))
    changed = replace(
        scheme, groups={**scheme.groups, "rank3": replace(group, entries=(*group.entries, entry), parents=())}
    )
    member = next(iter(scheme.members.values()))
    ranks = [RankMember(one, one, (one,)) for one in scheme.groups]
    print(f"{len(scheme.members):,} members, {len(permissions):,} permissions, {len(scheme.groups)} ranks:")
    results = [
        timed("who", lambda: who(scheme, permissions[1000])),
        timed("why", lambda: list(decisions(member, permissions[1000], scheme))),
        timed("matrix of ranks", lambda: matrix_of(Rights(scheme, permissions), ranks, differs=True)),
        timed("impact", lambda: impact(scheme, changed, permissions)),
    ]
    return all(results)


def commands(folder: Path) -> bool:
    """Time whole commands, with reading and printing; only their memory has a mark."""
    well = True
    for words in (
        ["who", "part1.act1", "regatta"],
        ["why", identifier(5), "part1.act1", "regatta"],
        ["matrix", "regatta", "--json"],
        ["impact", "regatta"],
    ):
        run = [sys.executable, "-m", "roundgate", "--site", str(folder), "ranks", *words]
        code = (
            "import resource, subprocess, sys; done = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL);"
            "used = resource.getrusage(resource.RUSAGE_CHILDREN);"
            "print(used.ru_utime + used.ru_stime, used.ru_maxrss / 1024); sys.exit(done.returncode)"
        )
        env = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
        done = subprocess.run([sys.executable, "-c", code, *run], capture_output=True, text=True, env=env, check=True)
        processor, memory = map(float, done.stdout.split())
        print(f"  ranks {words[0]:<22} {processor:.2f} s, {memory:.0f} MB (mark 200 MB)")
        well = well and memory < 200
    return well


def main() -> None:
    """Measure, and end with 1 where a mark is missed."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        home = folder / "regatta"
        home.mkdir()
        (folder / "roundgate.toml").write_text(
            '[site]\nname = "S"\n\n[server.regatta]\nfolder = "regatta"\nstart = ["true"]\nrulebook = "gullwind"\n'
        )
        (home / "gullwind.properties").write_text("ranks.kept=deck\n")
        write_files(home)
        results = [questions(folder), commands(folder)]
        print(f"memory of this process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")
    raise SystemExit(0 if all(results) else 1)


if __name__ == "__main__":
    main()
