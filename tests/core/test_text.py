"""Texts: encodings that can be undone, places counted from 1, and splices made from the end."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from roundgate.core.text import NotEncodable, NotText, Splice, Text, decode


@pytest.mark.parametrize(
    ("data", "encoding", "body"),
    [
        (b"", "utf-8", ""),
        (b"boat=1\n", "utf-8", "boat=1\n"),
        ("motto=caf\u00e9".encode(), "utf-8", "motto=caf\u00e9"),
        (b"motto=caf\xe9", "latin-1", "motto=caf\u00e9"),
        (b"\xef\xbb\xbfa=1", "utf-8", "a=1"),
        ("a=\u00e9".encode("utf-16"), "utf-16-le", "a=\u00e9"),
        (b"\xfe\xff\x00a", "utf-16-be", "a"),
        (b"\x80\x81\xff", "latin-1", "\x80\x81\xff"),
    ],
)
def test_an_encoding_is_chosen_so_that_it_can_be_undone(data: bytes, encoding: str, body: str) -> None:
    text = decode(data)
    assert (text.encoding, text.body) == (encoding, body)
    assert text.encode() == data


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"a=1\nb=\0\n", "NUL byte in line 2"),
        (b"\xff\xfea", "byte-order mark says utf-16-le"),
        (b"\xff\xfe\x00\x00", "NUL character in line 1"),
        (b"\xef\xbb\xbf\xff", "byte-order mark says utf-8, but byte 3 is not"),
    ],
)
def test_what_is_no_text_is_refused_with_the_reason(data: bytes, words: str) -> None:
    with pytest.raises(NotText, match=words):
        decode(data)


def test_a_character_without_a_form_in_the_encoding_is_refused() -> None:
    with pytest.raises(NotEncodable, match="latin-1"):
        Text("\u20ac", "latin-1").encode()


@given(st.text(st.sampled_from("ab\r\n"), max_size=30))
def test_places_and_lines_agree_with_counting_by_hand(body: str) -> None:
    """Each character's line and column, told by walking over the text once."""
    text, line, column = Text(body), 1, 1
    for index, char in enumerate(body):
        assert text.place(index) == (line, column)
        ends = char == "\n" or (char == "\r" and body[index + 1 : index + 2] != "\n")
        line, column = (line + 1, 1) if ends else (line, column + 1)
        start, end = text.line_around(index)
        if char not in "\r\n":
            assert start <= index < end and not set(body[start:end]) & {"\r", "\n"}


@pytest.mark.parametrize(("body", "newline"), [("a", "\n"), ("a\r\nb\n", "\r\n"), ("a\rb\n", "\r"), ("a\nb\r\n", "\n")])
def test_the_first_line_end_is_the_files_own(body: str, newline: str) -> None:
    assert Text(body).newline == newline


@given(
    st.text(max_size=20), st.lists(st.tuples(st.integers(0, 20), st.integers(0, 5), st.text(max_size=3)), max_size=4)
)
def test_splices_change_what_they_name_and_nothing_else(body: str, cuts: list[tuple[int, int, str]]) -> None:
    splices, end = [], 0
    for start, length, new in sorted(cuts):
        begin = min(max(start, end + 1), len(body))
        if begin >= len(body):
            break
        end = min(begin + length, len(body))
        splices.append(Splice(begin, end, new))
    wanted, at = "", 0
    for cut in splices:
        wanted, at = wanted + body[at : cut.start] + cut.new, cut.end
    assert Text(body).spliced(splices).body == wanted + body[at:]


def test_two_edits_of_one_place_are_refused() -> None:
    with pytest.raises(ValueError, match="overlap"):
        Text("abcdef").spliced([Splice(0, 3, "x"), Splice(2, 5, "y")])
