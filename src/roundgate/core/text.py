"""A file's bytes as text one can cut into: encoding, byte-order mark, line ends, places and splices.

Reading a file and writing it back gives the same bytes, whatever they are: the encoding is chosen so that
it can be undone, and line ends are never translated.
"""

from __future__ import annotations

import codecs
from bisect import bisect_right
from collections.abc import Iterable
from functools import lru_cache

from msgspec import Struct

from roundgate.core.patterns import lazy

LARGE = 200_000
"""From so many characters on it pays not to read all of a file where a part of it will do."""

LINE_END = lazy(r"\r\n|\r|\n")
_LAST_END = lazy(r"(?:\r\n|\r|\n)\Z")

_BOMS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))
_WINDOWS_ONLY = bytes(range(0x80, 0xA0))


class NotText(ValueError):
    """The bytes are no text that can be edited safely; the message says why."""


class NotEncodable(ValueError):
    """A character has no form in the file's encoding."""


def line_start(body: str, index: int) -> int:
    """Return where the line that holds an index starts. It looks no further back than that line, whatever ends it."""
    feed = body.rfind("\n", 0, index)
    return max(feed, body.rfind("\r", feed + 1, index)) + 1


def is_one_line(body: str, start: int, end: int) -> bool:
    """Return whether no line ends between two indexes, without counting the lines before them."""
    low, high = sorted((start, end))
    return LINE_END.search(body, low, high) is None


def span_kept(before: str, after: str, start: int, end: int) -> tuple[int, int] | None:
    """Return where a span of a text is in a later one that is the same outside of it, or None where it is not."""
    behind = len(after) - (len(before) - end)
    is_same = behind >= start and after.startswith(before[:start]) and after.endswith(before[end:])
    return (start, behind) if is_same else None


class _Lines:
    """Where the lines of a text start, found as far as somebody asks: once for all that is asked of one text."""

    def __init__(self, body: str) -> None:
        self._ends = LINE_END.finditer(body)
        self._starts = [0]
        self._is_whole = False

    def place(self, index: int) -> tuple[int, int]:
        while not self._is_whole and self._starts[-1] <= index:
            end = next(self._ends, None)
            if end is None:
                self._is_whole = True
            else:
                self._starts.append(end.end())
        line = bisect_right(self._starts, index)
        return line, index - self._starts[line - 1] + 1

    def start(self, line: int) -> int:
        while len(self._starts) < line and not self._is_whole:
            self.place(self._starts[-1])
        return self._starts[min(line, len(self._starts)) - 1]


@lru_cache(maxsize=4)
def _lines_of(body: str) -> _Lines:
    return _Lines(body)


class Splice(Struct, frozen=True):
    """Replace the characters from ``start`` up to ``end`` (counted from 0) by ``new``."""

    start: int
    end: int
    new: str


