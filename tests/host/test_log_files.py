"""A server's logs are read once, whatever rotation makes of them."""

from __future__ import annotations

import gzip
import lzma
import os
import random
import shutil
import zlib
from pathlib import Path

import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import SiteUnderTest
from roundgate.host.people.log_files import ReadLog, is_packed, parts_to_read, read_part
from roundgate.host.places import Folder

PACKERS = {
    ".gz": gzip.compress,
    ".xz": lzma.compress,
    ".zst": lambda data: zstandard.ZstdCompressor().compress(data),
}


class Logs:
    """A folder of logs, and a reader that remembers how far it was."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.written = 0
        self.known: list[ReadLog] = []
        self.read: list[bytes] = []
        self.latest.write_bytes(b"")

    @property
    def latest(self) -> Path:
        return self.folder / "latest.log"

    def write(self, lines: int) -> None:
        with self.latest.open("ab") as file:
            for _ in range(lines):
                self.written += 1
                file.write(b"[2026-11-20 19:00:00] sailor %d came aboard\n" % self.written)

    def look(self) -> None:
        paths = [
            path.name for path in self.folder.iterdir() if not (is_packed(path.name) and path.with_suffix("").exists())
        ]
        self.known = [
            part.known if part.known is not None and part.is_done else read_part(part, self.read.append)
            for part in parts_to_read(Folder(str(self.folder)), paths, self.known)
        ]

    def numbers(self) -> list[int]:
        return [int(line.split()[3]) for block in self.read for line in block.splitlines()]

    # --- what rotates logs does ---

    def free_name(self) -> Path:
        return self.folder / f"{len(list(self.folder.iterdir())) + self.written}.log"

    def rename(self) -> None:
        self.latest.rename(self.free_name())
        self.latest.write_bytes(b"")

    def copy_and_empty(self) -> None:
        shutil.copyfile(self.latest, self.free_name())
        os.truncate(self.latest, 0)

    def pack(self, kind: str) -> None:
        for path in [path for path in self.folder.iterdir() if path.suffix == ".log" and path != self.latest]:
            path.with_name(path.name + kind).write_bytes(PACKERS[kind](path.read_bytes()))
            path.unlink()

    def begin_anew(self) -> None:
        """Delete the log and begin another one, which may get the same inode."""
        self.look()
        self.latest.unlink()
        self.latest.write_bytes(b"")


STEPS = st.one_of(
    st.tuples(st.just("write"), st.integers(1, 40)),
    st.tuples(st.just("look")),
    st.tuples(st.just("rename")),
    st.tuples(st.just("copy_and_empty")),
    st.tuples(st.just("pack"), st.sampled_from(sorted(PACKERS))),
    st.tuples(st.just("begin_anew")),
)


@settings(max_examples=150)
@given(st.lists(STEPS, max_size=14))
def test_each_line_is_read_once_whatever_becomes_of_its_file(
    tmp_path_factory: pytest.TempPathFactory, steps: list[tuple[str, ...]]
) -> None:
    logs = Logs(tmp_path_factory.mktemp("logs"))
    for name, *values in [("write", 3), *steps, ("look",), ("look",)]:
        getattr(logs, str(name))(*values)
    assert sorted(logs.numbers()) == list(range(1, logs.written + 1))


@pytest.mark.parametrize("kind", sorted(PACKERS))
def test_a_packed_log_that_is_damaged_is_read_up_to_there_and_once(tmp_path: Path, kind: str) -> None:
    chance = random.Random(kind)
    text = b"".join(b"%s sailor %d came aboard\n" % (chance.randbytes(9).hex().encode(), n) for n in range(60_000))
    whole = PACKERS[kind](text)
    path = tmp_path / f"old.log{kind}"
    path.write_bytes(whole[: len(whole) * 2 // 3])
    read: list[bytes] = []
    known: list[ReadLog] = []
    for _ in range(2):
        known = [read_part(part, read.append) for part in parts_to_read(Folder(str(path.parent)), [path.name], known)]
    path.write_bytes(whole)  # it was being copied here
    for _ in range(2):
        known = [
            part.known if part.known is not None and part.is_done else read_part(part, read.append)
            for part in parts_to_read(Folder(str(path.parent)), [path.name], known)
        ]
    assert b"".join(read) == text


def test_what_an_earlier_version_read_is_not_read_again(tmp_path: Path) -> None:
    plain, packed = tmp_path / "latest.log", tmp_path / "old.log.gz"
    plain.write_bytes(b"one\ntwo\n")
    packed.write_bytes(gzip.compress(b"zero\n"))
    known = [ReadLog(plain.stat().st_ino, 4), ReadLog(packed.stat().st_ino, packed.stat().st_size)]
    read: list[bytes] = []
    parts = parts_to_read(Folder(str(plain.parent)), [plain.name, packed.name], known)
    assert [part.path for part in parts if part.is_done] == [packed.name]
    for part in parts:
        if not part.is_done:
            read_part(part, read.append)
    assert read == [b"two\n"]


def test_visits_are_counted_once_when_a_log_is_packed_and_when_two_folders_have_the_same_name(
    site: SiteUnderTest,
) -> None:
    home = site.add("regatta")
    book = site.folder / "rulebooks"
    book.mkdir()
    logs = 'logs = ["logs/*.log*", "more/*.log*"]\n'
    (book / "quay.toml").write_text(f'[rulebook]\nname = "quay"\nlayers = ["gullwind"]\n[server]\n{logs}')
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('rulebook = "gullwind"', 'rulebook = "quay"'))
    line = "[2026-11-20 19:00:00] sailor Wren (GW-7K3M-Q2XD) came aboard\n"
    for folder in ("logs", "more"):
        (home / folder).mkdir()
        (home / folder / "latest.log").write_text(line.replace("20 19", "20 18" if folder == "more" else "20 19"))
    for _ in range(3):
        assert "Wren" in site.ok("people", "seen", "regatta")
    latest = home / "logs" / "latest.log"
    (home / "logs" / "1.log.gz").write_bytes(gzip.compress(latest.read_bytes()))
    latest.write_text(line.replace("20 19", "21 19"))
    output = site.ok("people", "seen", "regatta")
    assert output.splitlines()[1].split()[-1] == "3", output
    (home / "logs" / "2.log").write_text(line.replace("20 19", "22 19") + "nothing else\n" * 9000)
    packer = zlib.compressobj(wbits=31)
    begun = packer.compress(line.replace("20 19", "22 19").encode()) + packer.flush(zlib.Z_SYNC_FLUSH)
    (home / "logs" / "2.log.gz").write_bytes(begun)
    output = site.ok("people", "seen", "regatta")
    assert output.splitlines()[1].split()[-1] == "4", "what is just being packed is read in its own file"
    assert "2.log.gz" not in output + site.run("people", "seen", "regatta").stderr
