"""The consoles on a port, each against a peer that misbehaves: fragments, late and lost answers, cuts, floods."""

from __future__ import annotations

import contextlib
import os
import random
import socket
import struct
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from conftest import SiteUnderTest
from roundgate.host.consoles import console_of
from roundgate.host.consoles.packets import Packet, packed, unpacked
from roundgate.host.consoles.protocol import Console
from roundgate.host.drivers import driver_of
from roundgate.host.errors import ConsoleCut, WrongUsage
from roundgate.host.servers import Server
from roundgate.host.site import read_site

PASSWORD = "barnacle-77"
BOOK = """
[rulebook]
name = "quay"
[file.core]
path = "core.cfg"
format = "directives"
[setting.port]
type = "port"
file = "core"
key = "port"
[setting.code]
type = "secret"
file = "core"
key = "code"
[server.console]
kind = "{kind}"
port = "port"
password = "code"
{more}
"""
UDP = r"""
challenge = '\xff\xffchallenge\n'
challenged = 'challenge (?P<challenge>\d+)'
packet = '\xff\xffdo {challenge} {password} {line}\n'
answer = '\xff\xffsaid\n'
refused = '^Bad password'
"""
TEXT = """
asks = '^code\\? ?$'
welcome = '^aboard'
refused = '^go away'
prompt = '> '
echo = true
"""

Talk = Callable[[socket.socket], None]


def make_console(folder: Path, kind: str, port: int, more: str = "") -> Console:
    (folder / "rulebooks").mkdir(exist_ok=True)
    (folder / "rulebooks" / "quay.toml").write_text(BOOK.format(kind=kind, more=more))
    (folder / "quay").mkdir(exist_ok=True)
    (folder / "roundgate.toml").write_text(
        '[server.quay]\nfolder = "quay"\nstart = ["./run.sh"]\nrulebook = "quay"\ndriver = "commands"\n'
    )
    server = Server(read_site(folder), "quay")
    started = Path(server.state) / "started"
    started.mkdir(parents=True, exist_ok=True)
    (started / "core.cfg").write_text(f"port {port}\ncode {PASSWORD}\n")
    return console_of(server, driver_of(server))


@contextlib.contextmanager
def peer(talk: Talk, kind: int = socket.SOCK_STREAM) -> Iterator[int]:
    """A server on a port; ``talk`` is what it does with each connection, or with its socket for datagrams."""
    with socket.socket(socket.AF_INET, kind) as door:
        door.bind(("127.0.0.1", 0))
        door.settimeout(0.1)
        over = threading.Event()

        def live() -> None:
            while not over.is_set():
                with contextlib.suppress(TimeoutError, OSError):
                    if kind == socket.SOCK_DGRAM:
                        talk(door)
                        continue
                    link, _ = door.accept()
                    with link:
                        link.settimeout(5)
                        talk(link)

        if kind == socket.SOCK_STREAM:
            door.listen()
        thread = threading.Thread(target=live, daemon=True)
        thread.start()
        try:
            yield int(door.getsockname()[1])
        finally:
            over.set()
            thread.join(10)


def packets_from(link: socket.socket) -> Iterator[Packet]:
    rest = b""
    while data := link.recv(65536):
        rest += data
        while True:
            packet, rest = unpacked(rest)
            if packet is None:
                break
            yield packet


def answering(answer: Callable[[str], list[bytes]], send: Callable[[socket.socket, bytes], None]) -> Talk:
    """A server of binary packets that answers each command with texts, one packet each."""

    def talk(link: socket.socket) -> None:
        for packet in packets_from(link):
            if packet.type == 3:
                number = packet.number if packet.text == PASSWORD.encode() else -1
                send(link, packed(Packet(packet.number, 0, b"")) + packed(Packet(number, 2, b"")))
            elif packet.type == 2:
                send(link, b"".join(packed(Packet(packet.number, 0, line)) for line in answer(packet.text.decode())))
            else:
                send(link, packed(Packet(packet.number, 0, b"")))

    return talk


