"""Values made of several numbers: colours, and places or directions in a form that the rulebook spells out."""

from __future__ import annotations

import re
from decimal import Decimal

from roundgate.core.patterns import compiled, lazy
from roundgate.core.rulebook.model import Setting
from roundgate.core.values.numbers import plain, read_decimal
from roundgate.core.values.protocol import Traits, Value, ValueProblem

_HEX = lazy(r"#?([0-9a-fA-F]{6})([0-9a-fA-F]{2})?")
_NUMBER = r"[+-]?(?:[0-9]{1,15}(?:\.[0-9]{0,15})?|\.[0-9]{1,15})"
_NAME = lazy(r"\{(\w+)\}")
_NAMED = lazy(r"(\w+)\s*=\s*([^\s,;=]+)")
COLOUR_FORMS = ("#rrggbb", "#rrggbbaa", "rrggbb")
"""The forms of a colour in hexadecimal digits; any other is made of the letters r, g, b and a."""


def _numbers_typed(typed: str) -> list[str]:
    return [part for part in re.split(r"[\s,;|]+", typed.strip()) if part]


def colour_parts(form: str) -> str:
    """Return the letters of a form such as ``r,g,b``; an empty text for a form of hexadecimal digits."""
    return "" if form in COLOUR_FORMS else "".join(letter for letter in form if letter in "rgba")


class Colour(Traits):
    """``colour``: typed as ``#c0392b`` or in numbers; the value is the text in the file's form."""

    name = "colour"
    typed = "#c0392b"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        form = self._form(spec)
        hexed = _HEX.fullmatch(typed)
        parts = colour_parts(form)
        if hexed and (typed[:1] == "#" or not parts):
            numbers = [int(hexed[1][at : at + 2], 16) for at in (0, 2, 4)]
            numbers += [int(hexed[2], 16)] if hexed[2] else []
        else:
            typed_parts = _numbers_typed(typed)
            if parts and spec.scale == 1:
                return self.read(self._joined(self._fitted(typed_parts, "1", spec), form), spec)
            if not all(re.fullmatch(r"[0-9]{1,3}", word) for word in typed_parts) or not 3 <= len(typed_parts) <= 4:
                raise ValueProblem("value-kind", f"'{typed}' is not a colour: {self.describe(spec)}.")
            numbers = [int(word) for word in typed_parts]
        return self.read(self._written([Decimal(number) for number in numbers], spec, typed), spec)

    def _written(self, numbers: list[Decimal], spec: Setting, typed: str) -> str:
        """Write parts from 0 to 255 in the file's form."""
        form = self._form(spec)
        wanted = len(colour_parts(form)) or (4 if form == "#rrggbbaa" else 3)
        if len(numbers) > wanted and numbers[3] != 255:
            raise ValueProblem("value-kind", f"'{typed}' has four parts; the file holds three, without an alpha.")
        numbers = [*numbers[:wanted], *[Decimal(255)] * (wanted - len(numbers))]
        if not colour_parts(form):
            if any(number > 255 for number in numbers):
                raise ValueProblem("value-range", "Each part goes from 0 to 255.")
            digits = "".join(f"{int(number):02x}" for number in numbers)
            return f"#{digits}" if form[0] == "#" else digits
        if spec.scale == 1:
            numbers = [round(number / 255, 4) for number in numbers]
        return self._joined([plain(number) for number in numbers], form)

    @staticmethod
    def _fitted(parts: list[str], full: str, spec: Setting) -> list[str]:
        wanted = len(colour_parts(spec.form))
        return [*parts, *[full] * (wanted - len(parts))] if len(parts) == 3 else parts

    @staticmethod
    def _joined(parts: list[str], form: str) -> str:
        gap = re.sub(r"[rgba]", "", form[:3])[:2] or " "
        return gap.join(parts)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        form = self._form(spec)
        if not colour_parts(form):
            match = _HEX.fullmatch(stored)
            if match and len(stored) == len(form) and (stored[0] == "#") == (form[0] == "#"):
                return stored.lower()
            meant = "" if match is None else f"#{match[1]}".lower()
            raise ValueProblem("value-kind", f"'{stored}' is not a colour of the form {form}.", meant)
        parts = stored.split(self._joined(["", ""], form))
        if len(parts) != len(colour_parts(form)):
            raise ValueProblem("value-kind", f"'{stored}' is not a colour of the form {form}.")
        for word in parts:
            self._check_part(word.strip(), spec)
        return self._joined([plain(read_decimal(word.strip())) for word in parts], form)

    @staticmethod
    def _check_part(word: str, spec: Setting) -> None:
        number = read_decimal(word)
        if not 0 <= number <= spec.scale:
            raise ValueProblem("value-range", f"{word} is out of range: each part goes from 0 to {spec.scale}.")
        if spec.scale == 255 and number != number.to_integral_value():
            raise ValueProblem("value-kind", f"{word} is not a whole number: each part goes from 0 to 255.")

    @staticmethod
    def _form(spec: Setting) -> str:
        return spec.form or "#rrggbb"

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        form = self._form(spec)
        scale = f", each part from 0 to {spec.scale}" if colour_parts(form) else ""
        return f"a colour, such as #c0392b; the file holds {form}{scale}"


