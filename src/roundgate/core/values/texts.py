"""Switches, choices, texts and secrets."""

from __future__ import annotations

import re

from roundgate.core.nearest import nearest
from roundgate.core.patterns import fits
from roundgate.core.rulebook.model import Setting
from roundgate.core.values.protocol import DocumentKind, Traits, Value, ValueProblem

_YES = frozenset(("true", "yes", "on", "1", "y"))
_NO = frozenset(("false", "no", "off", "0", "n"))


class TrueFalse(Traits):
    """``bool``: on or off; a person may say it in many ways, the file holds it in one."""

    name = "bool"
    document: DocumentKind = "bool"
    typed = "on"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        lowered = typed.lower()
        for word, value in spec.read_as.items():
            if word.lower() == lowered:
                return value
        if lowered in _YES or lowered == spec.spelling[0].lower():
            return True
        if lowered in _NO or lowered == spec.spelling[1].lower():
            return False
        raise ValueProblem("value-kind", f"'{typed}' is neither yes nor no.", nearest(typed, spec.spelling))

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Only the spellings that the server reads count. Raises ValueProblem."""
        known = {spec.spelling[0]: True, spec.spelling[1]: False, **spec.read_as}
        fold = str.lower if spec.any_case else str
        for word, value in known.items():
            if fold(word) == fold(stored):
                return value
        text = f"{', '.join(list(known)[:-1])} and {list(known)[-1]}"
        cause = f"Only {text} are valid{'' if spec.any_case else ', in exactly this spelling'}."
        try:
            meant = self.store(self.parse(stored.strip(), spec), spec)
        except ValueProblem as error:
            raise ValueProblem("value-kind", f"'{stored}' is neither. {cause}", error.meant) from error
        raise ValueProblem("value-spelling", f"{cause} The server silently ignores '{stored}'.", meant)

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return spec.spelling[0] if value else spec.spelling[1]

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return self.store(value, spec)

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return f"{spec.spelling[0]} or {spec.spelling[1]}"


class Choice(Traits):
    """``choice``: one of a few words."""

    name = "choice"

    def example(self, spec: Setting) -> str:
        """See ValueKind."""
        return next(iter(spec.choices), self.typed)

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. Case does not matter to the person."""
        found = next((choice for choice in spec.choices if choice.lower() == typed.lower()), None)
        if found is None:
            raise self._unknown(typed, spec)
        return found

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind."""
        if stored in spec.choices:
            return stored
        if spec.any_case and (
            found := next((choice for choice in spec.choices if choice.lower() == stored.lower()), None)
        ):
            return found
        raise self._unknown(stored, spec)

    def _unknown(self, word: str, spec: Setting) -> ValueProblem:
        cause = f"'{word}' is not one of {', '.join(spec.choices)}."
        return ValueProblem("value-choice", cause, nearest(word, spec.choices))

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return "one of " + ", ".join(spec.choices)


class Texts(Traits):
    """``text``: free text with a length, a pattern, blocked words and a way to break lines."""

    name = "text"
    verbatim = True

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. Where the setting has lines, ``\\n`` or the file's own form may be typed for a line break."""
        text = typed.replace("\\n", "\n").replace(spec.line_break, "\n") if spec.line_break else typed
        return self._checked(text.replace("\r\n", "\n"), spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind."""
        return self._checked(stored.replace(spec.line_break, "\n") if spec.line_break else stored, spec)

    def _checked(self, text: str, spec: Setting) -> str:
        self._check_characters(text, spec)
        least, most = spec.length or (0, 1_000_000)
        if len(text) > most:
            raise ValueProblem("value-length", f"It has {len(text)} characters; the maximum is {most}.", text[:most])
        if len(text) < least:
            raise ValueProblem("value-length", f"It has {len(text)} characters; the minimum is {least}.")
        if spec.pattern and not fits(spec.pattern, text):
            example = f" It should look like {spec.example}." if spec.example else ""
            raise ValueProblem("value-pattern", f"'{text}' does not have the right form.{example}", spec.example)
        self._check_blocked(text, spec)
        return text

    def _check_characters(self, text: str, spec: Setting) -> None:
        bad = next((char for char in text if (char < " " and char != "\n") or char == "\x7f"), None)
        if bad is not None:
            raise ValueProblem("value-control", f"A control character (U+{ord(bad):04X}) cannot be part of a text.")
        if "\n" in text and not spec.line_break:
            raise ValueProblem("value-control", "This setting is one line; it cannot hold a line break.")

    def _check_blocked(self, text: str, spec: Setting) -> None:
        blocked = spec.blocked.words if spec.blocked else ()
        found = next((word for word in blocked if word.lower() in text.lower()), None)
        if found and spec.blocked:
            cause = f"The blocked word '{found}' is part of it. {spec.blocked.because}".rstrip()
            raise ValueProblem("value-blocked", cause)

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value).replace("\n", spec.line_break) if spec.line_break else str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value).replace("\n", "\\n") if value else "(empty)"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        text = f"a text of {spec.length[0]} to {spec.length[1]} characters" if spec.length else "a text"
        text += r", \n for a new line" if spec.line_break else ""
        text += f", such as {spec.example}" if spec.example else ""
        return text + (f", without the words {', '.join(spec.blocked.words)}" if spec.blocked else "")


def is_code(condition: str) -> bool:
    """Return whether a condition is code, and not one of the words that a game takes in its place."""
    return re.fullmatch(r"[\w\- ]*", condition) is None


class Condition(Traits):
    """``condition``: code that the server works out, kept as it is; or one of the words that the game takes."""

    name = "condition"
    verbatim = True
    document: DocumentKind = "any"

    def example(self, spec: Setting) -> str:
        """See ValueKind."""
        return next(iter((*spec.offers, *spec.choices)), spec.example or self.typed)

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. A word that the rulebook offers stands for its code. Raises ValueProblem."""
        word = typed.strip().lower()
        for offered, code in spec.offers.items():
            if offered.lower() == word:
                return code
        return self.read(next((choice for choice in spec.choices if choice.lower() == word), typed), spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        if any((char < " " and char not in "\n\t") or char == "\x7f" for char in stored):
            raise ValueProblem("value-control", "A condition cannot hold a control character.")
        if stored in spec.choices or not (spec.choices or spec.offers) or is_code(stored):
            return stored  # what is more than words is code, and only the server can tell whether it is right
        choices = (*spec.choices, *spec.offers)
        near = nearest(stored, choices)
        cause = f"'{stored}' is not one of {', '.join(choices)}, and no code."
        raise ValueProblem("value-choice", cause, near)

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind. Code that the rulebook offers goes by its word."""
        return next((word for word, code in spec.offers.items() if code == value), str(value)) or "(empty)"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        choices = [*spec.choices, *spec.offers]
        return f"{', '.join(choices)}, or a condition in code" if choices else "a condition in code"


class Secret(Traits):
    """``secret``: a code or password, checked like a text and never shown."""

    name = "secret"
    hidden = True
    verbatim = True

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind."""
        return self.read(typed, spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. No cause repeats the value. Raises ValueProblem."""
        if not stored:
            return ""
        if any(char < " " or char == "\x7f" for char in stored):
            raise ValueProblem("value-control", "It cannot hold a control character.")
        least, most = spec.length or (0, 1_000_000)
        if spec.pattern and not fits(spec.pattern, stored):
            raise ValueProblem("value-pattern", f"It does not have the right form: {self.describe(spec)}.")
        if not least <= len(stored) <= most:
            raise ValueProblem("value-length", f"It must have {least} to {most} characters.")
        return stored

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return "(set, hidden)" if value else "(empty)"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        what = "digits only" if spec.pattern == r"\d+" else "a secret"
        return f"{what}, {spec.length[0]} to {spec.length[1]} characters" if spec.length else what
