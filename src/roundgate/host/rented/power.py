"""The service that starts and stops a rented server, by the HTTP requests that the site file describes."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Any, Literal

from roundgate.host.errors import OutOfReach, Trouble
from roundgate.host.notices.secrets import Secrets
from roundgate.host.site import Site
from roundgate.host.site_file.tables import HttpCall, PowerRequests

State = Literal["up", "down", "between"]
_WITHIN = 20.0
_TRIES = 4
_LONGEST_PAUSE = 30.0
"""Seconds; a service that wants more patience than this is told of."""


class PowerService:
    """Sends the requests of one server."""

    def __init__(self, site: Site, requests: PowerRequests) -> None:
        """Send nothing yet."""
        self._secrets = Secrets(site)
        self._requests = requests
        self._base = str(self._secrets.fill(requests.base))
        self.host = self._base.partition("://")[2].partition("/")[0] or "the service"

    def send(self, call: HttpCall) -> None:
        """Send a request that starts or stops. Raises OutOfReach, Trouble."""
        self._answer(call.method, call.url, call.body)

    def state(self) -> State:
        """Ask in which state the server is. Raises OutOfReach, Trouble."""
        spec = self._requests.state
        word: Any = self._answer("GET", spec.url, {})
        for name in spec.at.split("."):
            word = word.get(name) if isinstance(word, dict) else None
        if not isinstance(word, str):
            raise Trouble(f"{self.host} does not say '{spec.at}'.", "Correct 'state' of its requests in the site file.")
        return "up" if word in spec.up else "down" if word in spec.down else "between"

    def _answer(self, method: str, url: str, body: Mapping[str, Any]) -> Any:
        import httpx  # a fifth of a second to load: only who sends needs it

        whole = str(self._secrets.fill(url)).replace("{base}", self._base)
        headers = self._secrets.fill(dict(self._requests.headers))
        pause = 1.0
        for left in reversed(range(_TRIES)):
            try:
                # A redirect could carry the secret in a header to somebody else.
                with httpx.Client(timeout=_WITHIN, follow_redirects=False) as client:
                    answer = client.request(method, whole, headers=headers, json=dict(body) or None)
            except (httpx.HTTPError, httpx.InvalidURL) as error:
                if left and isinstance(error, httpx.TransportError):
                    time.sleep(pause)
                    pause *= 2
                    continue
                raise OutOfReach(f"{self.host} is out of reach: it {_described(error)}.", "Try again later.") from None
            if answer.status_code == 429 and left:
                time.sleep(_patience(answer.headers.get("Retry-After", ""), pause))
                pause *= 2
                continue
            return self._taken(answer.status_code, answer.text)
        raise AssertionError

    def _taken(self, code: int, text: str) -> Any:
        """Return what an answer says. Raises OutOfReach, Trouble."""
        import msgspec

        if code in (401, 403):
            raise Trouble(f"{self.host} answers {code}: the secret in the headers is not right.", "Correct the secret.")
        if code == 429 or code >= 500:
            raise OutOfReach(f"{self.host} answers {code}.", "Try again later.")
        if code >= 300:
            raise Trouble(f"{self.host} answers {code}.", "Correct the requests in the site file.")
        if not text.strip():
            return {}
        try:
            return msgspec.json.decode(text)
        except msgspec.DecodeError:
            raise Trouble(f"{self.host} does not answer in JSON.", "Correct the requests in the site file.") from None


def _described(error: Exception) -> str:
    """Describe an error by its kind: its own message may hold the address, and that a secret."""
    kind = type(error).__name__
    if kind == "ConnectError":
        return "refuses the connection, or its name is not known"
    return "does not answer in time" if "Timeout" in kind else f"breaks off ({kind})"


def _patience(asked: str, pause: float) -> float:
    """Return how long to wait where a service says how long, in seconds."""
    return min(float(asked), _LONGEST_PAUSE) if asked.isascii() and asked.isdigit() else pause
