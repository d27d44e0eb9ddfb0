"""What can be wrong in the site file beyond its form."""

from __future__ import annotations

import re
from collections.abc import Sequence

from roundgate.host.errors import Trouble
from roundgate.host.site_file.tables import ClusterTable, CountdownTable, ServerEntry, SiteFile

SITE_FILE = "roundgate.toml"
CONSOLE_KINDS = ("stdin", "tcp", "packets", "datagrams", "pipe")
DRIVER_KINDS = ("keeper", "systemd", "commands", "self", "requests", "by-hand")
NAME = re.compile(r"[A-Za-z][A-Za-z0-9_-]{0,39}")


def servers_meant(file: SiteFile, arguments: Sequence[str]) -> list[str]:
    """Return the servers that names in the site file mean, each a name or ``@TAG``, in the order of the file."""
    return [
        name
        for name, entry in file.server.items()
        if any(word == name or word == "@all" or (word[:1] == "@" and word[1:] in entry.tags) for word in arguments)
    ]


def unknown_server(file: SiteFile, arguments: Sequence[str]) -> str:
    """Return the first of such names that means no server and no tag; empty where each means something."""
    tags = tags_of(file)
    known = (word in file.server or (word[:1] == "@" and word[1:] in tags) for word in arguments)
    return next((word for word, is_known in zip(arguments, known, strict=True) if not is_known), "")


def tags_of(file: SiteFile) -> set[str]:
    """Return the tags of all servers, and ``all``."""
    return {tag for entry in file.server.values() for tag in entry.tags} | {"all"}


def check_site_file(file: SiteFile) -> None:
    """Check that names, commands and numbers of a site file make sense. Raises Trouble."""
    wrong = next((name for name in file.server if not NAME.fullmatch(name)), None)
    if wrong is not None:
        raise Trouble(f"{SITE_FILE}: '{wrong}' cannot be a server's name.", "Use letters, digits, - and _.")
    for name, entry in file.server.items():
        _refuse_unknown(name, "console", entry.console, ("", *CONSOLE_KINDS))
        _refuse_unknown(name, "driver", entry.driver, DRIVER_KINDS)
        if entry.is_rented:
            from roundgate.host.rented.address import check_entry  # most servers are here

            check_entry(name, entry, SITE_FILE)
        elif not entry.start or entry.driver in ("requests", "by-hand"):
            _refuse_without_start(name, entry)
        if entry.driver == "systemd" and not entry.unit:
            raise Trouble(f"{SITE_FILE}: {name} needs a 'unit' for the driver systemd.", f"Fix {SITE_FILE}.")
        if entry.umask and not re.fullmatch(r"[0-7]{1,4}", entry.umask):
            raise Trouble(
                f"{SITE_FILE}: '{entry.umask}' of {name} is not a umask.", 'Write octal digits: umask = "0027".'
            )
    if file.backup.keep < 0 or file.backup.days < 0:
        raise Trouble(f"{SITE_FILE}: 'keep' and 'days' of [backup] cannot be below 0.", f"Fix {SITE_FILE}.")
    if file.rounds.keep < 0:
        raise Trouble(f"{SITE_FILE}: 'keep' of [rounds] cannot be below 0.", f"Fix {SITE_FILE}.")
    if file.notices.recipients:
        from roundgate.host.notices.checking import check_notices  # most sites have none

        check_notices(file.notices)
        for name, recipient in file.notices.recipients.items():
            odd = unknown_server(file, recipient.servers)
            if odd:
                raise Trouble(f"[notices] {name}: there is no server '{odd}'.", "Name servers of the site, or @TAG.")
    _check_countdown(file.countdown)
    for name, cluster in file.cluster.items():
        _check_cluster(file, name, cluster)


def _refuse_without_start(name: str, entry: ServerEntry) -> None:
    if not entry.start:
        raise Trouble(f"{SITE_FILE}: {name} needs 'start', the command that starts it.", f"Fix {SITE_FILE}.")
    raise Trouble(
        f"{SITE_FILE}: the driver '{entry.driver}' of {name} is for rented servers, whose folder is an address.",
        'Leave the driver out, or write folder = "ftps://USER@HOST/FOLDER".',
    )


def _check_countdown(table: CountdownTable) -> None:
    """See that every mark is a time and every name in braces one that is known. Raises Trouble."""
    odd = next((mark for mark in table.marks if not re.fullmatch(r"[1-9][0-9]{0,5}[smh]", mark)), None)
    if odd is not None:
        raise Trouble(f"{SITE_FILE}: '{odd}' of [countdown] is not a time.", 'Write marks such as "10m" or "30s".')
    known = ("what", "noun", "left", "because", "reason", "server", "time")
    for name in re.findall(r"\{([^{}]*)\}", table.text + table.called_off):
        if name not in known:
            raise Trouble(f"{SITE_FILE}: [countdown] has no '{name}' to fill in.", f"Names: {', '.join(known)}")


def _check_cluster(file: SiteFile, name: str, cluster: ClusterTable) -> None:
    """See that a cluster has a name of its own, and servers that there are. Raises Trouble."""
    if not NAME.fullmatch(name) or name in tags_of(file):
        raise Trouble(f"{SITE_FILE}: a cluster cannot be called '{name}'.", "Use a word that is not a tag.")
    odd = unknown_server(file, cluster.servers)
    if odd:
        raise Trouble(f"{SITE_FILE}: the cluster {name} has no server '{odd}' to take in.", f"Fix {SITE_FILE}.")


def _refuse_unknown(server: str, key: str, word: str, known: Sequence[str]) -> None:
    if word not in known:
        hint = f"Write one of {', '.join(name for name in known if name)} as '{key}'."
        raise Trouble(f"{SITE_FILE}: '{word}' of {server} is not a kind of {key}.", hint)
