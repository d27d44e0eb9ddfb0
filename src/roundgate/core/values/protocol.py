"""What every kind of value can do. One file per kind implements it; ``values`` lists them."""

from __future__ import annotations

from decimal import Decimal
from typing import Literal, Protocol

from roundgate.core.rulebook.model import Setting

DocumentKind = Literal["bool", "number", "text", "any"]
"""What a value is in a file that knows kinds; ``any``: a number or a text, by its spelling."""

Value = bool | int | Decimal | str | tuple[str, ...]
"""A value as such: durations in seconds, sizes in bytes, percentages in percent, lists as tuples, the rest as they are.
"""


class ValueProblem(ValueError):
    """A value that will not do: the code, the cause, and what was probably meant."""

    def __init__(self, code: str, cause: str, meant: str = "") -> None:
        """Keep the finding code, the cause, and the text to type instead, where one is likely."""
        super().__init__(cause)
        self.code = code
        self.cause = cause
        self.meant = meant


class Traits:
    """What most kinds of value have in common."""

    document: DocumentKind = "text"
    hidden = False
    verbatim = False
    typed = "VALUE"

    def example(self, spec: Setting) -> str:
        """See ValueKind."""
        return spec.example or self.typed


class ValueKind(Protocol):
    """One kind of value: what a person types -> the value -> what the file holds, and back."""

    name: str
    document: DocumentKind
    """What the value is in a file that knows kinds of its own, such as JSON."""
    hidden: bool
    """Whether the value is never shown."""
    verbatim: bool
    """Whether spaces around what is typed belong to the value."""

    def example(self, spec: Setting) -> str:
        """Return something that may be typed; VALUE where nothing fits every setting."""
        ...

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
        """Format a value as people say it."""
        ...

    def describe(self, spec: Setting) -> str:
        """Describe in a few words what may be typed."""
        ...
