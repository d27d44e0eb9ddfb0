"""What a running server is told of a change of records, and asked, whatever the key is called."""

from __future__ import annotations

import re
import tomllib

import pytest

from roundgate.core.files import ServerFiles
from roundgate.core.operations.records import AddRecord, RemoveRecord
from roundgate.core.records.live import told_for
from roundgate.core.rulebook.raw_books import RawBook
from roundgate.core.rulebook.reading import read_rulebook
from roundgate.core.text import Text

BOOK = """
[rulebook]
name = "quay"
[file.bans]
path = "bans.cfg"
format = "directives"
[kind.address]
pattern = '[0-9.]+'
[records.bans]
file = "bans"
at = "ban[*]"
form = '{address} {minutes} "{reason}"'
key = "address"
[records.bans.field]
address = { type = "id", kind = "address", needed = true }
minutes = { type = "int", default = 0 }
reason = { type = "text" }
[roster.bans]
records = "bans"
meaning = "ban"
[roster.bans.live]
add = 'ban {address} {minutes} "{reason}"'
remove = "unban {address}"
ask = "bans"
shows = "'{address}' \\\\({reason}\\\\)"
[server]
console-ends = ";"
"""


def files(text: str, book: str = BOOK) -> ServerFiles:
    read = read_rulebook("quay", lambda name: RawBook("quay.toml", tomllib.loads(book), lambda: book), checked=True)
    return ServerFiles(read, {"bans.cfg": Text(text)})


def test_of_a_record_that_is_gone_only_its_key_counts() -> None:
    [told] = told_for([RemoveRecord("bans.cfg", "bans", "10.1.1.1")], files(""))
    assert told.command == "unban 10.1.1.1" and not told.is_there
    assert re.search(told.shows, "#0 '10.1.1.1' (rude)") and not re.search(told.shows, "#0 '10.1.1.2' (rude)")


def test_of_a_record_that_is_there_all_of_it_counts() -> None:
    added = AddRecord("bans.cfg", "bans", "10.1.1.1", (("address", "10.1.1.1"), ("minutes", "5"), ("reason", "loud")))
    [told] = told_for([added], files('ban 10.1.1.1 5 "loud"\n'))
    assert told.command == 'ban 10.1.1.1 5 "loud"' and told.is_there
    assert re.search(told.shows, "'10.1.1.1' (loud)") and not re.search(told.shows, "'10.1.1.1' (rude)")
    [back] = told_for([added], files(""), back=True)
    assert back.command == "unban 10.1.1.1" and not back.is_there


@pytest.mark.parametrize("minutes", ["5; quit", "5"])
def test_a_field_that_could_end_the_command_is_not_told(minutes: str) -> None:
    book = BOOK.replace('minutes = { type = "int", default = 0 }', 'minutes = { type = "text" }')
    values = (("address", "10.1.1.1"), ("minutes", minutes), ("reason", "loud"))
    added = AddRecord("bans.cfg", "bans", "10.1.1.1", values)
    [told] = told_for([added], files(f'ban 10.1.1.1 "{minutes}" "loud"\n', book))
    assert bool(told.refused) == (";" in told.command + minutes and not told.command)
