"""How OpenSSH's program is called for the files of a rented machine, and what it says where it cannot connect."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path
from typing import NamedTuple

from roundgate.core.next_step import typed_command
from roundgate.host.errors import OutOfReach, SignInRefused, Trouble
from roundgate.host.files import write_durably
from roundgate.host.rented.address import Address
from roundgate.host.rented.protocol import WITHIN
from roundgate.host.site import PLACES, STATE_FOLDER

_ANSWER = "ROUNDGATE_SSH_ANSWER"
_ASKPASS = f'#!/bin/sh\nprintf "%s\\n" "${_ANSWER}"\n'
"""What ssh runs to be given the password: it is neither an argument nor in a file."""
_KEPT = 60
"""Seconds for which a connection is kept for the next command."""


class HostKey(NamedTuple):
    """What a service shows to say which machine it is."""

    fingerprint: str
    """Its kind and its checksum, as ssh writes them."""
    is_known: bool


class Ssh:
    """Starts ``ssh`` for one server."""

    def __init__(self, server: str, address: Address, password: str, site: Path, configuration: str = "") -> None:
        """Keep what it is called with; ``site`` is the folder of the site, in whose state its socket lies."""
        self._server = server
        self._address = address
        self._password = password
        self._site = site
        self._configuration = configuration

    def start(self, handle: int, told: int) -> subprocess.Popen[bytes]:
        """Start it with the service's file protocol on a handle; what it says goes to ``told``. Raises Trouble."""
        try:
            words = [*self._words(), "-s", "--", self._address.host, "sftp"]
            return subprocess.Popen(
                words, cwd=self._site, stdin=handle, stdout=handle, stderr=told, env=self._environment()
            )
        except FileNotFoundError as error:
            raise _not_installed() from error

    def _words(self, *more: str) -> list[str]:
        address = self._address
        options = {
            "StrictHostKeyChecking": "yes",
            "ConnectTimeout": f"{WITHIN:.0f}",
            "ServerAliveInterval": "5",
            "ServerAliveCountMax": f"{WITHIN / 5:.0f}",
            "ClearAllForwardings": "yes",
            "ForwardAgent": "no",
            "PermitLocalCommand": "no",
            "RequestTTY": "no",
            # Commands share a connection. Its socket is named from the site's folder: a whole path may be too long.
            "ControlMaster": "auto",
            "ControlPath": f"{STATE_FOLDER}/{PLACES}/ssh-%C",
            "ControlPersist": str(_KEPT),
            **self._signed_in(),
        }
        words = ["ssh", *(["-F", self._configuration] if self._configuration else []), *more]
        words += [word for name, value in options.items() for word in ("-o", f"{name}={value}")]
        words += ["-l", address.user] if address.user else []
        words += ["-p", str(address.port)] if address.port else []
        return words

    def _signed_in(self) -> dict[str, str]:
        if self._password:
            return {
                "PubkeyAuthentication": "no",
                "PreferredAuthentications": "password,keyboard-interactive",
                "NumberOfPasswordPrompts": "1",
            }
        # A password that a person types for ssh would be missing in the next command, and in a round.
        by_key = {"PasswordAuthentication": "no", "KbdInteractiveAuthentication": "no"}
        return by_key if sys.stdin is not None and sys.stdin.isatty() else {"BatchMode": "yes"}

    def _environment(self) -> dict[str, str]:
        if not self._password:
            return dict(os.environ)
        script = self._site / STATE_FOLDER / PLACES / "askpass.sh"
        if not script.exists():
            write_durably(str(script), _ASKPASS.encode(), 0o700)
        asked = {"SSH_ASKPASS": str(script), "SSH_ASKPASS_REQUIRE": "force", _ANSWER: self._password}
        return {**os.environ, **asked}

    def host_key(self) -> HostKey:
        """Ask for the service's host key without signing in. Raises OutOfReach, Trouble."""
        done = self._asked()
        return HostKey(self._key_in(done), not self._is_unknown(done))

    def trust(self, key: str) -> None:
        """Have ``ssh`` keep the host key as it does at its own question. Raises Trouble where another one came."""
        done = self._asked("-o", "StrictHostKeyChecking=accept-new")
        if self._key_in(done) != key:
            raise Trouble(f"{self._address.where} showed another host key now than before.", "Ask the service.")

    def _asked(self, *more: str) -> str:
        """Connect, sign in to nothing, and return what ``ssh`` says."""
        # Of each option ssh takes the first.
        alone = ("-o", "ControlPath=none", "-o", "BatchMode=yes", "-o", "PreferredAuthentications=none")
        words = [*self._words("-v", *alone, *more), "--", self._address.host, "true"]
        try:
            return subprocess.run(
                words,
                cwd=self._site,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                check=False,
                timeout=2 * WITHIN,
            ).stderr.decode("utf-8", "replace")
        except FileNotFoundError as error:
            raise _not_installed() from error
        except subprocess.TimeoutExpired as error:
            raise OutOfReach(f"{self._address.where} does not answer.", "Try again when it answers.") from error

    def _key_in(self, told: str) -> str:
        """Return the key that a service showed, as ssh names it. Raises OutOfReach, Trouble."""
        found = re.search(r"Server host key: (\S+ \S+)", told)
        if found is None or "HAS CHANGED" in told:
            raise self.described(told)
        return found[1]

    @staticmethod
    def _is_unknown(told: str) -> bool:
        return re.search(r"No \S+ host key is known", told) is not None

    def described(self, told: str) -> Trouble:
        """Describe why ``ssh`` did not connect, by what it said."""
        address = self._address
        where = address.where
        lines = [line.strip() for line in told.splitlines() if line.strip() and not line.startswith("debug")]
        words = lines[-1][:200] if lines else "it ended without a word"
        if "REMOTE HOST IDENTIFICATION HAS CHANGED" in told:
            found = re.search(r"^Offending .*|^(SHA256:\S+)\.?$", told, re.MULTILINE)
            key = f" Its key is {found[1].rstrip('.')} now." if found and found[1] else ""
            return Trouble(
                f"The host key of {where} has changed: it may be another machine that answers.{key}",
                f"Ask the service whether it has a new key. If it has: ssh-keygen -R {_known_as(address)}",
            )
        if self._is_unknown(told) or "Host key verification failed" in told:
            return Trouble(
                f"The host key of {where} is not known here.",
                typed_command("place check", self._server, hint="it shows the key and asks"),
            )
        if "Permission denied" in told:
            who = address.user or "you"
            return SignInRefused(f"{where} does not let {who} in: {words}", "Correct the password, key or user.")
        if "subsystem request failed" in told:
            return Trouble(f"{where} has no SFTP: {words}", "Ask the service how files are reached.")
        if re.search(r"Bad configuration option|terminating, \d+ bad|Can't open user config", told):
            return Trouble(f"ssh cannot be called: {words}", "Correct the configuration of ssh.")
        return OutOfReach(f"{where} is out of reach: {words.rstrip('.').lower()}.", "Try again when it answers.")


def _not_installed() -> Trouble:
    return Trouble("SFTP needs the program 'ssh' of OpenSSH, which is not installed.", "Install openssh-client.")


def _known_as(address: Address) -> str:
    return f'"[{address.host}]:{address.port}"' if address.port not in (0, 22) else address.host