class Vector(Traits):
    """``vector``: numbers in a form such as ``{x} {y} {z}|{heading}``; the value is the text in that form."""

    name = "vector"

    def example(self, spec: Setting) -> str:
        """See ValueKind."""
        return spec.example or _NAME.sub("0", self._form(spec))

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. The file's form may be typed, ``x=1 y=2``, or the numbers alone. Raises ValueProblem."""
        form, names = self._form(spec), part_names(self._form(spec))
        if self._pattern(form).fullmatch(typed):
            return self.read(typed, spec)
        line = compiled(spec.pasted).search(typed) if spec.pasted else None
        if line is not None:
            parts = line.groupdict(default="0")
            return self.read(_NAME.sub(lambda match: plain(read_decimal(parts.get(match[1], "0"))), form), spec)
        named = dict(_NAMED.findall(typed))
        ordered = [named[name] for name in names] if set(named) == set(names) else _numbers_typed(typed)
        if len(ordered) != len(names):
            raise ValueProblem("value-kind", f"'{typed}' does not have the form {form}: {len(names)} numbers.")
        found = dict(zip(names, ordered, strict=True))
        return self.read(_NAME.sub(lambda match: found[match[1]], form), spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        form = self._form(spec)
        match = self._pattern(form).fullmatch(stored)
        if not match:
            raise ValueProblem("value-kind", f"'{stored}' does not have the form {form}.")
        parts = {name: read_decimal(word) for name, word in match.groupdict().items()}
        for name, (least, most) in spec.bounds.items():
            if name in parts and not Decimal(str(least)) <= parts[name] <= Decimal(str(most)):
                cause = f"{name} is {plain(parts[name])}; it goes from {plain(least)} to {plain(most)}."
                raise ValueProblem("value-range", cause)
        return _NAME.sub(lambda match: plain(parts[match[1]]), form)

    @staticmethod
    def _form(spec: Setting) -> str:
        return spec.form or "{x} {y} {z}"

    @staticmethod
    def _pattern(form: str) -> re.Pattern[str]:
        pieces = _NAME.split(form)
        groups = (f"(?P<{piece}>{_NUMBER})" if number % 2 else re.escape(piece) for number, piece in enumerate(pieces))
        return re.compile("".join(groups))

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        bounds = ", ".join(f"{name} {plain(low)} to {plain(high)}" for name, (low, high) in spec.bounds.items())
        return f"numbers in the form {self._form(spec)}" + (f", {bounds}" if bounds else "")


def part_names(form: str) -> list[str]:
    """Return the names in braces of a vector's form."""
    return _NAME.findall(form)
