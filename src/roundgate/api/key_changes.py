"""From the arguments of ``set``, ``reset``, ``switch`` and ``rename`` to operations."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from roundgate.api.lookup import OPEN, SettingTarget, assignment, setting_of
from roundgate.api.record_addresses import names_record
from roundgate.api.record_changes import RecordChanges
from roundgate.core import values
from roundgate.core.advice import advice_for
from roundgate.core.facts import absence_of
from roundgate.core.files import format_value
from roundgate.core.formats import problems_of
from roundgate.core.formats.places import NoSuchItem, find_key, near_keys, place_of, split_assignment
from roundgate.core.formats.protocol import Document, EditRefused, Entry, Path
from roundgate.core.next_step import Command, Meant, did_you_mean, typed_command
from roundgate.core.operations.base import Operation
from roundgate.core.operations.names import Rename, Switch
from roundgate.core.operations.values import SetValue, Unset
from roundgate.core.rulebook.expansion import CONSOLE
from roundgate.core.rulebook.model import Setting
from roundgate.core.secrets import HIDDEN, is_secret_field, is_switch, sounds_secret
from roundgate.core.typed import KINDS, KindMismatch, Typed, typed
from roundgate.core.values import ValueProblem
from roundgate.core.values.relative import changed_by, is_relative
from roundgate.host.errors import Trouble, UnknownName, WrongUsage
from roundgate.host.workspace import Holder

AskSecret = Callable[[str, str], str]
"""Gives the value of a secret; it is told the setting's name, and the server's or file's."""


class ChangeOptions(Struct, frozen=True):
    """How the options of a call want its values taken."""

    kind: str = ""
    new: bool = False
    new_file: bool = False
    here_only: bool = False
    now: bool = False
    """The values are sent to the live console too, so settings that only the console has may be among them."""

    def __post_init__(self) -> None:
        """Refuse a kind that there is not. Raises WrongUsage."""
        if self.kind and self.kind not in KINDS:
            raise WrongUsage(f"There is no kind '{self.kind}'.", f"--kind one of: {', '.join(KINDS)}")


