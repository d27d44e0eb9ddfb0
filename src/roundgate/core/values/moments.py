"""Dates and times of day, in the form that the file has."""

from __future__ import annotations

import re
from contextlib import suppress
from typing import TYPE_CHECKING

from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import Setting
from roundgate.core.values.protocol import Traits, Value, ValueProblem

if TYPE_CHECKING:
    from datetime import datetime


_TIME = lazy("(?:[01][0-9]|2[0-3]):[0-5][0-9]")


def _read(text: str, form: str) -> datetime | None:
    from datetime import datetime  # 5 ms of start-up that only these kinds need

    with suppress(ValueError):
        return datetime.strptime(text, form)
    return None


class Moment(Traits):
    """What dates and times have in common: the value is the text in the usual form."""

    usual = ""
    """The form in which people see the value."""
    others: tuple[str, ...] = ()
    """Forms that may be typed besides."""
    what = ""

    @classmethod
    def is_usual(cls, text: str) -> bool:
        """Return whether a text has the usual form, without the reader of all forms: that takes 4 ms to load."""
        raise NotImplementedError

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        for form in (self._form(spec), self.usual, *self.others):
            found = _read(typed, form)
            if found is not None:
                return found.strftime(self.usual)
        raise ValueProblem("value-kind", f"'{typed}' is not {self.describe(spec)}.")

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Only the file's own form counts. Raises ValueProblem."""
        form = self._form(spec)
        if form == self.usual and self.is_usual(stored):
            return stored
        found = _read(stored, form)
        if found is not None and found.strftime(form) == stored:
            return found.strftime(self.usual)
        meant = ""
        with suppress(ValueProblem):
            meant = str(self.parse(stored, spec))
        raise ValueProblem("value-kind", f"'{stored}' does not have the form {self._written_form(form)}.", meant)

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        found = _read(str(value), self.usual)
        assert found is not None
        return found.strftime(self._form(spec))

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        stored = "" if self._form(spec) == self.usual else f"; the file holds {self._written_form(self._form(spec))}"
        return f"{self.what}{stored}"

    def _form(self, spec: Setting) -> str:
        return spec.form or self.usual

    @staticmethod
    def _written_form(form: str) -> str:
        """Format a form as people write it: ``DD.MM.YYYY``."""
        letters = {"Y": "YYYY", "m": "MM", "d": "DD", "H": "hh", "M": "mm", "S": "ss"}
        return re.sub(r"%(\w)", lambda match: letters.get(match[1], match[0]), form)


class Date(Moment):
    """``date``: a day, or a day and a time where ``form`` has one."""

    name = "date"
    usual = "%Y-%m-%d"
    others = ("%d.%m.%Y", "%Y/%m/%d")
    what = "a date, such as 2026-06-20"
    typed = "2026-06-20"

    @classmethod
    def is_usual(cls, text: str) -> bool:
        """See Moment."""
        from datetime import date

        with suppress(ValueError):
            # Twice, for it reads other forms of the standard too; years before 1000 are left to the slow way.
            return text[:1] > "0" and date.fromisoformat(text).isoformat() == text
        return False


class TimeOfDay(Moment):
    """``time``: hours and minutes of a day."""

    name = "time"
    usual = "%H:%M"
    others = ("%H.%M", "%H%M", "%I:%M%p", "%I%p")
    what = "a time of day, such as 19:30"
    typed = "19:30"

    @classmethod
    def is_usual(cls, text: str) -> bool:
        """See Moment."""
        return _TIME.fullmatch(text) is not None


def sample_of(form: str, kind: str) -> bool:
    """Return whether a form holds all of a date or a time: what is written in it is read back the same."""
    from datetime import datetime

    sample = datetime(2026, 11, 25, 19, 34)
    usual = Date.usual if kind == "date" else TimeOfDay.usual
    found = _read(sample.strftime(form), form)
    return found is not None and found.strftime(usual) == sample.strftime(usual)
