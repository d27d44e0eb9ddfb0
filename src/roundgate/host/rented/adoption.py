"""Taking a rented server into a site: its rulebook by its files, its table, and its password as a secret."""

from __future__ import annotations

import os
import re
from contextlib import suppress
from pathlib import Path

from filelock import FileLock
from msgspec import Struct
from msgspec.structs import replace

from roundgate.core.next_step import typed_command
from roundgate.host.adopting import (
    RulebookGuess,
    append_table,
    best_fit,
    checked_name,
    every_rulebook,
    quoted_text,
    refuse_taken_name,
    score_by_keys,
)
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.files import write_durably
from roundgate.host.notices.secrets import Secrets, variable_of
from roundgate.host.rented.address import Address, parse_address, without_password
from roundgate.host.rented.mirror import Mirror
from roundgate.host.rented.protocol import RemoteFiles
from roundgate.host.rulebooks import load_rulebook
from roundgate.host.site import PLACES, Site, make_private, read_site
from roundgate.host.site_file.checking import SITE_FILE
from roundgate.host.site_file.tables import ByHand, ServerEntry

_SECRETS = "secrets.toml"


class PlaceAdoption(Struct, frozen=True):
    """What a person asks for when adopting a rented server."""

    site: Site
    name: str
    rulebook: str | None
    entry: ServerEntry
    """What the site file is to say of it: a person starts and stops it, until something else is written there."""

    @property
    def secret(self) -> str:
        """The name of its password among the site's secrets."""
        return f"{self.name}-files"

    def with_password(self) -> PlaceAdoption:
        """Return the same for a service that wants a password."""
        return replace(self, entry=replace(self.entry, password=f"{{secret.{self.secret}}}"))


def plan_of(site: Site, given: ServerEntry, name: str | None, rulebook: str | None) -> tuple[PlaceAdoption, str]:
    """Return the plan of an adoption, and the password that was in the address. Raises Trouble, WrongUsage.

    ``given`` has the address as it was typed, and how it is reached.
    """
    clean, password = without_password(given.folder)
    address = parse_address(clean)
    chosen = checked_name(name or address.folder.rpartition("/")[2] or address.host.partition(".")[0])
    refuse_taken_name(site, chosen)
    for other, entry in site.file.server.items():
        if entry.is_rented and _is_same(parse_address(entry.folder), address):
            raise Trouble(f"That folder is the server '{other}' already.", typed_command("status", other))
    if address.scheme == "ftp" and not given.insecure:
        raise WrongUsage(
            "Plain FTP sends the password and the files in the clear.",
            "Write ftps:// where the service knows TLS; or allow it: --insecure.",
        )
    if rulebook:
        load_rulebook(rulebook, site.folder)
    by_hand = ByHand(start=f"Start {chosen} on its server page", stop=f"Stop {chosen} on its server page")
    return PlaceAdoption(
        site, chosen, rulebook, replace(given, folder=clean, driver="by-hand", by_hand=by_hand)
    ), password


def _is_same(one: Address, other: Address) -> bool:
    return replace(one, scheme="") == replace(other, scheme="")


def held_password(plan: PlaceAdoption) -> str:
    """Return the password that the environment or the secrets file has already; empty for none."""
    with suppress(Trouble):
        return str(Secrets(plan.site).fill(f"{{secret.{plan.secret}}}"))
    return ""


def fetch(plan: PlaceAdoption, files: RemoteFiles) -> RulebookGuess:
    """Find the rulebook of a place by its files; what is read is the copy that the server has from now on."""
    folder = plan.site.state / PLACES / plan.name
    make_private(plan.site.state / PLACES)
    mirror = Mirror(folder, files)
    if plan.rulebook is not None:
        return RulebookGuess(plan.rulebook, f"{plan.rulebook}, as you said" if plan.rulebook else "none, as you said")
    scores = []
    for name, book in every_rulebook(plan.site):
        mirror.pull(mirror.paths_of(book))
        scores.append((name, *score_by_keys(folder, book)))
    return best_fit(scores)


def write_place(plan: PlaceAdoption, guess: RulebookGuess, password: str) -> None:
    """Write the server's table, and a password that is not kept yet among the site's secrets. Raises Trouble."""
    make_private(plan.site.state)
    with FileLock(plan.site.state / "site.lock", mode=0o600):
        site = read_site(plan.site.folder)
        refuse_taken_name(site, plan.name)
        if password:
            _keep_secret(site, plan.secret, password)
        append_table(site, _table(plan, guess))
    read_site(plan.site.folder)


def _keep_secret(site: Site, name: str, value: str) -> None:
    """Put a secret into the site's secrets file, which is made and named in the site file where there is none."""
    if not site.file.notices.secrets:
        _name_secrets_file(site.folder / SITE_FILE)
    path = site.folder / (site.file.notices.secrets or _SECRETS)
    old = path.read_text("utf-8") if path.exists() else ""
    kept = [line for line in old.splitlines() if not re.match(rf'[ \t]*"?{re.escape(name)}"?[ \t]*=', line)]
    # Before any table: what is below a heading is that table's.
    new = "\n".join([f"{name} = {quoted_text(value)}", *kept]) + "\n"
    write_durably(str(path), new.encode(), 0o600)


def _name_secrets_file(path: Path) -> None:
    text = path.read_text("utf-8")
    line = f'secrets = "{_SECRETS}"\n'
    heading = re.search(r"^[ \t]*\[[ \t]*notices[ \t]*\][^\n]*\n", text, re.MULTILINE)
    at = heading.end() if heading else len(text)
    gap = "" if heading else ("" if text.endswith("\n") or not text else "\n") + "\n[notices]\n"
    write_durably(str(path), (text[:at] + gap + line + text[at:]).encode(), path.stat().st_mode & 0o777)


def _table(plan: PlaceAdoption, guess: RulebookGuess) -> str:
    """Write the server's tables of the site file."""
    entry = plan.entry
    values = [
        ("folder", entry.folder),
        ("password", entry.password),
        ("certificate", entry.certificate),
        ("ssh-config", entry.ssh_config),
        ("rulebook", guess.rulebook),
        ("driver", entry.driver),
    ]
    lines = [f"[server.{plan.name}]", *(f"{key} = {quoted_text(value)}" for key, value in values if value)]
    lines += ["insecure = true"] if entry.insecure else []
    lines += [f"tags = [{', '.join(map(quoted_text, entry.tags))}]"] if entry.tags else []
    lines += ["", f"[server.{plan.name}.by-hand]"]
    lines += [f"stop = {quoted_text(entry.by_hand.stop)}", f"start = {quoted_text(entry.by_hand.start)}"]
    return "\n".join(lines) + "\n"


def is_given(plan: PlaceAdoption) -> bool:
    """Return whether the environment gives the password, so that it is kept nowhere."""
    return variable_of(plan.secret) in os.environ
