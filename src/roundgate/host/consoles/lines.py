"""Lines for a console, from a rulebook's forms."""

from __future__ import annotations

from collections.abc import Mapping

from roundgate.core.console_lines import LineRefused, fill
from roundgate.core.rulebook.model import ServerSpec
from roundgate.host.consoles.protocol import console_line
from roundgate.host.errors import WrongUsage


def filled(form: str, given: Mapping[str, str], spec: ServerSpec) -> str:
    """Return a console line with values for the names in braces. Raises WrongUsage where one could be a command."""
    try:
        return console_line(fill(form, given, spec))
    except LineRefused as error:
        raise WrongUsage(str(error), "Leave that sign out.") from error
