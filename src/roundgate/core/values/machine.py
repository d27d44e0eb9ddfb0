"""Values of a start script: processor cores as a list or a mask, flags without a value, and paths."""

from __future__ import annotations

import re
from contextlib import suppress

from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import Setting
from roundgate.core.values.protocol import Traits, Value, ValueProblem

_CORES = lazy(r"[0-9]{1,4}(?:-[0-9]{1,4})?(?:,[0-9]{1,4}(?:-[0-9]{1,4})?)*")
_MOST_CORES = 1024
CORE_FORMS = frozenset(("list", "hex", "number"))
"""How a file may hold processor cores: ``0,2-3``, ``0xd``, ``13``."""


def _numbers(text: str) -> set[int]:
    found: set[int] = set()
    for part in text.split(","):
        first, _, last = part.partition("-")
        if last and int(last) < int(first):
            raise ValueProblem("value-kind", f"{part} runs backwards.", f"{last}-{first}")
        if int(last or first) >= _MOST_CORES:
            raise ValueProblem("value-range", f"Cores are numbered from 0 to {_MOST_CORES - 1}.")
        found.update(range(int(first), int(last or first) + 1))
    return found


def _ranges(cores: set[int]) -> str:
    ranges: list[str] = []
    for core in sorted(cores):
        if core - 1 in cores:
            continue
        last = core
        while last + 1 in cores:
            last += 1
        ranges.append(str(core) if last == core else f"{core}-{last}")
    return ",".join(ranges)


class Cores(Traits):
    """``cores``: the processor cores that a server may use; the value is a text such as ``0,2-3``."""

    name = "cores"
    typed = "0-3"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. A list is typed, or the file's mask. Raises ValueProblem."""
        packed = typed.replace(" ", "")
        if not _CORES.fullmatch(packed) or (spec.stored == "hex" and packed.lower().startswith("0x")):
            return self.read(packed, spec)
        return _ranges(_numbers(packed))

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        form = spec.stored or "list"
        if form == "list":
            if _CORES.fullmatch(stored):
                return _ranges(_numbers(stored))
            raise ValueProblem("value-kind", f"'{stored}' is not a list of cores such as 0,2-3.")
        pattern = r"(?:0[xX])?[0-9a-fA-F]{1,256}" if form == "hex" else r"[0-9]{1,309}"
        mask = int(stored, 16 if form == "hex" else 10) if re.fullmatch(pattern, stored) else 0
        if not 0 < mask < 1 << _MOST_CORES:
            what = "a mask in hexadecimal digits, such as 0xd" if form == "hex" else "a mask, such as 13"
            raise ValueProblem("value-kind", f"'{stored}' is not {what} (cores 0, 2 and 3).")
        return _ranges({core for core in range(mask.bit_length()) if mask >> core & 1})

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        form = spec.stored or "list"
        if form == "list":
            return str(value)
        mask = sum(1 << core for core in _numbers(str(value)))
        return f"0x{mask:x}" if form == "hex" else str(mask)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        stored = "" if spec.stored in ("", "list") else f"; the file holds a mask, {self.store('0,2-3', spec)}"
        return f"processor cores, such as 0,2-3{stored}"


_YES = frozenset(("true", "yes", "on", "1", "present"))
_NO = frozenset(("false", "no", "off", "0", "absent"))


class FlagBits(Traits):
    """``flag``: something that is there or not, such as ``--hidden`` without a value."""

    name = "flag"
    typed = "on"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        if typed.lower() in _YES | _NO:
            return typed.lower() in _YES
        raise ValueProblem("value-kind", f"'{typed}' is neither on nor off.")

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Present, it means on; a value after it is a mistake. Raises ValueProblem."""
        if stored in ("", "true"):
            return True
        if stored == "false":
            return False  # the default, in a rulebook
        raise ValueProblem("value-kind", f"It has no value: it is there or not, and '{stored}' is after it.", "on")

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind. What is off is not in the file at all."""
        return "" if value else "false"

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return "on" if value else "off"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return "on or off: the file has it, without a value, or has it not"


class FilePath(Traits):
    """``path``: a file or folder of the server; whether it exists is checked where the files are."""

    name = "path"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. A path from the server's folder may be typed too. Raises ValueProblem."""
        below = spec.below.rstrip("/") + "/"
        shortened = typed.removeprefix("./")
        if spec.below and shortened.startswith(below):
            with suppress(ValueProblem):
                return self.read(shortened[len(below) :], spec)
        return self.read(typed, spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        if any(char < " " or char == "\x7f" for char in stored):
            raise ValueProblem("value-control", "A path cannot hold a control character.")
        if ".." in re.split(r"[/\\]", stored):
            raise ValueProblem("value-kind", f"'{stored}' leads out of its folder.")
        if stored and spec.endings and not stored.endswith(spec.endings):
            raise ValueProblem("value-pattern", f"The name must end with {' or '.join(spec.endings)}.")
        return stored

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value) or "(empty)"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        ending = f" that ends with {' or '.join(spec.endings)}" if spec.endings else ""
        return f"a path{ending}, below {spec.below}" if spec.below else f"a path in the server's folder{ending}"