def at_once(link: socket.socket, data: bytes) -> None:
    link.sendall(data)


def in_pieces(link: socket.socket, data: bytes) -> None:
    chance = random.Random(len(data))
    while data:
        size = chance.randint(1, 7)
        link.sendall(data[:size])
        data = data[size:]


@pytest.mark.parametrize("send", [at_once, in_pieces])
def test_packets_answers_are_whole_however_they_come(tmp_path: Path, send: Callable[..., None]) -> None:
    long = [bytes([65 + at % 26]) * 4000 for at in range(5)]
    with peer(answering(lambda line: long if line == "long" else [f"did {line}".encode()], send)) as port:
        console = make_console(tmp_path, "packets", port)
        assert console.exchange("status") == ["did status"]
        assert console.exchange("long") == [b"".join(long).decode()]
        assert console.exchange("") == ["did "]
        found = console.ask("slots", r"did (?P<value>\w+)")
        assert found is not None and found["value"] == "slots"
        assert console.ask("slots", "no such answer") is None
        console.close()


def test_packets_a_late_answer_is_none_to_the_next_question(tmp_path: Path) -> None:
    held: list[bytes] = []

    def talk(link: socket.socket) -> None:
        for packet in packets_from(link):
            if packet.type == 3:
                link.sendall(packed(Packet(packet.number, 2, b"")))
            elif packet.type == 2 and packet.text == b"late":
                held.append(packed(Packet(packet.number, 0, b"too late")))
            elif packet.type == 2:
                link.sendall(b"".join(held) + packed(Packet(packet.number, 0, b"in time")))
            elif not held or packet.number > struct.unpack_from("<i", held[0], 4)[0] + 1:
                link.sendall(packed(Packet(packet.number, 0, b"")))

    with peer(talk) as port:
        console = make_console(tmp_path, "packets", port)
        with pytest.raises(ConsoleCut, match="did not answer in time"):
            console.ask("late", "late", 0.2)
        assert console.exchange("next") == ["in time"]
        console.close()


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (packed(Packet(-1, 2, b"")), "refused the password"),
        (b"", "the connection was cut"),
        (struct.pack("<i", 3) + b"abc", "says that it has 3 bytes"),
        (struct.pack("<i", 2**31 - 1), "says that it has 2147483647 bytes"),
        (packed(Packet(1, 2, b""))[:6], "the connection was cut"),
    ],
)
def test_packets_a_peer_that_misbehaves_is_named(tmp_path: Path, data: bytes, why: str) -> None:
    def talk(link: socket.socket) -> None:
        link.recv(100)
        link.sendall(data)

    with peer(talk) as port:
        console = make_console(tmp_path, "packets", port)
        with pytest.raises(ConsoleCut, match=why):
            console.exchange("status")


def test_packets_a_flood_ends(tmp_path: Path) -> None:
    def talk(link: socket.socket) -> None:
        for packet in packets_from(link):
            if packet.type == 3:
                link.sendall(packed(Packet(packet.number, 2, b"")))
            while packet.type == 2:
                link.sendall(packed(Packet(packet.number, 0, b"x" * 60000)))

    with peer(talk) as port:
        console = make_console(tmp_path, "packets", port)
        began = time.monotonic()
        with pytest.raises(ConsoleCut, match=r"no end|in time"):
            console.exchange("status")
        assert time.monotonic() - began < 60


def udp(answer: Callable[[str], list[bytes]], lost: int = 0) -> Talk:
    """A server of text datagrams that wants a challenge; it loses the first ``lost`` questions for one."""
    seen = [0]

    def talk(door: socket.socket) -> None:
        data, place = door.recvfrom(65536)
        if data == b"\xff\xffchallenge\n":
            seen[0] += 1
            if seen[0] > lost:
                door.sendto(b"noise", place)
                door.sendto(b"\xff\xffchallenge 4711\n", place)
            return
        for line in answer(data.decode("latin-1")):
            door.sendto(line, place)

    return talk


