"""Network addresses and web addresses."""

from __future__ import annotations

import re

from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import Setting
from roundgate.core.values.protocol import Traits, Value, ValueProblem

_HOST = lazy(r"(?!-)[A-Za-z0-9-]{1,63}(?<!-)(?:\.(?!-)[A-Za-z0-9-]{1,63}(?<!-))*\.?")
_URL = lazy(
    r"(?P<scheme>[A-Za-z][A-Za-z0-9+.-]*)://(?P<host>\[[0-9A-Fa-f:.]+\]|[^\s/:?#@]+)(?::(?P<port>[0-9]+))?(?:[/?#]\S*)?"
)
_BARE_URL = lazy(r"(?:[A-Za-z0-9-]+\.)+[A-Za-z]{2,}(?::[0-9]+)?(?:[/?#]\S*)?")
"""A web address but for its scheme: a name with a dot in it, not any word."""


class NetAddress(Traits):
    """``address``: an IP address or a host name; ``*`` where the rulebook lists it as special."""

    name = "address"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind."""
        return self.read(typed, spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        from ipaddress import ip_address  # 10 ms of start-up that only this kind needs

        try:
            return str(ip_address(stored))
        except ValueError as error:
            looks_numeric = re.fullmatch(r"[0-9.]+", stored)
            if not looks_numeric and _HOST.fullmatch(stored):
                return stored
            hint = (
                "an address has four numbers from 0 to 255"
                if looks_numeric
                else "an address or a host name belongs here"
            )
            raise ValueProblem("value-kind", f"'{stored}' is not an address: {hint}.") from error

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value) or "(empty)"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return "an IP address or a host name"


class WebAddress(Traits):
    """``url``: a web address of one of the allowed schemes."""

    name = "url"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind."""
        return self.read(typed, spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        if not stored:
            return ""
        match = _URL.fullmatch(stored)
        if not match:
            has_scheme = "://" in stored
            meant = f"{spec.schemes[-1]}://{stored}" if not has_scheme and _BARE_URL.fullmatch(stored) else ""
            raise ValueProblem("value-kind", f"'{stored}' is not a whole web address.", meant)
        if match["scheme"].lower() not in spec.schemes:
            raise ValueProblem("value-kind", f"The address must begin with {' or '.join(spec.schemes)}.")
        return stored

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value) or "(empty)"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return f"a web address that begins with {' or '.join(f'{scheme}://' for scheme in spec.schemes)}"


class Endpoint(Traits):
    """``endpoint``: an address with a port, ``127.0.0.1:27800`` or ``[::1]:27800``."""

    name = "endpoint"
    typed = "127.0.0.1:27800"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind."""
        return self.read(typed, spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        if not stored:
            return ""
        host, colon, port = stored.rpartition(":")
        bracketed = host.startswith("[") and host.endswith("]")
        if not colon or not re.fullmatch(r"[0-9]{1,9}", port) or (":" in host and not bracketed):
            raise ValueProblem("value-kind", f"'{stored}' is not an address with a port, such as {self.typed}.")
        if not 1 <= int(port) <= 65535:
            raise ValueProblem("value-range", f"{port} is not a port: ports go from 1 to 65535.")
        address = NetAddress().read(host[1:-1] if bracketed else host, spec)
        return f"[{address}]:{int(port)}" if bracketed else f"{address}:{int(port)}"

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value) or "(empty)"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return f"an address with a port, such as {self.typed}"
