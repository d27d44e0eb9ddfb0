"""The stand-in's people: officers, guests, bans, wardens, grants and helms, each read with a habit of its own.

Ids in the wrong case are ignored without a word, one malformed ban keeps the server from starting, and a live ban
makes it write the file of bans again, from memory, without its comments.
"""

from __future__ import annotations

import json
import os
import re
from contextlib import suppress
from datetime import date
from typing import NamedTuple

from gullwind_standin.settings import Settings, WillNotStart

_ID = re.compile(r"GW-[0-9A-Z]{4}-[0-9A-Z]{4}")
_SEATS = ("first", "second", "learner")


class Ban(NamedTuple):
    """Somebody who may not come aboard; an empty ``until`` is forever."""

    name: str
    since: str
    until: str


class Rosters:
    """Who is what on the server, as it has it in memory."""

    def __init__(self, folder: str, settings: Settings) -> None:
        """Read all of them. Raises WillNotStart."""
        self.folder = folder
        self.guests_only = settings["guests.only"] == "true"
        self.wardens = {part.strip() for part in settings["wardens"].split(",") if _ID.fullmatch(part.strip())}
        self.officers = self._officers()
        self.guests = {line for line in self._lines("guestlist.txt") if _ID.fullmatch(line)}
        self.bans = self._bans()
        self.grants = self._grants()
        self.helms = self._helms()

    def _text(self, name: str) -> str:
        path = os.path.join(self.folder, name)
        if not os.path.isfile(path):  # a pipe would keep it waiting forever
            return ""
        try:
            with open(path, encoding="utf-8-sig", errors="replace") as file:
                return file.read()
        except OSError:
            return ""

    def _lines(self, name: str) -> list[str]:
        return [line.strip() for line in self._text(name).splitlines() if line.strip() and line.lstrip()[0] != "#"]

    def _officers(self) -> dict[str, str]:
        """Read the officers; a file that is not JSON is dropped whole, without a word."""
        found: dict[str, str] = {}
        with suppress(ValueError, LookupError, TypeError, AttributeError, RecursionError):
            for load in json.loads(self._text("officers.json"))["officers"]:
                if isinstance(load, dict) and _ID.fullmatch(str(load.get("id", ""))):
                    found[load["id"]] = str(load.get("rank", "deckhand"))
        return found

    def reload_officers(self) -> None:
        """Read the officers again."""
        self.officers = self._officers()

    def _bans(self) -> dict[str, Ban]:
        found = {}
        for block in re.split(r"\n[ \t]*\n", self._text("banned.txt").replace("\r\n", "\n")):
            lines = [line.strip() for line in block.splitlines() if line.strip() and line.lstrip()[0] != "#"]
            pairs = dict(line.partition(": ")[::2] for line in lines)
            if not lines:
                continue
            with suppress(ValueError, KeyError):
                since, until = pairs.get("since", ""), pairs.get("until", "").strip()
                for day in filter(None, (since, until)):
                    date.fromisoformat(day)
                if _ID.fullmatch(pairs["id"]):
                    found[pairs["id"]] = Ban(pairs.get("name", ""), since, until)
                    continue
            raise WillNotStart("fatal: ban")
        return found

    def _grants(self) -> dict[str, str]:
        """Read ``grant ID LEVEL`` of the start-up commands."""
        commands = (
            part.strip() for line in self._lines("startup.cfg") for part in re.sub(r"//.*", "", line).split(";")
        )
        parted = (command.split() for command in commands if command.startswith("grant "))
        return {
            fields[1]: fields[2]
            for fields in parted
            if len(fields) == 3 and _ID.fullmatch(fields[1]) and fields[2] in "123456789"
        }

    def _helms(self) -> dict[str, str]:
        """Read ``- cove/ID: SEAT`` below the heading ``helms:``; other platforms are none of this server's."""
        found = {}
        for line in self._lines("helms.yml"):
            line = re.sub(r"\s#.*", "", line).strip()
            match = re.fullmatch(r"- ['\"]?cove/(GW-[0-9A-Z]{4}-[0-9A-Z]{4})['\"]?: *['\"]?(\w+)['\"]?", line)
            if match and match[2] in _SEATS:
                found[match[1]] = match[2]
        return found

    def who(self, sailor: str) -> str:
        """Say what somebody is, in one line."""
        words = []
        if sailor in self.officers:
            words.append(f"officer {self.officers[sailor]}")
        words += [name for name, ids in (("guest", self.guests), ("warden", self.wardens)) if sailor in ids]
        if sailor in self.grants:
            words.append(f"grant {self.grants[sailor]}")
        if sailor in self.helms:
            words.append(f"helm {self.helms[sailor]}")
        if self.is_banned(sailor):
            until = self.bans[sailor].until
            words.append(f"banned until {until}" if until else "banned")
        return f"{sailor} is {', '.join(words) or 'nobody'}"

    def is_banned(self, sailor: str) -> bool:
        """Return whether somebody is banned today."""
        ban = self.bans.get(sailor)
        return ban is not None and (not ban.until or date.fromisoformat(ban.until) > date.today())

    def may_board(self, sailor: str) -> bool:
        """Return whether somebody may come aboard."""
        is_known = sailor in self.guests or sailor in self.officers or sailor in self.wardens
        return not self.is_banned(sailor) and (is_known or not self.guests_only)

    def ban(self, words: str) -> str:
        """Ban somebody: ``ID NAME [DAY]``, where the name has no spaces, and write the file again."""
        sailor, *rest = words.split()
        until = ""
        if rest and re.fullmatch(r"\d{4}-\d\d-\d\d", rest[-1]):
            until = rest.pop()
        if not _ID.fullmatch(sailor):
            return f"no such sailor: {sailor}"
        self.bans[sailor] = Ban(" ".join(rest), date.today().isoformat(), until)
        self._write_bans()
        return f"banned {sailor}"

    def unban(self, sailor: str) -> str:
        """Take a ban back, and write the file again."""
        if self.bans.pop(sailor, None) is None:
            return f"not banned: {sailor}"
        self._write_bans()
        return f"unbanned {sailor}"

    def _write_bans(self) -> None:
        blocks = []
        for sailor, ban in self.bans.items():
            pairs = {"id": sailor, "name": ban.name, "since": ban.since, "until": ban.until}
            blocks.append("".join(f"{name}: {value}\n" for name, value in pairs.items() if value))
        path = os.path.join(self.folder, "banned.txt")
        with open(f"{path}.new", "w", encoding="utf-8") as file:
            file.write("\n".join(blocks))
        os.replace(f"{path}.new", path)
