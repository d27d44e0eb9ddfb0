"""Operations on ranks, in whichever shape they are kept: a rank, its permissions, and who is in it.

A rank may have several places: declared in one, its colour in another, its rights in a third. All of them change in one
slate, or none does.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from roundgate.api.key_changes import ChangeOptions
from roundgate.api.people import joining
from roundgate.api.ranks import member_meant, permission_meant, ranks_of, spec_of
from roundgate.api.record_changes import RecordChanges
from roundgate.api.server import OpenServer
from roundgate.core.formats.shared.paths import format_path
from roundgate.core.nearest import nearest
from roundgate.core.next_step import Meant, did_you_mean, typed_command
from roundgate.core.operations.base import Operation
from roundgate.core.operations.records import (
    AddRecord,
    FollowRename,
    RemoveRecord,
    RenameRecord,
    SetField,
    template_values,
)
from roundgate.core.ranks.model import RankMember, Scheme
from roundgate.core.records.model import Record, parts_in, separator_of
from roundgate.core.records.sets import records_in
from roundgate.core.rulebook.model import RankFlags, RankStep, RecordSet
from roundgate.core.values import plain_text
from roundgate.host.errors import Trouble, UnknownName, WrongUsage
from roundgate.host.site import Site

_NEW = ChangeOptions(new=True, new_file=True)
"""The key that names the rank of newcomers is made where it is missing, and so is its file."""


class RankChanges:
    """Makes operations on the ranks of a server that count, given what waits already."""

    def __init__(self, site: Site, server: OpenServer, world: str = "") -> None:
        """Read the ranks as the slate would leave them. Raises Trouble where the server has none, or several kinds."""
        self.site, self.server = site, server
        self.files = server.workspace.outcome(server.workspace.operations).after
        self.scheme = self._scheme(world)
        self.spec = spec_of(server, self.scheme)

    def _scheme(self, world: str) -> Scheme:
        found = ranks_of(self.site, self.server, with_slate=True, world=world)
        if len(found) > 1:
            names = ", ".join(f"{self.server.name}@{scheme.name}" for scheme in found)
            raise WrongUsage(
                f"{self.server.name} has several kinds of ranks. Say which: {names}.",
                Meant("Put it in the place of the server's name.", self.server.name, f"{self.server.name}@<name>"),
            )
        return found[0]

    # --- records ---

    def _path(self, set_name: str) -> str:
        return self.server.book.file[self._set(set_name).file].path

    def _set(self, name: str) -> RecordSet:
        return self.server.book.records[name]

    def _records(self, name: str) -> dict[str, Record]:
        return {record.key: record for record in records_in(self.files.document(self._path(name)), self._set(name))}

    def _rank(self, word: str) -> str:
        """Return the name of a rank. Raises UnknownName."""
        found = next((name for name in self.scheme.groups if name.lower() == word.lower()), "")
        if not found:
            near = nearest(word, self.scheme.groups)
            known = ", ".join(self.scheme.groups) or f"none; roundgate ranks starter {self.server.name}"
            hint = did_you_mean(word, near) if near else f"Ranks: {known}"
            raise UnknownName(f"{self.server.name} has no rank '{word}'.", hint)
        return found

    def _need_records(self, what: str) -> None:
        if self.spec.levels:
            raise Trouble(
                f"The ranks of {self.server.name} are numbers, and cannot be {what}.",
                typed_command("ranks grant", self.server.name, "<number>", "<permission>"),
            )

    def _sets(self) -> list[str]:
        return [self.spec.groups, *self.spec.more]

    # --- permissions ---

    def granted(self, word: str, permissions: Sequence[str]) -> list[Operation]:
        """Make the operations that grant a rank, or somebody, permissions. What is denied by name no longer is."""
        return self._entered(word, permissions, may=True)

    def denied(self, word: str, permissions: Sequence[str]) -> list[Operation]:
        """Make the operations that deny a rank, or somebody, permissions."""
        return self._entered(word, permissions, may=False)

    def _entered(self, word: str, permissions: Sequence[str], *, may: bool) -> list[Operation]:
        meant = [
            permission_meant(self.site, self.server, self.scheme, permission, wildcard=True)
            for permission in permissions
        ]
        if self.spec.levels:
            return self._needing(word, meant, may=may)
        set_name, key, fields = self._holder(word)
        if self.spec.flags is not None and set_name == self.spec.groups:
            return [
                self._flag(key, permission, self.spec.flags.on if may else self.spec.flags.off) for permission in meant
            ]
        wanted, other = fields if may else fields[::-1]
        home = self._home(set_name, wanted)
        if not home:
            raise Trouble(f"The ranks of {self.server.name} have no denials.", "Withdraw the permission instead.")
        made = []
        counter = self._home(set_name, other)
        if counter:
            made += self._listed(
                counter, key, other, lambda held: [permission for permission in held if permission not in meant]
            )
        made += self._listed(
            home, key, wanted, lambda held: [*held, *(permission for permission in meant if permission not in held)]
        )
        return made

    def withdrawn(self, word: str, permissions: Sequence[str]) -> list[Operation]:
        """Make the operations that take entries out, whether they grant or deny. Raises UnknownName where none is."""
        if self.spec.levels:
            return self._withdrawn_levels(word, permissions)
        set_name, key, fields = self._holder(word)
        is_flag = self.spec.flags is not None and set_name == self.spec.groups
        for permission in permissions:
            if not self._has_entry(set_name, key, fields, permission, is_flag=is_flag):
                raise UnknownName(
                    f"{key} has no entry '{permission}' of its own.",
                    typed_command("ranks why", self.server.name, key, permission),
                )
        if is_flag:
            return [self._flag(key, permission, None) for permission in permissions]
        homes = [(home, field) for field in fields if (home := self._home(set_name, field))]
        return [
            operation
            for home, field in homes
            for operation in self._listed(
                home, key, field, lambda held: [permission for permission in held if permission not in permissions]
            )
        ]

    def _has_entry(self, set_name: str, key: str, fields: Sequence[str], permission: str, *, is_flag: bool) -> bool:
        if is_flag and self.spec.flags is not None:
            name = self.spec.flags.everything if permission == self.spec.wildcard else permission
            return name in self._records(set_name)[key].fields
        homes = [(self._home(set_name, field), field) for field in fields]
        return any(home and permission in self._values(home, key, field) for home, field in homes)

    def _holder(self, word: str) -> tuple[str, str, tuple[str, str]]:
        """Return the set, the record and the two fields of whoever has permissions: a rank, or somebody with their own.

        Raises Trouble where people have none of their own.
        """
        rank = next((name for name in self.scheme.groups if name.lower() == word.lower()), "")
        if rank:
            return self.spec.groups, rank, (self.spec.may, self.spec.never)
        rosters = [self.server.book.roster[name] for name in self.spec.members]
        member = member_meant(self.site, self.server, self.scheme, word)
        for roster in rosters:
            if roster.may and member.id in self._records(roster.records):
                return roster.records, member.id, (roster.may, roster.never)
        ranks = ", ".join(member.groups) or self.scheme.default
        raise Trouble(
            f"On {self.server.name} permissions are granted to ranks; {member.name} is in {ranks or 'none'}.",
            typed_command(
                "ranks join", self.server.name, "<rank>", word, hint=f"or name a rank: {', '.join(self.scheme.groups)}"
            ),
        )

    def _home(self, set_name: str, field: str) -> str:
        """Return the set that holds a field of a rank or a member; empty where none does."""
        names = self._sets() if set_name == self.spec.groups else [set_name]
        return next((name for name in names if field and field in self._set(name).field), "")

    def _values(self, set_name: str, key: str, field: str) -> list[str]:
        record = self._records(set_name).get(key)
        held = record.fields.get(field) if record is not None else None
        return parts_in(held, field, self._set(set_name)) if held is not None else []

    def _listed(
        self, set_name: str, key: str, field: str, change: Callable[[list[str]], Iterable[str]]
    ) -> list[Operation]:
        """Make the operation that changes a field which is a list; none where it stays as it is."""
        old = self._values(set_name, key, field)
        new = list(change(old))
        if new == old:
            return []
        path, separator = self._path(set_name), separator_of(field, self._set(set_name))
        stored = separator.join(new)
        if key not in self._records(set_name):
            return [AddRecord(path, set_name, key, ((field, stored),))]
        held = separator.join(old) if old else None
        return [SetField(path, set_name, key, field, stored if new else None, held)]

    def _list_set(self, set_name: str, key: str, field: str, new: Sequence[str]) -> list[Operation]:
        """Make the operation that gives a field these values; none where it has them."""
        return self._listed(set_name, key, field, lambda _held: new)

    def _flag(self, key: str, permission: str, value: str | None) -> Operation:
        flags = self.spec.flags or RankFlags()
        name = flags.everything if permission == self.spec.wildcard and flags.everything else permission
        if name != flags.everything and self.spec.wildcard and name.endswith(self.spec.wildcard):
            raise Trouble(f"The ranks of {self.server.name} have a switch for each permission, and none for '{name}'.")
        held = self._records(self.spec.groups)[key].value(name)
        return SetField(self._path(self.spec.groups), self.spec.groups, key, name, value, held)

    def _needing(self, word: str, permissions: Sequence[str], *, may: bool) -> list[Operation]:
        """Let permissions need a level."""
        if not may:
            raise Trouble(
                "Levels have no denials: a level grants all that needs it or a lower one.",
                typed_command("ranks grant", self.server.name, "<higher-number>", "<permission>"),
            )
        if not word.isdecimal():
            raise WrongUsage(
                f"'{word}' is not a level.", typed_command("ranks grant", self.server.name, "4", "<permission>")
            )
        name, known = self.spec.levels, self._records(self.spec.levels)
        made: list[Operation] = []
        for permission in permissions:
            if permission in known:
                held = known[permission].value(self.spec.level)
                made.append(SetField(self._path(name), name, permission, self.spec.level, word, held))
            else:
                made.append(AddRecord(self._path(name), name, permission, ((self.spec.level, word),)))
        return made

    def _withdrawn_levels(self, word: str, permissions: Sequence[str]) -> list[Operation]:
        name, known = self.spec.levels, self._records(self.spec.levels)
        for permission in permissions:
            if permission not in known or known[permission].value(self.spec.level) != word:
                raise UnknownName(
                    f"{permission} does not need level {word}.", typed_command("show", self.server.name, name)
                )
        return [RemoveRecord(self._path(name), name, permission) for permission in permissions]

    # --- ranks ---

    def added(self, name: str, arguments: Sequence[str], above: str = "") -> list[Operation]:
        """Make the operations that define a rank in all the places that it needs. Raises WrongUsage or UnknownName."""
        self._need_records("added")
        self._check_new(name)
        given: dict[str, str] = {}
        for word in arguments:
            field, sign, value = word.partition("=")
            if not sign:
                raise WrongUsage(
                    f"'{word}' is not a field of a rank: a field is given as FIELD=VALUE.",
                    typed_command("ranks add", options=("--help",)),
                )
            given[field] = value
        parents = [self._rank(above)] if above else []
        return self._defined(name, given, parents)

    def _check_new(self, name: str) -> None:
        if any(group.lower() == name.lower() for group in self.scheme.groups):
            raise WrongUsage(
                f"There is a rank {name} already.", typed_command("ranks copy", self.server.name, name, "<new>")
            )

    def _defined(self, name: str, given: dict[str, str], parents: Sequence[str]) -> list[Operation]:
        left = dict(given)
        if parents and self._home(self.spec.groups, self.spec.also):
            left.setdefault(self.spec.also, ",".join(parents))
        elif parents:
            left = {**self._risen(self._copied(parents[0])), **left}
        made: list[Operation] = []
        for number, set_name in enumerate(self._sets()):
            spec = self._set(set_name)
            mine = {field: left[field] for field in left if field in spec.field or (number == 0 and spec.partly)}
            if number and not mine and not spec.template and not any(field.needed for field in spec.field.values()):
                continue
            if number == 0 and self.spec.flags is None and not mine and self.spec.may in spec.field:
                mine = {self.spec.may: ""}
            taken = self._stored(set_name, mine)
            made.append(AddRecord(self._path(set_name), set_name, name, tuple(taken.items())))
        known = {field for set_name in self._sets() for field in self._set(set_name).field}
        odd = [field for field in left if field not in known and not self._set(self.spec.groups).partly]
        if odd:
            near = nearest(odd[0], known)
            raise UnknownName(
                f"A rank has no field '{odd[0]}'.",
                did_you_mean(odd[0], near) if near else f"Fields: {', '.join(sorted(known))}",
            )
        return made

    def _stored(self, set_name: str, given: dict[str, str]) -> dict[str, str]:
        """Return the fields of a new record as the file will hold them, those of its template among them."""
        spec = self._set(set_name)
        changes = RecordChanges(self.server.workspace)
        stored = {
            field: changes.stored(f"{set_name}/{{}}.{field}", spec.field.get(field), value, ()) if value else value
            for field, value in given.items()
        }
        return template_values(spec, stored, None)

    def _copied(self, rank: str) -> dict[str, str]:
        """Return the fields of a rank in all its places."""
        found: dict[str, str] = {}
        for set_name in self._sets():
            record = self._records(set_name).get(rank)
            for field, held in record.fields.items() if record is not None else ():
                if field != self.spec.newcomer:
                    found[field] = separator_of(field, self._set(set_name)).join(held.values)
        return found

    def _risen(self, fields: dict[str, str]) -> dict[str, str]:
        """Return the fields of a rank with a little more power: of two with the same one nobody knows which counts."""
        power = fields.get(self.spec.power, "")
        return {**fields, self.spec.power: str(int(power) + 1)} if power.isdecimal() else fields

    def copied(self, rank: str, new: str) -> list[Operation]:
        """Make the operations that define a rank which is like another one; nobody is in it."""
        self._need_records("copied")
        self._check_new(new)
        spec, path = self._set(self.spec.groups), self._path(self.spec.groups)
        document = self.files.document(path)
        record = self._records(self.spec.groups)[self._rank(rank)]
        entry = document.find(record.path) if spec.signs and document is not None else None
        if entry is not None:  # the order of its words counts
            key = format_path((*record.path[:-1], new))
            return self.server.key_changes(_NEW, None).operations_of([f"{path}:{key}={entry.value}"])
        return self._defined(new, self._copied(record.key), ())

    def renamed(self, word: str, new: str) -> list[Operation]:
        """Make the operations that give a rank another name, in all its places and wherever it is named.

        Raises UnknownName, WrongUsage, or Trouble where the game goes by the name.
        """
        self._need_records("renamed")
        rank = self._rank(word)
        self._check_new(new)
        if rank == self.spec.newcomers:
            raise Trouble(f"The game gives newcomers the rank {rank}, by that name; no file says so.")
        made = RecordChanges(self.server.workspace).renamed(f"{self.spec.groups}/{rank}", new)
        for name in self.spec.more:
            if rank in self._records(name):
                made.append(RenameRecord(self._path(name), name, rank, new))
        if rank == self.scheme.default and ":" in self.spec.newcomers:
            made += self.default(new, is_new=True)
        followed = {(operation.set, operation.field) for operation in made if isinstance(operation, FollowRename)}
        for roster in (self.server.book.roster[name] for name in self.spec.members):
            at = (roster.records, roster.rank)
            if (
                roster.rank
                and at not in followed
                and any(rank in member.groups for member in self.scheme.members.values())
            ):
                made.append(FollowRename(self._path(roster.records), *at, rank, new))
        return made

    def removed(self, word: str, to: str = "") -> list[Operation]:
        """Make the operations that take a rank out; its people go to another one. Raises Trouble where that is open."""
        self._need_records("removed")
        rank = self._rank(word)
        held = [member for member in self.scheme.members.values() if rank in member.groups]
        if rank == self.scheme.default:
            raise Trouble(
                f"{rank} is the rank of newcomers.", typed_command("ranks default", self.server.name, "<other-rank>")
            )
        alone = [member for member in held if member.groups == (rank,)]
        if alone and not to:
            names = ", ".join(member.name for member in alone)
            raise Trouble(
                f"{names} would have no rank.",
                typed_command("ranks remove", self.server.name, rank, options=("--to", "<rank>")),
            )
        target = self._rank(to) if to else ""
        made: list[Operation] = []
        for member in held:
            made += self._left(member, rank, target if target not in member.groups else "")
        for name, group in self.scheme.groups.items():
            if rank in group.parents:
                above = [parent for parent in self.scheme.groups[rank].parents if parent not in group.parents]
                parents = [part for parent in group.parents for part in (above if parent == rank else [parent])]
                home = self._home(self.spec.groups, self.spec.also)
                made += self._list_set(home, name, self.spec.also, parents)
        for name in reversed(self._sets()):
            if rank in self._records(name):
                made.append(RemoveRecord(self._path(name), name, rank))
        return made

    def default(self, word: str, *, is_new: bool = False) -> list[Operation]:
        """Make the operations that let a rank be that of newcomers. Raises Trouble where the game has that fixed."""
        rank = word if is_new else self._rank(word)
        if self.spec.newcomer:
            name, field = self.spec.groups, self.spec.newcomer
            made: list[Operation] = []
            is_bool = self._set(name).field[field].type == "bool"
            for default in self.scheme.defaults:
                if default != rank:
                    made.append(
                        SetField(
                            self._path(name), name, default, field, None, self._records(name)[default].value(field)
                        )
                    )
            if rank not in self.scheme.defaults:
                made.append(SetField(self._path(name), name, rank, field, "true" if is_bool else "1"))
            return made
        if ":" not in self.spec.newcomers:
            raise Trouble(f"The game gives newcomers the rank {self.spec.newcomers or 'none'}; no file says so.")
        return self.server.key_changes(_NEW, None).operations_of([f"{self.spec.newcomers}={rank}"])

    def ladder(self) -> list[Operation]:
        """Make the operations that lay down the rulebook's ladder where there are no ranks yet. Raises Trouble."""
        self._need_records("laid down")
        if self.scheme.groups:
            raise Trouble(
                f"{self.server.name} has ranks already: {', '.join(self.scheme.groups)}.",
                typed_command("ranks add", self.server.name, "<rank>", options=("--above", "<other>")),
            )
        if not self.spec.ladder:
            raise Trouble("The rulebook has no ladder.", typed_command("ranks add", self.server.name, "<rank>"))
        made: list[Operation] = []
        if ":" in self.spec.newcomers:
            key = f"{self.spec.newcomers}={self.spec.ladder[0].name}"
            made += self.server.key_changes(_NEW, None).operations_of([key])
        for step in self.spec.ladder:
            made += self._step(step, is_first=step is self.spec.ladder[0])
        return made

    def _step(self, step: RankStep, *, is_first: bool) -> list[Operation]:
        described = self._set(self.spec.groups).field if self.spec.groups else {}
        given = {
            name: plain_text(value, described[name]) if name in described else str(value)
            for name, value in step.fields.items()
        }
        if self.spec.flags is not None:
            given.update(dict.fromkeys(step.may, self.spec.flags.on))
        elif step.may:
            given[self.spec.may] = ",".join(step.may)
        if step.also and self._home(self.spec.groups, self.spec.also):
            given[self.spec.also] = ",".join(step.also)
        if is_first and self.spec.newcomer:
            is_bool = self._set(self.spec.groups).field[self.spec.newcomer].type == "bool"
            given[self.spec.newcomer] = "true" if is_bool else "1"
        return self._defined(step.name, given, ())

    # --- people ---

    def joined(self, word: str, people: Sequence[str]) -> list[Operation]:
        """Make the operations that put people into a rank. Where one has one rank, it is changed.

        Raises UnknownName or Trouble.
        """
        rank = word if self.spec.levels and word.isdecimal() else self._rank(word)
        name = next((roster for roster in self.spec.members if self.server.book.roster[roster].rank), "")
        if not name:
            raise Trouble(f"The rulebook names no roster of {self.server.name} that says who has which rank.")
        roster = self.server.book.roster[name]
        made: list[Operation] = []
        for person in people:
            member = self._somebody(person)
            record = self._records(roster.records).get(member.id) if member is not None else None
            if member is None or record is None:
                made += self._new_member(roster.records, person, rank)
            elif rank not in member.groups:
                made += self._with_rank(roster.records, roster.rank, record, rank)
        return made

    def _somebody(self, word: str) -> RankMember | None:
        try:
            found = member_meant(self.site, self.server, self.scheme, word)
        except UnknownName:
            return None
        return found if found.id and found.id not in self.scheme.groups else None

    def _new_member(self, set_name: str, word: str, rank: str) -> list[Operation]:
        found = joining(self.site, self.server, set_name, [word], rank)
        if not found:
            raise UnknownName(f"'{word}' is not a known person.", typed_command("people seen", self.server.name))
        return RecordChanges(self.server.workspace).added(set_name, found[0].arguments)

    def _with_rank(self, set_name: str, field: str, record: Record, rank: str) -> list[Operation]:
        if self._is_list(set_name, field):
            return self._listed(set_name, record.key, field, lambda held: [*held, rank])
        return [SetField(self._path(set_name), set_name, record.key, field, rank, record.value(field))]

    def _is_list(self, set_name: str, field: str) -> bool:
        return self._set(set_name).field[field].type in ("list", "refs")

    def left(self, word: str, people: Sequence[str]) -> list[Operation]:
        """Make the operations that take people out of a rank. Whoever has no other one leaves the roster.

        Raises UnknownName where somebody is not in it.
        """
        rank = word if self.spec.levels and word.isdecimal() else self._rank(word)
        made: list[Operation] = []
        for person in people:
            member = member_meant(self.site, self.server, self.scheme, person)
            if rank not in member.groups:
                ranks = ", ".join(member.groups) or self.scheme.default or "none"
                raise UnknownName(f"{member.name} is not in {rank}, but in {ranks}.")
            made += self._left(member, rank, "")
        return made

    def _left(self, member: RankMember, rank: str, to: str) -> list[Operation]:
        made: list[Operation] = []
        for name in self.spec.members:
            roster = self.server.book.roster[name]
            record = self._records(roster.records).get(member.id)
            if record is None or not roster.rank:
                continue
            held = self._values(roster.records, member.id, roster.rank)
            if rank not in held:
                continue
            left = [to if held_rank == rank else held_rank for held_rank in held if held_rank != rank or to]
            if not left and not (roster.may and roster.may in record.fields):
                made.append(RemoveRecord(self._path(roster.records), roster.records, member.id))
            elif self._is_list(roster.records, roster.rank):
                made += self._list_set(roster.records, member.id, roster.rank, left)
            else:
                path = self._path(roster.records)
                made.append(SetField(path, roster.records, member.id, roster.rank, left[0] if left else None, held[0]))
        return made
