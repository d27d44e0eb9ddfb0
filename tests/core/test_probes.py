"""Probes and queries: bytes as a rulebook writes them, and values in an answer."""

from __future__ import annotations

import re
import struct
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from roundgate.core.console_lines import LineRefused, fill
from roundgate.core.probes import escaped_bytes, is_answer, question_of, texts_of, value_in
from roundgate.core.rulebook.model import Live, Probe, ServerSpec


def search(pattern: str, text: str) -> Any:
    return re.search(pattern, text)


@pytest.mark.parametrize(
    ("probe", "sent"),
    [
        (Probe(send="hail"), b"hail\n"),
        (Probe(send="hail", line_end=""), b"hail"),
        (Probe(send=r"\xff\xffinfo\0", line_end=""), b"\xff\xffinfo\0"),
        (Probe(send=r"a\\b\r", line_end=r"\r\n"), b"a\\b\r\r\n"),
        (Probe(hex="ff ff 0a"), b"\xff\xff\n"),
        (Probe(hex="04", pad=4), b"\x04\0\0\0"),
        (Probe(), b""),
    ],
)
def test_what_is_sent(probe: Probe, sent: bytes) -> None:
    assert question_of(probe) == sent


@given(st.binary(max_size=40))
def test_every_byte_can_be_written_and_is_matched_by_its_letter(data: bytes) -> None:
    assert escaped_bytes("".join(f"\\x{value:02x}" for value in data)) == data
    assert question_of(Probe(hex=data.hex(" "))) == data
    assert is_answer(Probe(match=re.escape(data.decode("latin-1"))), data, search)
    assert texts_of(data)[-1].encode("latin-1") == data


@pytest.mark.parametrize(
    ("probe", "answer", "fits"),
    [
        (Probe(match="^gull"), b"gullwind", True),
        (Probe(match="^gull", least=9), b"gullwind", False),
        (Probe(starts="ff fe"), b"\xff\xfe\0", True),
        (Probe(starts="ff fe"), b"\xff\0", False),
        (Probe(match="\u00e9"), "\u00e9".encode(), True),
        (Probe(match="\u00e9"), b"\xe9", True),
        (Probe(match="x"), b"", False),
    ],
)
def test_which_answer_is_the_one(probe: Probe, answer: bytes, fits: bool) -> None:
    assert is_answer(probe, answer, search) is fits


def test_values_in_an_answer() -> None:
    answer = struct.pack("<BH", 7, 513) + struct.pack(">I", 66000) + b"Tide\0\0"
    assert value_in(Live(bytes=(1, 2)), answer, search) == "513"
    assert value_in(Live(bytes=(3, 4), order="big"), answer, search) == "66000"
    assert value_in(Live(bytes=(7, 6), order="text"), answer, search) == "Tide"
    assert value_in(Live(bytes=(12, 4)), answer, search) is None
    assert value_in(Live(match="map: (?P<value>.*)$"), b"map: Long Reach", search) == "Long Reach"
    assert value_in(Live(match="map: (?P<value>.*)$"), b"slots: 4", search) is None


@pytest.mark.parametrize("wrong", ["a\\", "\\q", "\\x1", "\\xzz"])
def test_a_wrong_escape_is_named(wrong: str) -> None:
    try:
        sent = escaped_bytes(wrong)
    except ValueError as error:
        assert wrong[-2:].strip("\\") in str(error) or "escape" in str(error)
    else:
        assert sent == b"a\\", "only a backslash at the very end is a letter"


@given(st.text(alphabet='ab" \\;', max_size=12))
def test_no_value_smuggles_in_a_second_command(value: str) -> None:
    for server, form in (
        (ServerSpec(), 'say "{text}"'),
        (ServerSpec(console_escapes=True), 'say "{text}"'),
        (ServerSpec(console_ends=";"), "say {text}"),
    ):
        try:
            line = fill(form, {"text": value}, server)
        except LineRefused:
            assert '"' in value or ";" in value
            continue
        if server.console_ends:
            assert ";" not in line
            continue
        # read as a console does: quotes, and where it knows them escapes
        at, quoted = 0, False
        for at, sign in enumerate(line):
            if sign == '"' and not (server.console_escapes and (len(line[:at]) - len(line[:at].rstrip("\\"))) % 2):
                quoted = not quoted
            assert quoted or at < 5 or at == len(line) - 1, line
        assert not quoted and line.endswith('"')
