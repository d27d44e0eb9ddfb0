"""Archives that somebody has made to harm: generated, with their manifests, and restored by the built program."""

from __future__ import annotations

import io
import json
import os
import random
import resource
import stat
import subprocess
import sys
import tarfile
import warnings
import zipfile
from hashlib import sha256
from pathlib import Path
from typing import NamedTuple

import pytest
import zstandard

from conftest import SiteUnderTest
from sampling import sampled

SEEDS = 60
NAMES = [
    "x",
    "x/y",
    "x/y/z",
    "saves/a",
    "saves",
    "a b",
    "é",
    "./x",
    "x/../x",
    "../evil",
    "/tmp/roundgate-evil",
    "n" * 5000,
]
TARGETS = [".", "..", "x", "x/..", "x/up/..", "../..", "/etc", "saves/a", "link", "y/../..", "link/../.."]


class Shape(NamedTuple):
    """One member: its name, ``file``, ``link``, ``fifo`` or ``hard``, its bytes or target, and its mode."""

    name: str
    kind: str
    data: bytes
    mode: int


def shapes(seed: int) -> list[Shape]:
    dice = random.Random(seed)
    found = []
    for _ in range(dice.randrange(1, 6)):
        kind = dice.choices(["file", "link", "fifo", "hard"], [6, 6, 1, 1])[0]
        name = dice.choice([*NAMES, "link", "./link", "x/up", "x//up", "up"]) if kind != "file" else dice.choice(NAMES)
        data = dice.choice(TARGETS).encode() if kind in ("link", "hard") else dice.randbytes(dice.randrange(300))
        found.append(Shape(name, kind, data, dice.choice([0o644, 0o4755, 0o2755, 0o1777, 0o600])))
    return found


def packed(kind: str, members: list[Shape]) -> bytes:
    raw = io.BytesIO()
    if kind == "zip":
        with zipfile.ZipFile(raw, "w") as archive, warnings.catch_warnings(action="ignore"):  # of names that come twice
            for name, what, data, mode in members:
                info = zipfile.ZipInfo(name)
                types = {"file": stat.S_IFREG, "link": stat.S_IFLNK, "fifo": stat.S_IFIFO, "hard": stat.S_IFBLK}
                info.external_attr = (types[what] | mode) << 16
                archive.writestr(info, data)
        return raw.getvalue()
    with tarfile.open(fileobj=raw, mode="w", format=tarfile.PAX_FORMAT) as tar:
        for name, what, data, mode in members:
            member = tarfile.TarInfo(name)
            types = {
                "file": tarfile.REGTYPE,
                "link": tarfile.SYMTYPE,
                "fifo": tarfile.FIFOTYPE,
                "hard": tarfile.LNKTYPE,
            }
            member.type, member.mode = types[what], mode
            member.linkname = data.decode() if what in ("link", "hard") else ""
            member.size = len(data) if what == "file" else 0
            tar.addfile(member, io.BytesIO(data))
    return zstandard.compress(raw.getvalue())


def planted(site: SiteUnderTest, kind: str, members: list[Shape], dice: random.Random) -> None:
    """Put an archive and a manifest into the place of the site's backup; the manifest leaves out one member in ten."""
    folder = site.folder / ".roundgate" / "backups"
    (manifest,) = folder.glob("1-*.json")
    known = json.loads(manifest.read_bytes())
    known["members"], known["links"] = [], []
    for name, what, data, mode in members:
        if dice.random() < 0.1:
            continue
        if what == "file":
            digest = sha256(data).hexdigest()
            known["members"].append({"path": name, "size": len(data), "digest": digest, "mode": mode, "changed": 1e9})
        else:
            known["links"].append([name, data.decode("latin-1")])
    manifest.write_text(json.dumps(known))
    (archive,) = (path for path in folder.glob("1-*") if path.suffix != ".json")
    archive.write_bytes(packed(kind, members))


def outside(site: SiteUnderTest) -> set[str]:
    """Name what there is beside the folder that is restored to, and where the archives want to lead."""
    found = {
        str(path) for path in site.folder.rglob("*") if "again" not in path.parts and ".roundgate" not in path.parts
    }
    return found | {str(path) for path in Path("/tmp").glob("*evil*")} | {str(path) for path in Path("/etc").iterdir()}


@pytest.fixture(params=["tar.zst", "zip"])
def saved(site: SiteUnderTest, request: pytest.FixtureRequest) -> tuple[SiteUnderTest, str]:
    home = site.add("regatta")
    (home / "saves").mkdir()
    (home / "saves" / "tide.world").write_text("low water\n")
    site.ok("backup", "make", "regatta", *(["--zip"] if request.param == "zip" else []))
    return site, request.param


