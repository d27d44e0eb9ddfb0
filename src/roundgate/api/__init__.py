"""Round Gate as a library: open a site, read its servers, propose changes, check them, and start rounds.

    from roundgate import api

    with api.open_site("/srv/club") as site:
        server = site.server("regatta")
        proposal = server.propose(server.key_changes().operations_of(["race.slots=24"]))
        if not proposal.has_errors:
            server.put(proposal.operations)
            window = server.start_round(api.Options(reviewed=server.review().digest))
            for event in window.events():
                print(event)

The commands of the program are written with it. Everything raises ``Trouble`` or one of its kinds, whose ``what`` and
``do`` say what happened and what to do. Names are loaded when they are first used, so that importing it costs little.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from roundgate.api.key_changes import ChangeOptions, KeyChanges
    from roundgate.api.list_changes import ListChanges
    from roundgate.api.proposal import Proposal
    from roundgate.api.server import Discarded, OpenServer
    from roundgate.api.site import OpenSite, open_site
    from roundgate.core.findings import Finding, Place
    from roundgate.core.layers import Known, Layers
    from roundgate.host.errors import Busy, NoSite, Trouble, UnknownName, WrongUsage
    from roundgate.host.rounds.gather import Gathered
    from roundgate.host.rounds.options import Options
    from roundgate.host.rounds.process import RoundWindow

_HOMES = {
    "Busy": "roundgate.host.errors",
    "ChangeOptions": "roundgate.api.key_changes",
    "Discarded": "roundgate.api.server",
    "Finding": "roundgate.core.findings",
    "Gathered": "roundgate.host.rounds.gather",
    "KeyChanges": "roundgate.api.key_changes",
    "Known": "roundgate.core.layers",
    "Layers": "roundgate.core.layers",
    "ListChanges": "roundgate.api.list_changes",
    "NoSite": "roundgate.host.errors",
    "OpenServer": "roundgate.api.server",
    "OpenSite": "roundgate.api.site",
    "Options": "roundgate.host.rounds.options",
    "Place": "roundgate.core.findings",
    "Proposal": "roundgate.api.proposal",
    "RoundWindow": "roundgate.host.rounds.process",
    "Trouble": "roundgate.host.errors",
    "UnknownName": "roundgate.host.errors",
    "WrongUsage": "roundgate.host.errors",
    "open_site": "roundgate.api.site",
}

__all__ = [
    "Busy",
    "ChangeOptions",
    "Discarded",
    "Finding",
    "Gathered",
    "KeyChanges",
    "Known",
    "Layers",
    "ListChanges",
    "NoSite",
    "OpenServer",
    "OpenSite",
    "Options",
    "Place",
    "Proposal",
    "RoundWindow",
    "Trouble",
    "UnknownName",
    "WrongUsage",
    "open_site",
]


def __getattr__(name: str) -> Any:
    """Load a public name when it is first used."""
    if name not in _HOMES:
        raise AttributeError(f"module 'roundgate.api' has no attribute {name!r}")
    return getattr(import_module(_HOMES[name]), name)
