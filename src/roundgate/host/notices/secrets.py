"""Secrets for notices: from the environment, or from a file that only its owner can read. They are never printed."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any

from roundgate.core.notices.model import SECRET, filled, names_in
from roundgate.host.errors import Trouble
from roundgate.host.site import Site

_PREFIX = "ROUNDGATE_SECRET_"


class Secrets:
    """The secrets that a site's notices name."""

    def __init__(self, site: Site) -> None:
        """Read nothing yet."""
        self.site = site
        self._file: dict[str, Any] | None = None

    def fill(self, template: Any, fields: Mapping[str, str | int] = MappingProxyType({})) -> Any:
        """Fill the fields and the secrets that a template names: a text, or a tree of texts.

        Both in one pass: a field may hold what a player has said, and what it says is never read as a name of a secret.
        Raises Trouble where a secret is not available.
        """
        names = [name for name in names_in(template) if name.startswith(SECRET)]
        secrets = {name: self._value(name.removeprefix(SECRET)) for name in names}
        return filled(template, {**fields, **secrets})

    def _value(self, name: str) -> str:
        given = os.environ.get(variable_of(name))
        if given is not None:
            return given
        held = self._read().get(name)
        if not isinstance(held, str):
            where = self.site.file.notices.secrets
            hint = f"Write it into {where}" if where else "Name a file as 'secrets' in [notices]"
            raise Trouble(
                f"There is no secret '{name}'.",
                f"{hint}, or set {variable_of(name)}.",
            )
        return held

    def _read(self) -> dict[str, Any]:
        if self._file is None:
            self._file = self._read_file(self.site.folder / self.site.file.notices.secrets)
        return self._file

    def _read_file(self, path: Path) -> dict[str, Any]:
        if not self.site.file.notices.secrets:
            return {}
        try:
            with path.open("rb") as file:
                if os.fstat(file.fileno()).st_mode & 0o077:
                    raise Trouble(f"{path.name} can be read by others, so it is not used.", f"chmod 600 {path}")
                return tomllib.load(file)
        except OSError as error:
            raise Trouble(f"{path} cannot be read: {error.strerror}.", 'Make it: NAME = "SECRET"') from error
        except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
            raise Trouble(f"{path} is no TOML.", 'Write one NAME = "SECRET" a line.') from error


def variable_of(name: str) -> str:
    """Return the environment variable of a secret."""
    return _PREFIX + re.sub(r"[^0-9A-Za-z]", "_", name).upper()