@pytest.mark.parametrize("chunk", range(6))
def test_an_archive_leads_nowhere_and_makes_nothing_that_its_manifest_does_not_name(
    saved: tuple[SiteUnderTest, str], chunk: int
) -> None:
    site, kind = saved
    for seed in sampled(range(chunk * SEEDS // 6, (chunk + 1) * SEEDS // 6), 2):
        members = shapes(seed)
        planted(site, kind, members, random.Random(seed))
        before = outside(site)
        done = site.run("backup", "restore", "1", "--to", "again")
        told = f"seed {seed}: {members}\n{done.stdout}{done.stderr}"
        assert "Traceback" not in told and "unexpected" not in told and outside(site) == before, told
        again = site.folder / "again"
        assert done.returncode == (0 if again.exists() else 1) and not list(site.folder.glob(".again*")), told
        if again.exists():
            check(again, members, told)
            subprocess.run(["rm", "-rf", str(again)], check=True)
        site.run("backup", "check", "1")


def check(again: Path, members: list[Shape], told: str) -> None:
    contents = {member.data for member in members if member.kind == "file"}
    for path in again.rglob("*"):
        if path.is_symlink():
            assert os.path.realpath(path).startswith(str(again)) or not os.path.exists(path), f"{path}\n{told}"
        elif path.is_file():
            assert path.read_bytes() in contents and path.stat().st_mode & 0o7000 == 0, f"{path}\n{told}"


@pytest.mark.parametrize("where", ["member", "unknown", "head", "link"])
def test_a_few_packed_bytes_do_not_become_gigabytes(saved: tuple[SiteUnderTest, str], where: str) -> None:
    """No file of the call may grow beyond 20 MB, nor its memory beyond what it needs: the system ends it there."""
    site, kind = saved
    large = 400_000_000
    folder = site.folder / ".roundgate" / "backups"
    (archive,) = (path for path in folder.glob("1-*") if path.suffix != ".json")
    name = "saves/tide.world" if where == "member" else "saves/other"
    if kind == "zip":
        with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as made:
            info = zipfile.ZipInfo(name)
            info.compress_type = zipfile.ZIP_DEFLATED
            info.external_attr = ((stat.S_IFLNK if where in ("link", "head") else stat.S_IFREG) | 0o644) << 16
            with made.open(info, "w", force_zip64=True) as into:
                for _ in range(large // 50_000_000):
                    into.write(bytes(50_000_000))
    else:
        member = tarfile.TarInfo(name)
        member.size = large
        member.type = {"head": tarfile.XHDTYPE, "link": tarfile.GNUTYPE_LONGLINK}.get(where, tarfile.REGTYPE)
        with archive.open("wb") as raw, zstandard.ZstdCompressor().stream_writer(raw) as into:
            into.write(member.tobuf())
            for _ in range(large // 50_000_000):
                into.write(bytes(50_000_000))
    assert archive.stat().st_size < 10_000_000

    def limited() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (20_000_000, 20_000_000))
        resource.setrlimit(resource.RLIMIT_DATA, (350_000_000, 350_000_000))

    for words in (["restore", "1", "--to", "again"], ["check", "1"]):
        done = subprocess.run(
            [sys.executable, "-m", "roundgate", "backup", *words],
            cwd=site.folder,
            capture_output=True,
            text=True,
            preexec_fn=limited,
            timeout=100,
            check=False,
        )
        told = done.stdout + done.stderr
        assert done.returncode == 1 and "unexpected" not in told and "Traceback" not in told, told
        assert "large" not in told and "disk" not in told, told
    assert not (site.folder / "again").exists()


@pytest.mark.parametrize("up", ["a/b/c/up", "./a/b/c/up", "a//b/./c/up"])
def test_three_links_in_a_row_do_not_lead_out(saved: tuple[SiteUnderTest, str], up: str) -> None:
    site, kind = saved
    row = [
        Shape("a/b/c/keep", "file", b"k", 0o644),
        Shape(up, "link", b"../../..", 0o777),
        Shape("way", "link", b"a/b/c/up/..", 0o777),
        Shape("way/evil", "link", b"x", 0o777),
    ]
    planted(site, kind, row, random.Random(0))
    assert "leads out of the folder" in site.fails(1, "backup", "restore", "1", "--to", "again")
    assert not (site.folder / "evil").is_symlink() and not (site.folder / "again").exists()