def test_datagrams_the_password_goes_with_the_challenge(tmp_path: Path) -> None:
    seen: list[str] = []

    def answer(packet: str) -> list[bytes]:
        seen.append(packet)
        return [b"elsewhere", b"\xff\xffsaid\none\n", b"\xff\xffsaid\ntwo"]

    with peer(udp(answer, lost=1), socket.SOCK_DGRAM) as port:
        console = make_console(tmp_path, "datagrams", port, UDP)
        assert console.exchange("status") == ["one", "two"]
        assert seen == [f"\xff\xffdo 4711 {PASSWORD} status\n"]
        with pytest.raises(WrongUsage):
            console.send("status\nquit")
        console.send("quit")


@pytest.mark.parametrize(
    ("answer", "why"),
    [([], "did not answer in time"), ([b"\xff\xffsaid\nBad password"], "refused the password")],
)
def test_datagrams_a_lost_answer_and_a_wrong_password_are_named(
    tmp_path: Path, answer: list[bytes], why: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("roundgate.host.consoles.remote.ANSWER_WITHIN", 0.5)
    with peer(udp(lambda _: answer), socket.SOCK_DGRAM) as port:
        console = make_console(tmp_path, "datagrams", port, UDP)
        with pytest.raises(ConsoleCut, match=why):
            console.ask("status", ".*", 0.5)


def text_server(link: socket.socket) -> None:
    """A text console with everything that makes one hard: a prompt without a line end, zero bytes, echo, CR LF."""
    link.sendall(b"code? ")
    file = link.makefile("rb")
    if file.readline().decode().strip() != PASSWORD:
        link.sendall(b"go away\r\n")
        return
    link.sendall(b"aboard\r\n\0")
    for line in file:
        word = line.decode().strip()
        in_pieces(link, f"> {word}\r\n\0> did {word}\r\n\0> more\r\n".encode())


def test_text_prompts_zero_bytes_and_echo_are_no_part_of_an_answer(tmp_path: Path) -> None:
    with peer(text_server) as port:
        console = make_console(tmp_path, "tcp", port, TEXT)
        assert console.exchange("status") == ["did status", "more"]
        found = console.ask("slots 4", r"^(did )?slots (?P<value>\d+)$")
        assert found is not None and found[0] == "did slots 4"
        console.close()


@pytest.mark.parametrize(
    ("expected", "why"),
    [(b"code? \n", "cut"), (b"", "cut"), (b"code? \ngo away\n", "refused the password"), (b"x" * 200000, "cut|ask")],
)
def test_text_a_peer_that_misbehaves_is_named(tmp_path: Path, expected: bytes, why: str) -> None:
    with peer(lambda link: link.sendall(expected)) as port:
        console = make_console(tmp_path, "tcp", port, TEXT)
        with pytest.raises(ConsoleCut, match=why):
            console.exchange("status")


def test_a_named_pipe_takes_lines_and_says_where_nobody_reads(tmp_path: Path) -> None:
    console = make_console(tmp_path, "pipe", 0, 'path = "console.pipe"')
    place = tmp_path / "quay" / "console.pipe"
    with pytest.raises(ConsoleCut, match="no such file"):
        console.send("status")
    place.write_text("")
    with pytest.raises(ConsoleCut, match="not a named pipe"):
        console.send("status")
    place.unlink()
    os.mkfifo(place)
    with pytest.raises(ConsoleCut, match="no process reads"):
        console.send("status")
    handle = os.open(place, os.O_RDONLY | os.O_NONBLOCK)
    try:
        console.send("status")
        assert os.read(handle, 100) == b"status\n"
        with pytest.raises(WrongUsage):
            console.send("status\nquit")
    finally:
        os.close(handle)


def test_a_console_that_needs_more_than_the_rulebook_says_is_a_mistake(site: SiteUnderTest) -> None:
    (site.folder / "rulebooks").mkdir()
    book = site.folder / "rulebooks" / "quay.toml"
    book.write_text(BOOK.format(kind="datagrams", more=r"challenge = '\q'"))
    output = site.fails(1, "rulebook", "check", str(book))
    assert "'packet' is missing here" in output and "is not an escape" in output
