"""What every kind of value can do. One file per kind implements it; ``values`` lists them."""

from __future__ import annotations

from decimal import Decimal
from typing import Protocol

from roundgate.core.rulebook.model import Setting

Value = bool | int | Decimal | str
"""A value as such: durations in seconds, sizes in bytes, percentages in percent, the rest as they are."""


class ValueProblem(ValueError):
    """A value that will not do: the code, the cause, and what was probably meant."""

    def __init__(self, code: str, cause: str, meant: str = "") -> None:
        """Keep the finding code, the cause in words, and the text to type instead, where one is likely."""
        super().__init__(cause)
        self.code = code
        self.cause = cause
        self.meant = meant


class ValueKind(Protocol):
    """One kind of value: what a person types -> the value -> what the file holds, and back."""

    name: str

    def parse(self, typed: str, spec: Setting) -> Value:
        """Make a value of what a person types. Raises ValueProblem."""
        ...

    def read(self, stored: str, spec: Setting) -> Value:
        """Make a value of what the file holds, as strictly as the server does. Raises ValueProblem."""
        ...

    def store(self, value: Value, spec: Setting) -> str:
        """Write a value as the file holds it. Raises ValueProblem where the file's unit cannot hold it."""
        ...

    def show(self, value: Value, spec: Setting) -> str:
        """Say a value as people say it."""
        ...

    def describe(self, spec: Setting) -> str:
        """Say in a few words what may be typed."""
        ...