class Text(Struct, frozen=True):
    """A file's content: ``body`` without its byte-order mark, and what is needed to give the same bytes again."""

    body: str
    encoding: str = "utf-8"
    bom: bytes = b""

    def encode(self) -> bytes:
        """Return the file's bytes. Raises NotEncodable where the encoding has no form for a character."""
        try:
            return self.bom + self.body.encode(self.encoding)
        except UnicodeEncodeError as error:
            bad = self.body[error.start]
            raise NotEncodable(f"{bad!r} cannot be written in this file's encoding ({self.encoding})") from error

    def place(self, index: int) -> tuple[int, int]:
        """Return line and column, both from 1, of the character at ``index``."""
        return _lines_of(self.body).place(index)

    def index(self, line: int, column: int) -> int:
        """Return the index of the character at a line and column, both from 1, as ``place`` gives them."""
        return _lines_of(self.body).start(line) + column - 1

    def places(self, indexes: Iterable[int]) -> list[tuple[int, int]]:
        """Return line and column of several characters; in the order given."""
        lines = _lines_of(self.body)
        return [lines.place(index) for index in indexes]

    def line_around(self, index: int) -> tuple[int, int]:
        """Return where the line that holds ``index`` starts and ends, its line end left out."""
        start = line_start(self.body, index)
        end = LINE_END.search(self.body, index)
        return start, end.start() if end else len(self.body)

    @property
    def newline(self) -> str:
        """The line end that the file uses; the first one counts, and a file without any gets a line feed."""
        first = LINE_END.search(self.body)
        return first.group() if first else "\n"

    def with_body(self, body: str) -> Text:
        """Return the same file with another body."""
        return Text(body, self.encoding, self.bom)

    def with_neighbours_ends(self, splices: Iterable[Splice]) -> list[Splice]:
        """Return splices whose new line ends are those of the lines around them, in a file that mixes line ends.

        A new ``\\r`` right before a ``\\n`` would become one line end with it.
        """
        cuts = list(splices)
        if "\r" not in self.body or len(set(LINE_END.findall(self.body))) < 2:
            return cuts
        return [self._with_near_ends(cut) for cut in cuts]

    def _with_near_ends(self, cut: Splice) -> Splice:
        if not LINE_END.search(cut.new):
            return cut
        before = self.body[max(0, cut.start - 2) : cut.start]
        last, after = _LAST_END.search(before), LINE_END.search(self.body, cut.end)
        near = last.group() if last else after.group() if after else self.newline
        # The two would become one line end, and a line would be lost.
        if near == "\r" and self.body[cut.end : cut.end + 1] == "\n":
            near = "\n"
        new = LINE_END.sub(lambda _: near, cut.new)
        if before.endswith("\r") and new.startswith("\n"):
            new = LINE_END.sub("\r", cut.new)
        return Splice(cut.start, cut.end, new)

    def spliced(self, splices: Iterable[Splice]) -> Text:
        """Return the text with the splices made. Raises ValueError where two of them overlap."""
        pieces: list[str] = []
        end = len(self.body)
        # From the end, so that no cut moves the places of those that are still to be made.
        for cut in sorted(splices, key=lambda splice: (splice.start, splice.end), reverse=True):
            if cut.end > end:
                raise ValueError("two edits overlap")
            pieces += (self.body[cut.end : end], cut.new)
            end = cut.start
        pieces.append(self.body[:end])
        return self.with_body("".join(reversed(pieces)))


def decode(data: bytes) -> Text:
    """Read bytes as text: by the byte-order mark, else UTF-8, else Windows-1252 where its letters occur, else Latin-1.

    All three can be undone, so a wrong guess never costs a byte.

    Raises NotText for NUL bytes (no configuration format has them) and for a broken UTF-16 file.
    """
    for bom, encoding in _BOMS:
        if data.startswith(bom):
            return _decode_marked(data, bom, encoding)
    # Before any decoding: UTF-16 without a mark passes for Latin-1, with a NUL in every other byte.
    nul = data.find(b"\0")
    if nul >= 0:
        line = data.count(b"\n", 0, nul) + 1
        raise NotText(f"there is a NUL byte in line {line}: this is not a text file, or it was damaged")
    try:
        return Text(data.decode("utf-8"), "utf-8")
    except UnicodeDecodeError:
        return _decode_single(data)


def _decode_single(data: bytes) -> Text:
    """Read one byte a character. Bytes 128 to 159 are letters and marks in Windows-1252, and controls in Latin-1."""
    # Windows-1252 leaves five bytes undefined; a file with one of them can only be Latin-1.
    if data.translate(None, _WINDOWS_ONLY) != data:
        try:
            return Text(data.decode("cp1252"), "cp1252")
        except UnicodeDecodeError:
            pass
    return Text(data.decode("latin-1"), "latin-1")


def _decode_marked(data: bytes, bom: bytes, encoding: str) -> Text:
    try:
        text = Text(data[len(bom) :].decode(encoding), encoding, bom)
    except UnicodeDecodeError as error:
        raise NotText(f"the byte-order mark says {encoding}, but byte {error.start + len(bom)} is not") from error
    nul = text.body.find("\0")
    if nul >= 0:
        raise NotText(f"there is a NUL character in line {text.place(nul)[0]}: the file was damaged")
    return text
