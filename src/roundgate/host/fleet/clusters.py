"""Clusters: servers of a site that share settings, and where they do not agree."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import suppress

from roundgate.core.checks.context import CheckContext
from roundgate.core.checks.people import CLUSTER_DIFFERS
from roundgate.core.files import ServerFiles, format_value
from roundgate.core.findings import Finding, Place
from roundgate.core.formats.protocol import Entry
from roundgate.core.next_step import typed_command
from roundgate.core.values import is_hidden
from roundgate.host.errors import Trouble
from roundgate.host.servers import Server
from roundgate.host.site import members_of
from roundgate.host.site_file.checking import SITE_FILE
from roundgate.host.workspace import Workspace


def check_clusters(server: Server, files: ServerFiles) -> Iterator[Finding]:
    """Find what a server has otherwise than the servers that it shares it with.

    Where most of the others agree, they are right; a server is told of its own differences only.
    """
    mine = [name for name in server.site.file.cluster if server.name in members_of(server.site, name)]
    names = {member for name in mine for member in members_of(server.site, name) if member != server.name}
    read: dict[str, ServerFiles] = {}
    for name in names:
        with suppress(Trouble):  # its own check tells why; it must not hide what is wrong here
            read[name] = Workspace(Server(server.site, name), []).read().files
    sharing: dict[str, list[str]] = {}
    for name in mine:
        for setting in server.site.file.cluster[name].shares:
            sharing.setdefault(setting, []).append(name)
    for setting, clusters in sharing.items():
        members = {name: [member for member in members_of(server.site, name) if member in read] for name in clusters}
        torn = _torn(
            files, {name: {other: read[other] for other in several} for name, several in members.items()}, setting
        )
        if torn:
            context = CheckContext(server.name, files, {})
            do = f"Take {setting} out of one of these clusters in {SITE_FILE}, or {server.name} out of it."
            yield context.finding(CLUSTER_DIFFERS, "warning", Place(SITE_FILE), torn, do, setting)
            continue
        for name, several in members.items():
            yield from _differs(server, files, {name: read[name] for name in several}, name, setting)


def _torn(files: ServerFiles, clusters: Mapping[str, Mapping[str, ServerFiles]], name: str) -> str:
    """Report that clusters want different values of a setting, so that one server cannot please them; else nothing."""
    wants: dict[str, str | None] = {}
    for cluster, others in clusters.items():
        held = [_held(other, name) for other in others.values() if _knows(other, name)]
        if held and _knows(files, name):
            wants[cluster] = Counter(held).most_common(1)[0][0]
    if len(set(wants.values())) < 2:
        return ""
    joined = ", ".join(f"{cluster} has {_shown(files, name, value)}" for cluster, value in wants.items())
    return f"{name} is shared by clusters that have different values of it: {joined}."


def _differs(
    server: Server, files: ServerFiles, others: dict[str, ServerFiles], cluster: str, name: str
) -> Iterator[Finding]:
    context = CheckContext(server.name, files, {})
    if name not in files.book.setting and name not in files.book.list:
        cause = f"The cluster {cluster} shares {name}, and the rulebook of {server.name} does not know it."
        yield context.finding(CLUSTER_DIFFERS, "warning", Place(SITE_FILE), cause, f"Fix {SITE_FILE}.", name)
        return
    mine = _held(files, name)
    theirs = {holder: _held(other, name) for holder, other in others.items() if _knows(other, name)}
    counted = Counter(theirs.values())
    if not theirs or set(theirs.values()) == {mine}:
        return
    counted[mine] += 1
    most = max(counted.values())
    best = next(value for value in (*theirs.values(), mine) if counted[value] == most)
    is_tie = list(counted.values()).count(most) > 1
    if best == mine and counted[mine] > 1 and not is_tie:
        return  # it is one of those that agree; the others are told
    shown_mine, wanted = _shown(files, name, mine), next(value for value in theirs.values() if value != mine)
    wanted = best if best != mine else wanted
    holders = [holder for holder, value in theirs.items() if value == wanted]
    path, entry = _place_of(files, name)
    place = context.entry_place(path, entry) if entry else Place(path)
    there = f"{_shown(files, name, wanted)} on {', '.join(holders)}"
    cause = f"{name} is {shown_mine} here and {there}: the cluster {cluster} shares it."
    do = context.command("compare", holders[0])
    if name in files.book.setting and not is_hidden(files.book.setting[name]):
        shown = format_value(wanted, files.book.setting[name]) if wanted is not None else ""
        do = context.command("set", f"{name}={shown}") if shown else context.command("reset", name)
        if is_tie:  # each would take the other's value, and they would differ as before
            do = typed_command("set", f"@{cluster}", f"{name}=<value>")
    yield context.finding(CLUSTER_DIFFERS, "warning", place, cause, do, name)


def _knows(files: ServerFiles, name: str) -> bool:
    return name in files.book.setting or name in files.book.list


def _held(files: ServerFiles, name: str) -> str | None:
    """Return what counts, as it is stored; of a list, its entries in their order."""
    if name in files.book.list:
        return "\n".join(files.items(name))
    stored = files.stored(name)
    if stored is not None:
        return stored
    return files.counting_text(name) or None


def _shown(files: ServerFiles, name: str, stored: str | None) -> str:
    if name in files.book.list:
        entries = (stored or "").split("\n")
        many = f"{len(entries)} {'entry' if len(entries) == 1 else 'entries'}"
        return f"{many}, from {entries[0]}" if stored else "empty"
    spec = files.book.setting[name]
    if stored is None:
        return "not set"
    return "(set, hidden)" if is_hidden(spec) else format_value(stored, spec)


def _place_of(files: ServerFiles, name: str) -> tuple[str, Entry | None]:
    if name in files.book.list:
        return files.book.file[files.book.list[name].file].path, None
    return files.path_of(files.book.setting[name]), files.entry(name)
