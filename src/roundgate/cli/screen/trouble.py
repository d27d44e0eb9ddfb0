"""Error messages: ours with what to do, and the unexpected in one line with where the details lie."""

from __future__ import annotations

import os
import shlex
import sys
import time
import traceback
from pathlib import Path
from typing import TYPE_CHECKING

from roundgate.cli.screen.output import styled, warn
from roundgate.core.next_step import Advice, LeftOut, Meant, NextStep, corrected, step_of
from roundgate.core.quoting import join_typed
from roundgate.core.secrets import sounds_secret, without_logins

if TYPE_CHECKING:
    from roundgate.host.errors import Trouble


def echo_trouble(error: Trouble) -> None:
    """Print a trouble on standard error."""
    warn(f"{styled('error', 'red', sys.stderr)}  {error.what}")
    if error.excerpt:
        warn(error.excerpt)
    for line in _step(error.do).lines():
        warn(f"  {line}")


def _step(do: Advice) -> NextStep:
    """Return what an error proposes; where a part of the call was meant otherwise, the whole call, corrected."""
    if isinstance(do, LeftOut):
        return _completed(do)
    if not isinstance(do, Meant) or not do.right or sounds_secret(do.right) or sounds_secret(do.wrong):
        return step_of(do)
    call = join_typed(["roundgate", *corrected(sys.argv[1:], do.wrong, do.right)])
    if call == "roundgate" or without_logins(call) != call:  # a password in an address is not repeated
        return step_of(do)
    return NextStep(call, step_of(do).hint)


def _completed(do: LeftOut) -> NextStep:
    """Return the whole call with what is missing in it. What is left open is not quoted: a shell must refuse it."""
    from roundgate.cli.grammar.commands import COMMANDS

    words = [shlex.quote(word) for word in sys.argv[1:]]
    if not words or words[0].startswith("-") or without_logins(" ".join(words)) != " ".join(words):
        return step_of(do)
    verbs = next((line.verbs for line in COMMANDS if line.name == words[0] and line.verbs is not None), None)
    is_verb = verbs is not None and words[1:2] and words[1] in [verb.name for verb in verbs.verbs]
    at = (2 if is_verb else 1) if do.is_server else len(words)
    return NextStep(" ".join(["roundgate", *words[:at], do.word, *words[at:]]), str(do))


def echo_unexpected(error: Exception) -> None:
    """Write the details of a mistake of ours to a file, and say so in one line."""
    path = _write_details(error)
    where = f"the details are in {path}" if path else "the details could not be written"
    name = type(error).__name__
    warn(f"error  Something unexpected happened ({name}); {where}. Please report it.")


def _write_details(error: Exception) -> Path | None:
    from platformdirs import user_log_path

    details = "".join(traceback.format_exception(error))
    try:
        folder = user_log_path("roundgate")
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        path = folder / f"error-{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}.log"
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            file.write(f"roundgate {sys.argv[1:2]}\n{details}".encode("utf-8", "backslashreplace").decode())
    except OSError:
        return None
    return path


def warn_of_copies() -> None:
    """Tell of rented servers that were out of reach, and of when the copy is that was looked at."""
    from roundgate.host.rented.opening import out_of_reach

    for name, why, looked in out_of_reach():
        when = time.strftime("%Y-%m-%d %H:%M", time.localtime(looked))
        warn(f"note: {why} The files of {name} are shown as they were on {when}.")
