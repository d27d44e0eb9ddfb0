"""What holds the files that a command changes: a server, or one file that belongs to no server."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from roundgate.host.loose import LooseFile
    from roundgate.host.servers import Server

    Holder = Server | LooseFile
