"""Where the call stands: the site, its store, and the servers that a word means."""

from __future__ import annotations

from pathlib import Path

from roundgate.api.server import OpenServer
from roundgate.api.site import OpenSite
from roundgate.cli import named_site
from roundgate.cli.screen.output import warn
from roundgate.core.next_step import typed_command
from roundgate.core.quoting import quoted
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.servers import Server
from roundgate.host.site import find_site, is_server_word


class CallContext(OpenSite):
    """The site of this call, open."""

    def __init__(self, *, quiet: bool = False) -> None:
        """Find the site. Says on standard error where a round was interrupted, unless ``quiet``."""
        here = Path.cwd()
        super().__init__(find_site(named_site.SITE_NAMED, here), here)
        self._left_out: set[str] = set()
        """The servers that a person was told of as unreadable."""
        for remark in self.store.remarks:
            warn(f"warning  {remark}")
        if not quiet:
            self._warn()

    def _warn(self) -> None:
        for row in self.store.open_rounds():
            from roundgate.host.rounds.locking import broken_off, is_at_work

            if row.server not in self.site.file.server or is_at_work(row):
                continue
            broken = broken_off(self.opened(row.server).server, self.store)
            if broken and broken.number == row.number:
                from roundgate.host.rounds.recover import plan  # seldom needed, and slow to load

                what = plan(self.store.journal(row.number))
                warn(f"Round {row.number} of {row.server} was interrupted: {what}.")
                warn(f"  do: {typed_command('rounds recover', row.server)}")

    def one(self, word: str | None, *, lenient: bool = False) -> Server:
        """Return the one server that a word means. Raises UnknownName or WrongUsage."""
        return self.server(word, lenient=lenient).server

    def several(self, word: str | None, *, default_all: bool = False, lenient: bool = False) -> list[Server]:
        """Return the servers that a word means; nothing means all of them where ``default_all``."""
        word = "@all" if word is None and default_all else word
        return [server.server for server in self.servers(word, lenient=lenient)]

    def readable(self, word: str | None) -> list[OpenServer]:
        """Return the servers that a word means, for a look at them; of several, one that cannot be read is left out.

        What is left out is told on standard error: it must not hide the others. Raises Trouble where none is left.
        """
        servers = self.servers(word)
        if len(servers) < 2:
            return servers
        found, why = [], None
        for server in servers:
            try:
                server.workspace.read()
            except Trouble as error:
                why = error
                if server.name not in self._left_out:
                    warn(f"warning  {server.name} is left out: {error.what}")
                self._left_out.add(server.name)
            else:
                found.append(server)
        if why is not None and not found:
            raise why
        return found

    def open(self, server: Server) -> OpenServer:
        """Return what works with a server of this call."""
        return self.opened(server.name, lenient=server.lenient)

    def split(self, arguments: list[str], *, is_value: bool = False) -> tuple[str | None, list[str]]:
        """Split the arguments of a call into the server and the rest; the server may be left out.

        With ``is_value`` the rest are values such as list entries, so a first word that means no server is only taken
        for a setting or list where that is one's name.
        """
        if not arguments:
            return None, []
        first, *rest = arguments
        if is_server_word(self.site, first):
            return first, rest
        if "=" in first or ":" in first or (len(arguments) == 1 and is_value):
            return None, arguments
        is_server = not self._is_name(first) and (rest or self._resembles_server(first))
        return (first, rest) if is_server else (None, arguments)

    def after_server(self, call: str, arguments: list[str] | None, *needs: str) -> tuple[str | None, list[str]]:
        """Split the arguments of a verb into the server, which comes first and may be left out, and what it needs.

        ``needs`` names each of them for the message; where the last ends in ``...`` there may be more, and one in
        brackets may be left out. The order of version 0.1, with the server behind them, is understood. Raises
        WrongUsage where one is missing or too many.
        """
        given = list(arguments or [])
        is_open = bool(needs) and needs[-1].endswith("...")
        least = sum(1 for need in needs if not need.startswith("["))
        most = len(given) if is_open else len(needs)
        word: str | None = None
        if given and self._means_servers(given[0]) and (len(given) > least or least == 0):
            word, *given = given
        elif len(given) > least:
            at = next((at for at in range(len(given) - 1, least - 1, -1) if self._means_servers(given[at])), 0)
            if at:
                word = given.pop(at)
                warn(f"note: the server comes first now: roundgate {call} {word} {' '.join(map(quoted, given))}")
        if len(given) == least + 1 and word is None and not is_open and len(needs) == least:
            word, *given = given  # too many for the verb alone: then the first is meant as a server
        if not least <= len(given) <= max(most, least):
            missing = [need.removesuffix("...") for need in needs[len(given) : least]]
            what = f"{' and '.join(missing)} is missing" if missing else f"'{given[-1]}' is too much"
            raise WrongUsage(
                f"{what}. It takes: {call} [SERVER] {' '.join(needs)}".rstrip() + ".",
                typed_command(call, options=("--help",)),
            )
        return word, given

    def _means_servers(self, word: str) -> bool:
        """Return whether a word means servers, or one world of a server: SERVER@WORLD."""
        return is_server_word(self.site, word) or word.partition("@")[0] in self.names

    def _resembles_server(self, word: str) -> bool:
        from roundgate.core.nearest import nearest

        return nearest(word, self.site.file.server, least=75) != ""

    def _is_name(self, word: str) -> bool:
        from roundgate.api.lookup import find_name
        from roundgate.api.record_addresses import set_named

        servers = [self.opened(name).server for name in self.names]
        try:
            if any(find_name(server.book, word) or (server.folder / word).is_file() for server in servers):
                return True
        except WrongUsage:  # it means several settings
            return True
        if any(set_named(server.book, word) for server in servers):
            return True
        begun = word.lower()
        return "." in word and any(name.lower().startswith(begun) for server in servers for name in server.book.setting)


def home_of(path: str) -> tuple[str, str] | None:
    """Return the server whose folder a file lies in, and its name there."""
    try:
        servers = CallContext(quiet=True).several(None, default_all=True)
    except Trouble:
        return None
    # Where the name is first, where its links lead then: a link in a server's folder is the server's, wherever it
    # leads, and is read only as far as the site file allows.
    named = Path(path).absolute()
    for whole in (named.parent.resolve() / named.name, named.resolve()):
        for server in servers:
            if whole.is_relative_to(server.folder.resolve()):
                return server.name, whole.relative_to(server.folder.resolve()).as_posix()
    return None