class KeyChanges:
    """Makes operations for one server or standalone file, given what waits for it already."""

    def __init__(
        self, holder: Holder, options: ChangeOptions | None = None, ask_secret: AskSecret | None = None
    ) -> None:
        """Keep what the operations are about; ``ask_secret`` gives the value of a secret."""
        self.holder = holder
        self.waiting = holder.operations
        self.options = options or ChangeOptions()
        self._ask_secret = ask_secret
        self._planned: dict[str, Document | None] = {}

    def operations_of(self, arguments: Sequence[str]) -> list[Operation]:
        """Make the operations of each NAME=VALUE: one, or more where the value is kept in several places.

        Raises WrongUsage, UnknownName, or Trouble for a value that will not do.
        """
        if not arguments:
            raise WrongUsage(
                "Which setting, and to what value?", typed_command("set", self.holder.name, f"<name>={OPEN}")
            )
        made: list[Operation] = []
        for word in arguments:
            try:
                made += self._operations(word)
            except Trouble as error:
                if isinstance(error.do, Meant):  # the same value may stand in the call twice
                    name, given = split_assignment(word)
                    if given is not None and given == error.do.wrong:
                        error.do = Meant(error.do.otherwise, word, f"{name}={error.do.right}")
                raise
        return made

    def _operations(self, word: str) -> list[Operation]:
        name, given = assignment(word)
        if names_record(self.holder, name):
            return self._of_record(word, name, given)
        target = self._target(name)
        if values.is_hidden(target.spec) if target.spec else sounds_secret(target.key) and not is_switch(given):
            given = self._secret(target, given=given is not None)
        elif given is None:
            raise WrongUsage(f"'{word}' has no value.", typed_command("set", self.holder.name, f"{name}={OPEN}"))
        if target.spec is not None:
            if is_relative(given, target.spec):
                return self.given(target, self._changed_by(target, target.spec, given))
            return self.given(target, self._stored(target, given))
        value = self._typed(target, given)
        held, here_only = self._held(target.file, target.key), self.options.here_only
        return [SetValue(target.file, target.key, value.text, held, here_only=here_only, kind=value.kind)]

    def _of_record(self, word: str, name: str, given: str | None) -> list[Operation]:
        """Make the operations on a field of records; the value of a secret is asked for."""
        changes = RecordChanges(self.holder)
        address = changes.address(name, with_field=True)
        if is_secret_field(changes.book, address.name, address.field):
            target = SettingTarget(name, changes.book.file[address.spec.file].path, "", None)
            given = self._secret(target, given=given is not None)
        elif given is None:
            raise WrongUsage(f"'{word}' has no value.", typed_command("set", self.holder.name, f"{name}={OPEN}"))
        return changes.changed(name, given)

    def _held(self, file: str, key: str) -> str | None:
        """Return what a file holds for a key now."""
        entry = find_key(self.holder.read([file]).files.document(file), key)
        return entry.value if entry else None

    def given(self, target: SettingTarget, stored: str | None) -> list[Operation]:
        """Make the operations that give a setting a value in all its places, or take it out where that is None.

        Raises Trouble where the server does not have it, or where the change would not last.
        """
        spec = target.spec
        assert spec is not None
        self._refuse_absent(target.name, spec)
        if spec.file == CONSOLE:
            return [self._for_console(target.name, stored)]
        files = self.holder.read().files
        own = files.path_to_write(spec)
        file = self.holder.book.file[spec.file]
        if file.owner == "game" and own == file.path:
            raise Trouble(
                f"{own} belongs to the game: its next update overwrites the file, and a change of {target.name} "
                "with it. Nothing was changed.",
                f"to change it anyway: {typed_command('edit', self.holder.name, own)}",
            )
        places = [(own, spec.key, target.name, stored)]
        for place in spec.also:
            there = None if stored is None else values.stored_at(place, stored, spec)
            places.append((self.holder.book.file[place.file or spec.file].path, place.key, "", there))
        made: list[Operation] = []
        for path, key, name, new in places:
            held = self._held(path, key)
            if new is None or (spec.type == "flag" and new):
                made += [] if name == "" and held is None else [Unset(path, key, held, name)]
            else:
                made.append(SetValue(path, key, new, held, name))
        return made

    def _for_console(self, name: str, stored: str | None) -> Operation:
        """Make the operation for a setting that no file has. Raises Trouble where it is not for the console."""
        spec = self.holder.book.setting[name]
        shown = OPEN if stored is None else format_value(stored, spec)
        if spec.kept_in and not (spec.live and spec.live.set):
            raise Trouble(
                f"The server keeps {name} in {spec.kept_in}: it can be read there, but not set. Nothing was changed.",
                typed_command("explain", self.holder.name, name),
            )
        if spec.kept_in and (stored is None or not self.options.now):
            raise Trouble(
                f"The server keeps {name} in {spec.kept_in}, and its console changes it. Nothing was changed.",
                typed_command("set", self.holder.name, f"{name}={shown}", options=("--now",)),
            )
        if stored is None or not self.options.now:
            raise Trouble(
                f"No file holds {name}: only the live console has it, and the next restart loses it. "
                "Nothing was changed.",
                typed_command("set", self.holder.name, f"{name}={shown}", options=("--now",)),
            )
        return SetValue(CONSOLE, "", stored, None, name)

    def _refuse_absent(self, name: str, spec: Setting) -> None:
        """Refuse a setting that the server's version or edition does not have. Raises Trouble."""
        absence = absence_of(spec, self.holder.read().files.facts)
        if absence is not None:
            raise Trouble(
                f"{name} needs {absence.needs}; {self.holder.name} is {absence.here} and would ignore it. "
                "Nothing was changed.",
                "the site file says which edition and version a server is: 'edition' and 'version'",
            )

    def new_world(self, operations: Sequence[Operation], name: str) -> list[Operation]:
        """Name a new world for what a world has fixed among some changes. Raises WrongUsage where nothing is."""
        settings = self.holder.book.setting
        slots = {
            settings[operation.shown_name].fixed_by for operation in operations if operation.shown_name in settings
        } - {""}
        if not slots:
            raise WrongUsage(
                "None of these settings is fixed when a world is made, so no new world is needed.",
                "leave --new-world out",
            )
        return [*operations, *self.operations_of([f"{slot}={name}" for slot in sorted(slots)])]

    def _target(self, name: str) -> SettingTarget:
        return setting_of(self.holder, name, new_file=self.options.new_file)

    def _secret(self, target: SettingTarget, *, given: bool) -> str:
        """Ask for a secret; it must not be part of the call, which others on the machine can read."""
        if given:
            raise WrongUsage(
                f"{target.name} is a secret and must not be part of the command: others on this machine can read it.",
                typed_command("set", self.holder.name, target.name, hint="it asks you; or use standard input"),
            )
        if self._ask_secret is None:
            raise WrongUsage(f"{target.name} is a secret, and its value was not given.")
        return self._ask_secret(target.name, self.holder.name or target.file)

    def _stored(self, target: SettingTarget, given: str) -> str:
        assert target.spec is not None
        try:
            return values.store(values.parse(given, target.spec), target.spec)
        except ValueProblem as error:
            names = self.holder.read().files.names if target.spec.advice_when else {}
            advised = advice_for(target.name, target.spec, names, given) if error.code == "value-range" else ""
            advice = f" {advised}" if advised else ""
            right = values.sure_meaning(error.meant, target.spec)
            meant = f"{target.name}={right}" if right else ""
            name = self.holder.name
            do = typed_command("set", name, meant) if meant else typed_command("explain", name, target.name)
            shown = "" if values.is_hidden(target.spec) else f"{target.name}={given}: "
            may_be = values.describe(target.spec)
            cause = f"{shown}{error.cause}{advice} ({error.code})\n  It may be {may_be}. Nothing was changed."
            raise Trouble(cause, Meant(do, given, right) if right else do) from error

    def _changed_by(self, target: SettingTarget, spec: Setting, given: str) -> str:
        """Work out a difference such as ``+10%`` of the value that waits, or is on disk. Raises Trouble."""
        entry = find_key(self.planned(self.holder.read().files.path_to_write(spec)), target.key)
        stored = entry.value if entry is not None else self.holder.read().files.stored(target.name)
        try:
            return changed_by(given, stored, spec)
        except ValueProblem as error:
            now = f" (it is {format_value(stored, spec)} now)" if stored is not None else ""
            cause = f"{target.name}={given}: {error.cause}{now} ({error.code})"
            raise Trouble(f"{cause}\n  It may be {values.describe(spec)}. Nothing was changed.") from error

    def _typed(self, target: SettingTarget, given: str) -> Typed:
        """Return what a value means for a key that no rulebook describes. Raises Trouble."""
        present = self._present(target, given)
        files = self.holder.read([target.file]).files
        try:
            return typed(given, self.options.kind, files.format_name(target.file), present)
        except KindMismatch as error:
            call = typed_command("set", self.holder.name, _assigned(target.name, error.meant))
            trouble = self.unfit(error, call)
            if sounds_secret(target.key) and given:
                trouble = Trouble(trouble.what.replace(given, HIDDEN), trouble.do)
            raise trouble from error

    def unfit(self, error: KindMismatch, call: Command) -> Trouble:
        """Make the message for a value that is not what it looks like; ``call`` is the command with the right one."""
        is_plain = error.kind == "json" and error.meant[:1] in ("{", "[")
        do = call if is_plain else replace(call, options=("--kind", error.kind))
        return Trouble(f"{str(error)[:1].upper()}{str(error)[1:]}. Nothing was changed.", do if error.meant else "")

    # --- what is there ---

    def planned(self, file: str) -> Document | None:
        """Return a file as it will be with what waits already."""
        if file not in self._planned:
            here = [entry for entry in self.waiting if entry.file == file]
            self._planned[file] = self.holder.outcome(here, [file]).after.document(file)
        return self._planned[file]

    def _present(self, target: SettingTarget, given: str) -> Entry | None:
        """Return what is at a key. Raises UnknownName where nothing is and no new key is wanted."""
        document = self.planned(target.file)
        if document is None:
            return None
        try:
            path = place_of(document, target.key)
        except NoSuchItem as error:
            raise UnknownName(f"{target.file}: {error}.", self._look(target.file)) from error
        found = document.find(path)
        if found is None and not (self.options.new or self.options.here_only) and _is_new(document, path):
            self._no_such_key(document, target, given)
        return found

    def _no_such_key(self, document: Document, target: SettingTarget, given: str) -> None:
        if any(mistake.level == "error" for mistake in problems_of(document)) or not document.entries():
            return  # the edit itself says what is wrong with a broken file; in an empty one every key is new
        near = near_keys(document, target.key)
        what = f"{target.file} has no key '{target.key}'."
        new = typed_command("set", self.holder.name, _assigned(target.name, given), options=("--new",))
        if not near:
            raise UnknownName(f"{what} --new makes one.", new)
        meant = f" Did you mean {' or '.join(near)}?"
        do = typed_command("set", self.holder.name, _assigned(f"{target.file}:{near[0]}", given))
        raise UnknownName(f"{what}{meant} To make a new key: {new}", do if len(near) == 1 else "")

    def _must_be_there(self, target: SettingTarget, *, or_off: bool) -> None:
        """See that a key is in its file, or will be with what waits on the slate. Raises Trouble."""
        document = self.planned(target.file)
        name = self.holder.name
        if document is not None:
            try:
                path = place_of(document, target.key)
            except NoSuchItem as error:
                raise Trouble(f"{target.file}: {error}.", self._look(target.file)) from error
            if document.find(path) is not None:
                return
            if any(entry.path == path for entry in document.switched_off()):
                if or_off:
                    return
                raise Trouble(
                    f"{target.name} is commented out.", typed_command("switch", name, target.name, options=("--on",))
                )
        near = near_keys(document, target.key) if document is not None else []
        hint = did_you_mean(target.key, near[0]) if near else self._look(target.file)
        of = f" of {name}" if name else ""
        raise Trouble(f"{target.key} is not in {target.file}{of}.", hint)

    def _look(self, file: str) -> Command | str:
        """Return the command that shows what is in a file."""
        return typed_command("show", self.holder.name, options=("--all", "--file", file)) if self.holder.name else ""

    # --- the other operations on keys ---

    def switched(self, name: str, *, on: bool) -> Operation:
        """Make the operation that comments a key or a record out, or lets it count again.

        Raises Trouble where there is none.
        """
        if names_record(self.holder, name):
            return RecordChanges(self.holder).switched(name, on=on)
        target = self._target(name)
        if not on:
            self._must_be_there(target, or_off=True)
        return Switch(target.file, target.key, on, target.name if target.spec else "")

    def renamed(self, name: str, new: str, *, force: bool) -> list[Operation]:
        """Make the operations that give a key, or a record, another name. Raises Trouble where it is not there."""
        if names_record(self.holder, name):
            return RecordChanges(self.holder).renamed(name, new)
        target = self._target(name)
        if target.spec is not None and not force:
            raise Trouble(
                f"{target.name} is a setting of the rulebook: the server looks for {target.spec.key} and would not "
                f"find it under the name '{new}'. Nothing was changed.",
                f"--force renames it anyway; to stop using it: "
                f"{typed_command('switch', self.holder.name, target.name, options=('--off',))}",
            )
        self._must_be_there(target, or_off=False)
        return [Rename(target.file, target.key, new)]

    def reset(self, name: str) -> list[Operation]:
        """Make the operations that give a setting its default again."""
        if names_record(self.holder, name):
            return RecordChanges(self.holder).reset(name)
        target = self._target(name)
        if target.spec is None:
            self._must_be_there(target, or_off=False)
            return [Unset(target.file, target.key, self._held(target.file, target.key))]
        default = target.spec.default
        return self.given(target, None if default is None else values.as_stored(default, target.spec))


def _is_new(document: Document, path: Path) -> bool:
    """Return whether a value at a path would be a new key; where it cannot be set at all, the edit itself says why."""
    if any(entry.path == path for entry in document.switched_off()):
        return False
    try:
        document.set(path, "")
    except EditRefused:
        return False
    return True


def _assigned(name: str, value: str) -> str:
    """Return the words that set a key; a value that may be a secret was asked for, and is asked for again."""
    return name if sounds_secret(name) and not is_switch(value) else f"{name}={value}"
