"""Console lines from a rulebook's forms: values go in so that none of them can smuggle in a second command."""

from __future__ import annotations

from collections.abc import Mapping

from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import ServerSpec

_NAME = lazy(r"\{([\w.-]+)\}")


class LineRefused(ValueError):
    """A value that cannot be part of a console line; the message says why."""


def fill(form: str, given: Mapping[str, str], spec: ServerSpec) -> str:
    """Return a console line with values for the names in braces; a name that has none stays as it is.

    Between quotes of the form, a quote or a backslash of the value is escaped where the rulebook says so
    (``console-escapes``), and a quote is refused where it does not. Outside of quotes, a sign that ends a command
    (``console-ends``) is refused. Raises LineRefused.
    """
    quoted = False
    at, line = 0, ""
    for name in _NAME.finditer(form):
        before = form[at : name.start()]
        quoted ^= before.count('"') % 2 == 1
        at = name.end()
        value = given.get(name[1])
        line += before + (name[0] if value is None else _fitting(value, spec, quoted=quoted))
    return line + form[at:]


def _fitting(value: str, spec: ServerSpec, *, quoted: bool) -> str:
    if quoted and spec.console_escapes:
        return value.replace("\\", "\\\\").replace('"', '\\"')
    if quoted and '"' in value:
        raise LineRefused("The text holds a quote, and this console could take the rest for a command.")
    sign = next((end for end in spec.console_ends if end in value), "") if not quoted else ""
    if sign:
        raise LineRefused(f"The text holds {sign}, which ends a command at this console.")
    return value
