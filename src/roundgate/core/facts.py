"""What holds of a server beside its files: its name and folder, its edition and version, the machine it runs on."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from msgspec import Struct

from roundgate.core.rulebook.model import Setting

FACTS = {
    "server.name": "the server's name in the site file",
    "server.folder": "its folder",
    "server.tags": "its tags, as a list",
    "server.edition": "its edition, by the site file",
    "server.version": "its version, by the site file or as the rulebook says",
    "machine.memory": "the machine's memory, in bytes",
    "machine.cores": "how many processor cores the machine has",
}
"""The names that an expression may use beside settings and lists, and what they mean."""


class Facts(Struct, frozen=True):
    """What is known of a server beside its files. ``value`` gives one of ``FACTS``, None where it is not known."""

    value: Callable[[str], Any] = lambda _name: None
    has: Callable[[str], bool | None] = lambda _path: None
    """Whether a path below the server's folder exists; None where nobody can tell."""
    lines: Callable[[str], list[str]] = lambda _path: []
    """The lines of a small file below the server's folder; none where there is no such file."""

    @property
    def edition(self) -> str:
        """Its edition; empty where it is not known."""
        return str(self.value("server.edition") or "")

    @property
    def version(self) -> str:
        """Its version; empty where it is not known."""
        return str(self.value("server.version") or "")


NO_FACTS = Facts()
"""For files that belong to no server, or to one of another time."""


def version_parts(version: str) -> tuple[int, ...]:
    """Return a version's numbers, to compare it: ``2.10`` comes after ``2.9``, and ``2.4.0`` is ``2.4``."""
    numbers = [int(number) for number in re.findall(r"\d{1,9}", version)]
    while numbers and numbers[-1] == 0:
        numbers.pop()
    return tuple(numbers)


class Absence(Struct, frozen=True):
    """Why a server does not have a setting or a choice: by its edition or its version."""

    here: str
    """What the server is, such as ``inshore`` or ``2.3``."""
    needs: str
    """What would have it, as text: ``the edition offshore``, ``version 2.4 or later``."""


def absence_of(spec: Setting, facts: Facts) -> Absence | None:
    """Return why a server does not have a setting; None where it has it, or nobody can tell."""
    edition, version = facts.edition, facts.version
    if spec.only and edition and edition not in spec.only:
        return Absence(edition, f"the edition {' or '.join(spec.only)}")
    if spec.since and version and version_parts(version) < version_parts(spec.since):
        return Absence(version, f"version {spec.since} or later")
    if spec.until and version and version_parts(version) >= version_parts(spec.until):
        return Absence(version, f"a version before {spec.until}")
    return None


def choice_absence(choice: str, spec: Setting, facts: Facts) -> Absence | None:
    """Return why a server does not have a choice of a setting; None where it has it, or nobody can tell."""
    editions = spec.only_choices.get(choice, ())
    if editions and facts.edition and facts.edition not in editions:
        return Absence(facts.edition, f"the edition {' or '.join(editions)}")
    return None
